package talk_test

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/talk"
	"tivset/internal/testing/sitetest"
)

// describe runs a conversation about an account, with a server whose key has the
// fingerprint of the stand-in's.
func describe(t *testing.T, w *sitetest.World, name string, yes bool, lines ...line) (*script, error) {
	t.Helper()
	s := &script{t: t, lines: lines, yes: yes}
	c := &talk.NewAccount{Ask: s, Book: w.Book, Accounts: w.Accounts, Env: os.Getenv,
		Truster: func(context.Context, *account.Account) (string, func(string) (string, error), error) {
			return "key", func(print string) (string, error) {
				if print == "" {
					return w.Demo.Standin.SSH.Fingerprint(), nil
				}
				return w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), print)
			}, nil
		}}
	return s, c.Run(ctx, name, false)
}

// domain are the answers about the demo's domain.
func domain(w *sitetest.World) []line {
	d := w.Demo.Standin.Web.Address()
	return []line{{question: "A domain of the account", answer: "http://lockside"},
		{question: "A domain of the account", answer: "lockside.localhost"},
		{question: "Its folder", answer: "web/lockside"},
		{question: "Its address", answer: "http://lockside.localhost:" + d[strings.LastIndex(d, ":")+1:]},
		{question: "Where it is reached", answer: d}, {question: "Its folder", answer: "web/lockside"},
		{question: "Another domain"}, {question: "Which database server", answer: "none"}}
}

// here and far are two ways to the demo account's files.
func here(w *sitetest.World) []line {
	return append([]line{{question: "How are", answer: "here"}, {question: "The account's folder", answer: w.Root}},
		domain(w)...)
}

func far(w *sitetest.World) []line {
	return append([]line{{question: "How are", answer: "sftp"},
		{question: "Server", answer: w.Demo.Standin.SSH.Address()}, {question: "User", answer: "quill"},
		{question: "Password", answer: w.Demo.Password}, {question: "The account's folder", answer: w.Root}},
		domain(w)...)
}

func TestAnAccountIsTriedWhileItIsDescribed(t *testing.T) {
	for how, lines := range map[string]func(*sitetest.World) []line{"here": here, "far": far} {
		t.Run(how, func(t *testing.T) {
			w := sitetest.Demo(t)
			before := w.Snapshot()
			s, err := describe(t, w, "second", true, lines(w)...)
			require.NoError(t, err, s.heard())
			assert.Equal(t, len(s.lines), s.at, "the whole script was played")
			for _, said := range []string{" can be read", "is not a domain", "the domain does not answer", " leads there"} {
				assert.Contains(t, s.heard(), said)
			}
			kept, err := w.Home.Account("second")
			require.NoError(t, err)
			assert.Equal(t, "web/lockside", kept.Domains[0].Folder)
			assert.True(t, kept.Domains[0].Primary)
			assert.NotContains(t, s.heard(), w.Demo.Password, "the password is shown nowhere")
			_, err = w.Accounts.Test(ctx, "second")
			require.NoError(t, err)
			sitetest.Same(t, before, w.Snapshot(), "looking changes nothing")
		})
	}
}

// Wherever somebody stops, no account is kept, and the vault has nothing of it.
func TestAnAccountIsKeptAtTheEndOnly(t *testing.T) {
	w := sitetest.Demo(t)
	all := far(w)
	vault, err := w.Book.Vault.Names("")
	require.NoError(t, err)
	for n := range all {
		s, err := describe(t, w, "second", true, append(append([]line{}, all[:n]...),
			line{question: all[n].question, answer: stop})...)
		require.Error(t, err, s.heard())
		assert.Equal(t, fault.Decision, fault.Of(err).Kind, err)
		names, err := w.Home.Accounts()
		require.NoError(t, err)
		assert.NotContains(t, names, "second")
		left, err := w.Book.Vault.Names("")
		require.NoError(t, err)
		assert.Equal(t, vault, left)
	}
}

// A server's key that the owner does not accept ends nothing: the question is
// asked again, and no advice is given that cannot be followed yet.
func TestAKeyThatIsNotAccepted(t *testing.T) {
	w := sitetest.Demo(t)
	lines := append(far(w)[:5], line{question: "How are", answer: stop})
	s, err := describe(t, w, "second", false, lines...)
	require.Error(t, err)
	assert.Contains(t, s.heard(), "the server's key was not accepted")
	assert.NotContains(t, s.heard(), "trust")
	_, err = w.Home.Account("second")
	require.Error(t, err)
}
