package step

import (
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
)

// couldHaveMade says whether a step that a journal tells of is one that its kind could have made. Undoing, going on and
// finishing take places away whole that are named in a journal: none of them is the site's, or around it, whoever wrote
// the journal.
func (t *Tools) couldHaveMade(step any) error {
	var bad []string
	must := func(good bool, name string) {
		if !good {
			bad = append(bad, name)
		}
	}
	switch s := step.(type) {
	case *Unpack:
		must(t.own(s.Stage), s.Stage)
		must(s.Veil == "" || t.own(s.Veil), s.Veil)
		must(s.Top == "" || s.Top == t.Store().Stages(), s.Top)
	case *UnpackBackup:
		must(t.own(s.Stage), s.Stage)
	case *Tidy:
		must(t.own(s.Stage), s.Stage)
		must(markForm.MatchString(s.Marker), s.Marker)
		must(s.Board == "" || t.own(s.Board), s.Board)
	case *Claim:
		must(markForm.MatchString(s.Marker), s.Marker)
	case *Unclaim:
		must(markForm.MatchString(s.Marker), s.Marker)
	case *DropFiles:
		for _, name := range s.Names {
			must(t.own(name), name)
		}
	case *ProveDomain:
		must(t.own(s.Name) && path.Base(s.Name) == s.Name, s.Name)
	case *MakeFolder:
		must(fs.ValidPath(s.Folder) && !t.around(s.Folder), s.Folder)
	case *SetAside:
		must(t.own(s.To), s.To)
	case *CoverPages:
		must(t.own(s.Clean), s.Clean)
		for _, m := range s.Moves {
			must(t.own(m.To), m.To)
		}
	case *UncoverPages:
		must(t.own(s.Clean), s.Clean)
		must(t.own(s.Guarded), s.Guarded)
	case *AwaitSettings:
		must(strings.HasPrefix(path.Base(s.File), emptierName) && fs.ValidPath(s.File), s.File)
	case *SetTimers:
		must(s.Folder != t.Store().Timers() && files.Within(s.Folder, t.Store().Timers()), s.Folder)
	case *Removal:
		for _, name := range s.Paths {
			must(fs.ValidPath(name) && (t.own(name) || files.Within(name, s.Old.Folder) ||
				s.Old.DataFolder != "" && files.Within(name, s.Old.DataFolder)) && (t.own(name) || !t.around(name)), name)
		}
	}
	if len(bad) == 0 {
		return nil
	}
	return fault.NewAs(fault.NotBelieved, fault.Incomplete, "the journal names something that its job could not have made",
		strings.Join(bad, ", "), "Somebody has changed it. Nothing of it was carried out; look at what is there: "+
			fault.Call("jobs")+"; what the job holds is let go with: "+fault.Call("undo", t.Job, "--give-up"))
}

// markForm is what the name of a mark ends in, in whichever account.
var markForm = regexp.MustCompile(`^(?:[^/]+/)*busy/[0-9a-f]{16}\.json$`)

// own says whether a place has this job's name: nothing that was there before it has.
func (t *Tools) own(name string) bool {
	return fs.ValidPath(name) && slices.ContainsFunc(strings.Split(name, "/"), func(part string) bool {
		part = strings.TrimPrefix(part, "tivset-")
		return t.Job != "" && (part == t.Job || strings.HasPrefix(part, t.Job+"-") || strings.HasPrefix(part, t.Job+"."))
	})
}

// around says whether a folder is a document root of the account, or holds one.
func (t *Tools) around(name string) bool {
	if t.In == nil || t.In.Account == nil {
		return false
	}
	return name == "." || slices.ContainsFunc(t.In.Domains, func(d account.Domain) bool {
		return files.Within(d.Folder, name)
	})
}
