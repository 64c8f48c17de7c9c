package release

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/atomicfile"
)

// Survey reads a release's archive of the cache through, or takes what an earlier
// reading found. Name is the archive's file, skip what a site does not get. More
// than the kit says that the release takes, by far, is not read.
func Survey(ctx context.Context, name string, r *kit.Release, skip []string) (archive.Survey, error) {
	top, limits := r.Archive.Top, limitsOf(r)
	good := func(s archive.Survey) bool { return len(s.Sizes) > 0 }
	return cached(name, top, skip, good, func() (archive.Survey, error) {
		file, err := os.Open(name)
		if err != nil {
			return archive.Survey{}, err
		}
		defer file.Close()
		return archive.Look(ctx, file, top, skip, limits)
	})
}

// limitsOf bound an archive by what its kit says that the release takes on the
// disk, with room for a kit that guessed.
func limitsOf(r *kit.Release) archive.Limits {
	limits := archive.DefaultLimits
	if disk := r.Space(); disk > 0 {
		limits.Bytes = min(limits.Bytes, 2*disk+16<<20)
	}
	return limits
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
		_ = atomicfile.Write(kept, text, 0o600) // without it the archive is read again
	}
	return found, nil
}
