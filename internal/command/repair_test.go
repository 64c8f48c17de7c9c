package command

import (
	"context"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of several sites that are repaired, those are told apart that are still not well.
func TestSeveralRepairsSayWhatIsStillWrong(t *testing.T) {
	w, a, b := twoSites(t)
	require.NoError(t, os.WriteFile(w.Root+"/web/lockside/one/x.php", []byte("<?php system($_GET['x']);"), 0o644))
	for _, at := range []string{"/web/lockside/one", "/web/chandlery/two"} {
		require.NoError(t, os.WriteFile(w.Root+at+"/index.page", []byte("damaged"), 0o644))
	}
	said := run(t, context.Background(), w, "check", a, b, "--repair", "--yes")
	assert.Equal(t, 1, said.code, said.err)
	assert.Regexp(t, `✗ lockside[^\n]*: the release's own files are back; still wrong: added files`, said.err)
	assert.Regexp(t, `✓ chandlery[^\n]*: the release's own files are back\n`, said.err)
	assert.Contains(t, said.out, "1 done, 1 site still wrong")
}
