package index_test

import (
	"crypto/rand"
	"path/filepath"
	"testing"

	"aead.dev/minisign"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/index"
)

// FuzzRead reads what a publisher wrote that signs anything: no entry names a file elsewhere.
func FuzzRead(f *testing.F) {
	_, key, err := minisign.GenerateKey(rand.Reader)
	require.NoError(f, err)
	f.Add([]byte(`{"index":1,"serial":3,"expires":"2027-01-01T00:00:00Z","kits":{"inkreach":{"version":1,"app":"inkreach",` +
		`"file":"inkreach-1.kit","bytes":10,"sha256":"00"}},"withdrawn":{"x":2}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		x, err := index.Read(text, minisign.Sign(key, text), key.Public().(minisign.PublicKey))
		if err != nil {
			return
		}
		for _, p := range x.Kits {
			require.True(t, filepath.IsLocal(p.File) && filepath.Base(p.File) == p.File, "%q", p.File)
			require.Positive(t, p.Bytes)
		}
	})
}
