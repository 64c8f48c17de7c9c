package ftp

import (
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tivset/internal/hosting/files"
)

// The modes taken for what a server says nothing about.
const (
	usualFile   fs.FileMode = 0o644
	usualFolder fs.FileMode = 0o755
)

// fact reads a line of MLSD or MLST (RFC 3659, 7.2): facts, a space, a name.
// False for the folder itself and the one above.
func fact(line string) (files.Info, bool) {
	facts, name, ok := strings.Cut(strings.TrimPrefix(line, " "), " ")
	if !ok || name == "" {
		return files.Info{}, false
	}
	info := files.Info{Name: path.Base(name), Mode: usualFile}
	mode, hasMode := fs.FileMode(0), false
	for _, f := range strings.Split(facts, ";") {
		key, value, _ := strings.Cut(f, "=")
		switch strings.ToLower(key) {
		case "type":
			switch kind := strings.ToLower(value); {
			case kind == "cdir" || kind == "pdir":
				return info, false
			case kind == "dir":
				info.Mode = fs.ModeDir | usualFolder
			case strings.HasPrefix(kind, "os.unix=slink"), strings.HasPrefix(kind, "os.unix=symlink"):
				info.Mode = fs.ModeSymlink | 0o777
			case kind != "file":
				info.Mode = fs.ModeIrregular
			}
		case "size":
			info.Size, _ = strconv.ParseInt(value, 10, 64)
		case "modify":
			info.Modified, _ = time.Parse("20060102150405", value[:min(len(value), 14)])
		case "unix.mode":
			n, err := strconv.ParseUint(value, 8, 32)
			mode, hasMode = fs.FileMode(n).Perm(), err == nil
		}
	}
	if hasMode {
		info.Mode = info.Mode.Type() | mode
	}
	if !info.Mode.IsRegular() {
		info.Size = 0
	}
	return info, true
}

// long is a line of LIST as Unix servers write it, after ls -l.
var long = regexp.MustCompile(`^([-dlbcps])([-rwxsStT]{9})\S?\s+\d+\s+\S+\s+\S+\s+(\d+)\s([A-Z][a-z]{2}\s+\d{1,2}\s+(?:\d{1,2}:\d{2}|\d{4}))\s(.+)$`)

// listed reads a line of LIST; false for what is no entry.
func listed(line string, now time.Time) (files.Info, bool) {
	m := long.FindStringSubmatch(line)
	if m == nil {
		return files.Info{}, false
	}
	info := files.Info{Name: m[5], Mode: permissions(m[2]), Modified: listedTime(strings.Join(strings.Fields(m[4]), " "),
		now)}
	switch m[1] {
	case "-":
		info.Size, _ = strconv.ParseInt(m[3], 10, 64)
	case "d":
		info.Mode |= fs.ModeDir
	case "l":
		info.Mode |= fs.ModeSymlink
		info.Name, _, _ = strings.Cut(info.Name, " -> ")
	default:
		info.Mode |= fs.ModeIrregular
	}
	return info, info.Name != "." && info.Name != ".."
}

func permissions(text string) fs.FileMode {
	var mode fs.FileMode
	for i, c := range text {
		if strings.ContainsRune("rwxst", c) {
			mode |= 1 << (8 - i)
		}
	}
	return mode
}

// listedTime: with the time of day and no year within the last year.
func listedTime(text string, now time.Time) time.Time {
	if t, err := time.Parse("Jan 2 2006", text); err == nil {
		return t
	}
	t, err := time.Parse("Jan 2 15:04", text)
	if err != nil {
		return time.Time{}
	}
	t = t.AddDate(now.Year(), 0, 0)
	if t.After(now.AddDate(0, 0, 2)) {
		t = t.AddDate(-1, 0, 0)
	}
	return t
}
