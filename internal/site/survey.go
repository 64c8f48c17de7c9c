package site

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/app/archive"
)

// survey reads an archive of the cache through, or takes what an earlier
// reading found.
func survey(ctx context.Context, name, top string, skip []string) (archive.Survey, error) {
	return cached(name, top, skip, func(s archive.Survey) bool { return len(s.Sizes) > 0 }, func() (archive.Survey, error) {
		file, err := os.Open(name)
		if err != nil {
			return archive.Survey{}, err
		}
		defer file.Close()
		return archive.Look(ctx, file, top, skip, archive.DefaultLimits)
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
	if err == nil {
		keepFound(kept, found)
	}
	return found, err
}

// keepFound writes it whole or not at all; without it the archive is read again.
func keepFound(name string, found any) {
	text, err := json.Marshal(found)
	if err != nil {
		return
	}
	temporary, err := os.CreateTemp(filepath.Dir(name), ".part-*")
	if err != nil {
		return
	}
	defer os.Remove(temporary.Name())
	_, err = temporary.Write(text)
	if closed := temporary.Close(); err == nil && closed == nil {
		_ = os.Rename(temporary.Name(), name)
	}
}
