package runtime_test

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/hosting/runtime"
)

func guard() runtime.Guard {
	sum := sha256.Sum256([]byte("let me in"))
	return runtime.Guard{Cookie: "pass", Hash: hex.EncodeToString(sum[:]), Sign: "ours", RetryAfter: 60,
		Text: "<p>it's \"later\" ?></p>"}
}

// pages that do something when they are asked for; each prints ran, in the first line where it can.
var pages = map[string]string{
	"plain":       "<?php\nrequire 'part.php';\necho 'ran';\n",
	"on one line": "<?php require 'part.php'; echo 'ran' ?>",
	"types":       "<?php\n/* first */ declare(strict_types=1); // then\nrequire 'part.php'; echo 'ran';",
	"types, apart": "<?php declare ( strict_types = 1 ) ;\n# declare\nnamespace A\\B;\nuse function A\\x;\n" +
		"require 'part.php'; echo 'ran';",
	"namespace":          "<?php\n\nnamespace Lockside;\n\ninclude 'part.php'; echo 'ran';",
	"namespace in block": "<?php\nnamespace Lockside { include 'part.php'; echo 'ran'; }\n",
	"ticks":              "<?php\ndeclare(ticks=1) { include 'part.php'; echo 'ran'; }",
	"text first":         "<h1>hello</h1>\n<?php include 'part.php'; echo 'ran';",
	"echo first":         "<?= 'hello' ?><?php include 'part.php'; echo 'ran';",
	"for a shell":        "#!/usr/bin/env php\n<?php\ninclude 'part.php'; echo 'ran';",
	"in a condition":     "<?php if (true) { function f() { return 1; } include 'part.php'; }\necho 'ran';",
	"in a closure":       "<?php (function () { include 'part.php'; })(); echo 'ran';",
	"asks":               "<?php $page = $_GET['page'] ?? 'front'; echo 'ran';",
	"after a heredoc": "<?php $a = <<<'END'\nclass x { require\nEND;\n$b = A::class ?? null; " +
		"include 'part.php'; echo 'ran';",
	"ends in a comment": "<?php // class\n?><?php include 'part.php'; echo 'ran' // ?>",
}

// still are pages that do nothing by themselves.
var still = map[string]string{
	"class":     "<?php\nclass A extends B {\n  function f() { require 'x.php'; }\n}\n",
	"functions": "<?php\nfunction &f() { if (1) { include 'x'; } }\nabstract class C { abstract function g(); }",
	"settings":  "<?php return ['a' => 1, 'b' => \"require\", /* $_GET */ ];",
	"text":      "<p>require</p>",
	"enum":      "<?php enum Way: string { case In = 'in'; static function of() { return $_GET['x']; } }",
	"nothing":   "",
}

func TestWhichPagesAreGuarded(t *testing.T) {
	for name, page := range pages {
		_, is := runtime.PHP{}.Guarded(page, guard())
		assert.True(t, is, name)
	}
	for name, page := range still {
		_, is := runtime.PHP{}.Guarded(page, guard())
		assert.False(t, is, name)
	}
	page, is := demo.Pages{}.Guarded("{{now}}", guard())
	assert.True(t, is)
	assert.Contains(t, page, "ours")
}

// PHP itself runs guarded pages: as they were for who brings the pass, and not at all for others.
func TestGuardedPagesRun(t *testing.T) {
	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("php is not here")
	}
	for name, page := range pages {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "part.php"), []byte("<?php\n"), 0o644))
			guarded, _ := runtime.PHP{}.Guarded(page, guard())
			assert.Equal(t, strings.Count(page, "\n"), strings.Count(guarded, "\n"), "lines keep their numbers")
			at := filepath.Join(dir, "index.php")
			require.NoError(t, os.WriteFile(at, []byte(guarded), 0o644))
			run := func(args ...string) (string, int) {
				c := exec.Command(php, append(args, at)...)
				c.Dir = dir
				out, _ := c.CombinedOutput()
				return string(out), c.ProcessState.ExitCode()
			}
			out, code := run("-d", runtime.GuardSetting+"=let me in")
			assert.Contains(t, out, "ran")
			assert.NotContains(t, out, "Warning")
			assert.Zero(t, code, out)
			for _, args := range [][]string{nil, {"-d", runtime.GuardSetting + "=other"}} {
				out, code = run(args...)
				assert.NotContains(t, out, "ran")
				assert.Equal(t, 75, code, out)
			}
			asked := func(cookie string) string {
				script := fmt.Sprintf("$_SERVER['REQUEST_METHOD'] = 'GET'; $_COOKIE = %s; include %q;", cookie, at)
				c := exec.Command(php, "-r", script)
				c.Dir = dir
				out, _ := c.CombinedOutput()
				return string(out)
			}
			assert.Contains(t, asked("['pass' => 'let me in']"), "ran")
			for _, cookie := range []string{"[]", "['pass' => 'x']", "['pass' => ['let me in']]", "['other' => 'let me in']"} {
				assert.Equal(t, guard().Text, asked(cookie), cookie)
			}
		})
	}
}
