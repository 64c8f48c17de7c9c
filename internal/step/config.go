package step

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/app/rewrite"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
)

// mostOfConfig is up to how many bytes of a configuration file are read.
const mostOfConfig = 4 << 20

// configure writes the configuration of a new site.
func (u *Unpack) configure(ctx context.Context) error {
	if err := u.writeConfigs(ctx, u.Stage, u.From.Configs, false); err != nil {
		return err
	}
	return u.SetConstants(ctx)
}

// writeConfigs writes the configuration files that go there before or after the set-up.
func (t *Tools) writeConfigs(ctx context.Context, folder string, texts [][]byte, after bool) error {
	for i, c := range t.Site.Kit.Config {
		if len(c.Constant) > 0 || c.After != after {
			continue
		}
		if err := replace(ctx, t.In.Files, path.Join(folder, c.Path), texts[i], fileMode(c.Mode)); err != nil {
			return err
		}
	}
	return nil
}

// Configured writes the configuration files that come after the set-up; nil where
// there are none.
func Configured(t *Tools, s Stage, texts [][]byte) []job.Step {
	if !slices.ContainsFunc(t.Site.Kit.Config, func(c kit.Config) bool { return c.After }) {
		return nil
	}
	return []job.Step{&FuncStep{Label: "Write the configuration", Work: func(ctx context.Context) error {
		return t.writeConfigs(ctx, s.Folder, texts, true)
	}}}
}

// SetConstants edits the PHP files of the archive in which the kit sets
// constants; each keeps its mode.
func (u *Unpack) SetConstants(ctx context.Context) error {
	values, err := u.Site.Values(u.Now())
	if err != nil {
		return err
	}
	for _, c := range u.Site.Kit.Config {
		if len(c.Constant) == 0 {
			continue
		}
		name := path.Join(u.Stage, c.Path)
		info, err := u.In.Files.Stat(ctx, name)
		if err != nil {
			return err
		}
		content, err := files.Read(ctx, u.In.Files, name, mostOfConfig)
		if err != nil {
			return err
		}
		text, err := withConstants(c, string(content), values)
		if err != nil {
			return fmt.Errorf("%s: %w", c.Path, err)
		}
		if err := replace(ctx, u.In.Files, name, []byte(text), info.Mode.Perm()); err != nil {
			return err
		}
	}
	return nil
}

// withConstants gives a PHP file with the kit's constants set.
func withConstants(c kit.Config, text string, values fill.Values) (string, error) {
	for constant, value := range c.Constant {
		filled, err := fill.Text(value, values)
		if err != nil {
			return "", err
		}
		if text, err = config.SetConstant(text, constant, filled); err != nil {
			return "", err
		}
	}
	return text, nil
}

// replace writes a file of a stage, over one from the archive if need be.
func replace(ctx context.Context, f files.FS, name string, text []byte, mode fs.FileMode) error {
	if err := files.Drop(ctx, f, name); err != nil {
		return err
	}
	if _, err := files.MkdirAll(ctx, f, path.Dir(name), 0o755); err != nil {
		return err
	}
	return files.Write(ctx, f, name, text, mode)
}

func fileMode(text string) fs.FileMode {
	mode, err := strconv.ParseUint(text, 8, 32)
	if err != nil {
		return 0o640
	}
	return fs.FileMode(mode)
}

// CarryConfig brings the configuration of an app that lies in a folder to the
// values of the job's site. Before is what it holds. What its owner changed by
// hand stays.
func (t *Tools) CarryConfig(ctx context.Context, folder string, before fill.Values) error {
	return t.carryConfig(ctx, folder, func(kit.Config, string) fill.Values { return before })
}

// CarryToPlace brings an app that lies in a folder, with its data in another, to
// the place and the database of the job's site. Before is what its configuration
// held as far as that is recorded.
func (t *Tools) CarryToPlace(ctx context.Context, folder, data string, before fill.Values,
	change *rewrite.Address) error {
	err := t.carryConfig(ctx, folder, func(f kit.Config, now string) fill.Values {
		template, err := fs.ReadFile(t.Site.Kit.Files(), f.Template)
		if err != nil {
			return before // which says it again
		}
		return t.placed(before, config.Read(f.Format, string(template), now))
	})
	if err != nil {
		return err
	}
	if err := t.carryFiles(ctx, folder, data, change); err != nil {
		return err
	}
	return t.tellOfFiles(ctx, folder, change)
}

func (t *Tools) carryConfig(ctx context.Context, folder string,
	before func(f kit.Config, now string) fill.Values) error {
	after, err := t.Site.Values(t.Now())
	if err != nil {
		return err
	}
	for _, f := range t.Site.Kit.Config {
		name := path.Join(folder, f.Path)
		info, err := t.In.Files.Stat(ctx, name)
		if errors.Is(err, fs.ErrNotExist) && f.Optional {
			continue
		}
		if errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "the configuration is not where the kit says", f.Path,
				"It was moved by hand; put it back where it belongs.")
		}
		if err != nil {
			return err
		}
		now, err := files.Read(ctx, t.In.Files, name, mostOfConfig)
		if err != nil {
			return err
		}
		text, err := t.carried(f, string(now), before(f, string(now)), after)
		if err != nil {
			return err
		}
		if text == string(now) {
			continue
		}
		if err := replace(ctx, t.In.Files, name, []byte(text), info.Mode.Perm()); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tools) carried(f kit.Config, now string, before, after fill.Values) (string, error) {
	if len(f.Constant) > 0 {
		text, err := withConstants(f, now, after)
		if err != nil {
			return "", fault.New(fault.Failed, "the configuration was changed by hand", f.Path, "").Wrap(err)
		}
		return text, nil
	}
	syntax, err := config.For(f.Format)
	if err != nil {
		return "", err
	}
	text, err := fs.ReadFile(t.Site.Kit.Files(), f.Template)
	if err != nil {
		return "", err
	}
	out, err := config.Carry(syntax, string(text), now, before, after)
	if err != nil {
		return "", fault.New(fault.Failed, "the configuration was changed by hand", f.Path,
			"Put that line back as the app's set-up wrote it, or change it to what it is to be yourself.").Wrap(err)
	}
	return out, nil
}

// carryFiles replaces what changes with the place in the files that the kit says
// hold it.
func (t *Tools) carryFiles(ctx context.Context, folder, data string, change *rewrite.Address) error {
	if !change.Changes() {
		return nil
	}
	for _, s := range t.Site.Kit.Stored {
		in, pattern := folder, s.Files
		if s.DataFiles != "" {
			in, pattern = data, s.DataFiles
		}
		if pattern == "" {
			continue
		}
		all, err := files.Tree(ctx, t.In.Files, in, nil)
		if err != nil {
			return err
		}
		for _, f := range all {
			fits, err := path.Match(pattern, strings.TrimPrefix(f.Path, in+"/"))
			if err != nil {
				return err
			}
			if !fits || !f.Mode.IsRegular() {
				continue
			}
			if err := t.carryFile(ctx, f, change); err != nil {
				return err
			}
		}
	}
	return nil
}

// carryFile replaces in one file. A larger one than configuration can be is an
// error: half of it would be lost.
func (t *Tools) carryFile(ctx context.Context, f files.Found, change *rewrite.Address) error {
	now, err := files.Read(ctx, t.In.Files, f.Path, mostOfConfig)
	if err != nil {
		return err
	}
	becomes := change.Value(now)
	if bytes.Equal(now, becomes) {
		return nil
	}
	return replace(ctx, t.In.Files, f.Path, becomes, f.Mode.Perm())
}

// placed has what depends on the place and the database be as the file says that
// it is, where it can be read: what is recorded may be older, or the account's
// servers have other names since. All else in the file is its owner's.
func (t *Tools) placed(before, read fill.Values) fill.Values {
	out := maps.Clone(before)
	for name, value := range read {
		if ofPlace(name) || slices.ContainsFunc(t.Site.Kit.Values[strings.TrimPrefix(name, "value.")].Names(), ofPlace) {
			out[name] = value
		}
	}
	return out
}

// ofPlace says whether a value depends on where a site and its data are.
func ofPlace(name string) bool {
	return strings.HasPrefix(name, "data.") || slices.Contains([]string{"url", "domain", "path", "tables",
		answer.AdminFolder},
		name)
}

// CopyConfig copies the site's configuration files from one folder to another;
// also those that are the release's own, edited, when the whole is wanted. One
// that is not there is for CarryConfig to tell.
func (t *Tools) CopyConfig(ctx context.Context, folder, to string, whole bool) error {
	all := slices.Clone(t.Site.Kit.Config)
	if len(t.Site.Kit.PHPSettings) > 0 && !whole {
		all = append(all, kit.Config{Path: kit.UserINI})
	}
	for _, c := range all {
		if len(c.Constant) > 0 && !whole {
			continue // a file of the release
		}
		from := path.Join(folder, c.Path)
		info, err := t.In.Files.Stat(ctx, from)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		text, err := files.Read(ctx, t.In.Files, from, mostOfConfig)
		if err != nil {
			return err
		}
		if err := replace(ctx, t.In.Files, path.Join(to, c.Path), text, info.Mode.Perm()); err != nil {
			return err
		}
	}
	return nil
}
