package fault

// Code says what happened in a word that programs may rely on, whatever a fault is worded like.
type Code string

// The codes of faults. docs/faults.md is made from this list.
const (
	NoAnswer      Code = "no-answer"
	SignInRefused Code = "sign-in-refused"
	UnknownServer Code = "unknown-server"
	NotInstalled  Code = "not-installed"
	Interrupted   Code = "interrupted"
	AtWork        Code = "at-work"
	InTheWay      Code = "in-the-way"
	NotClosed     Code = "not-closed"
	EndUnnoted    Code = "end-unnoted"
	Unfinished    Code = "unfinished"
	TakenOver     Code = "taken-over"
	WrongAnswers  Code = "wrong-answers"
	NoSuchSite    Code = "no-such-site"
	NoSuchJob     Code = "no-such-job"
	Ambiguous     Code = "ambiguous"
	NoAccount     Code = "no-account"
	NotOfTeam     Code = "not-of-team"
	MayOnlyLook   Code = "may-only-look"
	NotBelieved   Code = "not-believed"
	LedgerRefused Code = "ledger-refused"
	NoKit         Code = "no-kit"
	QueuedAlready Code = "queued-already"
	LedgerDamaged Code = "ledger-damaged"
	OtherRelease  Code = "other-release"
	FailedToDo    Code = "failed"
	WrongCall     Code = "wrong-call"
	NeedsDecision Code = "needs-decision"
	SomethingLeft Code = "something-left"
)

// Meaning is what a code means.
type Meaning struct {
	Code Code
	Text string
}

// Meanings lists all codes, the general ones last.
var Meanings = []Meaning{
	{NoAnswer, "a server of the account, of a domain or of the ledger did not answer, or not in time"},
	{SignInRefused, "a server refused the user, the password or the key; it is not tried again by itself"},
	{UnknownServer, "a server's key or certificate is not known here, or is another one than before"},
	{NotInstalled, "somebody ended the conversation or said no"},
	{Interrupted, "somebody pressed Ctrl-C, or ended the program"},
	{AtWork, "another job is at work there, and will come to its end"},
	{InTheWay, "something of the owner's is where the site is to be"},
	{NotClosed, "the site could not be closed: something in front of it goes on answering"},
	{EndUnnoted,
		"all was done, or undone, and only that could not be noted, which `undo` or `resume` of the job makes up for"},
	{Unfinished, "a job could be neither finished nor undone; `undo` of the job does it later"},
	{TakenOver, "another machine has gone on with the job"},
	{WrongAnswers, "answers are missing or wrong: `missing` and `problems` list all of them"},
	{NoSuchSite, "no site on record is called so"},
	{NoSuchJob, "no job, or no log or journal of it, is here"},
	{Ambiguous, "several sites or accounts could be meant"},
	{NoAccount, "no account has been added yet"},
	{NotOfTeam, "this machine is not of the team whose records it asks for"},
	{MayOnlyLook, "this member may not do that"},
	{LedgerRefused, "the database of the team's records refuses this machine's user or password"},
	{NoKit, "this machine has no kit of the app, or several, or one that cannot be read"},
	{NotBelieved, "what the team's database says was not written by its members"},
	{QueuedAlready, "the same is on the queue already for that place"},
	{LedgerDamaged, "the ledger's file is damaged"},
	{OtherRelease, "a newer release of Tivset made what is there"},
	{FailedToDo, "it failed, and everything that was begun was undone"},
	{WrongCall, "the call is wrong; nothing was touched"},
	{NeedsDecision, "somebody has to decide something; nothing was touched"},
	{SomethingLeft, "something is left to resume or to undo"},
}

// general are the codes of faults that have none of their own, by their kinds.
var general = map[Kind]Code{Failed: FailedToDo, Usage: WrongCall, NeedsConfirmation: NeedsDecision,
	Incomplete: SomethingLeft}

// CodeOf gives the code of an error: the fault's own; else that of a fault that is its cause; else the one
// for its kind. None for no error.
func CodeOf(err error) Code {
	if err == nil {
		return ""
	}
	f := Of(err)
	for of := f; of != nil; {
		if of.Code != "" {
			return of.Code
		}
		if of.Cause == nil {
			break
		}
		of = inside(of.Cause)
	}
	switch {
	case f.Busy:
		return AtWork
	case len(f.Problems) > 0 || len(f.Missing) > 0:
		return WrongAnswers
	}
	return general[f.Kind]
}
