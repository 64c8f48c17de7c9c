package answer_test

import (
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/fault"
)

// A password that begins with @ is taken for the name of a file. The error does
// not repeat it; nor does that of an answer without a sign of equality.
func TestPasswordsTakenForFiles(t *testing.T) {
	open := func(name string) (io.ReadCloser, error) { return os.Open(name) }
	for _, given := range []string{"admin.password=@82Y-Kranich", "admin.password82Y-Kranich"} {
		_, err := answer.Options([]string{given}, open)
		require.Error(t, err)
		f := fault.Of(err)
		require.Len(t, f.Problems, 1)
		for _, said := range []string{err.Error(), f.Problems[0].ID, f.Problems[0].What, f.Problems[0].Remedy} {
			assert.NotContains(t, said, "Kranich")
		}
	}
}
