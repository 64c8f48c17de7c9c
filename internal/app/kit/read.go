package kit

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"slices"
	"tivset/internal/fault"
	"tivset/internal/suggest"
)

// largest is how many bytes of kit.yaml are read at most.
const largest = 1 << 20

// Read reads and checks the kit in a folder. All that is wrong with it comes
// back in one fault, each problem with file and line.
func Read(folder fs.FS, name string) (*Kit, error) {
	file, err := folder.Open("kit.yaml")
	if err != nil {
		return nil, fault.New(fault.Usage, "not a kit", name, "A kit is a folder with a file kit.yaml.").Wrap(err)
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, largest+1))
	if err != nil {
		return nil, fmt.Errorf("read kit.yaml of %s: %w", name, err)
	}
	if len(text) > largest {
		return nil, fault.New(fault.Usage, "kit.yaml is larger than 1 MB", name, "Move long texts into files of the kit.")
	}
	k := &Kit{files: folder, lines: map[string]int{}, used: map[string]bool{}}
	problems := k.decode(text)
	if len(problems) == 0 {
		problems = k.problems()
	}
	if err := fault.Join("the kit "+name+" has mistakes", "Correct the lines named; docs/kit.md describes every key.",
		problems); err != nil {
		return nil, err
	}
	return k, nil
}

// decode reads the YAML into the kit, strictly.
func (k *Kit) decode(text []byte) []fault.Problem {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return yamlProblems(err)
	}
	if len(root.Content) == 0 {
		return []fault.Problem{{ID: "kit.yaml:1", What: "the file is empty", Remedy: "docs/kit.md shows a complete kit."}}
	}
	k.remember("", root.Content[0])
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(k); err != nil {
		return yamlProblems(err)
	}
	if err := decoder.Decode(&root); !errors.Is(err, io.EOF) {
		return []fault.Problem{{ID: "kit.yaml", What: "there is more than one document",
			Remedy: "Keep the first, without ---."}}
	}
	return nil
}

// remember notes the line of each key, as "releases.0.archive.sha256".
func (k *Kit) remember(path string, n *yaml.Node) {
	k.lines[path] = n.Line
	join := func(key string) string { return strings.TrimPrefix(path+"."+key, ".") }
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			k.remember(join(n.Content[i].Value), n.Content[i+1])
			k.lines[join(n.Content[i].Value)] = n.Content[i].Line
		}
	case yaml.SequenceNode:
		for i, c := range n.Content {
			k.remember(join(strconv.Itoa(i)), c)
		}
	}
}

// At names the place of a key in the kit's file, such as kit.yaml:12, falling back on
// what holds it.
func (k *Kit) At(path string) string {
	for {
		if line, ok := k.lines[path]; ok && line > 0 {
			return fmt.Sprintf("kit.yaml:%d", line)
		}
		i := strings.LastIndexByte(path, '.')
		if i < 0 {
			return "kit.yaml:1"
		}
		path = path[:i]
	}
}

var (
	yamlLine    = regexp.MustCompile(`line (\d+): (.*)`)
	yamlField   = regexp.MustCompile(`^field (\S+) not found in type kit\.(\w+)$`)
	yamlType    = regexp.MustCompile("^cannot unmarshal !!(\\w+)(?: `(.*)`)? into (.*)$")
	yamlDoubled = regexp.MustCompile(`^mapping key "(.*)" already defined at line (\d+)$`)
)

// yamlProblems words the YAML reader's errors for people.
func yamlProblems(err error) []fault.Problem {
	var out []fault.Problem
	for _, m := range yamlLine.FindAllStringSubmatch(err.Error(), -1) {
		p := fault.Problem{ID: "kit.yaml:" + m[1], What: m[2], Remedy: "Correct the YAML."}
		if f := yamlField.FindStringSubmatch(m[2]); f != nil {
			p.What = "the key " + f[1] + " is not known here"
			hint := suggest.Hint(f[1], keysOf[f[2]])
			if now := newKeys[f[1]]; slices.Contains(keysOf[f[2]], now) {
				hint = "It is called " + now + " now."
			}
			p.Remedy = strings.TrimSpace(hint + " There are " + strings.Join(keysOf[f[2]], ", ") +
				".")
		} else if t := yamlType.FindStringSubmatch(m[2]); t != nil {
			p.What, p.Remedy = "a wrong type: "+t[1], "Write "+goType(t[3])+"."
		} else if d := yamlDoubled.FindStringSubmatch(m[2]); d != nil {
			p.What, p.Remedy = "the key "+d[1]+" stands twice", "Line "+d[2]+" has it already; keep one."
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		out = []fault.Problem{{ID: "kit.yaml", What: err.Error(), Remedy: "Correct the YAML."}}
	}
	return out
}

// goType names a Go type in the words of YAML.
func goType(t string) string {
	switch {
	case t == "string":
		return "a text"
	case t == "int":
		return "a whole number"
	case t == "bool":
		return "true or false"
	case strings.HasPrefix(t, "[]"):
		return "a list"
	default:
		return "keys and values"
	}
}
