package archive

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
)

// Sums gives the SHA-256 of every file of an archive, by its path.
func Sums(ctx context.Context, file *os.File, top string, skip []string, limits Limits) (map[string]string, error) {
	out := map[string]string{}
	err := Walk(ctx, file, top, limits, func(e Entry, content io.Reader) error {
		if e.Dir || Skipped(e.Name, skip) {
			return nil
		}
		sum := sha256.New()
		_, err := io.Copy(sum, content)
		out[e.Name] = hex.EncodeToString(sum.Sum(nil))
		return err
	})
	return out, err
}
