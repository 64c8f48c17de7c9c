package config_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
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
	"tivset/internal/trial/servers"
)

// awkward are values that have broken configuration files.
var awkward = []string{
	"", " ", "plain", `it's`, `a"b`, `back\slash`, `end\`, `end\\`, `'"\`, "$x", "${HOME}", `\${x}`, `{$x}`, "a;b", "# c",
	"%d", "a&b=c",
	"line\nbreak", "\r\n", "\ttab", " lead and trail ", "é–日本🚤", "?>", "<?php", "*/", "//", "null", "true", "0", "[x]",
	"=", "|", "~!()^",
}

var formats = map[string]string{
	"php": "<?php\ndefine('V', {v}); // {{v}}\n$c['a']['b'] = {v};\n",
	"ini": "; {{v}}\n[s]\nV = {v}\nother = \"1\"\n",

	"json":   `{"V": {v}, "list": ["{{v}}", {v}]}`,
	"yaml":   "# {{v}}\nV: {v}\nlist:\n  - {v}\n  - a\n",
	"toml":   "# {{v}}\n[s]\nV = {v}\nother = 1\n",
	"dotenv": "# {{v}}\nV={v}\nOTHER=1\n",
	"text":   "note: {{v}}\nV: {v}\nother\n",
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

// readers read the value of the n-th file with PHP itself.
var readers = map[string]string{
	"php":  `require $f; $out[] = [constant("V$n"), $c['a']['b']];`,
	"ini":  `$i = parse_ini_file($f, true); $out[] = [$i['s']['V'], $i['s']['V']];`,
	"json": `$j = json_decode(file_get_contents($f), true); $out[] = [$j['V'], $j['list'][1]];`,
	"text": `$l = explode("\n", file_get_contents($f)); $out[] = [substr($l[1], 3), substr($l[1], 3)];`,
	"xml":  `$x = simplexml_load_file($f); $out[] = [(string)$x->V, (string)$x->V];`,
}

// PHP itself reads back exactly the values that were written.
func TestPHPReadsTheSame(t *testing.T) {
	php := servers.Need(t, "php")[0]
	for format, reader := range readers {
		if format == "xml" && exec.Command(php, "-r", "exit(extension_loaded('simplexml') ? 0 : 1);").Run() != nil {
			servers.Missing(t, "PHP has no SimpleXML; on Debian php-xml has it")
		}
		t.Run(format, func(t *testing.T) {
			values := append([]string{}, awkward...)
			for i := range 150 {
				values = append(values, rapid.StringMatching(`[\x20-\x7eäß日\n\r\t'"\\$;#%&{}]{0,30}`).Example(i))
			}
			f, err := config.For(format)
			require.NoError(t, err)
			var held []string
			var files [][]byte
			for _, v := range values {
				if _, err := f.Quote(v); err != nil {
					continue
				}
				// A constant is set once in a run of PHP, so each file has its own.
				name := fmt.Sprintf("define('V%d',", len(held))
				held, files = append(held, v), append(files, bytes.Replace(render(t, format, v), []byte("define('V',"),
					[]byte(name), 1))
			}
			for n, got := range ask(t, php, format, reader, files) {
				assert.Equal(t, []string{held[n], held[n]}, got, "%s", files[n])
			}
		})
	}
}

// ask has one run of PHP read all the files. What PHP warns of goes to standard
// error, and is no part of the answer.
func ask(t *testing.T, php, format, reader string, files [][]byte) (all [][]string) {
	t.Helper()
	dir := t.TempDir()
	for n, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.%s", n, format)), text, 0o600))
	}
	script := `$out = []; for ($n = 0; $n < $argv[3]; $n++) { $c = []; $f = "$argv[1]/$n.$argv[2]"; ` + reader +
		` } echo json_encode($out);`
	c := exec.Command(php, "-d", "display_errors=stderr", "-r", script, dir, format, strconv.Itoa(len(files)))
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	require.NoError(t, err, "%s%s", out, &said)
	require.NoError(t, json.Unmarshal(out, &all), "%s%s", out, &said)
	require.Len(t, all, len(files), "%s", &said)
	return all
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
	assert.ErrorContains(t, err, "dotenv, ini, json, php, text, toml, xml, yaml")
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
		{"text", "name: {v}\nmail: {v}", 0, ""},
		{"text", "name: {v}; mail", 1, "a value ends its line"},
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
