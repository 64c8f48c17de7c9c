package job

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"time"

	"tivset/internal/fault"
)

// Journal is the durable record of one job: one JSON object a line, each kept for good
// before the program goes on. docs/formats.md describes it. While a job runs, nobody else
// can take its journal in hand.
type Journal struct {
	Header
	log   Log
	steps []stepState
	// which of the machines that have gone on with the job one after the other has it in
	// hand, from 1
	number int
	Ended  string // "", done, reversing or undone
	now    func() time.Time
}

// Header is the journal's first line.
type Header struct {
	Format  int    `json:"journal"` // 2; 1 had no numbers
	ID      string `json:"job"`
	What    string `json:"what"`
	Account string `json:"account"`
	Address string `json:"address"`

	// Request is what was asked for, to ask again for the same; without secrets.
	Request json.RawMessage `json:"request,omitempty"`
}

const format = 2

// reversing marks a job that had come to its end and is being undone.
const reversing = "reversing"

type state string

const (
	begun  state = "begin"
	failed state = "failed"
	done   state = "done"
	undone state = "undone"
)

type record struct {
	N      int             `json:"n"`
	State  state           `json:"state"`
	At     time.Time       `json:"at"`
	Kind   string          `json:"step,omitempty"`
	Title  string          `json:"title,omitempty"` // for people who look on from elsewhere
	Step   any             `json:"-"`
	Fields json.RawMessage `json:"fields,omitempty"`
	End    string          `json:"end,omitempty"`
	Number int             `json:"number,omitempty"` // of the machine that goes on from here
	Plan   []planned       `json:"plan,omitempty"`
}

type planned struct {
	Kind   string          `json:"step"`
	Fields json.RawMessage `json:"fields"`
}

// stepState is what the journal knows of one step.
type stepState struct {
	kind   string
	fields json.RawMessage
	state  state // "" before it began, and once it was undone
	ever   bool  // it was begun, whatever became of it
}

var idForm = regexp.MustCompile(`^[0-9]{8}-[0-9]{6}-[a-z0-9]{4}$`)

// Begin makes the journal of a new job on a shelf and notes all of its steps.
func Begin(shelf JournalStore, h Header, list List, now func() time.Time) (*Journal, error) {
	steps := list.parts()
	h.Format = format
	log, err := shelf.New(h.ID)
	if err != nil {
		return nil, err
	}
	j := &Journal{Header: h, log: log, steps: make([]stepState, len(steps)), number: 1, now: now}
	plan := make([]planned, len(steps))
	for i, s := range steps {
		fields, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		plan[i] = planned{s.Kind(), fields}
		j.steps[i] = stepState{kind: s.Kind(), fields: fields}
	}
	first := struct {
		Header
		At   time.Time `json:"at"`
		Plan []planned `json:"plan"`
	}{h, now().UTC(), plan}
	if err := j.line(first); err != nil {
		return nil, errors.Join(err, j.Close())
	}
	return j, nil
}

// ErrNotOurs means that a journal cannot be written any more, and that another program may
// have it in hand: what was begun is for whoever has it to end.
var ErrNotOurs = errors.New("the journal is not in hand any more")

// ErrRunning means that another program has the job in hand.
var ErrRunning = errors.New("the job is running")

// Open reads the journal of a job that ended or was cut off, and takes it in hand. A
// usage fault when there is no such job; ErrRunning while it runs.
func Open(shelf JournalStore, id string, now func() time.Time) (*Journal, error) {
	none := fault.NewAs(fault.NoSuchJob, fault.Usage, "no journal of such a job is here", id,
		"See the jobs with: "+fault.Call("jobs"))
	if !idForm.MatchString(id) {
		return nil, none
	}
	log, err := shelf.Open(id)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, none
	}
	if err != nil {
		return nil, err
	}
	j := &Journal{log: log, number: 1, now: now}
	if err := j.read(); err != nil {
		unreadable := fault.New(fault.Usage, "the journal of the job cannot be read", log.Place(),
			"Put back the file as it was, from a backup of this machine. Without it nobody knows what was begun; to end the "+
				"job anyway: "+fault.Call("undo", id, "--give-up")).Wrap(err)
		return nil, errors.Join(unreadable, j.Close())
	}
	return j, nil
}

// read takes in all lines.
func (j *Journal) read() error {
	lines, err := j.log.Lines()
	if err != nil {
		return err
	}
	if len(lines) == 0 {
		return errors.New("it is empty")
	}
	for n, line := range lines {
		if err := j.take(n, line); err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
	}
	return nil
}

func (j *Journal) take(n int, line []byte) error {
	if n == 0 {
		var r record
		if err := errors.Join(json.Unmarshal(line, &j.Header), json.Unmarshal(line, &r)); err != nil {
			return err
		}
		if j.Format < 1 || j.Format > format {
			return fault.New(fault.Usage, fmt.Sprintf("the journal has format %d", j.Format), j.ID,
				"Another release of Tivset made it; use that one.")
		}
		for _, p := range r.Plan {
			j.steps = append(j.steps, stepState{kind: p.Kind, fields: p.Fields})
		}
		return nil
	}
	var r record
	if err := json.Unmarshal(line, &r); err != nil {
		return err
	}
	if r.End != "" {
		j.Ended = r.End
		return nil
	}
	if r.Number > 0 {
		j.number = r.Number
		return nil
	}
	if r.N < 0 || r.N >= len(j.steps) {
		return fmt.Errorf("there is no step %d", r.N)
	}
	j.note(r)
	return nil
}

func (j *Journal) note(r record) {
	s := &j.steps[r.N]
	s.state, s.ever = r.State, true
	if r.Fields != nil {
		s.fields = r.Fields
	}
	if r.State == undone {
		s.state = ""
	}
}

// Over says whether nothing is left to be done or undone.
func (j *Journal) Over() bool { return j.Ended == "done" || j.Ended == "undone" }

// Begun says whether a step was begun and not undone.
func (j *Journal) Begun(n int) bool { return j.steps[n].state != "" }

func (j *Journal) everBegun(n int) bool { return j.steps[n].ever }

func (j *Journal) write(r record) error {
	r.At = j.now().UTC()
	if r.Step != nil {
		fields, err := json.Marshal(r.Step)
		if err != nil {
			return err
		}
		r.Fields = fields
	}
	if err := j.line(r); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	j.note(r)
	return nil
}

// goOn notes that whoever has the journal in hand now goes on with the job.
func (j *Journal) goOn() error {
	j.number++
	return j.line(struct {
		Number int       `json:"number"`
		At     time.Time `json:"at"`
	}{j.number, j.now().UTC()})
}

func (j *Journal) line(v any) error {
	var line bytes.Buffer
	if err := json.NewEncoder(&line).Encode(v); err != nil {
		return err
	}
	return j.log.Append(line.Bytes())
}

// mark notes that the job has come to its end, or that its end is taken back.
func (j *Journal) mark(how string) error {
	err := j.line(struct {
		End string    `json:"end"`
		At  time.Time `json:"at"`
	}{how, j.now().UTC()})
	if err == nil {
		j.Ended = how
	}
	return err
}

// end notes how the job ended; *Unnoted when that cannot be.
func (j *Journal) end(how string) error {
	if err := j.mark(how); err != nil {
		return &Unnoted{err}
	}
	return nil
}

// Reopen notes that a job which had come to its end is to be undone: by Recover.
func (j *Journal) Reopen() error { return j.mark(reversing) }

// Void notes that nothing of the job was begun, nor will be.
func (j *Journal) Void() error { return j.end(string(undone)) }

// Unnoted is the error of a job of which everything was done, or undone, and whose journal could
// not be told so: a later Recover finds nothing left to do, and notes it.
type Unnoted struct{ Cause error }

// Error gives the cause.
func (u *Unnoted) Error() string { return "the end of the job cannot be noted: " + u.Cause.Error() }

// Unwrap gives the cause.
func (u *Unnoted) Unwrap() error { return u.Cause }

// Close lets the journal go.
func (j *Journal) Close() error { return j.log.Close() }

// NewID makes an id that sorts by time: date, time and four random characters.
func NewID(now time.Time, random string) string {
	return now.UTC().Format("20060102-150405-") + strings.ToLower(random)
}
