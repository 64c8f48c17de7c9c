package kits

import (
	"context"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/author"
	"tivset/internal/command/cli"
	"tivset/internal/fault"
)

// author helps those who write kits.
func (a *app) author(ctx context.Context) (*author.Author, error) {
	_, archives, err := a.Catalogue(ctx)
	return &author.Author{Archives: archives, Now: a.World.Now}, err
}

func (a *app) kitNew() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "new DIR [--from ARCHIVE|FOLDER|ADDRESS|debian:PACKAGE]",
		Short: "Begin a kit, from the app's own files where they are at hand",
		Long: "Reads an unpacked app and writes a kit that tivset kit check takes: its needs, configuration, tables,\n" +
			"set-up, sign-in, what it writes and what it says of its release. What cannot be told from the files stands\n" +
			"in kit.yaml as a question, after “# ?”. Nothing of the app is run.",
		Example: "  tivset kit new ./willowbench --from willowbench-2.4.1.tar.gz\n" +
			"  tivset kit new ./tidebook --from debian:tidebook",
		Args: cli.Takes(1, 1, "DIR"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			writes, err := a.author(c.Context())
			if err != nil {
				return err
			}
			d, err := writes.New(c.Context(), args[0], from)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"kit": args[0], "found": append([]string{}, d.Found...),
					"questions": append([]string{}, d.Questions...)})
			}
			for _, f := range d.Found {
				a.Streams.Say("  found %s", f)
			}
			a.Streams.Print("The draft of a kit is in %s. Questions to answer in %s: %d; they begin with “# ?”.",
				strings.TrimSuffix(args[0], "/"), filepath.Join(args[0], "kit.yaml"), len(d.Questions))
			a.Streams.Say("Then: tivset kit check %s; tivset kit try %s", args[0], args[0])
			return nil
		},
	}
	c.Flags().
		StringVar(&from, "from", "", "what to read: an archive's file, a folder, an https address, or debian:PACKAGE")
	return c
}

func (a *app) kitRelease() *cobra.Command {
	r := author.Adding{}
	c := &cobra.Command{
		Use:   "release DIR VERSION --archive FILE|ADDRESS",
		Short: "Add a release to a kit, and say what changed in it",
		Long: "Writes the release into kit.yaml before the others, with checksum, date, level and top folder, and the\n" +
			"needs of the one before. Says what changed between the two: requirements, tables, samples of the configuration,\n" +
			"set-up files. All else in kit.yaml stays as it is written.",
		Example: "  tivset kit release ./willowbench 2.4.2 --archive willowbench-2.4.2.tar.gz\n" +
			"  tivset kit release ./willowbench 2.4.2 --archive https://millpond.example/willowbench-2.4.2.tar.gz",
		Args: cli.Takes(2, 2, "DIR VERSION --archive FILE"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			if r.Dir, r.Release = args[0], args[1]; r.Archive == "" {
				return fault.New(fault.Usage, "the release's archive is missing", "", "Write: --archive FILE")
			}
			writes, err := a.author(c.Context())
			if err != nil {
				return err
			}
			added, err := writes.Release(c.Context(), r)
			if err != nil {
				return err
			}
			if a.JSON {
				added.Look = append([]string{}, added.Look...)
				return a.Streams.WriteJSON(added)
			}
			for _, what := range added.Look {
				a.Streams.Say("  look at %s", what)
			}
			if !added.Compared {
				a.Streams.Warn("the archive of " + added.After + " could not be had: nobody compared the two")
			}
			a.Streams.Print("%s is in the kit, after %s: %s, of %s.", added.Release, added.After, added.Level, added.Date)
			a.Streams.Say("Then: tivset kit check %s; tivset kit try %s", args[0], args[0])
			return nil
		},
	}
	c.Flags().StringVar(&r.Archive, "archive", "", "the release's archive: a file, or an https address")
	return c
}
