package install_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

func TestDetailsByMail(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkwater", "lockside.localhost/none"))
	require.NoError(t, err)
	assert.Empty(t, sitetest.Mails(t, w), "nothing is mailed unasked")

	r := sitetest.Request("moorings", "lockside.localhost/forum")
	r.Answers["details.to"] = "wharfinger@lockside.localhost"
	r.Answers["admin.password"] = "Kranich-Teekanne-74-Ufer"
	done, err := w.Install(r)
	require.NoError(t, err)
	assert.Empty(t, done.Warnings)
	got := sitetest.Mails(t, w)
	assert.Contains(t, got, "To: <wharfinger@lockside.localhost>")
	assert.Contains(t, got, done.Site.URL)
	assert.Contains(t, got, "tivset reveal "+done.Site.Address)
	assert.NotContains(t, got, "Kranich", "the password only when asked for")

	r = sitetest.Request("inkwater", "lockside.localhost/with")
	r.Answers["details.to"], r.Answers["details.password"] = "wharfinger@lockside.localhost", "yes"
	r.Answers["admin.password"] = "Kranich-Teekanne-74-Ufer"
	_, err = w.Install(r)
	require.NoError(t, err)
	assert.Contains(t, sitetest.Mails(t, w), "Kranich-Teekanne-74-Ufer")
}

func TestMailThatFails(t *testing.T) {
	w := sitetest.Demo(t)
	w.EditAccount(func(a *account.Account) { a.Mail.Server = "127.0.0.1:1" })
	r := sitetest.Request("inkwater", "lockside.localhost/journal")
	r.Answers["details.to"] = "wharfinger@lockside.localhost"
	done, err := w.Install(r)
	require.NoError(t, err, "the install stands")
	require.Len(t, done.Warnings, 1)
	assert.Contains(t, done.Warnings[0], "could not be mailed")

	r = sitetest.Request("inkwater", "lockside.localhost/second")
	r.Answers["details.to"] = "nobody"
	_, err = w.Install(r)
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	w.EditAccount(func(a *account.Account) { a.Mail = nil })
	r.Answers["details.to"] = "wharfinger@lockside.localhost"
	_, err = w.Install(r)
	assert.ErrorContains(t, err, "no such answer", "an account without a mail server is not asked")
}
