package pages

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// keep writes a file into a folder of the account outside of the web.
func (p *running) keep(folder, name, text string) (string, error) {
	root, err := p.outside(folder)
	if err != nil {
		return "", err
	}
	defer root.Close()
	return "", root.WriteFile(strings.Map(plainName, name), []byte(text), 0o640)
}

// kept lists the files of such a folder.
func (p *running) kept(folder string) ([]string, error) {
	root, err := p.outside(folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	dir, err := root.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	return dir.Readdirnames(-1)
}

// outside opens a folder of the account, by its whole path.
func (p *running) outside(folder string) (*os.Root, error) {
	home := p.server.options.Home
	inside, err := filepath.Rel(home, folder)
	if home == "" || err != nil || !filepath.IsLocal(inside) {
		return nil, fmt.Errorf("%s is outside of the account", folder)
	}
	return os.OpenRoot(folder)
}

func plainName(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
		return r
	}
	return '-'
}

// atLeast compares a number of the database.
func atLeast(n int, count string) (bool, error) {
	have, err := strconv.Atoi(count)
	return have >= n, err
}
