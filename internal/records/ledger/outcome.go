package ledger

// Outcome is what became of a job.
type Outcome string

// The outcomes of jobs, as they are kept and as programs read them.
const (
	Running    Outcome = "running"
	Done       Outcome = "done"       // it did what it was to do
	Undone     Outcome = "undone"     // it failed, or was taken back, and the account is as it was
	Incomplete Outcome = "incomplete" // it could be neither finished nor undone
	CutOff     Outcome = "cut off"    // it is recorded as running, and nobody has it in hand
	GivenUp    Outcome = "given up"   // nobody undoes it any more
)

// Unfinished says whether something of the job is left to be finished or undone.
func (o Outcome) Unfinished() bool { return o == Running || o == Incomplete || o == CutOff }

// UnmarshalText reads an outcome; earlier releases kept that of a job which was done as the word
// for it, such as installed.
func (o *Outcome) UnmarshalText(text []byte) error {
	switch read := Outcome(text); read {
	case Running, Done, Undone, Incomplete, CutOff, GivenUp:
		*o = read
	case "left":
		*o = Incomplete
	default:
		*o = Done
	}
	return nil
}
