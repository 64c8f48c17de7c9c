package bounded_test

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/bounded"
)

// io.Copy looks for other ways into a buffer than Write; none may lead past the limit.
func TestCopyingStopsAtTheLimit(t *testing.T) {
	for name, from := range map[string]io.Reader{
		"a reader":                       io.LimitReader(endless{}, 1<<20),
		"a reader that writes by itself": strings.NewReader(strings.Repeat("x", 1<<20)),
		"a buffer":                       bytes.NewBuffer(make([]byte, 1<<20)),
	} {
		b := bounded.New(1000, nil)
		_, err := io.Copy(b, from)
		assert.ErrorIs(t, err, bounded.ErrTooMuch, name)
		assert.LessOrEqual(t, len(b.Bytes()), 1000, name)
		assert.True(t, b.Exceeded())
	}
	own := errors.New("own")
	_, err := bounded.New(2, own).Write([]byte("abc"))
	assert.ErrorIs(t, err, own)
}

func TestBeginning(t *testing.T) {
	b := bounded.Beginning(5)
	_, err := io.Copy(b, strings.NewReader("abc defgh"))
	require.NoError(t, err)
	assert.Equal(t, "abc d", b.String())
	assert.True(t, b.Exceeded())
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

// A program that says too much is ended: what exec copies stops at the limit too.
func TestAProgramThatSaysTooMuch(t *testing.T) {
	if _, err := os.Stat("/dev/zero"); err != nil {
		t.Skip("there is no /dev/zero")
	}
	b := bounded.New(64<<10, nil)
	c := exec.Command("head", "-c", "9000000", "/dev/zero")
	c.Stdout = b
	assert.Error(t, c.Run())
	assert.LessOrEqual(t, len(b.Bytes()), 64<<10)
}
