package screen

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"tivset/internal/check"
	"tivset/internal/records/job"
)

// stages are what the steps of jobs are for, in an owner's words.
var stages = map[job.Stage]string{
	job.StageReserving: "Reserve the address",
	job.StageBackingUp: "Back the site up",
	job.StageClosing:   "Close the site for a moment",
	job.StageData:      "Make the database",
	job.StageFiles:     "Bring the files",
	job.StageSettingUp: "Set the app up",
	job.StagePlacing:   "Put it in place",
	job.StageChecking:  "Check that visitors and the admin get in",
	job.StageMigrating: "Migrate the database",
	job.StageRemoving:  "Remove the site",
	job.StageRenewing:  "Set the new password",
	job.StageTiming:    "Set its timers",
	job.StageFinishing: "Finish",
}

// undone is what is so again once the steps of a stage were undone; stages that leave nothing to undo have none.
var undone = map[job.Stage]string{
	job.StageReserving: "the address is free again",
	job.StageClosing:   "the site is open again",
	job.StageData:      "the new database is gone",
	job.StageFiles:     "the new files are gone",
	job.StagePlacing:   "what was in place before is back",
	job.StageMigrating: "the database is back",
	job.StageRemoving:  "the site is back",
	job.StageRenewing:  "the old password is back",
	job.StageTiming:    "the timers are as they were",
}

// stage words a step for an owner; in a run that says more it has its own name.
func (s *Streams) stage(e job.Event) string {
	if s.Loud || e.Of == 0 { // no step of a job
		return e.Title
	}
	if e.Undo {
		return undone[e.Stage]
	}
	return cmp.Or(stages[e.Stage], stages[job.StageSettingUp])
}

// proven says in one line how long a job took, and what was seen of its site afterwards.
func (s *Streams) proven(checks []check.Checked) string {
	var names []string
	for _, c := range checks {
		if c.OK && !c.Accepted {
			names = append(names, map[string]string{check.WrongPassword: "a wrong password refused",
				"configuration": "the configuration hidden", check.PrivateFiles: "the private files hidden"}[c.Name])
			if last := len(names) - 1; names[last] == "" {
				names[last] = c.Name
			}
		}
	}
	took := ""
	if !s.begun.IsZero() {
		took = fmt.Sprintf("It took %s. ", lasted(s.now().Sub(s.begun)))
	}
	if len(names) == 0 {
		return strings.TrimSpace(took)
	}
	var works, refused []string
	for _, name := range names {
		if what, is := strings.CutSuffix(strings.TrimSuffix(name, " hidden"), " refused"); is || what != name {
			refused = append(refused, what)
		} else {
			works = append(works, name)
		}
	}
	text := took
	if len(works) > 0 {
		text += "Seen to work: " + strings.Join(works, ", ") + "."
	}
	if len(refused) > 0 {
		text += " Seen to be refused: " + strings.Join(refused, ", ") + "."
	}
	return strings.TrimSpace(text)
}

func lasted(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
}
