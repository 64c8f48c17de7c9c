package screen_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/check"
	"tivset/internal/plan"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/wizard"
	"tivset/internal/work"
)

func planned() *plan.Plan {
	return &plan.Plan{Site: site.Site{Title: "Willowbench", Release: "2.4.1",
		Place: site.Place{URL: "http://lockside.localhost:8780/forum/", Folder: "web/lockside/forum", State: "new"},
		Data: &site.Data{From: "new", Engine: "mariadb", Server: "main", Name: "quill_will4t", User: "quill_will4t",
			Tables: "r7q_"},
		Admin: site.Admin{Name: "wharfinger", Email: "wharfinger@lockside.localhost", Generated: true, Length: 20},
		Face: site.Branding{Title: "Lockside \x1b[31mTalk", Subtitle: "A line", Language: "en",
			Asked: []site.Told{{ID: "board", Ask: "First board", Answer: "General"}, {ID: "x", Ask: "Nothing"},
				{ID: "key", Ask: "Licence key", Secret: true}},
			Extras: []site.Told{{ID: "extra.sample", Ask: "Sample content", Answer: "no"},
				{ID: "extra.theme", Ask: "Theme", Answer: "dusk"}}},
		Care: care.Usual},
		Changes:  plan.Changes{Files: 1214, Bytes: 6_100_000, Databases: []string{"a"}, Users: []string{"b"}},
		Warnings: []string{"mind the gap"}}
}

func TestReview(t *testing.T) {
	s, _, _ := streams()
	assert.Equal(t, `  Willowbench 2.4.1  →  http://lockside.localhost:8780/forum/

  Where     folder web/lockside/forum, new
  Data      database quill_will4t and user quill_will4t on main (MariaDB)
            the user may use that database and no other; tables begin with r7q_
  Admin     wharfinger, wharfinger@lockside.localhost, password generated (20 characters)
  Site      “Lockside �[31mTalk”, English
            A line
            First board: General
            Licence key: given, kept in the vault
            Sample content: no · Theme: dusk
  Care      installs fixes once they are 3 days old, between 2 and 5 o'clock;
            makes a backup every day and keeps those of 7 days, 4 weeks and 6 months;
            can notify nobody: the account has no mail server
  Account   + 1,214 files, 6.1 MB   + 1 database   + 1 user

  Note: Mind the gap.
`, s.Review(planned()))
	p := planned()
	p.Data, p.Admin.Generated, p.Care.Accepts, p.Face.Language, p.Changes.Files = nil, false, "nothing", "xx", 1
	text := s.Review(p)
	for _, words := range []string{"password as given", "installs no release by itself", "”, xx", "+ 1 file,"} {
		assert.Contains(t, text, words)
	}
	assert.NotContains(t, text, "Data ")
}

// The form is the review with a number at each line that can be changed.
func TestForm(t *testing.T) {
	s, _, _ := streams()
	form := wizard.Form{Lines: []wizard.Line{{Group: "Where", ID: "at", Text: "lockside.localhost/forum", Number: "1"},
		{Group: "Site", ID: "app", Text: "Willowbench", Number: "2"}, {Group: "Site", ID: "title",
			Text: "title: Lockside \x1b[31mTalk", Number: "3"},
		{Group: "Admin", ID: "admin.name", Text: "name: wharfinger", Number: "4"},
		{Group: "Admin", ID: "admin.password", Text: "password: made for you", Number: "5"},
		{Group: "Data", ID: "Data", Text: "database: new", Number: "6"}, {Group: "Care", ID: "Care", Text: "takes nothing",
			Number: "7"}},
		Folded: map[string][]string{"Site": {"first board: General", "theme: dusk"}}}
	assert.Equal(t, `  Willowbench 2.4.1  →  http://lockside.localhost:8780/forum/

  Where       1   http://lockside.localhost:8780/forum/
                  folder web/lockside/forum, new
  Site        2   Willowbench
              3   title: Lockside �[31mTalk
                  first board: General · theme: dusk
  Admin       4   name: wharfinger
              5   password: generated (20 characters)
  Data        6   database quill_will4t and user quill_will4t on main (MariaDB)
                  the user may use that database and no other; tables begin with r7q_
  Care        7   installs fixes once they are 3 days old, between 2 and 5 o'clock;
                  makes a backup every day and keeps those of 7 days, 4 weeks and 6 months;
                  can notify nobody: the account has no mail server
  Account         + 1,214 files, 6.1 MB   + 1 database   + 1 user

  Note: Mind the gap.
`, s.Form(planned(), form))
	assert.Contains(t, s.Form(nil, form), "  Care        7   takes nothing\n", "without a plan the answers are shown")
}

// The password goes to a terminal, or where it was asked for, and nowhere else.
func TestWhereThePasswordGoes(t *testing.T) {
	done := &work.Done{Site: ledger.Site{Address: "lockside.localhost/forum", Release: "1", InstalledAt: time.Now()},
		Password: secret.Of("geheim"),
		Checks:   []check.Checked{{Name: "front page", OK: true, Detail: "shows it"}}, Warnings: []string{"mind the gap"}}
	for _, c := range []struct{ terminal, asked, shown bool }{{false, false, false}, {true, false, true},
		{false, true, true}} {
		s, out, err := streams()
		s.OutTerminal, s.ShowPassword = c.terminal, c.asked
		s.Installed(done, "Willowbench")
		assert.Equal(t, c.shown, strings.Contains(out.String(), "geheim"))
		assert.Contains(t, out.String(), "tivset reveal lockside.localhost/forum")
		assert.NotContains(t, out.String(), "front page")
		assert.Contains(t, err.String(), "mind the gap")
	}
	s, out, _ := streams()
	s.Loud = true
	s.Installed(done, "Willowbench")
	assert.Contains(t, out.String(), "front page: shows it")
}

func TestCredentials(t *testing.T) {
	c := site.Credentials{Site: ledger.Site{Title: `a,"b"`, URL: "http://x/", AdminURL: "http://x/admin/",
		Admin: ledger.Admin{Name: "n"}, Database: &ledger.Database{Name: "d", Server: "main", User: "u"}},
		Password: secret.Of("p,1"), Data: secret.Of("p2")}
	s, out, _ := streams()
	require.NoError(t, s.CredentialsCSV([]site.Credentials{c}))
	assert.Equal(t, "name,url,username,password\r\n\"a,\"\"b\"\"\",http://x/admin/,n,\"p,1\"\r\n", out.String())
	out.Reset()
	s.Credentials(c)
	assert.Contains(t, out.String(), "p2")
	s.Strength(secret.Of("abc"), secret.Gauge("abc"))
	assert.Contains(t, out.String(), "abc\n")
	assert.Equal(t, "10.4 or newer", screen.Range(">=10.4"))
	assert.Equal(t, ">=10, <11", screen.Range(">=10, <11"))
	assert.Equal(t, "nonesuch", screen.Engine("nonesuch"))
}

// Stages are told in an owner's words; the steps' own with -v. At the end stands how long it
// took and what was proven.
func TestStages(t *testing.T) {
	s, out, err := streams()
	now := time.Now()
	p := screen.NewProgress(s, func() time.Time { return now })
	for n, of := range []job.Stage{job.StageReserving, job.StageData, job.StageFiles, job.StageSettingUp, job.StagePlacing,
		job.StageChecking, job.StageFinishing, job.StageFinishing} {
		p.Show(job.Event{Step: n + 1, Of: 8, Title: "A step", Stage: of})
		p.Show(job.Event{Step: n + 1, Of: 8, Title: "A step", Stage: of, Done: true})
	}
	p.Show(job.Event{Title: "Fetch it", Done: true})
	assert.Equal(t, "  ✓ Reserve the address\n  ✓ Make the database\n  ✓ Bring the files\n  ✓ Set the app up\n"+
		"  ✓ Put it in place\n  ✓ Check that visitors and the admin get in\n  ✓ Finish\n  ✓ Fetch it\n", err.String())
	now = now.Add(2500 * time.Millisecond)
	err.Reset()
	s.Installed(&work.Done{HandedTo: "q@b.localhost", Checks: []check.Checked{{Name: check.FrontPage, OK: true},
		{Name: check.WrongPassword, OK: true}, {Name: check.SignIn}}}, "Willowbench")
	assert.Contains(t, err.String(), "It took 2.5 s. Seen to work: front page. Seen to be refused: a wrong password.")
	assert.Contains(t, out.String(), "The page about it was mailed to q@b.localhost.")
	err.Reset()
	s.Loud = true
	p.Show(job.Event{Step: 1, Of: 2, Title: "Claim the place", Done: true})
	assert.Contains(t, err.String(), "Claim the place")
}

// To whom the page of a site is mailed stands in the review.
func TestHandedOver(t *testing.T) {
	s, _, _ := streams()
	p := planned()
	p.Answers = answer.Given{"handover.to": "q@quillmere.localhost"}
	assert.Contains(t, s.Review(p), "a page about it, without the password, is mailed to q@quillmere.localhost")
	p.Answers["handover.password"] = "yes"
	assert.Contains(t, s.Review(p), "with the password, is mailed to")
}
