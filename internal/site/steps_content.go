package site

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
)

// carryConfig brings the configuration of an app that lies in a folder to the
// plan's values. What its owner changed by hand stays.
type carryConfig struct {
	*env
	folder string
	before fill.Values
}

func (c *carryConfig) do(ctx context.Context) error {
	after, err := c.plan.values(c.Now())
	if err != nil {
		return err
	}
	for _, f := range c.plan.kit.Config {
		name := path.Join(c.folder, f.Path)
		info, err := c.files.Stat(ctx, name)
		if errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "the configuration is not where the kit says", f.Path, "It was moved by hand; put it back where it belongs.")
		}
		if err != nil {
			return err
		}
		now, err := files.Read(ctx, c.files, name, 4<<20)
		if err != nil {
			return err
		}
		text, err := c.carried(f.Path, f.Template, f.Format, f.Constant, string(now), after)
		if err != nil {
			return err
		}
		if text == string(now) {
			continue
		}
		if err := c.files.Remove(ctx, name); err != nil {
			return err
		}
		if err := files.Write(ctx, c.files, name, []byte(text), info.Mode.Perm()); err != nil {
			return err
		}
	}
	return nil
}

func (c *carryConfig) carried(name, template, format string, constants map[string]string, now string, after fill.Values) (string, error) {
	if len(constants) > 0 {
		for constant, value := range constants {
			filled, err := fill.Text(value, after)
			if err != nil {
				return "", err
			}
			if now, err = config.SetConstant(now, constant, filled); err != nil {
				return "", fault.New(fault.Failed, "the configuration was changed by hand", name, "").Because(err)
			}
		}
		return now, nil
	}
	syntax, err := config.For(format)
	if err != nil {
		return "", err
	}
	text, err := fs.ReadFile(c.plan.kit.Files(), template)
	if err != nil {
		return "", err
	}
	out, err := config.Carry(syntax, string(text), now, c.before, after)
	if err != nil {
		return "", fault.New(fault.Failed, "the configuration was changed by hand", name, "Put that line back as the app's set-up wrote it, or change it to what it is to be yourself.").Because(err)
	}
	return out, nil
}

// movable lists the largest parts of a folder that are nobody else's: whole
// entries, and of a folder with something foreign in it what is beside that.
func movable(ctx context.Context, f files.FS, folder string, others foreign) ([]string, error) {
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
		case others.has(full):
		case i.IsDir() && others.below(full):
			below, err := movable(ctx, f, full, others)
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

// arriving lists the moves that bring what a stage holds into a folder. Where a
// folder stays because something of others is in it, its parts go in.
func arriving(ctx context.Context, f files.FS, stage, target string, others foreign) ([]move, error) {
	inside, err := f.List(ctx, stage)
	if err != nil {
		return nil, err
	}
	var out []move
	for _, i := range inside {
		from, to := path.Join(stage, i.Name), path.Join(target, i.Name)
		switch {
		case others.has(to):
			return nil, fault.New(fault.Failed, "something of others is in the way", to, "Move it, or restore the site to another place.")
		case i.IsDir() && others.below(to):
			below, err := arriving(ctx, f, from, to, others)
			if err != nil {
				return nil, err
			}
			out = append(out, below...)
		default:
			out = append(out, move{from, to})
		}
	}
	return out, nil
}

// leaving lists the moves that take paths below a folder to another.
func leaving(paths []string, folder, to string) []move {
	var out []move
	for _, p := range paths {
		out = append(out, move{p, path.Join(to, p[len(folder):])})
	}
	return out
}
