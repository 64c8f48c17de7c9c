package mail_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	ours "tivset/internal/notify/mail"
	"tivset/internal/standin/mailbox"
)

// certified is a certificate for 127.0.0.1, and who trusts it.
func certified(t *testing.T) (tls.Certificate, *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	made := &x509.Certificate{SerialNumber: big.NewInt(1), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	signed, err := x509.CreateCertificate(rand.Reader, made, made, &key.PublicKey, key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(signed)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(leaf)
	return tls.Certificate{Certificate: [][]byte{signed}, PrivateKey: key}, pool
}

// A mail server that takes mail only from who signs in, and a password only over TLS.
func TestSubmission(t *testing.T) {
	dir := t.TempDir()
	pair, pool := certified(t)
	s, err := mailbox.StartLocked(dir, "127.0.0.1:0", pair, "w@lockside.localhost", "Lamp 92")
	require.NoError(t, err)
	defer s.Close()
	ctx := context.Background()
	m := ours.Message{From: "w@lockside.localhost", To: "x@lockside.localhost", Subject: "s", Text: "t"}
	right := ours.Server{Address: s.Address(), User: "w@lockside.localhost", Password: "Lamp 92", Roots: pool}
	require.NoError(t, ours.Try(ctx, right))
	require.NoError(t, ours.Send(ctx, right, m))
	found, err := filepath.Glob(filepath.Join(dir, "*.eml"))
	require.NoError(t, err)
	require.Len(t, found, 1)

	wrong := right
	wrong.Password = "Lamp 93"
	err = ours.Try(ctx, wrong)
	assert.True(t, ours.Refused(err), err)
	nobody := right
	nobody.User = ""
	assert.Error(t, ours.Send(ctx, nobody, m), "nobody sends without signing in")
	unknown := right
	unknown.Roots = nil
	err = ours.Send(ctx, unknown, m)
	assert.ErrorContains(t, err, "certificate", "a server that cannot prove itself gets no password")
	assert.False(t, ours.Refused(err))
	plain, err := mailbox.Start(t.TempDir(), "127.0.0.1:0")
	require.NoError(t, err)
	defer plain.Close()
	right.Address = plain.Address()
	assert.Error(t, ours.Send(ctx, right, m), "without TLS no password is sent")
}

// This machine's own sendmail gets the mail with its addresses in it.
func TestOwnSendmail(t *testing.T) {
	if ours.Sendmail() != "" {
		t.Skip("this machine has a sendmail, which would send")
	}
	err := ours.Try(context.Background(), ours.Server{Address: ours.Own})
	assert.ErrorContains(t, err, "no sendmail")
	err = ours.Send(context.Background(), ours.Server{Address: ours.Own}, ours.Message{From: "a@b.example",
		To: "c@d.example"})
	assert.ErrorContains(t, err, "no sendmail")
	program := filepath.Join(t.TempDir(), "sendmail")
	kept := filepath.Join(t.TempDir(), "mail")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\necho \"$@\" >"+kept+"\ncat >>"+kept+"\n"), 0o755))
	ours.SendmailIs(t, program)
	require.NoError(t, ours.Send(context.Background(), ours.Server{Address: ours.Own}, ours.Message{From: "a@b.example",
		To: "c@d.example", Subject: "s", Text: "hello"}))
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	assert.Contains(t, string(text), "-oi -t")
	assert.Contains(t, string(text), "To: <c@d.example>")
	assert.Contains(t, string(text), "hello")
}
