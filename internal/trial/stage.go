package trial

import (
	"errors"
	"fmt"
	"strings"

	"tivset/internal/fault"
)

// Stage is what servers are started for where there is no test: they end when On does.
type Stage struct {
	ends   []func()
	failed bool
	logs   []string
}

// stopped is a stage that cannot go on.
type stopped struct{ why string }

// On runs something on a stage, and gives what the servers logged where it failed.
// Servers that are not there are a fault.
func On(do func(*Stage) error) (logs []string, err error) {
	s := &Stage{}
	defer func() {
		if p := recover(); p != nil {
			why, is := p.(stopped)
			if !is {
				panic(p)
			}
			err = fault.New(fault.Usage, "the servers for a trial cannot be started", "", "Install what is missing.").
				Wrap(errors.New(why.why))
		}
		s.failed = s.failed || err != nil
		s.end()
		logs = s.logs
	}()
	return nil, do(s)
}

func (s *Stage) end() {
	for i := len(s.ends) - 1; i >= 0; i-- {
		s.ends[i]()
	}
}

// Fail has the servers tell what they logged, when they end.
func (s *Stage) Fail() { s.failed = true }

// Helper implements servers.Stage.
func (*Stage) Helper() {}

// Cleanup implements servers.Stage.
func (s *Stage) Cleanup(f func()) { s.ends = append(s.ends, f) }

// Failed implements servers.Stage.
func (s *Stage) Failed() bool { return s.failed }

// Logf implements servers.Stage.
func (s *Stage) Logf(format string, args ...any) {
	s.logs = append(s.logs, strings.TrimSpace(fmt.Sprintf(format, args...)))
}

// Fatal implements servers.Stage.
func (s *Stage) Fatal(args ...any) { panic(stopped{fmt.Sprint(args...)}) }

// Fatalf implements servers.Stage.
func (s *Stage) Fatalf(format string, args ...any) { s.Fatal(fmt.Sprintf(format, args...)) }

// Skip implements servers.Stage.
func (s *Stage) Skip(args ...any) { s.Fatal(args...) }
