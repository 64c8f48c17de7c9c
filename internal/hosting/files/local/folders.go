package local

import (
	"os"
	"path"
	"sync"
)

// openFolders keeps the folders open in which something was made: most of the
// work of making thousands of files is finding the way to them.
type openFolders struct {
	mu  sync.RWMutex
	all map[string]*os.Root
}

// mostOpen bounds how many folders are kept open.
const mostOpen = 200

// enter gives a folder below root, open until done is called.
func (o *openFolders) enter(root *os.Root, folder string) (dir *os.Root, done func(), err error) {
	if folder == "" {
		return root, func() {}, nil
	}
	for {
		o.mu.RLock()
		if dir := o.all[folder]; dir != nil {
			return dir, o.mu.RUnlock, nil
		}
		o.mu.RUnlock()
		if err := o.add(root, folder); err != nil {
			return nil, nil, err
		}
	}
}

func (o *openFolders) add(root *os.Root, folder string) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.all[folder] != nil {
		return nil
	}
	dir, err := within(root, path.Clean(folder))
	if err != nil {
		return err
	}
	if len(o.all) >= mostOpen {
		o.closeAll()
	}
	if o.all == nil {
		o.all = map[string]*os.Root{}
	}
	o.all[folder] = dir
	return nil
}

// within opens a folder below root as one of its own. It is opened as a folder first: os.Root.OpenRoot waits for a pipe
// of that name until somebody writes.
func within(root *os.Root, folder string) (*os.Root, error) {
	there, err := root.OpenFile(folder, os.O_RDONLY|onlyFolder|atOnce, 0)
	if err != nil {
		return nil, err
	}
	defer there.Close()
	name, err := entered(there, "")
	if err != nil {
		return root.OpenRoot(folder)
	}
	return os.OpenRoot(name)
}

// leave lets all folders go: after a move or a removal their names may mean
// others.
func (o *openFolders) leave() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closeAll()
}

func (o *openFolders) closeAll() {
	for _, dir := range o.all {
		_ = dir.Close()
	}
	clear(o.all)
}
