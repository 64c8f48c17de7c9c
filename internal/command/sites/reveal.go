package sites

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/wizard"
	"tivset/internal/work/renew"
)

type revealOptions struct {
	csv     bool
	copy    bool
	renew   bool
	changed bool
	answers []string // with changed: the password, and the name
}

func (a *app) reveal() *cobra.Command {
	o := &revealOptions{}
	c := &cobra.Command{
		Use:   "reveal SITE… [--csv] [--copy] [--renew | --changed]",
		Short: "Show the credentials of sites",
		Long: "Shows the credentials of one site or several: on the screen, as CSV that password managers\n" +
			"import (name, url, username, password), or on the clipboard, also through SSH, where the\n" +
			"terminal allows it (OSC 52). --renew makes a new password, sets it in the app, signs in with it,\n" +
			"and then shows it. --changed takes note of a password that was changed in the app: it is asked for,\n" +
			"or comes with -a admin.password=@FILE; it is kept only when it signs in.",
		Example: "  tivset reveal lockside.localhost:8780/forum\n  tivset reveal forum --copy\n  tivset reveal forum " +
			"journal --csv > sites.csv\n  tivset reveal forum --changed",
		Args: cli.Takes(1, -1, "SITE…"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			return a.runReveal(ctx, s, args, o)
		}),
		ValidArgsFunction: cli.Only(a.SiteWords),
	}
	c.Flags().BoolVar(&o.renew, "renew", false, "make a new password for the admin first")
	c.Flags().BoolVar(&o.changed, "changed", false, "take note of the password that was set in the app")
	c.Flags().StringArrayVarP(&o.answers, "answer", "a", nil,
		"with --changed: admin.password=@FILE (@- reads standard input), admin.name=NAME")
	c.Flags().BoolVar(&o.csv, "csv", false, "print CSV")
	c.Flags().BoolVar(&o.copy, "copy", false, "put the admin's password on the clipboard and do not show it")
	return c
}

func (a *app) runReveal(ctx context.Context, s *core.Core, words []string, o *revealOptions) error {
	if o.copy && (len(words) > 1 || !a.Streams.ErrTerminal || o.csv || a.JSON) {
		return fault.New(fault.Usage, "--copy takes one site, on a terminal", "",
			"Name one site, and leave out --csv and --json; or leave out --copy.")
	}
	if err := cli.NotBoth("--renew", o.renew, "--changed", o.changed); err != nil {
		return err
	}
	if o.changed && len(words) > 1 || !o.changed && len(o.answers) > 0 {
		return fault.New(fault.Usage, "-a goes with --changed, and --changed with one site", "",
			"See: tivset reveal --help")
	}
	var all []site.Credentials
	for _, word := range words {
		found, err := a.credentials(ctx, s, word, o)
		if err != nil {
			return err
		}
		if err := cli.Seen(ctx, s, found.Site.Address, "passwords shown"); err != nil {
			return err
		}
		all = append(all, found)
	}
	switch {
	case a.JSON && len(all) == 1:
		return a.Streams.WriteJSON(credentialsJSON(all[0]))
	case a.JSON:
		var out []revealJSON
		for _, c := range all {
			out = append(out, credentialsJSON(c))
		}
		return a.Streams.WriteJSON(out)
	case o.csv:
		return a.Streams.CredentialsCSV(all)
	case o.copy:
		return a.Streams.Copy(all[0])
	}
	for i, c := range all {
		if i > 0 {
			a.Streams.Print("")
		}
		a.Streams.Credentials(c)
	}
	return nil
}

type dataJSON struct {
	Engine   string `json:"engine"`
	Server   string `json:"server"`
	Name     string `json:"name"`
	User     string `json:"user"`
	Password string `json:"password"`
}

type revealJSON struct {
	Address  string        `json:"address"`
	URL      string        `json:"url"`
	AdminURL string        `json:"admin_url"`
	Admin    cli.AdminJSON `json:"admin"`
	Database *dataJSON     `json:"database,omitempty"`
	Others   []other       `json:"others"`
}

type other struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

func credentialsJSON(c site.Credentials) revealJSON {
	r := revealJSON{c.Site.Address, c.Site.URL, c.Site.AdminURL, cli.AdminJSON{Name: c.Site.Admin.Name,
		Email: c.Site.Admin.Email, Password: c.Password.Reveal()}, nil, []other{}}
	if d := c.Site.Database; d != nil {
		r.Database = &dataJSON{d.Engine, d.Server, d.Name, d.User, c.Data.Reveal()}
	}
	for _, o := range c.Others {
		r.Others = append(r.Others, other{o.Name, o.Value.Reveal()})
	}
	return r
}

// credentials gives a site's, with a new password of the admin where one is
// wanted, or the one that was set in the app.
func (a *app) credentials(ctx context.Context, c *core.Core, word string, o *revealOptions) (site.Credentials, error) {
	switch {
	case o.renew:
		return renew.Renew(ctx, c.Desk, word)
	case o.changed:
		given, err := a.Given(o.answers)
		if err != nil {
			return site.Credentials{}, err
		}
		password, err := a.typed(ctx, given[answer.AdminPassword])
		if err != nil {
			return site.Credentials{}, err
		}
		return c.Sites.Learn(ctx, word, given[answer.AdminName], password)
	}
	return c.Book.Reveal(ctx, word)
}

// typed is a password that was given, or is typed unseen.
func (a *app) typed(ctx context.Context, given string) (secret.Text, error) {
	if given == "" && a.Streams.Asks() {
		var err error
		prompt := wizard.Prompt{Text: "The admin's password, as it is in the app", Unseen: true}
		if given, err = screen.NewAsker(a.Streams).Ask(ctx, prompt); err != nil {
			return secret.Text{}, err
		}
	}
	if given == "" {
		return secret.Text{}, &fault.Error{Kind: fault.Usage, What: "the password is not given",
			Missing: []string{answer.AdminPassword}, Remedy: "Give it with -a admin.password=@FILE; @- reads standard input."}
	}
	return secret.Of(given), nil
}
