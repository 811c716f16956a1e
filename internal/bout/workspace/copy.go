package workspace

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// CopyOptions say how a tree is copied.
type CopyOptions struct {
	// Chown hands the copies to a user and group, when Owned is set.
	Owned    bool
	UID, GID int
	// Skip leaves a path out; it is slash-separated and relative to the source.
	Skip func(name string, dir bool) bool
	// Ctx ends the copying, at the next folder, with an error; nil for never.
	Ctx context.Context
	// noted receives what each copy looks like, by its name in the target, from several
	// goroutines.
	noted func(name string, st stat)
}

// CopyTree copies a file or a folder with its modes and times: files,
// folders and symbolic links (as links). Other kinds are left out.
// Folders that exist at the target are filled up; whatever else is there is replaced.
// The folder above the target is the harness's own.
func CopyTree(from, to string, opt CopyOptions) error {
	up, err := beneath.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer up.Close()
	return CopyInto(from, up, filepath.Base(to), opt)
}

// CopyInto is CopyTree where the target lies in a tree that a contender could have
// written: it is named within the open folder, and the folders above it are there.
func CopyInto(from string, into *beneath.Dir, name string, opt CopyOptions) error {
	st, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if !st.IsDir() {
		source, err := beneath.Open(filepath.Dir(from))
		if err != nil {
			return err
		}
		defer source.Close()
		if up := path.Dir(name); up != "." {
			sub, err := into.Sub(up)
			if err != nil {
				return err
			}
			defer sub.Close()
			into = sub
		}
		return copyEntry(source, into, filepath.Base(from), path.Base(name), path.Base(name), opt)
	}
	source, err := beneath.Open(from)
	if err != nil {
		return err
	}
	defer source.Close()
	target, err := into.MkdirAll(name, 0o700, nil)
	if err != nil {
		return err
	}
	defer target.Close()
	c := &copier{from: source, to: target, opt: opt, queue: make(chan string, 256)}
	return c.run()
}

// copier copies a tree a folder at a time, with a few goroutines.
type copier struct {
	from, to *beneath.Dir
	opt      CopyOptions
	queue    chan string
	pending  sync.WaitGroup

	mu      sync.Mutex
	err     error
	folders []copied
}

// copied is a folder that gets its mode and time when all in it is there.
type copied struct {
	name string
	st   unix.Stat_t
}

func (c *copier) run() error {
	var workers sync.WaitGroup
	for range max(2, runtime.NumCPU()) {
		workers.Add(1)
		go func() { // ends when the queue is closed
			defer workers.Done()
			for name := range c.queue {
				c.one(name)
			}
		}()
	}
	c.push(".")
	c.pending.Wait()
	close(c.queue)
	workers.Wait()
	if c.err != nil {
		return c.err
	}
	// Inner folders first: times would change again.
	slices.SortFunc(c.folders, func(a, b copied) int { return strings.Compare(b.name, a.name) })
	for i := range c.folders {
		if err := c.ended(); err != nil {
			return err
		}
		if err := c.finish(&c.folders[i]); err != nil {
			return err
		}
	}
	return nil
}

func (c *copier) ended() error {
	if c.opt.Ctx == nil {
		return nil
	}
	return c.opt.Ctx.Err()
}

func (c *copier) push(name string) {
	c.pending.Add(1)
	select {
	case c.queue <- name:
	default: // the queue is full: this goroutine does it itself
		c.one(name)
	}
}

func (c *copier) one(name string) {
	defer c.pending.Done()
	c.mu.Lock()
	failed := c.err != nil
	c.mu.Unlock()
	if failed {
		return
	}
	err := c.ended()
	if err == nil {
		err = c.folder(name)
	}
	if err != nil {
		c.mu.Lock()
		c.err = errors.Join(c.err, err)
		c.mu.Unlock()
	}
}

// folder copies what lies directly in a folder, and hands on the folders in it.
func (c *copier) folder(name string) error {
	from, err := c.from.Sub(name)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := c.to.Sub(name)
	if err != nil {
		return err
	}
	defer to.Close()
	var st unix.Stat_t
	if err := unix.Fstat(from.FD(), &st); err != nil {
		return err
	}
	c.mu.Lock()
	c.folders = append(c.folders, copied{name, st})
	c.mu.Unlock()
	entries, err := from.Entries(".")
	if err != nil {
		return err
	}
	for i, e := range entries {
		if i%256 == 255 { // a folder can have very many
			if err := c.ended(); err != nil {
				return err
			}
		}
		rel := e.Name()
		if name != "." {
			rel = name + "/" + rel
		}
		if c.opt.Skip != nil && c.opt.Skip(rel, e.IsDir()) {
			continue
		}
		if e.IsDir() {
			sub, err := to.MkdirAll(e.Name(), 0o700, nil)
			if err != nil {
				return err
			}
			sub.Close()
			c.push(rel)
			continue
		}
		if err := copyEntry(from, to, e.Name(), e.Name(), rel, c.opt); err != nil {
			return err
		}
	}
	return nil
}

// finish gives a copied folder its owner, mode and time.
func (c *copier) finish(f *copied) error {
	if c.opt.Owned {
		if err := c.to.Chown(f.name, c.opt.UID, c.opt.GID); err != nil {
			return err
		}
	}
	if err := c.to.Chmod(f.name, f.st.Mode&0o777); err != nil {
		return err
	}
	return c.to.SetTimes(f.name, f.st.Mtim.Nano())
}

// copyEntry copies a file or a link from one open folder to another; rel is what the copy
// is called when it is noted.
func copyEntry(from, to *beneath.Dir, base, as, rel string, opt CopyOptions) error {
	var st unix.Stat_t
	if err := unix.Fstatat(from.FD(), base, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return &fs.PathError{Op: "stat", Path: rel, Err: err}
	}
	switch beneath.Kind(&st) {
	case unix.S_IFLNK:
		target, err := from.Readlink(base)
		if err != nil {
			return err
		}
		var owner *beneath.Owner
		if opt.Owned {
			owner = &beneath.Owner{UID: opt.UID, GID: opt.GID}
		}
		if err := to.Symlink(target, as, owner); err != nil {
			return err
		}
		// An index notes a link's time too.
		times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, st.Mtim}
		if err := unix.UtimesNanoAt(to.FD(), as, times, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return &fs.PathError{Op: "set the time of", Path: rel, Err: err}
		}
		if opt.noted == nil {
			return nil
		}
		var now unix.Stat_t
		if err := unix.Fstatat(to.FD(), as, &now, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return err
		}
		opt.noted(rel, statOfSys(&now))
		return nil
	case unix.S_IFREG:
		return copyFile(from, to, base, as, rel, &st, opt)
	}
	return nil
}

// copyBuffers are for files that are read in one go: for small files that is
// faster than asking the kernel to copy between two descriptors.
var copyBuffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// copyFile copies a regular file through two descriptors, with as few calls as
// can be: in a large repository their number is what copying costs.
func copyFile(from, to *beneath.Dir, base, as, rel string, st *unix.Stat_t, opt CopyOptions) error {
	src, err := unix.Openat(from.FD(), base, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.EACCES) {
		f, openErr := from.OpenFile(base) // its owner is who asks
		if openErr != nil {
			return openErr
		}
		defer f.Close()
		src, err = unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	}
	if err != nil {
		return &fs.PathError{Op: "open", Path: rel, Err: err}
	}
	defer unix.Close(src)
	if err := unix.Fstat(src, st); err != nil || beneath.Kind(st) != unix.S_IFREG {
		return &fs.PathError{Op: "open", Path: rel, Err: beneath.ErrNotRegular}
	}
	const create = unix.O_WRONLY | unix.O_CREAT | unix.O_EXCL | unix.O_NOFOLLOW | unix.O_CLOEXEC
	mode := st.Mode & 0o777
	dst, err := unix.Openat(to.FD(), as, create, mode|0o200)
	if errors.Is(err, fs.ErrExist) {
		if err := to.RemoveAll(as); err != nil {
			return err
		}
		dst, err = unix.Openat(to.FD(), as, create, mode|0o200)
	}
	if err != nil {
		return &fs.PathError{Op: "create", Path: rel, Err: err}
	}
	err = fill(dst, src, st, opt, func(s stat) {
		if opt.noted != nil {
			opt.noted(rel, s)
		}
	})
	if closeErr := unix.Close(dst); err == nil {
		err = closeErr
	}
	if err != nil {
		return &fs.PathError{Op: "copy", Path: rel, Err: err}
	}
	return nil
}

func fill(dst, src int, st *unix.Stat_t, opt CopyOptions, noted func(stat)) error {
	buf := copyBuffers.Get().(*[]byte)
	defer copyBuffers.Put(buf)
	for {
		n, err := unix.Read(src, *buf)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
		for rest := (*buf)[:n]; len(rest) > 0; {
			w, err := unix.Write(dst, rest)
			if err != nil && !errors.Is(err, unix.EINTR) {
				return err
			}
			rest = rest[max(w, 0):]
		}
		if int64(n) == st.Size {
			break // all of it in one go, as most files are
		}
	}
	if opt.Owned {
		if err := unix.Fchown(dst, opt.UID, opt.GID); err != nil {
			return err
		}
	}
	var now unix.Stat_t
	if err := unix.Fstat(dst, &now); err != nil {
		return err
	}
	if perm := st.Mode & 0o777; now.Mode&0o7777 != perm {
		if err := unix.Fchmod(dst, perm); err != nil {
			return err
		}
	}
	if err := futimens(dst, st.Mtim.Nano()); err != nil {
		return err
	}
	if err := unix.Fstat(dst, &now); err != nil {
		return err
	}
	noted(statOfSys(&now))
	return nil
}

// futimens sets a file's times by its descriptor, to the nanosecond.
func futimens(fd int, nanoseconds int64) error {
	t := unix.NsecToTimespec(nanoseconds)
	times := [2]unix.Timespec{t, t}
	if _, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&times)), 0, 0, 0); errno != 0 {
		return errno
	}
	return nil
}

// TreeBytes adds up the sizes of the regular files in a tree, in bytes.
func TreeBytes(dir string) (int64, error) {
	d, err := beneath.Open(dir)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	var total int64
	err = d.Walk(func(_ *beneath.Dir, _, _ string, st *unix.Stat_t) (bool, error) {
		if beneath.Kind(st) == unix.S_IFREG {
			total += st.Size
		}
		return true, nil
	})
	return total, err
}
