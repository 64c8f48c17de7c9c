package job

// Stage is what a step is for, as an owner sees it: several steps make one.
type Stage string

// The stages of jobs.
const (
	StageReserving Stage = "reserve"
	StageBackingUp Stage = "back up"
	StageClosing   Stage = "close"
	StageData      Stage = "data"
	StageFiles     Stage = "files"
	StageSettingUp Stage = "set up"
	StagePlacing   Stage = "put in place"
	StageChecking  Stage = "check"
	StageMigrating Stage = "migrate"
	StageRemoving  Stage = "remove"
	StageRenewing  Stage = "renew"
	StageTiming    Stage = "timers"
	StageFinishing Stage = "finish"
)

// Staged is a step that is not always of the same stage as others of its kind.
type Staged interface {
	Stage() Stage // "" for that of its kind
}

// event is what is told of a step.
func (r *Runner) event(i int, all []part) Event {
	p := all[i]
	e := Event{Step: i + 1, Of: len(all), Title: p.Title()}
	if s, is := p.(Staged); is {
		e.Stage = s.Stage()
	}
	if e.Stage == "" && r.StageOf != nil {
		e.Stage = r.StageOf(p.Kind())
	}
	return e
}
