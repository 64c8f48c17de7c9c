package debian

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func tarred(t testing.TB, name, text string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o644}))
	_, err := io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func arred(members ...any) []byte {
	out := []byte("!<arch>\n")
	for i := 0; i < len(members); i += 2 {
		body := members[i+1].([]byte)
		out = append(out, fmt.Sprintf("%-16s%-12d%-6d%-6d%-8s%-10d`\n", members[i], 0, 0, 0, "100644", len(body))...)
		out = append(out, body...)
		if len(body)%2 == 1 {
			out = append(out, '\n')
		}
	}
	return out
}

func opened(t testing.TB, content []byte) (*deb, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.deb")
	require.NoError(t, os.WriteFile(file, content, 0o600))
	return openDeb(file)
}

func TestDeb(t *testing.T) {
	said := tarred(t, "./control",
		"Package: tidewall\nVersion: 2.0.3\nDescription: a wall\n more of it\nDepends: php, x | y\n")
	files := tarred(t, "./usr/share/tidewall/index.php", "<?php")
	d, err := opened(t, arred("debian-binary", []byte("2.0\n"), "control.tar", said, "data.tar/", files))
	require.NoError(t, err)
	defer d.close()
	assert.Equal(t, "tidewall", d.fields["Package"])
	h, err := d.data.Next()
	require.NoError(t, err)
	assert.Equal(t, "./usr/share/tidewall/index.php", h.Name)
	text, err := io.ReadAll(d.data)
	require.NoError(t, err)
	assert.Equal(t, "<?php", string(text))

	whole := arred("debian-binary", []byte("2.0\n"), "control.tar", said, "data.tar", files)
	for what, content := range map[string][]byte{
		"nothing":             nil,
		"no archive":          []byte("PK\x03\x04 and more of that"),
		"cut in its head":     whole[:30],
		"cut in its control":  whole[:200],
		"data first":          arred("data.tar", files, "control.tar", said),
		"no control file":     arred("control.tar", files, "data.tar", files),
		"no data":             arred("control.tar", said),
		"a size that is none": bytes.Replace(whole, []byte("4         `"), []byte("-4        `"), 1),
	} {
		_, err := opened(t, content)
		assert.ErrorContains(t, err, "is no package", what)
	}
}

func FuzzDeb(f *testing.F) {
	f.Add(arred("debian-binary", []byte("2.0\n"), "control.tar", tarred(f, "control", "Package: x\n"), "data.tar",
		tarred(f, "a", "b")))
	f.Fuzz(func(t *testing.T, content []byte) {
		if d, err := opened(t, content); err == nil {
			_, _ = d.data.Next()
			d.close()
		}
	})
}
