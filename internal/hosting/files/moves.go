package files

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// Move is a file or folder that goes from one place of the account to another.
type Move struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Within says whether a path is outer or lies below it.
func Within(inner, outer string) bool {
	return inner == outer || strings.HasPrefix(inner, outer+"/")
}

// Others are paths that belong to somebody else, with all below them.
type Others []string

// Has says whether a path is somebody else's.
func (o Others) Has(name string) bool {
	return slices.ContainsFunc(o, func(other string) bool { return Within(name, other) })
}

// Below says whether something of somebody else's lies inside a folder.
func (o Others) Below(name string) bool {
	return slices.ContainsFunc(o, func(other string) bool { return other != name && Within(other, name) })
}

// looked is Others for many questions: a site may have tens of thousands of files that are somebody else's.
type looked struct {
	are   map[string]bool // they themselves
	above map[string]bool // the folders in which they are
}

func (o Others) looked() looked {
	l := looked{make(map[string]bool, len(o)), map[string]bool{}}
	for _, other := range o {
		l.are[other] = true
		for up := path.Dir(other); up != "." && !l.above[up]; up = path.Dir(up) {
			l.above[up] = true
		}
	}
	return l
}

func (l looked) has(name string) bool {
	for ; name != "." && name != "/"; name = path.Dir(name) {
		if l.are[name] {
			return true
		}
	}
	return false
}

// Drop takes a file, a link or an empty folder away; nothing there is fine.
func Drop(ctx context.Context, f FS, name string) error {
	if err := f.Remove(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// DropEmpty takes those of the folders away that hold nothing, in their order:
// innermost first.
func DropEmpty(ctx context.Context, f FS, folders ...string) error {
	for _, name := range folders {
		inside, err := f.List(ctx, name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err == nil && len(inside) == 0 {
			_ = f.Remove(ctx, name) // somebody may have put something in meanwhile
		}
	}
	return nil
}

// OwnedParts lists the largest parts of a folder that are nobody else's: whole
// entries, and of a folder with something of others in it what is beside that.
// Nothing for a folder that is not there.
func OwnedParts(ctx context.Context, f FS, folder string, others Others) ([]string, error) {
	return others.looked().owned(ctx, f, folder)
}

func (l looked) owned(ctx context.Context, f FS, folder string) ([]string, error) {
	inside, err := f.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, i := range inside {
		full := path.Join(folder, i.Name)
		switch {
		case l.has(full):
		case i.IsDir() && l.above[full]:
			below, err := l.owned(ctx, f, full)
			if err != nil {
				return nil, err
			}
			out = append(out, below...)
		default:
			out = append(out, full)
		}
	}
	return out, nil
}

// Besides lists the largest parts of one entry that hold none of others'.
func Besides(ctx context.Context, f FS, full string, others Others) ([]string, error) {
	if others.Has(full) {
		return nil, nil
	}
	if !others.Below(full) {
		return []string{full}, nil
	}
	return OwnedParts(ctx, f, full, others)
}

// Blocked is the error of a move that would land on somebody else's.
type Blocked struct{ Name string }

// Error names what is in the way.
func (b *Blocked) Error() string { return "something of others is in the way: " + b.Name }

// Arriving lists the moves that bring what a stage holds into a folder. Where a
// folder stays because something of others is in it, its parts go in. *Blocked
// when others are in the way.
func Arriving(ctx context.Context, f FS, stage, target string, others Others) ([]Move, error) {
	return others.looked().arriving(ctx, f, stage, target)
}

func (l looked) arriving(ctx context.Context, f FS, stage, target string) ([]Move, error) {
	inside, err := f.List(ctx, stage)
	if err != nil {
		return nil, err
	}
	var out []Move
	for _, i := range inside {
		from, to := path.Join(stage, i.Name), path.Join(target, i.Name)
		switch {
		case l.has(to):
			return nil, &Blocked{to}
		case i.IsDir() && l.above[to]:
			below, err := l.arriving(ctx, f, from, to)
			if err != nil {
				return nil, err
			}
			out = append(out, below...)
		default:
			out = append(out, Move{from, to})
		}
	}
	return out, nil
}

// Leaving lists the moves that take paths below a folder to another.
func Leaving(paths []string, folder, to string) []Move {
	var out []Move
	for _, p := range paths {
		out = append(out, Move{p, path.Join(to, p[len(folder):])})
	}
	return out
}
