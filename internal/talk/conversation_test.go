package talk_test

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
	"tivset/internal/talk"
	"tivset/internal/testing/sitetest"
)

var ctx = context.Background()

// usual is the shortest conversation that ends with an install.
func usual() []line {
	return []line{{question: "App", answer: "inkreach"}, {question: "Domain", answer: "lockside.localhost"},
		{question: "Directory", answer: "journal"}, {question: "Title", answer: "Lock talk"},
		{question: "Choose any of these yourself"}, {question: "Sign-in name of the admin"},
		{question: "E-mail address of the admin", answer: "quill@quillmere.localhost"}, {question: "Password"},
		{question: "Choose any"}, {question: "Choose any"}, {question: "Choose any"}}
}

// talkWith runs a conversation about an install.
func talkWith(t *testing.T, w *sitetest.World, r *plan.Request, lines ...line) (*script, *plan.Plan, error) {
	t.Helper()
	s := &script{t: t, lines: lines}
	c := &talk.Conversation{Ask: s, Planner: w.Planner, Book: w.Book, Maker: w.Desk.Maker, Request: r,
		Save: func(string, *plan.Plan) error { return nil }}
	p, err := c.Run(ctx)
	return s, p, err
}

// agreed are a review's answers that follow the usual ones.
func agreed(words ...line) []line {
	return append(usual(), words...)
}

var yes = line{question: "Install?", answer: "y"}

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

// Wherever somebody stops, or the input ends, nothing is installed and nothing
// was touched.
func TestAConversationCanEndAtEveryQuestion(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	all := agreed(yes)
	for n := range all {
		stopped := append(slices.Clone(all[:n]), line{question: all[n].question, answer: stop})
		s, p, err := talkWith(t, w, &plan.Request{}, stopped...)
		assert.Nil(t, p)
		require.Error(t, err, s.heard())
		assert.Equal(t, fault.Decision, fault.Of(err).Kind, err)
		assert.Equal(t, "not installed", fault.Of(err).What)
	}
	_, _, err := talkWith(t, w, &plan.Request{}, agreed(line{question: "Install?", answer: "n"})...)
	assert.Equal(t, "not installed", fault.Of(err).What)
	sitetest.Same(t, before, w.Snapshot())
}

func TestWrongAnswersAreAskedAgainAndTheOthersKept(t *testing.T) {
	w := sitetest.Demo(t)
	s, p, err := talkWith(t, w, &plan.Request{},
		line{question: "App", answer: "inkrech"}, line{question: "App", answer: "99"}, line{question: "App", answer: "2"},
		line{question: "Domain", answer: "lockside.localhost"},
		line{question: "Directory", answer: "../out"}, line{question: "Directory", answer: "wrong place"},
		line{question: "Directory", answer: "journal"},
		line{question: "Title", answer: "One"}, line{question: "Choose any", answer: "perhaps"},
		line{question: "Choose any", answer: "<"}, // back to the title, which kept its answer
		line{question: "Title"}, line{question: "Choose any", answer: "n"},
		line{question: "Sign-in name", answer: "admin"}, line{question: "Sign-in name", answer: "quill"},
		line{question: "E-mail"}, line{question: "E-mail", answer: "quill@quillmere.localhost"},
		line{question: "Password", answer: "hunter2"}, line{question: "Password", answer: "own"},
		line{question: "Your password", answer: "Harbour-tide-72-lamps"},
		line{question: "The same once more", answer: "Harbour-tide-73-lamps"},
		line{question: "Your password", answer: "Harbour-tide-72-lamps"},
		line{question: "The same once more", answer: "Harbour-tide-72-lamps"},
		line{question: "Choose any"}, line{question: "Choose any"}, line{question: "Choose any"}, yes)
	require.NoError(t, err, s.heard())
	assert.Equal(t, []string{"One", "quill", "Harbour-tide-72-lamps"}, []string{p.Face.Title, p.Admin.Name,
		p.Secrets["admin.password"].Reveal()})
	assert.False(t, p.Admin.Generated)
	assert.NotContains(t, s.heard(), "Harbour-tide", "what is typed unseen is shown nowhere")
	for _, refused := range []string{"Did you mean inkreach?", "cannot lead upwards", "neither yes nor no",
		"names that strangers try first", "passwords are typed unseen", "the two are not the same"} {
		assert.Contains(t, s.heard(), refused)
	}
}

func TestWhatStandsInTheWayIsShownBeforeItIsSetAside(t *testing.T) {
	w := sitetest.Demo(t)
	at := filepath.Join(w.Root, "web", "lockside", "journal")
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "mine.txt"), []byte("mine"), 0o644))
	rest := usual()[3:]
	lines := append(usual()[:3], line{question: "Set it aside", answer: "no"},
		line{question: "Directory", answer: "journal"}, line{question: "Set it aside", answer: "yes"})
	s, p, err := talkWith(t, w, &plan.Request{}, append(append(lines, rest...), yes)...)
	require.NoError(t, err, s.heard())
	assert.Contains(t, s.heard(), "mine.txt")
	assert.Equal(t, []string{"mine.txt"}, p.Aside.Entries)

	// agreed to there, it does not count at another place
	lines = append(usual()[:3], line{question: "Set it aside", answer: "yes"}, line{question: "Title", answer: "<"},
		line{question: "Directory", answer: "elsewhere"})
	s, p, err = talkWith(t, w, &plan.Request{}, append(append(lines, rest...), yes)...)
	require.NoError(t, err, s.heard())
	assert.Empty(t, p.Aside.Entries)
	assert.FileExists(t, filepath.Join(at, "mine.txt"))
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
	lines = append(lines, line{question: "Change an answer?"}, line{question: "Which one?", answer: "3"},
		line{question: "Directory", answer: "diary"}, yes)
	s, p, err := talkWith(t, w, &plan.Request{}, lines...)
	require.NoError(t, err, s.heard())
	assert.Contains(t, s.heard(), "fault ")
	assert.Equal(t, "web/lockside/diary", p.Place.Folder)
	assert.Equal(t, "Lock talk", p.Face.Title)
	assert.FileExists(t, filepath.Join(at, "index.html"))
}

// In the review every answer can be changed, and going back leaves it as it was.
func TestAnswersAreChangedInTheReview(t *testing.T) {
	w := sitetest.Demo(t)
	s, p, err := talkWith(t, w, &plan.Request{}, agreed(line{question: "Install?", answer: "c"},
		line{question: "Which one?", answer: "77"}, line{question: "Which one?", answer: ""},
		line{question: "Install?", answer: "c"}, line{question: "Which one?", answer: "4"},
		line{question: "Title", answer: "<"}, line{question: "Install?", answer: "c"},
		line{question: "Which one?", answer: "4"}, line{question: "Title", answer: "Another title"},
		line{question: "Install?", answer: "s"}, line{question: "Save to the file", answer: "there/x.yaml"}, yes)...)
	require.NoError(t, err, s.heard())
	assert.Equal(t, "Another title", p.Face.Title)
	var titles []string
	for _, p := range s.plans {
		titles = append(titles, p.Face.Title)
	}
	assert.Equal(t, []string{"Lock talk", "Lock talk", "Lock talk", "Another title", "Another title"}, titles)
	assert.Contains(t, s.heard(), "good saved; to install from it: ")
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
	lines := usual()
	lines = append(lines[:len(lines)-1], line{question: "The database (new, existing, by-hand)", answer: stop})
	s, _, err := talkWith(t, w, &r, lines...)
	require.Error(t, err, s.heard())
	assert.Equal(t, "not installed", fault.Of(err).What)
	assert.True(t, slices.ContainsFunc(s.said, func(x string) bool { return strings.HasPrefix(x, "refuse ") }), s.heard())
}
