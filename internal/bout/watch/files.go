package watch

import (
	"errors"
	"os"
	"path"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
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
	dir      *beneath.Dir // the folder; nil where it cannot be opened
	watcher  *notifier
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
	if dir, err := beneath.Open(root); err == nil {
		f.dir = dir
	}
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
		w, err := newNotifier()
		if err != nil {
			f.scanning = true
		} else {
			f.watcher, f.watched, f.done, f.marked = w, 0, make(chan struct{}), make(chan struct{}, 1)
			f.add(".", false)
			if f.mark, err = os.MkdirTemp(filepath.Dir(f.root), "watch-"); err != nil || addMark(w, f.mark) != nil {
				f.scanning = true
			}
			if f.scanning { // it did not go: too many folders, or too few watches
				w.close()
				f.watcher = nil
			} else {
				go f.listen(w, f.done, f.marked) // ends when the watcher is closed, in end
			}
		}
	}
	f.was, f.based = f.stamps(), f.scanning
}

// markFolder is what the notifier calls the folder that is no part of the workspace.
const markFolder = "\x00"

func addMark(w *notifier, name string) error {
	dir, err := beneath.Open(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	return w.add(dir, markFolder)
}

// survey finds the folders that are not the start's.
func (f *files) survey() {
	where := f.dir
	if f.before != "" {
		before, err := beneath.Open(f.before)
		if err != nil {
			return
		}
		defer before.Close()
		where = before
	}
	f.walkIn(where, ".", func(_ *beneath.Dir, name string, st *unix.Stat_t) bool {
		if beneath.Kind(st) == unix.S_IFDIR && !f.dirs[name] {
			f.skip[name] = true
			return false
		}
		return true
	})
}

// walk visits a folder and what is below it, without following links. visit gets the
// open folder where it is one, and tells whether to go into it.
func (f *files) walk(dir string, visit func(open *beneath.Dir, name string, st *unix.Stat_t) bool) {
	f.walkIn(f.dir, dir, visit)
}

// maxWalked is how much a walk looks at: a tree that grows as fast as it is walked through
// must come to an end too. What is beyond it is not seen.
const maxWalked = 250_000

var errEnough = errors.New("enough was seen")

func (f *files) walkIn(root *beneath.Dir, dir string, visit func(open *beneath.Dir, name string, st *unix.Stat_t) bool) {
	if root == nil {
		return
	}
	top, err := root.Sub(dir)
	if err != nil {
		return
	}
	defer top.Close()
	var st unix.Stat_t
	if unix.Fstat(top.FD(), &st) != nil || !visit(top, dir, &st) {
		return
	}
	prefix, left := dir+"/", maxWalked
	if dir == "." {
		prefix = ""
	}
	_ = top.Walk(func(in *beneath.Dir, base, name string, st *unix.Stat_t) (bool, error) {
		name = prefix + name
		if left--; left < 0 {
			return false, errEnough
		}
		if beneath.Kind(st) != unix.S_IFDIR {
			visit(nil, name, st)
			return false, nil
		}
		if hidden(name) || f.skip[name] {
			return false, nil
		}
		sub, err := in.Sub(base)
		if err != nil {
			return false, nil
		}
		defer sub.Close()
		return visit(sub, name, st), nil
	})
}

// add watches a folder and those below it. tell reports the files in it: those
// of a folder that was made just now.
func (f *files) add(dir string, tell bool) {
	f.walk(dir, func(open *beneath.Dir, name string, st *unix.Stat_t) bool {
		if f.scanning {
			return false
		}
		if beneath.Kind(st) != unix.S_IFDIR {
			if tell && beneath.Kind(st) == unix.S_IFREG {
				f.told(name, f.known[name])
			}
			return true
		}
		if f.watched++; f.watched > maxFolders || f.watcher.add(open, name) != nil {
			f.scanning = true
		}
		return true
	})
}

func (f *files) listen(w *notifier, done chan struct{}, marked chan struct{}) {
	defer close(done)
	w.listen(func(folder, base string, mask uint32) {
		if folder != markFolder {
			f.event(w, path.Join(folder, base), mask)
			return
		}
		select {
		case marked <- struct{}{}:
		default:
		}
	}, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.watcher == w {
			f.catchUp()
		}
	})
}

// event takes what a notifier says, as long as it is the present one.
func (f *files) event(w *notifier, name string, mask uint32) {
	if hidden(name) {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.skip[name] || f.watcher != w || f.dir == nil {
		return
	}
	st, err := f.dir.Lstat(name)
	if err == nil && beneath.Kind(&st) == unix.S_IFDIR {
		if mask&(unix.IN_CREATE|unix.IN_MOVED_TO) != 0 {
			f.add(name, true)
		}
		return
	}
	if err != nil && f.dirs[name] || mask&unix.IN_ISDIR != 0 {
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
	f.walk(".", func(_ *beneath.Dir, name string, st *unix.Stat_t) bool {
		if beneath.Kind(st) != unix.S_IFDIR && !modTime(st).Before(f.since) {
			f.told(name, f.known[name])
		}
		return true
	})
}

// writtenSince tells of the files that were written since a moment, with their times.
func (f *files) writtenSince(since time.Time, told func(name string, known bool, at time.Time)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.walk(".", func(_ *beneath.Dir, name string, st *unix.Stat_t) bool {
		if at := modTime(st); beneath.Kind(st) != unix.S_IFDIR && !at.Before(since) {
			told(name, f.known[name], at)
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
	f.walk(".", func(_ *beneath.Dir, name string, st *unix.Stat_t) bool {
		if beneath.Kind(st) != unix.S_IFDIR {
			out[name] = stamp{st.Size, modTime(st)}
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
	_ = beneath.RemoveTree(f.mark)
	// The kernel takes its time to give all watches back; nobody has to wait for it.
	go func() { w.close(); <-done }()
}

func (f *files) close() {
	if f.watcher != nil {
		f.end()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.dir != nil {
		f.dir.Close()
		f.dir = nil
	}
}

func modTime(st *unix.Stat_t) time.Time { return time.Unix(0, st.Mtim.Nano()) }
