package trust

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Kind is what an entry is about.
type Kind string

// The kinds of entries.
const (
	OfCharter Kind = "charter" // who is of the team; the key is its version
	OfSite    Kind = "site"    // a site's record, by its address
	OfAccount Kind = "account" // an account's file, by its name
	OfSecret  Kind = "secret"  // something of the vault, by its name
	OfJob     Kind = "job"     // a job's record, by its id
	OfJournal Kind = "journal" // a journal that is there, by the job's id
	OfLeading Kind = "redirect"
	OfRequest Kind = "request" // something that workers are to do, by a name that is used once
	OfResult  Kind = "result"  // what came of it, by the same name
	OfSeen    Kind = "reveal"  // a password was shown; no record of ours
)

// kinds says who may make an entry, and whether it is about a record that is there until the next word.
var kinds = map[Kind]struct {
	least  Role
	record bool
}{
	OfCharter: {Admin, true}, OfSite: {Operate, true}, OfAccount: {Operate, true}, OfSecret: {Operate, true},
	OfJob: {Operate, true}, OfJournal: {Operate, true}, OfLeading: {Operate, true}, OfRequest: {Request, true},
	OfResult: {Operate, true}, OfSeen: {Operate, false},
}

// Record says whether entries of this kind are about records that are there until the next word.
func (k Kind) Record() bool { return kinds[k].record }

// Records are the kinds of entries that are about records.
func Records() (out []Kind) {
	for k := range kinds {
		if k.Record() && k != OfCharter {
			out = append(out, k)
		}
	}
	return out
}

// Entry is one entry of the log.
type Entry struct {
	Team    string          `json:"team"`
	N       int64           `json:"n"`      // 1 for the first
	Before  []byte          `json:"before"` // the hash of the entry before; none for the first
	Member  string          `json:"member"` // who made it
	At      time.Time       `json:"at"`     // by the clock of the database
	Kind    Kind            `json:"kind"`
	Key     string          `json:"key"`
	Digest  []byte          `json:"digest,omitempty"` // SHA-256 of the record; none where there is none any more
	About   string          `json:"about,omitempty"`  // the site or account, where the key is not its
	Note    string          `json:"note,omitempty"`   // what was done, where the kind does not say it
	Charter json.RawMessage `json:"charter,omitempty"`
}

// Sealed is an entry as it lies in the log: its text, and the signature of exactly that (Ed25519, RFC 8032).
type Sealed struct {
	Text      []byte
	Signature []byte
}

// Hash is what the next entry is bound to.
func (s Sealed) Hash() []byte {
	sum := sha256.New()
	sum.Write(s.Text)
	sum.Write(s.Signature)
	return sum.Sum(nil)
}

// Digest is that of a record; nil for none.
func Digest(record []byte) []byte {
	if record == nil {
		return nil
	}
	sum := sha256.Sum256(record)
	return sum[:]
}

// Head is how far a log is known.
type Head struct {
	N    int64
	Hash []byte
}

// Chain is a log that was followed from its beginning, as far as it is known.
type Chain struct {
	Head    Head
	Charter *Charter // in force; nil before the first entry
}

// What is what is to be noted.
type What struct {
	Kind   Kind
	Key    string
	Record []byte // nil where there is none any more
	About  string // the site or account that it is about, where the key does not say it
	Note   string
}

// Note makes the next entry, and takes it in.
func (c *Chain) Note(by Signer, at time.Time, what What) (Sealed, Entry, error) {
	return c.add(by, Entry{At: at, Kind: what.Kind, Key: what.Key, Digest: Digest(what.Record), About: what.About,
		Note: what.Note})
}

// Enact makes the entry of the next charter, and takes it in.
func (c *Chain) Enact(by Signer, at time.Time, next *Charter, note string) (Sealed, Entry, error) {
	text := next.text()
	return c.add(by, Entry{Team: next.Team, At: at, Kind: OfCharter, Key: fmt.Sprint(next.Version), Digest: Digest(text),
		Charter: text, Note: note})
}

func (c *Chain) add(by Signer, e Entry) (Sealed, Entry, error) {
	if c.Charter != nil {
		e.Team = c.Charter.Team
	}
	e.N, e.Before, e.Member, e.At = c.Head.N+1, c.Head.Hash, by.Name, e.At.UTC()
	text, err := json.Marshal(e)
	if err != nil {
		return Sealed{}, e, err
	}
	s := Sealed{text, ed25519.Sign(by.key, text)}
	e, err = c.Follow(s)
	return s, e, err
}

// ErrEntry is an entry that nobody made who may.
var ErrEntry = errors.New("nobody who may has made this entry of the log")

// Follow takes the next entry in, if it was made by somebody who may, and after what is known.
func (c *Chain) Follow(s Sealed) (Entry, error) {
	var e Entry
	if err := json.Unmarshal(s.Text, &e); err != nil {
		return e, errors.Join(ErrEntry, err)
	}
	next, err := c.judged(e, s)
	if err != nil {
		return e, fmt.Errorf("%w: number %d: %w", ErrEntry, c.Head.N+1, err)
	}
	c.Head = Head{e.N, s.Hash()}
	if next != nil {
		c.Charter = next
	}
	return e, nil
}

// judged says what is wrong with an entry as the next one, and gives the charter that it brings; nil for none.
func (c *Chain) judged(e Entry, s Sealed) (next *Charter, err error) {
	if e.N != c.Head.N+1 || !bytes.Equal(e.Before, c.Head.Hash) {
		return nil, errors.New("it does not follow on the one before")
	}
	if e.Kind == OfCharter {
		next = &Charter{}
		if err := json.Unmarshal(e.Charter, next); err != nil || !bytes.Equal(Digest(e.Charter), e.Digest) {
			return nil, errors.New("its charter cannot be read")
		}
		if err := next.follows(c.Charter, e.Member); err != nil {
			return nil, err
		}
	}
	law := c.Charter
	if law == nil {
		law = next
	}
	if law == nil || law.Team != e.Team {
		return nil, errors.New("it is another team's")
	}
	kind, known := kinds[e.Kind]
	m := law.Member(e.Member)
	switch {
	case m == nil:
		return nil, fmt.Errorf("%s is not of the team", e.Member)
	case !ed25519.Verify(m.Sign, s.Text, s.Signature):
		return nil, fmt.Errorf("it is not signed by %s", e.Member)
	case !known:
		return nil, fmt.Errorf("a newer release made it (%s)", e.Kind)
	case !m.May.May(kind.least):
		return nil, fmt.Errorf("%s may not do that (%s)", e.Member, m.May)
	}
	return next, nil
}

// SignLine signs a line of a journal, which is bound to the one before by its signature.
func (s Signer) SignLine(team, id string, n int, before, line []byte) []byte {
	return ed25519.Sign(s.key, lineText(team, id, n, before, line))
}

// SignedLine says whether a member signed that line.
func (m Member) SignedLine(team, id string, n int, before, line, signature []byte) bool {
	return ed25519.Verify(m.Sign, lineText(team, id, n, before, line), signature)
}

func lineText(team, id string, n int, before, line []byte) []byte {
	if len(before) == 0 {
		before = nil // of the first line
	}
	text, _ := json.Marshal(struct { // these always have a form in JSON
		Team, Journal string
		N             int
		Before, Line  []byte
	}{team, id, n, before, line})
	return text
}

// Read reads an entry whose place in the log is known.
func (s Sealed) Read() (e Entry, err error) { return e, json.Unmarshal(s.Text, &e) }
