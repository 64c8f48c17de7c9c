package site

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
)

// markerName is the file that says that somebody works at an address.
func markerName(store, address string) string {
	sum := sha256.Sum256([]byte(address))
	return path.Join(store, "busy", hex.EncodeToString(sum[:8])+".json")
}

func readMarker(ctx context.Context, f files.FS, name string) (marker, error) {
	var m marker
	text, err := files.Read(ctx, f, name, 1<<16)
	if err != nil {
		return m, err
	}
	return m, json.Unmarshal(text, &m)
}

// dropMarker takes a job's own mark away, and then the folders that are empty.
func dropMarker(ctx context.Context, f files.FS, name, job string, folders ...string) error {
	m, err := readMarker(ctx, f, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil && m.Job == job {
		if err := f.Remove(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return dropEmpty(ctx, f, folders...)
}

// busy words that somebody else is at work at the place.
func (c *claim) busy(ctx context.Context) error {
	m, err := readMarker(ctx, c.files, c.Marker)
	if err != nil {
		return fmt.Errorf("another job has claimed the place: %w", err)
	}
	return fault.New(fault.Decision, "another job is at work here", m.Address,
		fmt.Sprintf("Job %s of %s, since %s. Wait for its end; if it was cut off: tivset undo %s", m.Job, m.Who, m.Since.Format("2006-01-02 15:04 MST"), m.Job))
}
