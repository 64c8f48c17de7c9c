package step

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"tivset/internal/app/kit"
	"tivset/internal/app/rewrite"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// LeaveStage has an app that was set up in a stage by its own pages know its place:
// what it has kept of the stage's address and folder, in its tables and in the files
// that it wrote, is replaced.
func LeaveStage(t *Tools, s Stage) *FuncStep {
	return &FuncStep{Phase: Phase{job.StageSettingUp}, Label: "Tell the app of its place",
		Work: func(ctx context.Context) error {
			change, err := t.Site.FromStage(s.Base, s.Folder)
			if err != nil {
				return err
			}
			l := &leaving{t, s, change}
			if err := l.tables(ctx); err != nil {
				return err
			}
			return l.files(ctx)
		}}
}

type leaving struct {
	*Tools
	stage  Stage
	change *rewrite.Address
}

// tables replaces in the site's tables, where the stage's name is in them: nobody
// could guess it, so it is there for nothing else.
func (l *leaving) tables(ctx context.Context) error {
	if l.Site.Data == nil {
		return nil
	}
	dump, err := l.Book.Home.Temporary()
	if err != nil {
		return err
	}
	defer os.Remove(dump.Name())
	defer dump.Close()
	record := l.Site.Recorded()
	return l.Site.WithData(ctx, l.In, func(s database.Session) error {
		if err := s.Dump(ctx, dump, site.OwnTables(record)); err != nil {
			return err
		}
		if there, err := holds(dump, path.Base(l.stage.Folder)); err != nil || !there {
			return err
		}
		c := site.Carried{Record: ledger.Site{Database: record}}
		script := c.Rewritten(io.NopCloser(dump), record.Engine, everywhere(l.Site.Kit.Kit), l.change, l.Result.Left)
		defer script.Close()
		return reload(ctx, s, record, script, database.ScriptOptions{})
	})
}

// everywhere is a kit that keeps no column from what is replaced.
func everywhere(k *kit.Kit) *kit.Kit {
	all := *k
	all.Stored = nil
	return &all
}

// holds says whether a text is in a file, and goes back to its beginning.
func holds(f io.ReadSeeker, text string) (bool, error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	piece, kept, found := make([]byte, 1<<16), 0, false
	for {
		n, err := f.Read(piece[kept:])
		found = found || bytes.Contains(piece[:kept+n], []byte(text))
		if errors.Is(err, io.EOF) || found {
			break
		}
		if err != nil {
			return false, err
		}
		end := kept + n
		kept = copy(piece, piece[max(0, end-len(text)):end])
	}
	_, err := f.Seek(0, io.SeekStart)
	return found, err
}

// How many files of those that the app has written are looked into, and up to which
// size each.
const (
	mostWritten = 400
	mostInOne   = 256 << 10
)

// files replaces in the configuration, and in what lies in folders into which the
// app writes.
func (l *leaving) files(ctx context.Context) error {
	k := l.Site.Kit.Kit
	names := []string{}
	for _, c := range k.Config {
		names = append(names, path.Clean(c.Path))
	}
	names = append(append(names, k.Place.Written...), k.Place.Compiled...)
	all, err := l.written(ctx, l.stage.Folder, names)
	if err != nil {
		return err
	}
	for _, f := range all {
		if err := l.carryFile(ctx, f, l.change); err != nil {
			return err
		}
	}
	return l.carryFiles(ctx, l.stage.Folder, l.Site.Place.DataFolder, l.change)
}

// written lists the files at and below names of a folder, as far as they are looked
// into: fewer over a line.
func (t *Tools) written(ctx context.Context, folder string, names []string) (out []files.Found, err error) {
	most := mostWritten
	if !t.In.Line().OwnMachine {
		most /= 8
	}
	for _, name := range names {
		all, err := files.Whole(ctx, t.In.Files, path.Join(folder, name))
		if err != nil {
			return nil, err
		}
		for _, f := range all {
			if f.Mode.IsRegular() && f.Size <= mostInOne && len(out) < most {
				out = append(out, f)
			}
		}
	}
	return out, nil
}

// tellOfFiles warns of files that the app has written and that hold what changes
// with the place, where the kit does not say that it is to be replaced in them.
func (t *Tools) tellOfFiles(ctx context.Context, folder string, change *rewrite.Address) error {
	if !change.Changes() {
		return nil
	}
	all, err := t.written(ctx, folder, t.Site.Kit.Place.Written)
	if err != nil {
		return err
	}
	var found []string
	for _, f := range all {
		text, err := files.Read(ctx, t.In.Files, f.Path, mostInOne)
		if err != nil {
			return err
		}
		if !bytes.Equal(text, change.Value(text)) {
			found = append(found, strings.TrimPrefix(f.Path, folder+"/"))
		}
	}
	if len(found) > 0 {
		t.Result.Warn(fmt.Sprintf("the address or the folder of before still stands in %d of the files that the app has "+
			"written, such as %s", len(found), found[0]))
	}
	return nil
}
