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
	bin := t.Store().Stage(t.Job + "-gone")
	if err := files.RemoveAll(ctx, t.In.Files, bin); err != nil {
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
	if err := files.RemoveAll(ctx, t.In.Files, bin); err != nil {
		return err
	}
	return files.DropEmpty(ctx, t.In.Files, t.Store().Stages(), t.Store().Asides(), t.Store().Top())
}

// rulesLast sorts a server's own files, such as .htaccess, behind all others.
func rulesLast(names []string) []string {
	hidden := func(name string) bool { return strings.HasPrefix(path.Base(name), ".") }
	out := slices.DeleteFunc(slices.Clone(names), hidden)
	return append(out, slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !hidden(name) })...)
}
