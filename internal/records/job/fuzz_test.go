package job_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/records/job"
)

// FuzzJournal reads what somebody wrote in a journal's place: it is opened, or refused, and never longer by that.
func FuzzJournal(f *testing.F) {
	const id = "20261202-080000-abcd"
	f.Add([]byte(`{"journal":1,"job":"20261202-080000-abcd","what":"install","steps":[{"kind":"a","title":"b"}]}` + "\n" +
		`{"step":0,"state":"begun","at":"2026-12-02T08:00:00Z"}` + "\n"))
	f.Add([]byte("{\"step\":99999999999,\"state\":\"done\"}\n\x00\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		folder := job.Files(t.TempDir())
		name := filepath.Join(string(folder), id+".jsonl")
		if err := os.WriteFile(name, text, 0o600); err != nil {
			t.Fatal(err)
		}
		j, err := job.Open(folder, id, time.Now)
		if err == nil {
			_ = j.Close()
		}
		after, err := os.Stat(name)
		if err != nil {
			t.Fatal(err)
		}
		assert.LessOrEqual(t, after.Size(), int64(len(text)))
	})
}
