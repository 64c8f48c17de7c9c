package question_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/question"
)

// asking is an install of a made-up forum into an account with two servers.
func asking(given answer.Given) *question.Asking {
	k := &kit.Kit{App: "pier-talk", Title: "Pier Talk", Kind: "forum", Languages: []string{"en", "de"},
		Setup: []kit.Step{{SQL: &kit.SQLFile{File: "schema.sql", Tables: "pt_"}}}}
	return &question.Asking{Kit: k, Release: &kit.Release{Release: "1.0.0",
		Needs: kit.Needs{Database: map[string]string{"mariadb": ">=10", "sqlite": "*"}}},
		Account: &account.Account{Name: "quillmere", Store: ".tivset",
			Domains: []account.Domain{{Name: "lockside.localhost", Folder: "web/lockside"}},
			Databases: []account.Database{
				{Name: "main", Engine: "mariadb", Server: "127.0.0.1:3306", Prefix: "quill_",
					Admin: &account.Login{User: "root"}},
				{Name: "papers", Engine: "sqlite", Server: "data"},
				{Name: "other", Engine: "postgresql", Server: "127.0.0.1:5432", Make: account.ByHand}}},
		Given: given, Domain: "lockside.localhost", Dir: "talk",
		Proposed: question.Proposed{AdminName: "dunlin42", Token: "7q2x9", Tables: "t5ab_"}}
}

// open gives the questions by their ids.
func open(t *testing.T, a *question.Asking) map[string]question.Asked {
	t.Helper()
	all, err := a.Open()
	require.NoError(t, err)
	out := map[string]question.Asked{}
	for _, q := range all {
		out[q.ID] = q
	}
	return out
}

func TestWhatIsProposed(t *testing.T) {
	a := asking(answer.Given{})
	all := open(t, a)
	for id, want := range map[string]string{"occupied": "stop", "licence": "accept", "language": "en",
		"admin.name": "dunlin42", "admin.password": question.Generate, "admin.password-length": "20", "data.from": "new",
		"data.server": "main", "data.name": "quill_pier7q2x9", "data.user": "quill_pier7q2x9", "data.tables": "t5ab_",
		"care.accepts": "fixes", "care.after": "3d", "care.between": "02-05", "admin.name-risk": "refuse"} {
		assert.Equal(t, want, all[id].Answer, id)
		assert.False(t, all[id].Given, id)
	}
	assert.True(t, all["admin.email"].Needed)
	assert.Empty(t, all["admin.email"].Answer)
	// what the kit does not use is not asked
	for _, id := range []string{"subtitle", "admin.folder", "admin.first-name", "data.folder", "data.password",
		"details.to"} {
		assert.NotContains(t, all, id)
	}
	assert.Equal(t, "quill_pier7q2x9", a.Settled()["data.name"])
}

// The groups come in the order in which people decide.
func TestOrderOfTheGroups(t *testing.T) {
	all, err := asking(nil).Open()
	require.NoError(t, err)
	var groups []string
	for _, q := range all {
		if len(groups) == 0 || groups[len(groups)-1] != q.Group {
			groups = append(groups, q.Group)
		}
	}
	assert.Equal(t, []string{"Where", "Data", "Admin", "Site", "Care"}, groups)
}

func TestAnswersThatWillNotDo(t *testing.T) {
	for _, c := range []struct{ id, answer, what, remedy string }{
		{"title", strings.Repeat("long-", 30), "more than 120", "Shorten"},
		{"admin.name", "admin", "strangers try first", "-a admin.name-risk=accept"},
		{"admin.name", "x", "form", ""},
		{"admin.email", "nobody", "", ""},
		{"admin.password", "hunter2", "hold for a century", "Leave it out"},
		{"admin.password", strings.Repeat("Ab3$", 30), "cut off", "Shorten"},
		{"admin.password-length", "11", "will not do", "Choose 12 to"},
		{"admin.password-length", "73", "will not do", "Choose 12 to"},
		{"language", "fr", "", ""},
		{"data.server", "mian", "cannot be chosen", "Did you mean main?"},
		{"data.server", "db.elsewhere.localhost:3306", "own servers only", "data.from=existing"},
		{"data.name", "forum", "begin with quill_", "Write it as quill_forum."},
		{"data.name", "quill_über", "", "at most 64"},
		{"data.user", "quill_" + strings.Repeat("x", 30), "", "at most 32"},
		{"data.tables", "9_", "", "beginning with a letter"},
	} {
		q := open(t, asking(answer.Given{c.id: c.answer}))[c.id]
		assert.True(t, q.Given, c.id)
		require.NotEmpty(t, q.What, "%s=%s", c.id, c.answer)
		if c.what != "form" {
			assert.Contains(t, q.What, c.what, c.id)
		}
		assert.Contains(t, q.Remedy, c.remedy, c.id)
	}
	q := open(t, asking(answer.Given{"admin.name": "admin", "admin.name-risk": "accept"}))["admin.name"]
	assert.Empty(t, q.What, "who must, can")
	q = open(t, asking(answer.Given{"title": "Dunlin", "admin.name": "dunlin"}))["admin.name"]
	assert.NotEmpty(t, q.What, "what stands in the title is guessed")
}

func TestAnswersToNoQuestion(t *testing.T) {
	for given, hint := range map[string]string{"titel": "title", "data.nme": "data.name",
		"subtitle": fault.Call("about", "pier-talk")} {
		_, err := asking(answer.Given{given: "x"}).Open()
		require.Error(t, err)
		f := fault.Of(err)
		assert.Equal(t, fault.Usage, f.Kind)
		assert.Equal(t, given, f.Where)
		assert.Contains(t, f.Remedy, hint)
	}
}

// What is asked about a database follows from where it comes from.
func TestQuestionsAboutTheDatabase(t *testing.T) {
	existing := open(t, asking(answer.Given{"data.from": "existing"}))
	for _, id := range []string{"data.name", "data.user", "data.password"} {
		assert.True(t, existing[id].Needed, id)
		assert.Empty(t, existing[id].Answer, "nobody can propose what is there: %s", id)
	}
	byHand := open(t, asking(answer.Given{"data.from": "by-hand"}))
	assert.Equal(t, "quill_pier7q2x9", byHand["data.name"].Answer)
	assert.False(t, byHand["data.password"].Needed, "one is made")

	// a server of somebody else's has only databases that are there
	there := answer.Given{"data.from": "existing", "data.server": "db.quillmere.localhost:3307", "data.name": "theirs",
		"data.user": "u", "data.password": "p"}
	a := asking(there)
	assert.Empty(t, open(t, a)["data.server"].What)
	require.NotNil(t, a.Server())
	assert.Equal(t, "mariadb", a.Server().Engine)

	// a database that is a file has no user, and nobody to ask about it
	a = asking(answer.Given{"data.server": "papers"})
	inFiles := open(t, a)
	assert.NotContains(t, inFiles, "data.user")
	assert.NotContains(t, inFiles, "data.password")
	assert.Equal(t, "pier7q2x9", inFiles["data.name"].Answer)

	// where nobody may create, it is made by hand unless somebody says otherwise
	a = asking(nil)
	a.Account.Databases[0].Admin, a.Account.Databases[0].Make = nil, account.ByHand
	assert.Equal(t, question.DataByHand, open(t, a)["data.from"].Answer)

	a.Release.Needs.Database = map[string]string{}
	for id := range open(t, a) {
		assert.False(t, strings.HasPrefix(id, "data."), "the app needs no database: %s", id)
	}
}

func TestFolderOutsideOfTheWeb(t *testing.T) {
	for folder, what := range map[string]string{"data/mine": "", "../out": "not a folder inside", "web": "the web serves",
		"web/lockside/in": "the web serves", ".tivset": "Tivset's own folder", ".tivset/x": "Tivset's own folder",
		"data//x": "not a folder inside", "/data": "not a folder inside"} {
		a := asking(answer.Given{"data.folder": folder})
		a.Kit.Place.DataFolder = true
		q := open(t, a)["data.folder"]
		assert.Equal(t, what == "", q.What == "", "%s: %s", folder, q.What)
		assert.Contains(t, q.What, what)
		if what != "" {
			assert.Contains(t, q.Remedy, "data/pier-talk-lockside-talk-7q2x9", "a folder that will do is named")
		}
	}
}

// The account of an app that has none of its own is given, never made.
func TestAccountElsewhere(t *testing.T) {
	a := asking(answer.Given{"admin.password": question.Generate})
	a.Kit.Account = "elsewhere"
	all := open(t, a)
	assert.Contains(t, all["admin.password"].What, "no accounts")
	assert.True(t, all["admin.name"].Needed)
	assert.NotContains(t, all, "admin.password-length")
}

// A kit's own questions stand in their groups; those that can be left open are
// folded away.
func TestQuestionsOfTheKit(t *testing.T) {
	a := asking(answer.Given{"mode": "private"})
	a.Kit.Questions = []kit.Question{{ID: "board", Text: "First board", Kind: "text", Default: "General"},
		{ID: "mode", Text: "Who may read", Kind: "one-of", Options: []string{"public", "private"}, Needed: true},
		{ID: "limit", Text: "Files per member", Kind: "number", Group: "admin"}}
	a.Kit.Licence = kit.Licence{Name: "Pier licence", MustAccept: true}
	all := open(t, a)
	assert.Equal(t, []any{"Site", true, "General"}, []any{all["board"].Group, all["board"].Rare, all["board"].Answer})
	assert.Equal(t, []any{"Site", false, "private"}, []any{all["mode"].Group, all["mode"].Rare, all["mode"].Answer})
	assert.Equal(t, "Admin", all["limit"].Group)
	assert.Equal(t, "decline", all["licence"].Answer, "nobody accepts for somebody else")
	assert.Equal(t, a.Release.Release, question.ChooseRelease(&kit.Kit{Releases: []kit.Release{*a.Release}}, "").Release)
}

// What an app does not bear of an answer that every app has is said, before anything
// else is; a password that is made is not looked at.
func TestLimits(t *testing.T) {
	a := asking(answer.Given{"admin.name": "longer-than-that", "admin.password": "Kranich-Teekanne-é-74"})
	a.Kit.Limits = map[string]kit.Limit{"admin.name": {Pattern: "[a-z]{3,8}", Hint: "at most 8 letters"},
		"admin.password": {Pattern: "[ -~]+", Hint: "letters without accents"}}
	all := open(t, a)
	assert.Equal(t, "Pier Talk does not accept this", all["admin.name"].What)
	assert.Equal(t, "Use at most 8 letters.", all["admin.name"].Remedy)
	assert.Equal(t, "Pier Talk does not accept this", all["admin.password"].What)
	a.Given = answer.Given{"admin.name": "dunlin", "admin.password": question.Generate}
	all = open(t, a)
	assert.Empty(t, all["admin.name"].What+all["admin.password"].What)
}

// An app that shows no title is not asked for one: it goes by its own name.
func TestAnAppWithoutTitle(t *testing.T) {
	assert.Equal(t, "Pier Talk", open(t, asking(answer.Given{}))["title"].Answer)
}
