package question

import (
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/suggest"
)

// Proposed are names that are drawn once for a request, so that what was
// proposed is what the plan takes.
type Proposed struct {
	AdminName string
	Token     string // makes the names of database, user and folders its own
	Tables    string
	Taken     []string // databases in which recorded sites keep their data, as SERVER/NAME of the account
}

// Drawn says of an answer whether it is drawn anew for every site unless
// somebody gave it: saved, it would stand in the way of the next.
func Drawn(id string) bool {
	return slices.Contains([]string{answer.DataName, answer.DataUser, answer.DataTables, "data.folder",
		answer.DataServer, answer.AdminFolder},
		id)
}

// Asking is all that the questions of an install depend on.
type Asking struct {
	Kit      *kit.Kit
	Release  *kit.Release
	Account  *account.Account
	Given    answer.Given
	Domain   string // where the site goes …
	Dir      string // … and the directory there, "" for the root
	Proposed Proposed
	Care     care.Care // of sites of which nothing else is said; zero for the usual
}

// Settled are the answers as far as they are fine, with the defaults.
func (a *Asking) Settled() answer.Given {
	resolved, _ := answer.Resolve(a.Questions(), a.Given)
	return resolved
}

// Asked is a question that can be put to somebody now.
type Asked struct {
	answer.Question
	Given        bool   // whether it was answered
	Answer       string // what holds now: the answer given, or the default
	What, Remedy string // what is wrong with the answer given
}

// Open lists the questions that apply as far as they are answered, with what
// holds now. Answers that no question asks for are a usage fault.
func (a *Asking) Open() ([]Asked, error) {
	all := a.Questions()
	var ids []string
	for _, q := range all {
		ids = append(ids, q.ID)
	}
	for id := range a.Given {
		if !slices.Contains(ids, id) {
			return nil, fault.New(fault.Usage, "there is no such answer", id,
				strings.TrimSpace(suggest.Hint(id, ids)+" See: "+fault.Call("about", a.Kit.App)))
		}
	}
	holds := a.Settled()
	var out []Asked
	for _, q := range all {
		if !q.When.Holds(holds) {
			continue
		}
		asked := Asked{Question: q, Answer: q.Default}
		if v := a.Given[q.ID]; v != "" {
			asked.Given, asked.Answer = true, v
			asked.What, asked.Remedy = q.Wrong(v)
		}
		out = append(out, asked)
	}
	return out, nil
}

// ChooseRelease takes the release asked for, or the newest.
func ChooseRelease(k *kit.Kit, wanted string) *kit.Release {
	if found := k.Find(wanted); found != nil {
		return found
	}
	return k.Newest()
}
