// Package depottest holds for every depot.
package depottest

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/depot"
)

var ctx = context.Background()

// Suite tries a depot, in a folder of it in which nothing is yet.
func Suite(t *testing.T, d depot.Depot, folder string) {
	name := folder + "/backups/forum/20261123-074500.tar.zst"
	t.Run("Nothing", func(t *testing.T) {
		all, err := d.List(ctx, folder+"/backups")
		require.NoError(t, err, "a folder that is not there holds nothing")
		assert.Empty(t, all)
		_, err = d.Open(ctx, name)
		assert.ErrorIs(t, err, fs.ErrNotExist)
		_, err = depot.Stat(ctx, d, name)
		assert.ErrorIs(t, err, fs.ErrNotExist)
		assert.NoError(t, d.Remove(ctx, name), "what is not there is gone")
	})
	t.Run("WholeOrNotAtAll", func(t *testing.T) {
		for _, before := range []string{"", "as it was"} {
			if before != "" {
				require.NoError(t, depot.Write(ctx, d, name, []byte(before)))
			}
			w, err := d.Create(ctx, name)
			require.NoError(t, err)
			_, err = w.Write(bytes.Repeat([]byte("half"), 100_000))
			require.NoError(t, err)
			same(t, d, name, before)
			from, err := w.Written(ctx)
			require.NoError(t, err)
			text, err := io.ReadAll(from)
			require.NoError(t, err)
			require.NoError(t, from.Close())
			assert.Len(t, text, 400_000, "what was written can be read before anybody sees it")
			same(t, d, name, before)
			require.NoError(t, w.Drop(ctx))
			require.NoError(t, w.Drop(ctx), "twice")
			same(t, d, name, before)
			assert.Empty(t, halves(t, d, name))
		}
		w, err := d.Create(ctx, name)
		require.NoError(t, err)
		_, err = w.Write([]byte("new"))
		require.NoError(t, err)
		require.NoError(t, w.Commit(ctx))
		require.NoError(t, w.Drop(ctx), "what is committed stays")
		same(t, d, name, "new")
		e, err := depot.Stat(ctx, d, name)
		require.NoError(t, err)
		assert.EqualValues(t, 3, e.Bytes)
		assert.False(t, e.Folder)
		assert.WithinRange(t, e.Modified, e.Modified.AddDate(-1, 0, 0), e.Modified.AddDate(1, 0, 0))
	})
	t.Run("Failed", func(t *testing.T) {
		err := depot.Fill(ctx, d, name, func(to io.Writer) error {
			_, _ = to.Write([]byte("half"))
			return io.ErrUnexpectedEOF
		})
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
		same(t, d, name, "new")
		assert.Empty(t, halves(t, d, name))
	})
	t.Run("Killed", func(t *testing.T) {
		w, err := d.Create(ctx, name)
		require.NoError(t, err)
		_, err = w.Write([]byte("half"))
		require.NoError(t, err)
		_, err = w.Written(ctx) // what somebody leaves who is killed then
		require.NoError(t, err)
		require.NoError(t, depot.Write(ctx, d, name, []byte("newer")), "it is in nobody's way")
		same(t, d, name, "newer")
		require.NoError(t, d.Remove(ctx, depot.Half(name)))
		assert.Empty(t, halves(t, d, name))
	})
	t.Run("Gone", func(t *testing.T) {
		require.NoError(t, depot.Write(ctx, d, folder+"/backups/shop/x", nil))
		all, err := d.List(ctx, folder+"/backups")
		require.NoError(t, err)
		require.Len(t, all, 2)
		assert.True(t, all[0].Folder)
		assert.Equal(t, []string{"forum", "shop"}, []string{all[0].Name, all[1].Name}, "by name")
		require.NoError(t, d.Remove(ctx, name))
		_, err = d.Open(ctx, name)
		assert.ErrorIs(t, err, fs.ErrNotExist)
		same(t, d, folder+"/backups/shop/x", "")
	})
}

// same sees that a file holds something; "" is none, or an empty one.
func same(t *testing.T, d depot.Depot, name, want string) {
	t.Helper()
	text, err := depot.Read(ctx, d, name)
	if want != "" || err == nil {
		require.NoError(t, err)
	} else {
		assert.ErrorIs(t, err, fs.ErrNotExist)
	}
	assert.Equal(t, want, string(text))
}

// halves are what was not committed.
func halves(t *testing.T, d depot.Depot, name string) (out []string) {
	t.Helper()
	if _, err := depot.Stat(ctx, d, depot.Half(name)); err == nil {
		out = append(out, depot.Half(name))
	}
	return out
}
