package requests_test

import (
	"encoding/json"
	"errors"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/work/adopt"
	"tivset/internal/work/backup"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/requests"
	"tivset/internal/work/restore"
	"tivset/internal/work/rounds"
	"tivset/internal/work/update"
)

// whole are requests of every kind, with everything that can be asked for.
func whole() []batch.Request {
	given := answer.Given{"title": "Lock Journal", "admin.password": "Kranich-Teekanne-74-Steg"}
	return []batch.Request{
		&requests.Install{Request: plan.Request{App: "inkreach", At: "lockside.localhost/a", Release: "1.3.2",
			Account: "quillmere",
			Archive: "a.zip", AcceptArchive: "00", Answers: given, Labels: map[string]string{"customer": "brook"}}, Again: true},
		&requests.Update{Request: update.Request{Site: "a", Release: "1.4.0", Archive: "b", Accept: "00", NoBackup: true},
			Rehearse: true},
		&requests.Backup{Request: backup.Request{Site: "a", Into: "f", To: []string{"age1"}, Keep: "7d",
			Care: true}},
		&requests.Restore{Request: restore.Request{Site: "a", From: "f", Account: "quillmere", Identity: "k",
			NoBackup: true, NotOurs: true, Files: []string{"uploads/a.jpg"}, Into: "spindle", At: "c",
			Answers: given}},
		&requests.Place{Request: place.Request{Site: "a", At: "b", Account: "quillmere", Answers: given}},
		&requests.Place{Request: place.Request{Site: "a", At: "b", Account: "quillmere", Answers: given, Move: true,
			Redirect: true}},
		&requests.Remove{Request: remove.Request{Site: "a", Only: "files", NoBackup: true, WithAdded: true,
			KeepRedirects: true, Into: "f"}},
		&requests.Adopt{Request: adopt.Request{At: "a", Account: "quillmere", Answers: given}},
		&requests.Check{Site: "a"}, &requests.Repair{Site: "a"},
		&requests.Rounds{Request: rounds.Request{Account: "quillmere", Now: true, Dry: true}},
	}
}

// A request is read as it was written, whatever it asks for.
func TestRequestsAreReadAsTheyWereWritten(t *testing.T) {
	for _, r := range whole() {
		w, err := requests.Write(r)
		require.NoError(t, err)
		text, err := json.Marshal(w)
		require.NoError(t, err)
		var again requests.Written
		require.NoError(t, json.Unmarshal(text, &again))
		read, err := again.Read()
		require.NoError(t, err, r.Kind())
		assert.Equal(t, r, read)
		assert.Equal(t, r.Kind(), read.Kind())
		filled(t, r.Kind(), reflect.ValueOf(r).Elem())
	}
}

// unasked are fields that nobody types: the planner draws and fills them.
var unasked = map[string]bool{"Proposed": true, "Carried": true}

// filled sees that the test above writes every field; one more has to be added there.
func filled(t *testing.T, kind string, v reflect.Value) {
	for n := range v.NumField() {
		f := v.Type().Field(n)
		if f.Anonymous {
			filled(t, kind, v.Field(n))
			continue
		}
		if f.IsExported() && !unasked[f.Name] && !(kind == "copy" && (f.Name == "Move" || f.Name == "Redirect")) {
			assert.False(t, v.Field(n).IsZero(), "%s of %s", f.Name, kind)
		}
	}
}

// What this release does not know is refused, and never done in part.
func TestRequestsOfAnotherRelease(t *testing.T) {
	w, err := requests.Write(&requests.Remove{Request: remove.Request{Site: "a"}})
	require.NoError(t, err)
	for name, change := range map[string]func(w *requests.Written){
		"a newer version": func(w *requests.Written) { w.Version++ },
		"an older one":    func(w *requests.Written) { w.Version = 0 },
		"another kind":    func(w *requests.Written) { w.Kind = "sell" },
		"words of before": func(w *requests.Written) { *w = requests.Written{} },
	} {
		other := w
		change(&other)
		_, err := other.Read()
		require.Error(t, err, name)
		assert.Equal(t, fault.OtherRelease, fault.CodeOf(err), name)
	}
	w.Request = json.RawMessage(`{"Site": "a", "OnlyIf": "empty"}`)
	_, err = w.Read()
	assert.ErrorContains(t, err, "OnlyIf", "a field that it does not know")
}

// A round that met broken sites and told of them did all that it was for; one that could tell nobody did not.
func TestARoundThatMetTrouble(t *testing.T) {
	met := &rounds.Round{Lines: []rounds.Line{{What: rounds.Trouble}, {What: rounds.BackedUp}}}
	assert.True(t, (&requests.Rounded{Round: met}).OK())
	met.Unsent = []error{errors.New("the mail server is away")}
	assert.False(t, (&requests.Rounded{Round: met}).OK())
}
