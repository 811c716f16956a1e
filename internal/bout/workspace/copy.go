package workspace

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// CopyOptions say how a tree is copied.
type CopyOptions struct {
	// Chown hands the copies to a user and group, when Owned is set.
	Owned    bool
	UID, GID int
	// Skip leaves a path out; it is slash-separated and relative to the source.
	Skip func(name string, dir bool) bool
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
			return os.Lchown(to, opt.UID, opt.GID)
		}
		return nil
	case !st.Mode().IsRegular():
		return nil
	}
	src, err := os.OpenFile(from, os.O_RDONLY|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer src.Close()
	const create = os.O_WRONLY | os.O_CREATE | os.O_EXCL
	dst, err := os.OpenFile(to, create, 0o600)
	if errors.Is(err, fs.ErrExist) {
		if err := replace(to); err != nil {
			return err
		}
		dst, err = os.OpenFile(to, create, 0o600)
	}
	if err != nil {
		return err
	}
	if _, err := io.Copy(dst, src); err != nil {
		dst.Close()
		return err
	}
	if err := dst.Close(); err != nil {
		return err
	}
	return finish(to, st, opt)
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
