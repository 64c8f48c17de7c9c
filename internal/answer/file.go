package answer

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"tivset/internal/fault"
	"tivset/internal/suggest"
)

// File is an answers file: what to install where, and the answers.
type File struct {
	Install string `json:"install"`
	At      string `json:"at"`
	Release string `json:"release"`
	Answers Given  `json:"answers"`
}

var fileKeys = []string{"install", "at", "release", "answers"}

// Parse reads an answers file. Groups of answers (admin: {name: …}) become ids
// with a dot (admin.name). Values are taken as they are written: 012 stays 012
// and yes stays yes.
func Parse(text []byte) (File, error) {
	var root yaml.Node
	if err := yaml.NewDecoder(bytes.NewReader(text)).Decode(&root); err != nil && !errors.Is(err, io.EOF) {
		return File{}, fault.New(fault.Usage, "the answers file is not YAML", "", "Correct the line named.").Wrap(err)
	}
	f := File{Answers: Given{}}
	if len(root.Content) == 0 || root.Content[0].Kind != yaml.MappingNode {
		return f, fault.New(fault.Usage, "the answers file has no keys", "", "It begins with install: APP and at: ADDRESS.")
	}
	var problems []fault.Problem
	seen := map[string]bool{}
	pairs(root.Content[0], func(key, value *yaml.Node) {
		problems = append(problems, doubled(seen, key)...)
		switch key.Value {
		case "install":
			f.Install = value.Value
		case "at":
			f.At = value.Value
		case "release":
			f.Release = value.Value
		case "answers":
			problems = append(problems, flatten("", value, f.Answers)...)
		default:
			problems = append(problems, fault.Problem{
				ID: fmt.Sprintf("line %d", key.Line), What: "the key " + key.Value + " is not known here",
				Remedy: strings.TrimSpace(suggest.Hint(key.Value, fileKeys) + " There are " + strings.Join(fileKeys, ", ") + "."),
			})
		}
	})
	return f, fault.Join("the answers file has mistakes", "Correct the lines named.", problems)
}

func pairs(n *yaml.Node, each func(key, value *yaml.Node)) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		each(n.Content[i], n.Content[i+1])
	}
}

func doubled(seen map[string]bool, key *yaml.Node) []fault.Problem {
	if seen[key.Value] {
		return []fault.Problem{{ID: fmt.Sprintf("line %d", key.Line), What: "the key " + key.Value + " stands twice",
			Remedy: "Keep one."}}
	}
	seen[key.Value] = true
	return nil
}

func flatten(prefix string, n *yaml.Node, into Given) []fault.Problem {
	if n.Kind != yaml.MappingNode {
		return []fault.Problem{{ID: fmt.Sprintf("line %d", n.Line), What: "answers are keys and values",
			Remedy: "Write them as id: value."}}
	}
	var problems []fault.Problem
	seen := map[string]bool{}
	pairs(n, func(key, value *yaml.Node) {
		problems = append(problems, doubled(seen, key)...)
		switch value.Kind {
		case yaml.MappingNode:
			problems = append(problems, flatten(prefix+key.Value+".", value, into)...)
		case yaml.ScalarNode:
			into[prefix+key.Value] = value.Value
		case yaml.SequenceNode:
			text, ok := joined(value)
			if !ok {
				problems = append(problems, fault.Problem{ID: prefix + key.Value, What: "a list holds names only, without commas",
					Remedy: "Write it as [one, two]."})
			}
			into[prefix+key.Value] = text
		default:
			problems = append(problems, fault.Problem{ID: prefix + key.Value, What: "an alias is no answer",
				Remedy: "Write the value."})
		}
	})
	return problems
}

// joined writes a list as the answer to a several-of question.
func joined(n *yaml.Node) (text string, ok bool) {
	var names []string
	for _, c := range n.Content {
		if c.Kind != yaml.ScalarNode || strings.Contains(c.Value, ",") {
			return "", false
		}
		names = append(names, c.Value)
	}
	if len(names) == 0 {
		return None, true
	}
	return strings.Join(names, ", "), true
}

// Format writes an answers file. Groups are written as groups, in the order of
// ids; whoever calls leaves out the secrets.
func (f File) Format() ([]byte, error) {
	text := func(s string) *yaml.Node {
		n := &yaml.Node{}
		n.SetString(s)
		return n
	}
	add := func(to *yaml.Node, key string, value *yaml.Node) { to.Content = append(to.Content, text(key), value) }
	answers := &yaml.Node{Kind: yaml.MappingNode}
	groups := map[string]*yaml.Node{}
	for _, id := range sortedKeys(f.Answers) {
		group, name, dotted := strings.Cut(id, ".")
		if !dotted {
			add(answers, id, text(f.Answers[id]))
			continue
		}
		if groups[group] == nil {
			groups[group] = &yaml.Node{Kind: yaml.MappingNode}
			add(answers, group, groups[group])
		}
		add(groups[group], name, text(f.Answers[id]))
	}
	top := &yaml.Node{Kind: yaml.MappingNode}
	add(top, "install", text(f.Install))
	add(top, "at", text(f.At))
	add(top, "release", text(f.Release))
	add(top, "answers", answers)
	return yaml.Marshal(top)
}

func sortedKeys(g Given) []string {
	keys := make([]string, 0, len(g))
	for k := range g {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
