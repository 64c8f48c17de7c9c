package step

import (
	"context"
	"io"
	"path"
	"slices"
	"strings"

	"tivset/internal/hosting/files"
)

// remember notes what is in a backup, to find later what has changed since.
func (b *BackUp) remember(groups []group) {
	b.seen = map[string]files.Info{}
	for _, g := range groups {
		for _, f := range g.list {
			b.seen[path.Join(g.part, f.Path[len(g.folder)+1:])] = f.Info
		}
	}
}

// CatchUp brings a stage into which the backup was unpacked to what is there
// now, by closed the site that is closed by then: what has come or was changed
// since is copied, what is gone goes. Into is the stage's account.
func (b *BackUp) CatchUp(ctx context.Context, into *Tools, stage string, closed *Close) error {
	now := *b
	now.Closed = closed
	groups, err := now.list(ctx)
	if err != nil {
		return err
	}
	gone := b.seen
	for _, g := range groups {
		var changed []files.Found
		for _, f := range g.list {
			name := path.Join(g.part, f.Path[len(g.folder)+1:])
			old, known := gone[name]
			delete(gone, name)
			if known && old.Mode == f.Mode && (f.IsDir() || b.sameFile(old, f.Info)) {
				continue
			}
			changed = append(changed, f)
		}
		if err := b.bring(ctx, into, g, changed, stage); err != nil {
			return err
		}
	}
	var names []string
	for name := range gone {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range slices.Backward(names) { // what is in a folder before it
		if err := files.RemoveAll(ctx, into.In.Files, path.Join(stage, name)); err != nil {
			return err
		}
	}
	return nil
}

// sameFile says whether a file is certain to be as it was listed.
func (b *BackUp) sameFile(old, now files.Info) bool {
	exact := now.Modified.Nanosecond() != 0 || now.Modified.Before(b.seenAt.Add(-moment))
	return old.Size == now.Size && old.Modified.Equal(now.Modified) && exact
}

// bring copies files and folders of a group into the stage.
func (b *BackUp) bring(ctx context.Context, into *Tools, g group, list []files.Found, stage string) error {
	done := 0
	return files.ReadAll(ctx, b.In.Files, list, func(f files.Found, content io.Reader) error {
		done++
		b.Count(int64(done), int64(len(list)), "files")
		to := path.Join(stage, g.part, strings.TrimPrefix(f.Path, g.folder+"/"))
		if f.IsDir() {
			_, err := files.MkdirAll(ctx, into.In.Files, to, f.Mode.Perm())
			return err
		}
		if err := files.Drop(ctx, into.In.Files, to); err != nil {
			return err
		}
		if _, err := files.MkdirAll(ctx, into.In.Files, path.Dir(to), 0o755); err != nil {
			return err
		}
		w, err := into.In.Files.Create(ctx, to, f.Mode.Perm())
		if err != nil {
			return err
		}
		if _, err := io.Copy(w, content); err != nil {
			w.Close()
			return err
		}
		return w.Close()
	})
}
