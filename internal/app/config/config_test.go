package config_test

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/joho/godotenv"
	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"pgregory.net/rapid"

	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/standin/pages"
	"tivset/internal/testing/testserver"
)

// awkward are values that have broken configuration files.
var awkward = []string{
	"", " ", "plain", `it's`, `a"b`, `back\slash`, `end\`, `end\\`, `'"\`, "$x", "${HOME}", `\${x}`, `{$x}`, "a;b", "# c", "%d", "a&b=c",
	"line\nbreak", "\r\n", "\ttab", " lead and trail ", "é–日本🚤", "?>", "<?php", "*/", "//", "null", "true", "0", "[x]", "=", "|", "~!()^",
}

var formats = map[string]string{
	"php": "<?php\ndefine('V', {v}); // {{v}}\n$c['a']['b'] = {v};\n",
	"ini": "; {{v}}\n[s]\nV = {v}\nother = \"1\"\n",

	"json":   `{"V": {v}, "list": ["{{v}}", {v}]}`,
	"yaml":   "# {{v}}\nV: {v}\nlist:\n  - {v}\n  - a\n",
	"toml":   "# {{v}}\n[s]\nV = {v}\nother = 1\n",
	"dotenv": "# {{v}}\nV={v}\nOTHER=1\n",
	"xml":    "<?xml version=\"1.0\"?>\n<s a=\"1\"><V>{v}</V><other/></s>\n",
}

// standard reads a file's value with the usual library of its format.
func standard(format string, text []byte) (string, error) {
	var into struct {
		V string `json:"V" yaml:"V" xml:"V"`
	}
	var err error
	switch format {
	case "json":
		err = json.Unmarshal(text, &into)
	case "yaml":
		err = yaml.Unmarshal(text, &into)
	case "xml":
		err = xml.Unmarshal(text, &into)
	case "toml":
		var s struct{ S struct{ V string } }
		err = toml.Unmarshal(text, &s)
		into.V = s.S.V
	case "dotenv":
		var all map[string]string
		all, err = godotenv.UnmarshalBytes(text)
		into.V = all["V"]
	}
	return into.V, err
}

// The standard libraries read back exactly the values that were written.
func TestStandardLibrariesReadTheSame(t *testing.T) {
	for _, format := range []string{"json", "yaml", "toml", "dotenv", "xml"} {
		t.Run(format, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				v := rapid.OneOf(rapid.SampledFrom(awkward), rapid.String()).Draw(t, "value")
				f, err := config.For(format)
				require.NoError(t, err)
				if _, err := f.Quote(v); err != nil {
					t.Skip("the format cannot hold it, and says so")
				}
				text := render(t, format, v)
				got, err := standard(format, text)
				require.NoError(t, err, "%q\n%s", v, text)
				require.Equal(t, v, got, "%s", text)
			})
		})
	}
}

func render(t require.TestingT, format, value string) []byte {
	f, err := config.For(format)
	require.NoError(t, err)
	text, err := config.Render(f, formats[format], fill.Values{"v": value})
	require.NoError(t, err)
	return text
}

// readers read a file's value with PHP itself.
var readers = map[string]string{
	"php": `require $f; $out[] = [V, $c['a']['b']];`,
	"ini": `$i = parse_ini_file($f, true); $out[] = [$i['s']['V'], $i['s']['V']];`,

	"json": `$j = json_decode(file_get_contents($f), true); $out[] = [$j['V'], $j['list'][1]];`,
	"xml":  `$x = simplexml_load_file($f); $out[] = [(string)$x->V, (string)$x->V];`,
}

// PHP itself reads back exactly the values that were written.
func TestPHPReadsTheSame(t *testing.T) {
	php := testserver.Need(t, "php")[0]
	for format, reader := range readers {
		if format == "xml" && exec.Command(php, "-r", "exit(extension_loaded('simplexml') ? 0 : 1);").Run() != nil {
			testserver.Missing(t, "PHP has no SimpleXML; on Debian php-xml has it")
		}
		t.Run(format, func(t *testing.T) {
			values := append([]string{}, awkward...)
			for i := range 150 {
				values = append(values, rapid.StringMatching(`[\x20-\x7eäß日\n\r\t'"\\$;#%&{}]{0,30}`).Example(i))
			}
			dir := t.TempDir()
			for _, v := range values {
				if f, _ := config.For(format); f != nil {
					if _, err := f.Quote(v); err != nil {
						continue
					}
				}
				got := ask(t, php, dir, format, reader, render(t, format, v))
				assert.Equal(t, []string{v, v}, got, "%q", v)
			}
		})
	}
}

// ask runs PHP on one file. Constants cannot be set twice, so each file is a
// run of its own.
func ask(t *testing.T, php, dir, format, reader string, text []byte) []string {
	t.Helper()
	file := filepath.Join(dir, "f."+format)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	c := exec.Command(php, "-r", `$f = $argv[1]; $out = []; `+reader+` echo json_encode($out[0]);`, file)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, text)
	var got []string
	require.NoError(t, json.Unmarshal(out, &got), "%s\n%s", out, text)
	return got
}

// The stand-in reads them the same way.
func TestStandinReadsTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := rapid.OneOf(rapid.SampledFrom(awkward), rapid.String().Filter(func(s string) bool {
			for _, r := range s {
				if r == 0 {
					return false
				}
			}
			return true
		})).Draw(t, "value")
		got, err := pages.ReadPHP(string(render(t, "php", v)))
		require.NoError(t, err)
		require.Equal(t, v, got["V"])
		require.Equal(t, v, got["c.a.b"])
		got, err = pages.ReadINI(string(render(t, "ini", v)))
		require.NoError(t, err)
		require.Equal(t, v, got["s.V"])
	})
}

func TestZeroByte(t *testing.T) {
	f, err := config.For("ini")
	require.NoError(t, err)
	_, err = f.Quote("a\x00b")
	assert.ErrorContains(t, err, "zero byte")
	_, err = config.For("nonesuch")
	assert.ErrorContains(t, err, "dotenv, ini, json, php, toml, xml, yaml")
}

func TestBareValues(t *testing.T) {
	f, err := config.For("php")
	require.NoError(t, err)
	text, err := config.Render(f, "<?php $port = {p | number}; $on = {f | flag};", fill.Values{"p": "3306", "f": "yes"})
	require.NoError(t, err)
	assert.Equal(t, "<?php $port = 3306; $on = true;", string(text))
	_, err = config.Render(f, "<?php $port = {p | number};", fill.Values{"p": "1; evil()"})
	assert.ErrorContains(t, err, "not a whole number")
}

func TestCheckFindsPlacesThatAreNotSafe(t *testing.T) {
	for _, c := range []struct {
		format, template string
		line             int
		what             string
	}{
		{"php", "<?php $a = {v};", 0, ""},
		{"php", "<?php $a = array('x' => {v}, \"y\" => 1); /* c */ $b = {v}; ?>", 0, ""},
		{"php", "<?php\n$a = '{v}';", 2, "quoted twice"},
		{"php", "<?php\n$a = \"it's {v}\";", 2, "quoted twice"},
		{"php", "<?php $a = 'it\\'s'; $b = {v};", 0, ""},
		{"php", "<?php\n// {v}\n", 2, "comment"},
		{"php", "<?php\n# it's\n$a = {v};", 0, ""},
		{"php", "<?php /* {v} */", 1, "comment"},
		{"php", "<p>{v}</p>", 1, "sent to visitors"},
		{"php", "<?php $a = 1; ?>\n{v}", 2, "sent to visitors"},
		{"php", "<?php // end ?>\n{v}", 2, "sent to visitors"},
		{"php", "<?php $a = <<<EOT\n{v}\nEOT;\n", 2, "quoted twice"},
		{"php", "<?php $a = <<<'EOT'\nx\nEOT;\n$b = {v};", 0, ""},
		{"php", "<?php $a = {nonesuch};", 1, "no value is called {nonesuch}"},
		{"php", "<?php $a = {v | shout};", 1, "no filter"},
		{"ini", "[s]\na = {v}\n", 0, ""},
		{"ini", "a = \"{v}\"", 1, "all that stands after"},
		{"ini", "a = {v}:3306", 1, "all that stands after"},
		{"ini", "; {v}", 1, "all that stands after"},
		{"ini", "{v} = 1", 1, "all that stands after"},
		{"json", `{"a": {v}, "b\\\"": [{v}]}`, 0, ""},
		{"json", `{"a": "{v}"}`, 1, "quoted twice"},
		{"json", `{"a\\": {v}}`, 0, ""},
		{"yaml", "a:\n  b: {v}\n  c: 1", 0, ""},
		{"yaml", "- {v}\n- a: {v}", 0, ""},
		{"yaml", "a: '{v}'", 1, "all that stands after"},
		{"yaml", "a: x{v}", 1, "all that stands after"},
		{"yaml", "# a: {v}", 1, "all that stands after"},
		{"toml", "[a]\nb.c = {v}", 0, ""},
		{"toml", "b = \"{v}\"", 1, "all that stands after"},
		{"dotenv", "A={v}\nexport B={v}", 0, ""},
		{"dotenv", "A=\"{v}\"", 1, "all that stands after"},
		{"dotenv", "A={v} # note", 1, "all that stands after"},
		{"xml", "<a><b c=\"d\">{v}</b></a>", 0, ""},
		{"xml", "<a b=\"{v}\"/>", 1, "all the text of an element"},
		{"xml", "<!-- <a>{v}</a> -->", 1, "all the text of an element"},
		{"xml", "<a>x{v}</a>", 1, "all the text of an element"},
		{"xml", "<![CDATA[{v}]]>", 1, "all the text of an element"},
	} {
		f, err := config.For(c.format)
		require.NoError(t, err)
		found := config.Check(f, c.template, []string{"v"})
		if c.what == "" {
			assert.Empty(t, found, c.template)
			continue
		}
		require.Len(t, found, 1, c.template)
		assert.Equal(t, c.line, found[0].Line, c.template)
		assert.Contains(t, found[0].What, c.what)
	}
}
