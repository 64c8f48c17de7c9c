package pages

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/joho/godotenv"
	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"
)

// readers read configuration files, by their ending. What lies inside of
// something else has the names joined by dots.
var readers = map[string]func(string) (map[string]string, error){
	".php":  ReadPHP,
	".ini":  ReadINI,
	".env":  godotenv.Unmarshal,
	".json": readJSON,
	".yaml": func(text string) (map[string]string, error) { return readTree(text, yaml.Unmarshal) },
	".toml": func(text string) (map[string]string, error) { return readTree(text, toml.Unmarshal) },
	".xml":  readXML,
}

func readTree(text string, decode func([]byte, any) error) (map[string]string, error) {
	var tree map[string]any
	if err := decode([]byte(text), &tree); err != nil {
		return nil, err
	}
	out := map[string]string{}
	return out, flatten("", tree, out)
}

// readJSON keeps numbers as they are written.
func readJSON(text string) (map[string]string, error) {
	return readTree(text, func(text []byte, into any) error {
		d := json.NewDecoder(strings.NewReader(string(text)))
		d.UseNumber()
		return d.Decode(into)
	})
}

func flatten(prefix string, tree map[string]any, out map[string]string) error {
	for name, v := range tree {
		switch v := v.(type) {
		case map[string]any:
			if err := flatten(prefix+name+".", v, out); err != nil {
				return err
			}
		case []any:
			return fmt.Errorf("%s%s is a list, which this runtime does not read", prefix, name)
		case nil:
			out[prefix+name] = ""
		default:
			out[prefix+name] = fmt.Sprint(v)
		}
	}
	return nil
}

// readXML reads elements that hold text or further elements; the outermost
// one's name is left out, and attributes are an error.
func readXML(text string) (map[string]string, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	out := map[string]string{}
	var path []string
	var held strings.Builder
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(t.Attr) > 0 {
				return nil, fmt.Errorf("<%s> has attributes, which this runtime does not read", t.Name.Local)
			}
			path = append(path, t.Name.Local)
			held.Reset()
		case xml.CharData:
			held.Write(t)
		case xml.EndElement:
			if len(path) > 1 {
				name := strings.Join(path[1:], ".")
				if _, holds := out[name]; !holds {
					out[name] = held.String()
				}
			}
			path = path[:len(path)-1]
			held.Reset()
		}
	}
}
