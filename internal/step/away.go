package step

import (
	"context"
	"path"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/hosting/files"
)

// takeAway takes files and folders away that the web may serve. Each leaves the
// web whole, by one rename into the store: of a folder that goes file by file,
// the rule that hides a configuration may be gone while the configuration is
// still there. For the same reason the rules themselves leave last. What cannot
// be renamed goes where it is. Cut off, it is called again with the same names.
func (t *Tools) takeAway(ctx context.Context, names ...string) error {
	bin, err := t.bin(ctx)
	if err != nil {
		return err
	}
	made := false
	for n, name := range rulesLast(names) {
		there, err := files.Exists(ctx, t.In.Files, name)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		if _, err := files.MkdirAll(ctx, t.In.Files, bin, 0o700); err != nil {
			return err
		}
		made = true
		if t.In.Files.Rename(ctx, name, path.Join(bin, strconv.Itoa(n))) == nil {
			continue
		}
		if err := files.RemoveAll(ctx, t.In.Files, name); err != nil {
			return err
		}
	}
	if !made {
		return nil
	}
	if err := t.discard(ctx, bin); err != nil {
		return err
	}
	return files.DropEmpty(ctx, t.In.Files, t.Store().Stages(), t.Store().Asides(), t.Store().Top())
}

// bin gives a folder of the store that is not there, for what goes. What is in one
// of before goes, or stays where it cannot go.
func (t *Tools) bin(ctx context.Context) (string, error) {
	for bin := t.Store().Stage(t.Job + "-gone"); ; bin += "-more" {
		there, err := files.Exists(ctx, t.In.Files, bin)
		if err != nil || !there {
			return bin, err
		}
		if err := t.discard(ctx, bin); err != nil {
			return bin, err
		}
	}
}

// discard takes a folder of the account's store away, for good. What the host does
// not let go, for it belongs to another user, is named and stays: it is in nobody's
// way there, and a job that cannot end would be.
func (t *Tools) discard(ctx context.Context, name string) error {
	err := files.RemoveAll(ctx, t.In.Files, name)
	if err == nil || ctx.Err() != nil || !files.Within(name, t.Store().Top()) {
		return err
	}
	if there, look := files.Exists(ctx, t.In.Files, name); look != nil || !there { // nobody can look, or it is gone
		return look
	}
	t.Result.Warn(name + " in the account could not be taken away (" + err.Error() + "); ask the host to do it")
	return nil
}

// rulesLast sorts a server's own files, such as .htaccess, behind all others.
func rulesLast(names []string) []string {
	hidden := func(name string) bool { return strings.HasPrefix(path.Base(name), ".") }
	out := slices.DeleteFunc(slices.Clone(names), hidden)
	return append(out, slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !hidden(name) })...)
}
