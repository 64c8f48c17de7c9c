package wizard_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
	"tivset/internal/wizard"
)

var ctx = context.Background()

// usual is the shortest conversation that ends with an install: five answers.
func usual() []line {
	return []line{{question: "App", answer: "inkreach"}, {question: "Address", answer: "2/journal"},
		{question: "E-mail address of the admin", answer: "quill@quillmere.localhost"},
		{question: "Title", answer: "Lock talk"}}
}

// talkWith runs a conversation about an install.
func talkWith(t *testing.T, w *sitetest.World, r *plan.Request, lines ...line) (*script, *plan.Plan, error) {
	t.Helper()
	s := &script{t: t, lines: lines}
	c := &wizard.Conversation{Ask: s, Planner: w.Planner, Book: w.Book, Maker: w.Desk.Maker, Request: r,
		Save: func(string, *plan.Plan) error { return nil }}
	p, err := c.Run(ctx)
	return s, p, err
}

// agreed are a review's answers that follow the usual ones.
func agreed(words ...line) []line {
	return append(usual(), words...)
}

var yes = line{question: "Install", answer: "y"}

func TestAConversationLeadsToThePlanThatWasAgreedTo(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	s, p, err := talkWith(t, w, &plan.Request{}, agreed(yes)...)
	require.NoError(t, err, s.heard())
	assert.Equal(t, len(s.lines), s.at, "the whole script was played")
	require.Len(t, s.plans, 1)
	assert.Same(t, s.plans[0], p, "what was reviewed is what comes back")
	assert.Equal(t, []string{"inkreach", "Lock talk", "web/lockside/journal"}, []string{p.App, p.Face.Title,
		p.Place.Folder})
	assert.True(t, p.Admin.Generated)
	assert.NotEqual(t, "admin", p.Admin.Name)
	sitetest.Same(t, before, w.Snapshot(), "talking changes nothing")
}

// Wherever somebody stops, or the input ends, nothing is installed and nothing was touched;
// what was answered is offered the next time.
func TestAConversationCanEndAtEveryQuestion(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	all := agreed(yes)
	for n := range all {
		require.NoError(t, w.Home.DropBegun())
		stopped := append(slices.Clone(all[:n]), line{question: all[n].question, answer: stop})
		s, p, err := talkWith(t, w, &plan.Request{}, stopped...)
		assert.Nil(t, p)
		require.Error(t, err, s.heard())
		assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, err)
		assert.Equal(t, "not installed", fault.Of(err).What)
		assert.Equal(t, n > 0, strings.Contains(fault.Of(err).Remedy, "is kept"), "%d: %s", n, fault.Of(err).Remedy)
		if n == 0 {
			continue
		}
		s, p, err = talkWith(t, w, &plan.Request{}, append([]line{{question: "Go on with it"}}, all[n:]...)...)
		require.NoError(t, err, s.heard())
		assert.Equal(t, []string{"inkreach", "Lock talk", "web/lockside/journal", "quill@quillmere.localhost"},
			[]string{p.App, p.Face.Title, p.Place.Folder, p.Admin.Email})
	}
	sitetest.Same(t, before, w.Snapshot())
}

// What was begun does not hold up anything else, and no secret is in it.
func TestWhatWasBegun(t *testing.T) {
	w := sitetest.Demo(t)
	_, _, err := talkWith(t, w, &plan.Request{}, agreed(line{question: "Install", answer: "#admin.password"},
		line{question: "Password", answer: "own"}, line{question: "Your password", answer: "Harbour-tide-72-lamps"},
		line{question: "The same once more", answer: "Harbour-tide-72-lamps"}, line{question: "Install", answer: "n"})...)
	require.Error(t, err)
	text, _, err := w.Home.Begun()
	require.NoError(t, err)
	assert.Contains(t, string(text), "title: Lock talk")
	assert.NotContains(t, string(text), "Harbour")

	s, p, err := talkWith(t, w, &plan.Request{}, append([]line{{question: "Go on with it", answer: "no"}},
		agreed(yes)...)...)
	require.NoError(t, err, s.heard())
	assert.Equal(t, "Lock talk", p.Face.Title)

	require.NoError(t, w.Home.KeepBegun([]byte("install: gone\nat: lockside.localhost/x\nanswers: {title: x}\n")))
	s, _, err = talkWith(t, w, &plan.Request{}, agreed(yes)...)
	require.NoError(t, err, "an app that is gone is not offered: %s", s.heard())
	require.NoError(t, w.Home.KeepBegun([]byte("install: [\n")))
	_, _, err = talkWith(t, w, &plan.Request{}, agreed(yes)...)
	require.NoError(t, err)
}

func TestWrongAnswersAreAskedAgainAndTheOthersKept(t *testing.T) {
	w := sitetest.Demo(t)
	s, p, err := talkWith(t, w, &plan.Request{},
		line{question: "App", answer: "inkrech"}, line{question: "App", answer: "99"}, line{question: "App", answer: "2"},
		line{question: "Address", answer: "lockside.localhost/../out"}, line{question: "Address", answer: "journal"},
		line{question: "Address", answer: "lockside.localhots/x"}, line{question: "Address", answer: "2/wrong place"},
		line{question: "Address", answer: "http://lockside.localhost/journal"},
		line{question: "E-mail"}, line{question: "E-mail", answer: "quill@quillmere.localhost"},
		line{question: "Title", answer: "<"}, // back to the address
		line{question: "E-mail"}, line{question: "Title", answer: "One"},
		line{question: "Install", answer: "#admin.name"}, line{question: "Sign-in name", answer: "admin"},
		line{question: "Sign-in name", answer: "quill"},
		line{question: "Install", answer: "#admin.password"},
		line{question: "Password", answer: "hunter2"}, line{question: "Password", answer: "own"},
		line{question: "Your password", answer: "Harbour-tide-72-lamps"},
		line{question: "The same once more", answer: "Harbour-tide-73-lamps"},
		line{question: "Your password", answer: "Harbour-tide-72-lamps"},
		line{question: "The same once more", answer: "Harbour-tide-72-lamps"}, yes)
	require.NoError(t, err, s.heard())
	assert.Equal(t, []string{"One", "quill", "Harbour-tide-72-lamps"}, []string{p.Face.Title, p.Admin.Name,
		p.Secrets["admin.password"].Reveal()})
	assert.False(t, p.Admin.Generated)
	assert.NotContains(t, s.heard(), "Harbour-tide", "what is typed unseen is shown nowhere")
	for _, refused := range []string{"Did you mean inkreach?", "cannot lead upwards", "1/journal",
		"Did you mean lockside.localhost?", "names that strangers try first", "passwords are typed unseen",
		"the two are not the same"} {
		assert.Contains(t, s.heard(), refused)
	}
}

func TestWhatStandsInTheWayIsShownBeforeItIsSetAside(t *testing.T) {
	w := sitetest.Demo(t)
	at := filepath.Join(w.Root, "web", "lockside", "journal")
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "mine.txt"), []byte("mine"), 0o644))
	rest := usual()[2:]
	lines := append(usual()[:2], line{question: "Set it aside", answer: "no"},
		line{question: "Address", answer: "2/journal"}, line{question: "Set it aside", answer: "yes"})
	s, p, err := talkWith(t, w, &plan.Request{}, append(append(lines, rest...), yes)...)
	require.NoError(t, err, s.heard())
	assert.Contains(t, s.heard(), "mine.txt")
	assert.Equal(t, []string{"mine.txt"}, p.Aside.Entries)
	require.NoError(t, w.Home.DropBegun())

	// agreed to there, it does not count at another place
	lines = append(usual()[:2], line{question: "Set it aside", answer: "yes"}, line{question: "E-mail", answer: "<"},
		line{question: "Address", answer: "2/elsewhere"})
	s, p, err = talkWith(t, w, &plan.Request{}, append(append(lines, rest...), yes)...)
	require.NoError(t, err, s.heard())
	assert.Empty(t, p.Aside.Entries)
	assert.FileExists(t, filepath.Join(at, "mine.txt"))
	require.NoError(t, w.Home.DropBegun())

	// and a no to it at an address that came with the command asks for another
	r := sitetest.Request("inkreach", "lockside.localhost/journal")
	delete(r.Answers, "title")
	s, p, err = talkWith(t, w, &r, line{question: "Set it aside", answer: "no"},
		line{question: "Address", answer: "2/elsewhere"}, line{question: "Title", answer: "Mine"}, yes)
	require.NoError(t, err, s.heard())
	assert.Equal(t, "web/lockside/elsewhere", p.Place.Folder)
}

// Somebody else puts a page at the place while the owner answers: that is said,
// the one answer is changed, and all others are kept.
func TestAPlaceThatIsTakenDuringTheConversation(t *testing.T) {
	w := sitetest.Demo(t)
	at := filepath.Join(w.Root, "web", "lockside", "journal")
	lines := usual()
	lines[len(lines)-1].before = func() {
		require.NoError(t, os.MkdirAll(at, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(at, "index.html"), []byte("theirs"), 0o644))
	}
	lines = append(lines, line{question: "Install", answer: "y"}, line{question: "Install", answer: "#at"},
		line{question: "Address", answer: "2/diary"}, yes)
	s, p, err := talkWith(t, w, &plan.Request{}, lines...)
	require.NoError(t, err, s.heard())
	assert.Contains(t, s.heard(), "fault ")
	assert.Equal(t, "web/lockside/diary", p.Place.Folder)
	assert.Equal(t, "Lock talk", p.Face.Title)
	assert.FileExists(t, filepath.Join(at, "index.html"))
}

// Every line of the review can be changed, whatever else is typed there does nothing, and
// going back leaves it as it was.
func TestTheReviewIsTheForm(t *testing.T) {
	w := sitetest.Demo(t)
	s, p, err := talkWith(t, w, &plan.Request{}, agreed(
		line{question: "Install"}, line{question: "Install", answer: "77"}, line{question: "Install", answer: "yse"},
		line{question: "Install", answer: "?8"},
		line{question: "Install", answer: "#title"}, line{question: "Title", answer: "<"},
		line{question: "Install", answer: "#title"}, line{question: "Title", answer: "Another title"},
		line{question: "Install", answer: "#Care"}, line{question: "Install", answer: "#care.accepts"},
		line{question: "Releases that are installed by themselves", answer: "breaking"},
		line{question: "Install", answer: "more"}, line{question: "Install", answer: "#language"},
		line{question: "Language", answer: "Français"}, line{question: "Install", answer: "more"},
		line{question: "Install", answer: "#release"}, line{question: "Release", answer: "2"},
		line{question: "Install", answer: "save"}, line{question: "Save to the file", answer: "there/x.yaml"}, yes)...)
	require.NoError(t, err, s.heard())
	assert.Equal(t, []string{"Another title", "breaking", "fr"}, []string{p.Face.Title, p.Care.Accepts, p.Face.Language})
	var titles []string
	for _, p := range s.plans {
		titles = append(titles, p.Face.Title)
	}
	assert.Equal(t, []string{"Lock talk", "Lock talk", "Another title"}, titles[:3])
	assert.Contains(t, s.heard(), "good saved; to install from it: ")
	assert.Contains(t, s.heard(), "explain Title of the site. The name that visitors read")
	assert.Contains(t, s.heard(), "French, français (fr)")
	assert.Equal(t, 2, strings.Count(s.heard(), "explain y installs")-len(s.plans), "for Enter and yse: %s",
		s.heard())
}

// Another app is another install: title, name and e-mail stay, the licence is asked, and
// answers that it has no questions for are gone.
func TestAnotherAppInTheReview(t *testing.T) {
	w := sitetest.Demo(t)
	s, p, err := talkWith(t, w, &plan.Request{}, agreed(
		line{question: "Install", answer: "more"},
		line{question: "Install", answer: "#subtitle"},
		line{question: "Subtitle", answer: "News"},
		line{question: "Install", answer: "#app"},
		line{
			question: "App",
			answer:   "forum",
		},
		line{question: "Accept", answer: "no"},
		line{question: "Accept", answer: "y"},
		yes,
	)...)
	require.NoError(t, err, s.heard())
	assert.Equal(t, []string{"willowbench", "Lock talk", "quill@quillmere.localhost", ""}, []string{p.App, p.Face.Title,
		p.Admin.Email, p.Face.Subtitle})
}

// The e-mail address that was given last is proposed.
func TestTheEmailIsProposed(t *testing.T) {
	w := sitetest.Demo(t)
	w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	lines := usual()
	lines[1].answer, lines[2].answer = "2/second", ""
	s, p, err := talkWith(t, w, &plan.Request{}, append(lines, yes)...)
	require.NoError(t, err, s.heard())
	assert.Equal(t, sitetest.Request("inkreach", "x").Answers["admin.email"], p.Admin.Email)
}

func TestAppsAreFoundByTyping(t *testing.T) {
	w := sitetest.Demo(t)
	all, _, err := w.Book.Catalogue.Cards()
	require.NoError(t, err)
	for word, apps := range map[string]string{"Inkreach": "inkreach", "forum": "willowbench", "bench": "willowbench",
		"wharf": "pennywharf", "nothing of it": "", "": "", "99": "", "0": "", "-1": ""} {
		var found []string
		for _, e := range wizard.Find(word, all, all) {
			found = append(found, e.App)
		}
		assert.Equal(t, apps, strings.Join(found, " "), word)
	}
	assert.Equal(t, all[1:2], wizard.Find("2", all, all))
	assert.Empty(t, wizard.Find("2", nil, all), "no number was shown")
	assert.Greater(t, len(wizard.Find("a", all, all)), 1)
}

// What the command brought along is not asked; what is wrong with it is said
// before the first question.
func TestWhatWasGivenIsNotAsked(t *testing.T) {
	w := sitetest.Demo(t)
	r := sitetest.Request("inkreach", "lockside.localhost/journal")
	s, p, err := talkWith(t, w, &r, yes)
	require.NoError(t, err, s.heard())
	assert.Equal(t, r.Answers["title"], p.Face.Title)

	for _, wrong := range []plan.Request{{App: "inkwell"}, {App: "inkreach", At: "nowhere.localhost"}} {
		s, _, err := talkWith(t, w, &wrong)
		require.Error(t, err)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
		assert.Empty(t, s.said, "nothing was asked")
	}
}

// A database that cannot be used is tried before the review, and asked for again.
func TestAnExistingDatabaseIsTried(t *testing.T) {
	w := sitetest.Demo(t)
	r := plan.Request{Answers: answer.Given{"data.from": "existing", "data.name": "quill_none", "data.user": "nobody",
		"data.password": "wrong-wrong-wrong"}}
	s, _, err := talkWith(t, w, &r, append(usual()[:2],
		line{question: "The database (new, existing, by-hand)", answer: stop})...)
	require.Error(t, err, s.heard())
	assert.Equal(t, "not installed", fault.Of(err).What)
	assert.True(t, slices.ContainsFunc(s.said, func(x string) bool { return strings.HasPrefix(x, "refuse ") }), s.heard())
}

// Whatever is typed at a question, it is refused with a reason or is the answer as it is; the
// other answers are kept.
func TestEverythingTypedAtEveryQuestion(t *testing.T) {
	w := sitetest.Demo(t)
	odd := []string{strings.Repeat("x", 10_000), "\x1b[2J", "a\x07b", "two\nlines", "\u202eturned", " leading",
		"\x00", "'; DROP", "../..", "🙂🙂"}
	var lines []line
	for _, l := range usual() {
		for _, o := range odd {
			if l.question == "Title" && (o == "'; DROP" || o == "../.." || o == "🙂🙂") {
				continue // a title may be that
			}
			lines = append(lines, line{question: l.question, answer: o})
		}
		lines = append(lines, l)
	}
	for _, o := range odd {
		lines = append(lines, line{question: "Install", answer: o})
	}
	s, p, err := talkWith(t, w, &plan.Request{}, append(lines, line{question: "Install", answer: "#title"},
		line{question: "Title", answer: "مرحبا بالعالم"}, yes)...)
	require.NoError(t, err)
	assert.Equal(t, len(s.lines), s.at)
	assert.Equal(t, []string{"inkreach", "مرحبا بالعالم", "quill@quillmere.localhost"}, []string{p.App, p.Face.Title,
		p.Admin.Email})
}

// A fault from outside ends a conversation, and loses nothing of it.
func TestAFaultLosesNothing(t *testing.T) {
	w := sitetest.Demo(t)
	lines := usual()
	lines[3].before = func() { require.NoError(t, w.Home.ForgetAccount("quillmere")) }
	_, _, err := talkWith(t, w, &plan.Request{}, lines...)
	require.Error(t, err)
	text, _, err := w.Home.Begun()
	require.NoError(t, err)
	assert.Contains(t, string(text), "install: inkreach")
}
