package release

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"

	"github.com/google/renameio/v2"

	"tivset/internal/app/archive"
)

// Survey reads an archive of the cache through, or takes what an earlier
// reading found. Name is the archive's file, top the folder inside that holds
// the app, skip what a site does not get.
func Survey(ctx context.Context, name, top string, skip []string) (archive.Survey, error) {
	good := func(s archive.Survey) bool { return len(s.Sizes) > 0 }
	return cached(name, top, skip, good, func() (archive.Survey, error) {
		file, err := os.Open(name)
		if err != nil {
			return archive.Survey{}, err
		}
		defer file.Close()
		return archive.Look(ctx, file, top, skip, archive.DefaultLimits)
	})
}

// sums reads an archive's checksums, once.
func sums(ctx context.Context, name, top string) (map[string]string, error) {
	good := func(found map[string]string) bool { return len(found) > 0 }
	return cached(name+".sums", top, nil, good, func() (map[string]string, error) {
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		return archive.Sums(ctx, file, top, nil, archive.DefaultLimits)
	})
}

// cached gives what was found out about an archive earlier, or finds it out. The
// file is named by the archive's checksum, which was verified, so the same name
// has the same content.
func cached[T any](name, top string, skip []string, good func(T) bool, find func() (T, error)) (T, error) {
	key := sha256.Sum256([]byte(top + "\x00" + strings.Join(skip, "\x00")))
	kept := name + "-" + hex.EncodeToString(key[:8]) + ".json"
	var found T
	if text, err := os.ReadFile(kept); err == nil && json.Unmarshal(text, &found) == nil && good(found) {
		return found, nil
	}
	found, err := find()
	if err != nil {
		return found, err
	}
	if text, err := json.Marshal(found); err == nil {
		_ = renameio.WriteFile(kept, text, 0o600) // without it the archive is read again
	}
	return found, nil
}
