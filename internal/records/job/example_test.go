package job_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"tivset/internal/records/job"
)

// saying is a step that says what happens to it.
type saying struct {
	Name string `json:"name"`
	Err  error  `json:"-"`
}

func (*saying) Kind() string    { return "saying" }
func (s *saying) Title() string { return s.Name }

func (s *saying) Do(context.Context) error {
	fmt.Println("do", s.Name)
	return s.Err
}

func (s *saying) Undo(context.Context) error {
	fmt.Println("undo", s.Name)
	return nil
}

// The steps of a job all happen, or none: what was begun is undone, last first.
func ExampleRunner_Run() {
	journals, err := os.MkdirTemp("", "journals")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(journals)
	list := job.List{
		Steps:  []job.Step{&saying{Name: "create the database"}, &saying{Name: "unpack", Err: errors.New("disk full")}},
		Commit: &saying{Name: "record the site"},
	}
	j, err := job.Begin(job.Files(journals), job.Header{ID: "20261123-080000-abcd", What: "install"}, list, time.Now)
	if err != nil {
		panic(err)
	}
	defer j.Close()
	err = (&job.Runner{Journal: j}).Run(context.Background(), list)
	fmt.Println(err)
	var stopped *job.Stopped
	fmt.Println("all undone:", errors.As(err, &stopped) && stopped.Undone)
	// Output:
	// do create the database
	// do unpack
	// undo unpack
	// undo create the database
	// unpack: disk full
	// all undone: true
}
