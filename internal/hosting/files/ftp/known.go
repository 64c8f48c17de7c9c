package ftp

import (
	"maps"
	"path"
	"sync"
	"time"

	"tivset/internal/hosting/files"
)

// For how long something is believed that was seen: others work in the account too. What
// is listed slowly is believed for longer, so that no more than a twentieth of the time
// goes into listings.
const (
	folderAge   = 30 * time.Second // that a folder is none but a folder; that nobody else writes into one made here
	listingAge  = 2 * time.Second  // what is in a folder, to read it
	listingCost = 20
	longestAge  = time.Minute
	freeAge     = 500 * time.Millisecond // that nothing is at a name, when many are moved into its folder
)

// knowledge is what was seen of a server's folders. It is forgotten name by name, as things change.
type knowledge struct {
	mu       sync.Mutex
	folders  map[string]time.Time   // folders seen to be none but folders, and when
	made     map[string]*content    // folders made here
	listings map[listingOf]*listing // what was listed
	asked    map[string]time.Time   // folders into which something was moved last
	altered  map[string]time.Time   // folders in which something was changed here
	turns    map[listingOf]*sync.Mutex
}

// content is what was made in a folder that was made here itself.
type content struct {
	names map[string]bool
	used  time.Time
}

// listingOf is one of the two listings of a folder.
type listingOf struct {
	folder string
	links  bool // the one that shows links as such
}

// listing is what a folder held. A name without a description is there, and nobody knows as what.
type listing struct {
	names map[string]*files.Info
	began time.Time
	until time.Time
}

func newKnowledge() *knowledge {
	return &knowledge{folders: map[string]time.Time{}, made: map[string]*content{}, listings: map[listingOf]*listing{},
		asked: map[string]time.Time{}, altered: map[string]time.Time{}, turns: map[listingOf]*sync.Mutex{}}
}

// isFolder says whether a name was seen to be a folder, lately.
func (k *knowledge) isFolder(name string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return name == "." || time.Since(k.folders[name]) < folderAge
}

func (k *knowledge) sawFolder(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.folders[name] = time.Now()
}

// madeFolder notes a folder that was made here just now.
func (k *knowledge) madeFolder(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.folders[name] = time.Now()
	k.made[name] = &content{names: map[string]bool{}, used: time.Now()}
	k.change(name, true)
}

// isFree says whether a name is known to be free because its folder was made here.
func (k *knowledge) isFree(name string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	in := k.made[path.Dir(name)]
	return in != nil && time.Since(in.used) < folderAge && !in.names[path.Base(name)]
}

// changed notes that something came to be at a name, or is not there any more.
func (k *knowledge) changed(name string, there bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.change(name, there)
}

// change is changed for who holds the lock.
func (k *knowledge) change(name string, there bool) {
	folder, base := path.Dir(name), path.Base(name)
	k.altered[folder] = time.Now()
	if in := k.made[folder]; in != nil {
		in.names[base], in.used = there, time.Now()
	}
	for _, links := range []bool{true, false} {
		l := k.listings[listingOf{folder, links}]
		switch {
		case l == nil:
		case there:
			l.names[base] = nil
		default:
			delete(l.names, base)
		}
	}
}

// forget drops what is known of a name and of all below it: it was moved or went.
func (k *knowledge) forget(name string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	maps.DeleteFunc(k.folders, func(n string, _ time.Time) bool { return files.Within(n, name) })
	maps.DeleteFunc(k.made, func(n string, _ *content) bool { return files.Within(n, name) })
	maps.DeleteFunc(k.listings, func(l listingOf, _ *listing) bool { return files.Within(l.folder, name) })
}

// forgetWay drops what is known of the folders that lead to a name: others may have
// taken one of them away.
func (k *knowledge) forgetWay(name string) {
	k.forget(path.Dir(name))
	k.mu.Lock()
	defer k.mu.Unlock()
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		delete(k.folders, folder)
		delete(k.made, folder)
		k.dropListings(path.Dir(folder))
	}
}

func (k *knowledge) dropListings(folder string) {
	delete(k.listings, listingOf{folder, true})
	delete(k.listings, listingOf{folder, false})
}

// listed keeps what was listed; it began then. A listing during which something was changed here may
// have missed that, and is not kept.
func (k *knowledge) listed(of listingOf, all []files.Info, began time.Time) {
	now := time.Now()
	l := &listing{names: map[string]*files.Info{}, began: began,
		until: now.Add(min(max(listingAge, listingCost*now.Sub(began)), longestAge))}
	for _, i := range all {
		l.names[i.Name] = &i
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	maps.DeleteFunc(k.listings, func(_ listingOf, l *listing) bool { return now.After(l.until) })
	maps.DeleteFunc(k.altered, func(_ string, at time.Time) bool { return now.Sub(at) > longestAge })
	if !k.altered[of.folder].After(began) {
		k.listings[of] = l
	}
}

// seen gives what a listing that is still believed says of a name; false when none does.
func (k *knowledge) seen(name string) (files.Info, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	l := k.listings[listingOf{path.Dir(name), true}]
	if l == nil || time.Now().After(l.until) || l.names[path.Base(name)] == nil {
		return files.Info{}, false
	}
	return *l.names[path.Base(name)], true
}

// wasFree says whether a name was seen to be free just now.
func (k *knowledge) wasFree(name string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, links := range []bool{true, false} {
		l := k.listings[listingOf{path.Dir(name), links}]
		if l != nil && time.Since(l.began) < freeAge {
			_, there := l.names[path.Base(name)]
			return !there
		}
	}
	return false
}

// oftenAsked says whether something was moved into a folder just now: then all of it is listed at once.
func (k *knowledge) oftenAsked(folder string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	often := time.Since(k.asked[folder]) < freeAge
	maps.DeleteFunc(k.asked, func(_ string, when time.Time) bool { return time.Since(when) > freeAge })
	k.asked[folder] = time.Now()
	return often
}

// turn has those who want the same listing wait for each other; it returns how to end it.
func (k *knowledge) turn(of listingOf) (end func()) {
	k.mu.Lock()
	turn := k.turns[of]
	if turn == nil {
		turn = &sync.Mutex{}
		k.turns[of] = turn
	}
	k.mu.Unlock()
	turn.Lock()
	return turn.Unlock
}
