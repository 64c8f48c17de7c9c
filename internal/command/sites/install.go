package sites

import (
	"cmp"
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/atomicfile"
	"tivset/internal/command/cli"
	"tivset/internal/command/upkeep"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/screen"
	"tivset/internal/site"
	"tivset/internal/wizard"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

type installOptions struct {
	app           string
	at            string
	release       string
	archive       string
	accept        string
	answers       []string
	labels        []string
	answersFile   string
	saveAnswers   string
	acceptLicence bool
	showPassword  bool
	keepFailed    bool
	copyPassword  bool
	talked        bool // something was answered in a conversation
	cli.Selection
}

func (a *app) install() *cobra.Command {
	o := &installOptions{Selection: cli.Selection{Strict: true}}
	c := &cobra.Command{
		Use:   "install [APP] [--at ADDRESS] [options]",
		Short: "Install an app, checked, or not at all",
		Long: "Installs an app at an address of the account. On a terminal it asks for what it was not\n" +
			"told and cannot do without; with --yes, or without a terminal, it asks nothing and names\n" +
			"all that is missing at once. The review shows everything that is about to happen; then the\n" +
			"site is set up, checked as a visitor and as the admin, and recorded. When anything fails,\n" +
			"all that was begun is undone. With --table each row of a table is a site: all are looked at\n" +
			"first, then installed side by side; a row that fails is undone, and the others go on.",
		Example: "  tivset install willowbench --at lockside.localhost/forum -a title=\"Lockside Talk\" \\\n" +
			"      -a admin.email=wharfinger@lockside.localhost --accept-licence\n" +
			"  tivset install --answers lockside.yaml --yes\n" +
			"  tivset install slateroom --table course.csv -a title=\"Class {number}\" --results done.csv",
		Args: cli.Takes(0, 1, "[APP] [--at ADDRESS]"),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				o.app = args[0]
			}
			a.Freshen(c.Context())
			return a.Using(func(ctx context.Context, s *core.Core, _ []string) error {
				return a.runInstall(ctx, s, o)
			})(c, args)
		},
		ValidArgsFunction: cli.Only(a.AppWords),
	}
	f := c.Flags()
	f.StringVar(&o.at, "at", "", "the address: a domain of the account and a directory")
	f.StringVar(&o.release, "release", "", "the release (the newest that fits when left out)")
	f.StringVar(&o.archive, "archive", "", "the release's archive, for apps whose archive you fetch yourself")
	f.StringVar(&o.accept, "accept-archive", "", cli.AcceptUsage)
	f.StringArrayVarP(&o.answers, "answer", "a", nil, "an answer, id=value; id=@FILE reads a file, id=@- standard input")
	f.StringVar(&o.answersFile, "answers", "", "a file of answers")
	f.StringVar(&o.saveAnswers, "save-answers", "", "write the answers to this file, without secrets")
	f.StringArrayVar(&o.labels, "label", nil,
		"a word of your own by which others find it, such as customer=brook; in a table columns such as label.customer")
	f.BoolVar(&o.acceptLicence, "accept-licence", false, "accept the app's licence")
	f.BoolVar(&o.keepFailed, "keep-failed", false,
		"for authors of kits: leave what failed as it is, to be looked at; tivset undo takes it back")
	f.BoolVar(&o.showPassword, "show-password", false, "print the admin's password even where no terminal is")
	f.BoolVar(&o.copyPassword, "copy", false,
		"put the admin's password on the clipboard at the end, through the terminal")
	f.StringVar(&o.Table, "table", "",
		"install every row of a table (CSV), whose columns are answers; - for standard input")
	f.StringVar(&o.Results, "results", "", "with --table: write what came of each row to this file, as CSV")
	f.IntVar(&o.AtOnce, "parallel", batch.Usual.Account,
		"with --table: how many sites of an account are installed side by side")
	cli.Option(c, "at", a.DomainWords, cobra.ShellCompDirectiveNoSpace)
	return c
}

// valid sees that the options go together.
func (o *installOptions) valid(a *app) error {
	switch {
	case o.copyPassword && (!a.Streams.ErrTerminal || a.JSON):
		return fault.New(fault.Usage, "--copy needs a terminal", "",
			"Leave it out, and see the password with: tivset reveal SITE")
	case o.Table != "" && (o.archive != "" || o.copyPassword || o.saveAnswers != "" || o.keepFailed):
		return fault.New(fault.Usage, "--archive, --copy, --save-answers and --keep-failed are for one site", "--table",
			"Leave them out.")
	}
	return nil
}

func (a *app) runInstall(ctx context.Context, s *core.Core, o *installOptions) error {
	if err := o.valid(a); err != nil {
		return err
	}
	request, err := a.request(o)
	if err != nil {
		return err
	}
	a.Streams.ShowPassword, a.Streams.Copies = o.showPassword, o.copyPassword
	s.Desk.KeepFailed = o.keepFailed
	switch {
	case o.Table != "":
		t, err := a.ReadTable(o.Table)
		if err != nil {
			return err
		}
		rows, err := requests.Installs(t, request)
		if err != nil {
			return err
		}
		var wrong []fault.Problem
		for _, r := range rows {
			err := labelsWillDo(fmt.Sprintf("line %d, ", r.Line), r.Request.(*requests.Install).Labels)
			wrong = append(wrong, fault.Of(err).Problems...)
		}
		if err := fault.Join("there are labels that will not do", "Nothing was touched.", wrong); err != nil {
			return err
		}
		return a.Carry(ctx, s, &batch.Batch{Rows: rows}, &o.Selection, nil)
	case a.Ordering != nil && !a.DryRun:
		return a.Carry(ctx, s, batch.Of(&requests.Install{Request: request}), &o.Selection, nil)
	}
	return a.installOne(ctx, s, request, o)
}

// installOne installs what was talked about on a terminal, or asked for with the command.
func (a *app) installOne(ctx context.Context, s *core.Core, request plan.Request, o *installOptions) error {
	plan, err := a.agreed(ctx, s, &request, o)
	if sum := a.AcceptsArchive(ctx, err); sum != "" {
		request.AcceptArchive = sum
		plan, err = a.agreed(ctx, s, &request, o)
	}
	if err != nil {
		return err
	}
	if a.DryRun {
		return a.showPlan(plan)
	}
	made, err := batch.One(ctx, s.Desk, requests.Planned(plan))
	a.Streams.Say("")
	if err != nil {
		if o.talked {
			a.Streams.Say("What you answered is kept, but for passwords; to go on with it: tivset install")
		}
		return err
	}
	if o.talked {
		if err := s.Book.Home.DropBegun(); err != nil {
			a.Streams.Warn("what was answered is still kept, to go on with: " + err.Error())
		}
	}
	if err := a.Ended(ctx, made); err != nil {
		return err
	}
	if installed := made.(*requests.Installed); o.copyPassword {
		if err := a.Streams.Copy(site.Credentials{Site: installed.Site, Password: installed.Password}); err != nil {
			return err
		}
	}
	upkeep.OfferRounds(ctx, a.App, s)
	upkeep.OfferRecovery(ctx, a.App, s)
	return nil
}

// agreed gives the plan that the owner said yes to: in a conversation on a
// terminal, else by having given the command.
func (a *app) agreed(ctx context.Context, s *core.Core, r *plan.Request, o *installOptions) (*plan.Plan, error) {
	a.SayIdle(ctx, s)
	if a.Yes || a.DryRun || !a.Streams.Asks() {
		plan, err := s.Planner.Plan(ctx, *r)
		if err == nil && o.saveAnswers != "" {
			err = saveAnswers(o.saveAnswers, plan)
		}
		if err == nil && !a.DryRun {
			a.Streams.Say("\n%s", a.Streams.Review(plan))
		}
		if err == nil && !a.DryRun && !a.Yes {
			return nil, cli.WantsYes("Look at what it does with --dry-run; then add --yes. Nothing was touched.")
		}
		return plan, err
	}
	c := &wizard.Conversation{Ask: screen.NewAsker(a.Streams), Planner: s.Planner, Book: s.Book, Maker: s.Desk.Maker,
		Account: a.Account, Request: r, Save: saveAnswers}
	plan, err := c.Run(ctx)
	o.talked = err == nil && c.Keep() // should the install fail, nothing has to be typed again
	if err == nil && o.saveAnswers != "" {
		err = saveAnswers(o.saveAnswers, plan)
	}
	return plan, err
}

func (a *app) showPlan(p *plan.Plan) error {
	if a.JSON {
		return a.Streams.WriteJSON(p)
	}
	a.Streams.Print("%s", a.Streams.Review(p))
	a.Streams.Say("A dry run: nothing was touched.")
	return nil
}

// request puts the answers together: those of the file, then those given.
func (a *app) request(o *installOptions) (plan.Request, error) {
	r := plan.Request{
		App:           o.app,
		At:            o.at,
		Release:       o.release,
		Account:       a.Account,
		Archive:       o.archive,
		AcceptArchive: o.accept,
		Answers:       answer.Given{},
	}
	if o.answersFile != "" {
		text, err := os.ReadFile(o.answersFile)
		if err != nil {
			return r, fault.New(fault.Usage, "the answers file cannot be read", o.answersFile, "Check its name.").Wrap(err)
		}
		file, err := answer.Parse(text)
		if err != nil {
			return r, err
		}
		if r.App != "" && file.Install != "" && file.Install != r.App {
			return r, fault.New(fault.Usage, "the answers are for "+file.Install+", not for "+r.App, o.answersFile,
				"Use the answers file of the app.")
		}
		r.App, r.At, r.Release = cmp.Or(r.App, file.Install), cmp.Or(r.At, file.At), cmp.Or(r.Release, file.Release)
		r.Answers = file.Answers
	}
	if len(o.labels) > 0 {
		var words []string
		if words, r.Labels = apart(o.labels); len(words) > 0 {
			return r, fault.New(fault.Usage, "a label is a name and a word", words[0], "Write it as customer=brook.")
		}
		if err := labelsWillDo("", r.Labels); err != nil {
			return r, err
		}
	}
	given, err := a.Given(o.answers)
	if err != nil {
		return r, err
	}
	for id, v := range given {
		r.Answers[id] = v
	}
	if o.acceptLicence {
		r.Answers[answer.Licence] = "accept"
	}
	return r, nil
}

func saveAnswers(name string, p *plan.Plan) error {
	text, err := p.Saved().Format()
	if err == nil {
		err = atomicfile.Write(name, text, 0o600)
	}
	if err != nil {
		return fault.New(fault.Usage, "the answers cannot be written", name,
			"Choose another file. Nothing was touched.").Wrap(err)
	}
	return nil
}
