package workspace

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"
)

// CopyOptions say how a tree is copied.
type CopyOptions struct {
	// Chown hands the copies to a user and group, when Owned is set.
	Owned    bool
	UID, GID int
	// Skip leaves a path out; it is slash-separated and relative to the source.
	Skip func(name string, dir bool) bool
	// noted is told what each copy looks like, from several goroutines.
	noted func(target string, st stat)
}

// CopyTree copies a file or a folder with its modes and times: files,
// folders and symbolic links (as links). Other kinds are left out.
// Folders that exist at the target are filled up; files there are replaced.
func CopyTree(from, to string, opt CopyOptions) error {
	st, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if !st.IsDir() {
		return copyEntry(from, to, st, opt)
	}
	type job struct{ from, to string }
	jobs := make(chan []job, 64)
	var wg sync.WaitGroup
	var mu sync.Mutex
	var firstErr error
	note := func(err error) {
		if err != nil {
			mu.Lock()
			if firstErr == nil {
				firstErr = err
			}
			mu.Unlock()
		}
	}
	for range max(2, runtime.NumCPU()) {
		wg.Add(1)
		go func() { // ends when jobs is closed
			defer wg.Done()
			for batch := range jobs {
				for _, j := range batch {
					st, err := os.Lstat(j.from)
					if err == nil {
						err = copyEntry(j.from, j.to, st, opt)
					}
					note(err)
				}
			}
		}()
	}
	type folder struct {
		name string
		info fs.FileInfo
	}
	var folders []folder
	var batch []job
	err = filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		if rel != "." && opt.Skip != nil && opt.Skip(filepath.ToSlash(rel), d.IsDir()) {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		target := filepath.Join(to, rel)
		if !d.IsDir() {
			batch = append(batch, job{name, target})
			if len(batch) == 64 {
				jobs <- batch
				batch = nil
			}
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if err := os.Mkdir(target, 0o700); err != nil {
			// A folder that is there already is filled up; a link to one is not followed.
			if st, statErr := os.Lstat(target); statErr != nil || !st.IsDir() {
				return err
			}
		}
		folders = append(folders, folder{target, info})
		return nil
	})
	if len(batch) > 0 {
		jobs <- batch
	}
	close(jobs)
	wg.Wait()
	if err != nil {
		return err
	}
	if firstErr != nil {
		return firstErr
	}
	for i := len(folders) - 1; i >= 0; i-- { // inner ones first: times would change again
		if err := finish(folders[i].name, folders[i].info, opt); err != nil {
			return err
		}
	}
	return nil
}

func copyEntry(from, to string, st fs.FileInfo, opt CopyOptions) error {
	switch {
	case st.Mode()&fs.ModeSymlink != 0:
		if err := replace(to); err != nil {
			return err
		}
		target, err := os.Readlink(from)
		if err != nil {
			return err
		}
		if err := os.Symlink(target, to); err != nil {
			return err
		}
		if opt.Owned {
			if err := os.Lchown(to, opt.UID, opt.GID); err != nil {
				return err
			}
		}
		if opt.noted != nil {
			var now unix.Stat_t
			if err := unix.Lstat(to, &now); err != nil {
				return err
			}
			opt.noted(to, statOfSys(&now))
		}
		return nil
	case !st.Mode().IsRegular():
		return nil
	}
	return copyFile(from, to, st, opt)
}

// copyBuffers are for files that are read in one go: for small files that is
// faster than asking the kernel to copy between two descriptors.
var copyBuffers = sync.Pool{New: func() any { b := make([]byte, 128<<10); return &b }}

// copyFile copies a regular file through two descriptors, with as few calls as
// can be: in a large repository their number is what copying costs.
func copyFile(from, to string, st fs.FileInfo, opt CopyOptions) error {
	src, err := unix.Open(from, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: from, Err: err}
	}
	defer unix.Close(src)
	const create = unix.O_WRONLY | unix.O_CREAT | unix.O_EXCL | unix.O_CLOEXEC
	mode := uint32(st.Mode().Perm())
	dst, err := unix.Open(to, create, mode|0o200)
	if errors.Is(err, fs.ErrExist) {
		if err := replace(to); err != nil {
			return err
		}
		dst, err = unix.Open(to, create, mode|0o200)
	}
	if err != nil {
		return &fs.PathError{Op: "create", Path: to, Err: err}
	}
	err = fill(dst, src, st, opt, func(s stat) {
		if opt.noted != nil {
			opt.noted(to, s)
		}
	})
	if closeErr := unix.Close(dst); err == nil {
		err = closeErr
	}
	if err != nil {
		return &fs.PathError{Op: "copy", Path: to, Err: err}
	}
	return nil
}

func fill(dst, src int, st fs.FileInfo, opt CopyOptions, noted func(stat)) error {
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
		if int64(n) == st.Size() {
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
	if perm := uint32(st.Mode().Perm()); now.Mode&0o7777 != perm {
		if err := unix.Fchmod(dst, perm); err != nil {
			return err
		}
	}
	if err := futimens(dst, st.ModTime().UnixNano()); err != nil {
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

// replace removes a file or link that is in the way of a copy.
func replace(name string) error {
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// finish gives a copy its owner, mode and time.
func finish(name string, st fs.FileInfo, opt CopyOptions) error {
	if opt.Owned {
		if err := os.Lchown(name, opt.UID, opt.GID); err != nil {
			return err
		}
	}
	if err := os.Chmod(name, st.Mode().Perm()); err != nil {
		return err
	}
	mtime := unix.NsecToTimespec(st.ModTime().UnixNano())
	return unix.UtimesNanoAt(unix.AT_FDCWD, name, []unix.Timespec{mtime, mtime}, unix.AT_SYMLINK_NOFOLLOW)
}

// ChownTree hands a tree to a user and group.
func ChownTree(dir string, uid, gid int) error {
	return filepath.WalkDir(dir, func(name string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(name, uid, gid)
	})
}

// TreeBytes adds up the sizes of the regular files in a tree, in bytes.
func TreeBytes(dir string) (int64, error) {
	var total int64
	err := filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Type().IsRegular() {
			st, err := d.Info()
			if err != nil {
				return err
			}
			total += st.Size()
		}
		return nil
	})
	return total, err
}

// RemoveAll removes a tree even where a tool has taken the write permission
// from its folders, as module caches do. Symbolic links are not followed.
func RemoveAll(dir string) error {
	err := os.RemoveAll(dir)
	if err == nil {
		return nil
	}
	_ = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(name, 0o700)
		}
		if err != nil && d != nil && d.IsDir() {
			return nil
		}
		return nil
	})
	return os.RemoveAll(dir)
}
