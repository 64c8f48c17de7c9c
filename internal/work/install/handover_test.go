package install_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

func TestHandedOverByMail(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/none"))
	require.NoError(t, err)
	assert.Empty(t, sitetest.Mails(t, w), "nothing is mailed unasked")

	r := sitetest.Request("willowbench", "lockside.localhost/forum")
	r.Answers["handover.to"] = "wharfinger@lockside.localhost"
	r.Answers["admin.password"] = "Kranich-Teekanne-74-Ufer"
	done, err := w.Install(r)
	require.NoError(t, err)
	assert.Empty(t, done.Warnings)
	got := sitetest.Mails(t, w)
	assert.Contains(t, got, "To: <wharfinger@lockside.localhost>")
	assert.Contains(t, got, done.Site.URL)
	assert.Contains(t, got, "not on this page")
	assert.Contains(t, got, "text/html", "as a page too")
	assert.NotContains(t, strings.ToLower(got), "go-mail", "no library speaks of itself")
	assert.NotContains(t, got, "Kranich", "the password only when asked for")

	r = sitetest.Request("inkreach", "lockside.localhost/with")
	r.Answers["handover.to"], r.Answers["handover.password"] = "wharfinger@lockside.localhost", "yes"
	r.Answers["admin.password"] = "Kranich-Teekanne-74-Ufer"
	_, err = w.Install(r)
	require.NoError(t, err)
	assert.Contains(t, sitetest.Mails(t, w), "Kranich-Teekanne-74-Ufer")
}

func TestMailThatFails(t *testing.T) {
	w := sitetest.Demo(t)
	w.EditAccount(func(a *account.Account) { a.Mail.Server = "127.0.0.1:1" })
	r := sitetest.Request("inkreach", "lockside.localhost/journal")
	r.Answers["handover.to"] = "wharfinger@lockside.localhost"
	done, err := w.Install(r)
	require.NoError(t, err, "the install stands")
	require.Len(t, done.Warnings, 1)
	assert.Contains(t, done.Warnings[0], "could not be handed over")

	r = sitetest.Request("inkreach", "lockside.localhost/second")
	r.Answers["handover.to"] = "nobody"
	_, err = w.Install(r)
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	w.EditAccount(func(a *account.Account) { a.Mail = nil })
	r.Answers["handover.to"] = "wharfinger@lockside.localhost"
	_, err = w.Install(r)
	assert.ErrorContains(t, err, "no such answer", "an account without a mail server is not asked")
}
