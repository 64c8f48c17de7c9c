package step

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/site"
)

// SetModes gives files and folders of the account other modes.
type SetModes struct {
	*Tools `json:"-"`
	Modes  []site.InsecureMode `json:"modes"`
}

// Kind and Title implement job.Step.
func (*SetModes) Kind() string  { return "set-modes" }
func (*SetModes) Title() string { return "Keep others out of the files" }

// Do sets them.
func (s *SetModes) Do(ctx context.Context) error {
	for n, m := range s.Modes {
		if err := s.set(ctx, m.Name, m.Want); err != nil {
			return err
		}
		s.Count(int64(n+1), int64(len(s.Modes)), "files")
	}
	return nil
}

// Undo sets them as they were; what has gone has none.
func (s *SetModes) Undo(ctx context.Context) error {
	for _, m := range s.Modes {
		if err := s.set(ctx, m.Name, m.Mode); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// set sets one, and sees that it is set: servers say yes and do nothing.
func (s *SetModes) set(ctx context.Context, name string, mode fs.FileMode) error {
	moder, can := s.In.Files.(files.Moder)
	if !can {
		return cannotSet(name, mode, errors.ErrUnsupported)
	}
	if err := moder.Chmod(ctx, name, mode); err != nil {
		if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, fs.ErrPermission) {
			return cannotSet(name, mode, err)
		}
		return err
	}
	info, err := s.In.Files.Stat(ctx, name)
	if err == nil && info.Mode.Perm() != mode.Perm() {
		return cannotSet(name, mode, fmt.Errorf("it has %04o still", info.Mode.Perm()))
	}
	return err
}

func cannotSet(name string, mode fs.FileMode, cause error) error {
	return fault.New(fault.Failed, "the account lets nobody set modes by the way that it is reached", name,
		fmt.Sprintf("Set it to %04o in the host's control panel.", mode.Perm())).Wrap(cause)
}
