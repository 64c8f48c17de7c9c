package site

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/archive"
)

// survey reads an archive of the cache through, or takes what an earlier
// reading found: the file is named by its checksum, which was verified, so the
// same name has the same content.
func survey(ctx context.Context, name, top string, skip []string) (archive.Survey, error) {
	key := sha256.Sum256([]byte(top + "\x00" + strings.Join(skip, "\x00")))
	kept := name + "-" + hex.EncodeToString(key[:8]) + ".json"
	var s archive.Survey
	if text, err := os.ReadFile(kept); err == nil && json.Unmarshal(text, &s) == nil && len(s.Sizes) > 0 {
		return s, nil
	}
	file, err := os.Open(name)
	if err != nil {
		return s, err
	}
	defer file.Close()
	if s, err = archive.Look(ctx, file, top, skip, archive.DefaultLimits); err != nil {
		return s, err
	}
	keepSurvey(kept, s)
	return s, nil
}

// keepSurvey writes the survey whole or not at all; without it the archive is
// read again.
func keepSurvey(name string, s archive.Survey) {
	text, err := json.Marshal(s)
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
