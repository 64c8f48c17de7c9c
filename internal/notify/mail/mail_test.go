package mail_test

import (
	"context"
	"io"
	"mime/quotedprintable"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	ours "tivset/internal/notify/mail"
	"tivset/internal/standin/mailbox"
)

func TestSend(t *testing.T) {
	dir := t.TempDir()
	s, err := mailbox.Start(dir, "127.0.0.1:0")
	require.NoError(t, err)
	defer s.Close()
	m := ours.Message{From: "hosting@quillmere.localhost", To: "wharfinger@lockside.localhost", Subject: "Lock “Talk” – é",
		Text: "Line one\n.\nÜber das Wasser\n" + strings.Repeat("x", 1200) + "\n"}
	require.NoError(t, ours.Send(context.Background(), ours.Server{Address: s.Address()}, m))
	found, err := filepath.Glob(filepath.Join(dir, "*.eml"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	file, err := os.Open(found[0])
	require.NoError(t, err)
	defer file.Close()
	got, err := mail.ReadMessage(file)
	require.NoError(t, err)
	assert.Equal(t, "<wharfinger@lockside.localhost>", got.Header.Get("To"))
	require.Equal(t, "quoted-printable", got.Header.Get("Content-Transfer-Encoding"))
	text, err := io.ReadAll(quotedprintable.NewReader(got.Body))
	require.NoError(t, err)
	assert.Equal(t, strings.TrimSpace(m.Text), strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n")))
}

func TestServersThatWillNot(t *testing.T) {
	m := ours.Message{From: "a@b.example", To: "c@d.example", Subject: "s", Text: "t"}
	assert.Error(t, ours.Send(context.Background(), ours.Server{Address: "127.0.0.1:1"}, m))
	assert.ErrorContains(t, ours.Send(context.Background(), ours.Server{Address: "nothing"}, m), "host:port")
	assert.ErrorContains(t, ours.Send(context.Background(), ours.Server{Address: "h:x"}, m), "host:port")
	m.To = "no address\r\nBcc: e@f.example"
	assert.Error(t, ours.Send(context.Background(), ours.Server{Address: "127.0.0.1:1"}, m))
}
