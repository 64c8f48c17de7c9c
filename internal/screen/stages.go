package screen

import (
	"fmt"
	"strings"
	"time"

	"tivset/internal/check"
	"tivset/internal/records/job"
)

// stages are what the steps of jobs are for, in an owner's words, by what their titles begin
// with. What an app's own set-up does is one stage of its own.
var stages = []struct {
	stage  string
	titles []string
}{
	{"Reserve the address", []string{"Claim the place", "Keep passwords in the vault", "See that the domain leads here",
		"Look at the account's PHP"}},
	{"Back the site up", []string{"Back the site up", "Read it again"}},
	{"Close the site for a moment", []string{"Close the site", "Keep the database as it is", "Keep what "}},
	{"Make the database", []string{"Create the database", "Sign in to the database", "Look at the database",
		"Load the database"}},
	{"Bring the files", []string{"Make the folder", "Unpack", "Write the configuration", "Take over the configuration",
		"Keep others out of the files", "Let others work at the original"}},
	{"Set the app up", []string{"Leave out what only the set-up needs", "Take away what only the set-up needs"}},
	{"Put it in place", []string{"Set aside what is in the way", "Put the ", "Leave the old place",
		"Take over what was written since"}},
	{"See that visitors and the admin get in", []string{"Wait until PHP", "Check the site"}},
	{"Bring the data to the new release", []string{"Bring the database to the new release"}},
	{"Take the site out", []string{"Take the files out"}},
	{"Set the new password", []string{"Set the new password"}},
	{"Set its timers", []string{"Set up timers"}},
	{"Finish", []string{"Record the site", "Tidy up", "Take the helping file away", "Take away "}},
}

// stage words a step for an owner; in a run that says more it has its own name.
func (s *Streams) stage(e job.Event) string {
	if s.Loud || e.Of == 0 { // no step of a job
		return e.Title
	}
	for _, of := range stages {
		for _, title := range of.titles {
			if strings.HasPrefix(e.Title, title) {
				return of.stage
			}
		}
	}
	return "Set the app up"
}

// proven says in one line how long a job took, and what was seen of its site afterwards.
func (s *Streams) proven(checks []check.Checked) string {
	var names []string
	for _, c := range checks {
		if c.OK {
			names = append(names, map[string]string{check.WrongPassword: "a wrong password refused",
				"configuration": "the configuration hidden"}[c.Name])
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
	return took + "Proven: " + strings.Join(names, ", ") + "."
}

func lasted(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
}
