package runtime_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/hosting/runtime"
)

func TestWhichRuntimeRunsAFile(t *testing.T) {
	all := runtime.Set{runtime.PHP{}, demo.Pages{}}
	assert.Equal(t, "php", all.Of("web/forum/index.php").Name())
	assert.Equal(t, "pages", all.Of("index.page").Name())
	for _, name := range []string{"index.html", "php", "a.php.txt", ""} {
		assert.Nil(t, all.Of(name), name)
	}
	assert.Equal(t, []string{".php", ".page"}, all.Endings())
}

// Whatever an address holds, it stays a text within the page.
func TestAddressesAreTexts(t *testing.T) {
	evil := `/it's\'; phpinfo(); //`
	page := runtime.PHP{}.Moved(runtime.Moved{From: evil, To: "http://x/" + evil, Sign: "ours", MaxAge: 60})
	assert.Contains(t, page, "ours")
	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("php is not here")
	}
	run := exec.Command(php, "-r", strings.TrimPrefix(page, "<?php")+"\necho $from;")
	out, err := run.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, evil, string(out))
}

// Every page of every runtime is one that this runtime takes for its own.
func TestPagesAreWhole(t *testing.T) {
	for _, r := range []runtime.Runtime{runtime.PHP{}, demo.Pages{}} {
		assert.NotEmpty(t, r.Pages(), r.Name())
		assert.Contains(t, r.Closed(60, "<p>later</p>"), "<p>later</p>")
		assert.Contains(t, r.Closed(60, ""), "60")
		assert.Contains(t, r.Admit(runtime.Admission{Hash: "00ff", Cookies: "Y29va2ll", To: "dG8="}), "00ff")
		page, says := r.Emptier("ours")
		assert.Equal(t, r.CodeCache() > 0, page != "", "what is cached can be emptied")
		assert.Equal(t, page != "", says != "")
	}
}
