package watch

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
)

// maxFolders is how many folders are watched; the rest of a larger tree is scanned.
const maxFolders = 8192

// files tells of changes to the files of a folder: by the kernel's word where
// it gives it, and else by looking at sizes and times again and again.
type files struct {
	root string
	// before is where it is seen what was there before the contender; "" for root.
	before string
	known  map[string]bool // files of the start
	dirs   map[string]bool // folders that hold some of them
	told   func(name string, known bool)

	mu       sync.Mutex
	scanning bool
	watcher  *fsnotify.Watcher
	done     chan struct{}
	watched  int
	// mark is a folder beside the workspace: the kernel tells things in order, so
	// that when a change there is heard of, all before it has been.
	mark   string
	marked chan struct{}
	// skip are folders that were there before the contender and hold nothing of
	// the start: what was installed, what was built.
	skip  map[string]bool
	was   map[string]stamp
	based bool // whether was holds what the round began with
	next  time.Time
	since time.Time // when the round began
}

// stamp is by what a scan sees that a file has changed.
type stamp struct {
	size int64
	mod  time.Time
}

func newFiles(root string, start []string, scan bool, told func(string, bool)) *files {
	f := &files{root: root, known: map[string]bool{}, dirs: map[string]bool{".": true}, told: told, scanning: scan, skip: map[string]bool{}}
	for _, name := range start {
		f.known[name] = true
		for dir := path.Dir(name); !f.dirs[dir]; dir = path.Dir(dir) {
			f.dirs[dir] = true
		}
	}
	return f
}

// begin begins to look. In the first round it notes what is there already.
func (f *files) begin() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.was == nil {
		f.survey()
	}
	f.since = time.Now()
	if !f.scanning {
		w, err := fsnotify.NewBufferedWatcher(4096)
		if err != nil {
			f.scanning = true
		} else {
			f.watcher, f.watched, f.done, f.marked = w, 0, make(chan struct{}), make(chan struct{}, 1)
			f.add(".", false)
			if f.mark, err = os.MkdirTemp(filepath.Dir(f.root), "watch-"); err != nil || w.Add(f.mark) != nil {
				f.scanning = true
			}
			if f.scanning { // it did not go: too many folders, or too few watches
				_ = w.Close()
				f.watcher = nil
			} else {
				go f.listen(w, f.done, f.mark, f.marked) // ends when the watcher is closed, in end
			}
		}
	}
	f.was, f.based = f.stamps(), f.scanning
}

// survey finds the folders that are not the start's.
func (f *files) survey() {
	where := f.root
	if f.before != "" {
		where = f.before
	}
	f.walkIn(where, ".", func(name string, d fs.DirEntry) bool {
		if d.IsDir() && !f.dirs[name] {
			f.skip[name] = true
			return false
		}
		return true
	})
}

// walk visits what is below a folder, without following links. visit tells
// whether to go into a folder.
func (f *files) walk(dir string, visit func(name string, d fs.DirEntry) bool) {
	f.walkIn(f.root, dir, visit)
}

func (f *files) walkIn(root, dir string, visit func(name string, d fs.DirEntry) bool) {
	_ = filepath.WalkDir(filepath.Join(root, filepath.FromSlash(dir)), func(full string, d fs.DirEntry, err error) error {
		name, relErr := filepath.Rel(root, full)
		name = filepath.ToSlash(name)
		if err != nil || relErr != nil {
			return fs.SkipDir
		}
		if d.IsDir() && (hidden(name) || f.skip[name]) {
			return fs.SkipDir
		}
		if !visit(name, d) && d.IsDir() {
			return fs.SkipDir
		}
		return nil
	})
}

// add watches a folder and those below it. tell reports the files in it: those
// of a folder that was made just now.
func (f *files) add(dir string, tell bool) {
	f.walk(dir, func(name string, d fs.DirEntry) bool {
		if f.scanning {
			return false
		}
		if !d.IsDir() {
			if tell && d.Type().IsRegular() {
				f.told(name, f.known[name])
			}
			return true
		}
		if f.watched++; f.watched > maxFolders || f.watcher.Add(filepath.Join(f.root, filepath.FromSlash(name))) != nil {
			f.scanning = true
		}
		return true
	})
}

func (f *files) listen(w *fsnotify.Watcher, done chan struct{}, mark string, marked chan struct{}) {
	defer close(done)
	for {
		select {
		case e, ok := <-w.Events:
			if !ok {
				return
			}
			if filepath.Dir(e.Name) != mark {
				f.event(w, e)
				continue
			}
			select {
			case marked <- struct{}{}:
			default:
			}
		case _, ok := <-w.Errors:
			if !ok {
				return
			}
			f.mu.Lock()
			if f.watcher == w {
				f.catchUp()
			}
			f.mu.Unlock()
		}
	}
}

// event takes what a watcher says, as long as it is the present one.
func (f *files) event(w *fsnotify.Watcher, e fsnotify.Event) {
	name, err := filepath.Rel(f.root, e.Name)
	if err != nil || !e.Has(fsnotify.Create) && !e.Has(fsnotify.Write) && !e.Has(fsnotify.Remove) && !e.Has(fsnotify.Rename) {
		return
	}
	name = filepath.ToSlash(name)
	if hidden(name) || strings.HasPrefix(name, "../") || name == "." {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.skip[name] || f.watcher != w {
		return
	}
	st, err := os.Lstat(e.Name)
	if err == nil && st.IsDir() {
		if e.Has(fsnotify.Create) {
			f.add(name, true)
		}
		return
	}
	if err != nil && f.dirs[name] {
		return // a folder that went: its files are told of by themselves
	}
	f.told(name, f.known[name])
}

// catchUp makes good for what was missed because too much happened at once: files
// that were written since the round began are told of, and new folders watched.
// What went away meanwhile is not known. The lock is held.
func (f *files) catchUp() {
	if f.watcher != nil {
		f.watched = 0
		f.add(".", false)
	}
	f.written()
}

// written tells of the files that were written since the round began; the lock is held.
func (f *files) written() {
	f.walk(".", func(name string, d fs.DirEntry) bool {
		if st, err := d.Info(); err == nil && !d.IsDir() && !st.ModTime().Before(f.since) {
			f.told(name, f.known[name])
		}
		return true
	})
}

// writtenSince tells of the files that were written since a moment, with their times.
func (f *files) writtenSince(since time.Time, told func(name string, known bool, at time.Time)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.walk(".", func(name string, d fs.DirEntry) bool {
		if st, err := d.Info(); err == nil && !d.IsDir() && !st.ModTime().Before(since) {
			told(name, f.known[name], st.ModTime())
		}
		return true
	})
}

// scanEvery is how often a workspace that cannot be watched is scanned.
const scanEvery = time.Second

// look scans where scanning is due.
func (f *files) look() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.scanning && !time.Now().Before(f.next) {
		f.scan()
	}
}

// scan compares what is there with what was; the lock is held.
func (f *files) scan() {
	if !f.based { // it was watched until now: what was written since tells itself
		f.was, f.based, f.next = f.stamps(), true, time.Now().Add(scanEvery)
		f.written()
		return
	}
	now := f.stamps()
	for name, s := range now {
		if f.was[name] != s {
			f.told(name, f.known[name])
		}
	}
	for name := range f.was {
		if _, there := now[name]; !there {
			f.told(name, f.known[name])
		}
	}
	f.was, f.next = now, time.Now().Add(scanEvery)
}

func (f *files) stamps() map[string]stamp {
	out := map[string]stamp{}
	if !f.scanning {
		return out
	}
	f.walk(".", func(name string, d fs.DirEntry) bool {
		if !d.IsDir() {
			if st, err := d.Info(); err == nil {
				out[name] = stamp{st.Size(), st.ModTime()}
			}
		}
		return true
	})
	return out
}

// end stops looking until the next round.
func (f *files) end() {
	f.mu.Lock()
	w, done := f.watcher, f.done
	if f.scanning {
		f.scan()
	}
	f.mu.Unlock()
	if w == nil {
		return
	}
	if os.WriteFile(filepath.Join(f.mark, "end"), nil, 0o600) == nil {
		t := time.NewTimer(2 * time.Second)
		select {
		case <-f.marked:
		case <-t.C:
		}
		t.Stop()
	}
	f.mu.Lock()
	f.watcher = nil // what comes from now on is not the contender's
	f.mu.Unlock()
	_ = os.RemoveAll(f.mark)
	// The kernel takes its time to give all watches back; nobody has to wait for it.
	go func() { _ = w.Close(); <-done }()
}

func (f *files) close() {
	if f.watcher != nil {
		f.end()
	}
}
