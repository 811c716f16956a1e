// Package beneath is the one way in which Agonometer touches a tree that a
// contender, or the code of a repository, could have written.
//
// The rule: such a tree is never entered by a path that is resolved as a whole. It is
// entered by an open folder and names below it, of which no part is a symbolic link, a
// magic link of /proc, a mount point or "..": the kernel itself refuses to cross one
// (openat2(2) with RESOLVE_BENEATH, RESOLVE_NO_SYMLINKS, RESOLVE_NO_MAGICLINKS and
// RESOLVE_NO_XDEV). So it does not matter who swaps a folder for a link meanwhile, and
// when: what is read, written, handed over or removed lies in the tree, or the call
// fails. Files are opened without waiting and only where they are regular, so that no
// pipe or device holds anybody up.
//
// A test of this package looks through the packages beside it for functions of os and
// filepath that would break the rule.
package beneath

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"strings"

	"golang.org/x/sys/unix"
)

// resolve is how names are looked up.
const resolve = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS | unix.RESOLVE_NO_XDEV

// follow is how names are looked up where links inside the tree may be followed: the
// kernel refuses the step that would lead out.
const follow = resolve &^ unix.RESOLVE_NO_SYMLINKS

// Dir is an open folder. Names given to its methods are slash-separated and relative
// to it; "." is the folder itself. It may be used by several goroutines until Close.
type Dir struct{ f *os.File }

// Open opens a folder that the harness itself has made, by its path. The last part of
// the path is not followed where it is a link.
func Open(name string) (*Dir, error) {
	fd, err := unix.Openat2(unix.AT_FDCWD, name, &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC, Resolve: unix.RESOLVE_NO_MAGICLINKS})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return wrap(fd, name), nil
}

// Of is an open folder, whose descriptor becomes the Dir's.
func Of(fd int, name string) *Dir { return wrap(fd, name) }

func wrap(fd int, name string) *Dir { return &Dir{f: os.NewFile(uintptr(fd), name)} }

// Close closes the folder.
func (d *Dir) Close() error { return d.f.Close() }

// FD is the folder's descriptor (O_PATH), which stays the Dir's.
func (d *Dir) FD() int { return int(d.f.Fd()) }

func (d *Dir) fail(op, name string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

// at opens a name with flags.
func (d *Dir) at(name string, flags int, mode uint32) (int, error) {
	return d.look(name, flags|unix.O_NOFOLLOW, mode, resolve)
}

func (d *Dir) look(name string, flags int, mode uint32, how uint64) (int, error) {
	if name == "." && flags&unix.O_PATH != 0 {
		// Looking it up in itself would need a permission that may have been taken away.
		return unix.FcntlInt(uintptr(d.FD()), unix.F_DUPFD_CLOEXEC, 0)
	}
	for {
		fd, err := unix.Openat2(d.FD(), name, &unix.OpenHow{Flags: uint64(flags) | unix.O_CLOEXEC, Mode: uint64(mode), Resolve: how})
		// The kernel gives up with EAGAIN when something was renamed while it looked.
		if !errors.Is(err, unix.EAGAIN) && !errors.Is(err, unix.EINTR) {
			runtime.KeepAlive(d)
			return fd, err
		}
	}
}

// Sub opens a folder below.
func (d *Dir) Sub(name string) (*Dir, error) {
	fd, err := d.at(name, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, d.fail("open", name, err)
	}
	return wrap(fd, name), nil
}

// Following opens a folder below; links on the way are followed as long as they stay
// in the tree.
func (d *Dir) Following(name string) (*Dir, error) {
	fd, err := d.look(name, unix.O_PATH|unix.O_DIRECTORY, 0, follow)
	if err != nil {
		return nil, d.fail("open", name, err)
	}
	return wrap(fd, name), nil
}

// parent opens the folder that a name lies in, and returns the last part of the name.
// The folder is d itself, which close leaves open then, where the name has one part.
func (d *Dir) parent(name string) (dir *Dir, base string, done func(), err error) {
	up, base := path.Split(name)
	if base == "" || base == "." || base == ".." {
		return nil, "", nil, d.fail("open", name, unix.EINVAL)
	}
	if up = strings.TrimSuffix(up, "/"); up == "" || up == "." {
		return d, base, func() {}, nil
	}
	if dir, err = d.Sub(up); err != nil {
		return nil, "", nil, err
	}
	return dir, base, func() { dir.Close() }, nil
}

// Lstat tells what a name is; a link is not followed.
func (d *Dir) Lstat(name string) (unix.Stat_t, error) {
	var st unix.Stat_t
	fd, err := d.at(name, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return st, d.fail("stat", name, err)
	}
	defer unix.Close(fd)
	return st, d.fail("stat", name, unix.Fstat(fd, &st))
}

// Kind is what Stat_t says that something is.
func Kind(st *unix.Stat_t) uint32 { return st.Mode & unix.S_IFMT }

// Readlink reads a link.
func (d *Dir) Readlink(name string) (string, error) {
	fd, err := d.at(name, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return "", d.fail("readlink", name, err)
	}
	defer unix.Close(fd)
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(fd, "", buf)
	if err != nil {
		return "", d.fail("readlink", name, err)
	}
	return string(buf[:n]), nil
}

// ErrNotRegular says that something is no regular file.
var ErrNotRegular = errors.New("not a regular file")

// OpenFile opens a regular file for reading. Where its owner is who asks and has taken
// the permission away, it is given for a moment and taken away again.
func (d *Dir) OpenFile(name string) (*os.File, error) { return d.open(name, unix.O_RDONLY, resolve) }

// OpenFollowing is OpenFile where links are followed as long as they stay in the tree.
func (d *Dir) OpenFollowing(name string) (*os.File, error) {
	return d.open(name, unix.O_RDONLY, follow)
}

// OpenForWrite opens a regular file that is there for writing, and empties it; links are
// followed as long as they stay in the tree.
func (d *Dir) OpenForWrite(name string) (*os.File, error) {
	f, err := d.open(name, unix.O_WRONLY, follow)
	if err != nil {
		return nil, err
	}
	if err := f.Truncate(0); err != nil { // only now: before, it could have been something else
		f.Close()
		return nil, err
	}
	return f, nil
}

func (d *Dir) open(name string, access int, how uint64) (*os.File, error) {
	last := 0
	if how == resolve {
		last = unix.O_NOFOLLOW
	}
	// What it is is known before it is opened: opening a device or a pipe may do something.
	probe, err := d.look(name, unix.O_PATH|last, 0, how)
	if err != nil {
		return nil, d.fail("open", name, err)
	}
	defer unix.Close(probe)
	var st unix.Stat_t
	if err := unix.Fstat(probe, &st); err != nil {
		return nil, d.fail("open", name, err)
	}
	switch Kind(&st) {
	case unix.S_IFREG:
	case unix.S_IFLNK:
		return nil, d.fail("open", name, unix.ELOOP)
	default:
		return nil, d.fail("open", name, ErrNotRegular)
	}
	flags := access | last | unix.O_NONBLOCK
	fd, err := d.look(name, flags, 0, how)
	if errors.Is(err, unix.EACCES) && int(st.Uid) == os.Geteuid() {
		if chmodFD(probe, st.Mode&0o7777|0o600) == nil {
			fd, err = d.look(name, flags, 0, how)
			_ = chmodFD(probe, st.Mode&0o7777)
		}
	}
	if err != nil {
		return nil, d.fail("open", name, err)
	}
	var now unix.Stat_t
	if err := unix.Fstat(fd, &now); err != nil || Kind(&now) != unix.S_IFREG {
		unix.Close(fd)
		return nil, d.fail("open", name, ErrNotRegular)
	}
	return os.NewFile(uintptr(fd), name), nil
}

// chmodFD sets a mode by a descriptor of any kind, O_PATH too, which fchmod refuses.
func chmodFD(fd int, mode uint32) error {
	return unix.Chmod(fmt.Sprintf("/proc/self/fd/%d", fd), mode)
}

// ReadFile reads a regular file of at most `most` bytes.
func (d *Dir) ReadFile(name string, most int64) ([]byte, error) {
	f, err := d.OpenFile(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = d.fail("read", name, unix.EFBIG)
	}
	return data, err
}

// Entries lists a folder, "." for this one; where its owner is who asks and has taken
// the permission away, it is given back for good.
func (d *Dir) Entries(name string) ([]fs.DirEntry, error) {
	const flags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW
	fd, err := d.at(name, flags, 0)
	if errors.Is(err, unix.EACCES) && d.Chmod(name, 0o700) == nil {
		fd, err = d.at(name, flags, 0)
	}
	if err != nil {
		return nil, d.fail("open", name, err)
	}
	f := os.NewFile(uintptr(fd), name)
	defer f.Close()
	return f.ReadDir(-1)
}

// Chmod sets a file's or folder's mode; links are refused.
func (d *Dir) Chmod(name string, mode uint32) error {
	fd, err := d.at(name, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return d.fail("chmod", name, err)
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return d.fail("chmod", name, err)
	}
	if k := Kind(&st); k != unix.S_IFREG && k != unix.S_IFDIR {
		return d.fail("chmod", name, unix.ELOOP)
	}
	return d.fail("chmod", name, chmodFD(fd, mode))
}

// Chown hands a file, a folder or a link itself to an owner.
func (d *Dir) Chown(name string, uid, gid int) error {
	fd, err := d.at(name, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return d.fail("chown", name, err)
	}
	defer unix.Close(fd)
	return d.fail("chown", name, unix.Fchownat(fd, "", uid, gid, unix.AT_EMPTY_PATH))
}

// SetTimes sets when something was changed, to the nanosecond; a link's own time.
func (d *Dir) SetTimes(name string, nanoseconds int64) error {
	dir, base, done, err := d.parent(name)
	if name == "." {
		t := unix.NsecToTimespec(nanoseconds)
		return d.fail("utimes", name, unix.UtimesNanoAt(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", d.FD()), []unix.Timespec{t, t}, 0))
	}
	if err != nil {
		return err
	}
	defer done()
	t := unix.NsecToTimespec(nanoseconds)
	return d.fail("utimes", name, unix.UtimesNanoAt(dir.FD(), base, []unix.Timespec{t, t}, unix.AT_SYMLINK_NOFOLLOW))
}

// Mkdir makes a folder; it is an error where something has the name.
func (d *Dir) Mkdir(name string, mode uint32) error {
	dir, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	return d.fail("mkdir", name, unix.Mkdirat(dir.FD(), base, mode))
}

// Owner is to whom what is made is handed; nil leaves it with who makes it.
type Owner struct{ UID, GID int }

// MkdirAll makes a folder and those above it, and opens it. What stands in the way and
// is no folder goes. Folders that it makes are handed to the owner.
func (d *Dir) MkdirAll(name string, mode uint32, owner *Owner) (*Dir, error) {
	name = path.Clean(name)
	here, err := d.Sub(".")
	if err != nil || name == "." {
		return here, err
	}
	for part := range strings.SplitSeq(name, "/") {
		next, err := here.Sub(part)
		for try := 0; err != nil && try < 3; try++ {
			if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, unix.ENOTDIR) && !errors.Is(err, unix.ELOOP) {
				break
			}
			if err = here.RemoveAll(part); err != nil {
				break
			}
			if err = here.Mkdir(part, mode); err == nil && owner != nil {
				err = here.Chown(part, owner.UID, owner.GID)
			}
			if err == nil || errors.Is(err, fs.ErrExist) {
				next, err = here.Sub(part)
			}
		}
		here.Close()
		if err != nil {
			return nil, d.fail("mkdir", name, errors.Unwrap(err))
		}
		here = next
	}
	return here, nil
}

// Create makes a regular file for writing, in the place of whatever has the name.
func (d *Dir) Create(name string, mode uint32) (*os.File, error) {
	dir, base, done, err := d.parent(name)
	if err != nil {
		return nil, err
	}
	defer done()
	const flags = unix.O_WRONLY | unix.O_CREAT | unix.O_EXCL | unix.O_NOFOLLOW
	fd, err := dir.at(base, flags, mode)
	for try := 0; errors.Is(err, unix.EEXIST) && try < 3; try++ {
		if err := dir.RemoveAll(base); err != nil {
			return nil, err
		}
		fd, err = dir.at(base, flags, mode)
	}
	if err != nil {
		return nil, d.fail("create", name, err)
	}
	return os.NewFile(uintptr(fd), name), nil
}

// WriteFile makes a file with a content and a mode, in the place of whatever has the
// name, and hands it to the owner.
func (d *Dir) WriteFile(name string, data []byte, mode uint32, owner *Owner) error {
	f, err := d.Create(name, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = unix.Fchmod(int(f.Fd()), mode)
	}
	if err == nil && owner != nil {
		err = f.Chown(owner.UID, owner.GID)
	}
	return errors.Join(err, f.Close())
}

// Symlink makes a link, in the place of whatever has the name.
func (d *Dir) Symlink(target, name string, owner *Owner) error {
	dir, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	err = unix.Symlinkat(target, dir.FD(), base)
	for try := 0; errors.Is(err, unix.EEXIST) && try < 3; try++ {
		if err := dir.RemoveAll(base); err != nil {
			return err
		}
		err = unix.Symlinkat(target, dir.FD(), base)
	}
	if err == nil && owner != nil {
		err = unix.Fchownat(dir.FD(), base, owner.UID, owner.GID, unix.AT_SYMLINK_NOFOLLOW)
	}
	return d.fail("symlink", name, err)
}

// Remove removes a file, a link or an empty folder. It is no error where there is none.
func (d *Dir) Remove(name string) error {
	dir, base, done, err := d.parent(name)
	if err != nil {
		if gone(err) {
			return nil
		}
		return err
	}
	defer done()
	err = unix.Unlinkat(dir.FD(), base, 0)
	if errors.Is(err, unix.EISDIR) || errors.Is(err, unix.EPERM) {
		if rmErr := unix.Unlinkat(dir.FD(), base, unix.AT_REMOVEDIR); !errors.Is(rmErr, unix.ENOTDIR) {
			err = rmErr
		}
	}
	if err == unix.ENOENT {
		return nil
	}
	if errors.Is(err, unix.EACCES) && dir.Chmod(".", 0o700) == nil { // its owner is who asks
		if err = unix.Unlinkat(dir.FD(), base, 0); errors.Is(err, unix.EISDIR) {
			err = unix.Unlinkat(dir.FD(), base, unix.AT_REMOVEDIR)
		}
	}
	return d.fail("remove", name, err)
}

// gone tells whether a name leads nowhere: there is nothing, or something that is no
// folder stands where one would have to be.
func gone(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP)
}

// RemoveAll removes whatever has a name, with all that is in it. It is no error where
// there is nothing. Permissions that were taken away do not keep it.
func (d *Dir) RemoveAll(name string) error {
	err := d.Remove(name)
	if !errors.Is(err, unix.ENOTEMPTY) && !errors.Is(err, unix.EEXIST) {
		return err
	}
	// A folder at a time, in a list of its own: a tree may be deeper than a stack is good for.
	dir, base, done, err := d.parent(name)
	if err != nil {
		return err
	}
	defer done()
	if err := dir.empty(base); err != nil {
		return err
	}
	return dir.Remove(base)
}

// empty removes all that is in a folder. What lies deep is brought up first: so neither
// the number of open folders nor the length of names grows with the depth.
func (d *Dir) empty(name string) error {
	top, err := d.Sub(name)
	if err != nil {
		return err
	}
	defer top.Close()
	for round := 0; ; round++ {
		entries, err := top.Entries(".")
		if err != nil {
			return err
		}
		if len(entries) == 0 {
			return nil
		}
		moved := 0
		for i, e := range entries {
			err := top.Remove(e.Name())
			if err == nil || !errors.Is(err, unix.ENOTEMPTY) && !errors.Is(err, unix.EEXIST) {
				if err != nil {
					return err
				}
				continue
			}
			sub, err := top.Sub(e.Name())
			if err != nil {
				return err
			}
			inner, err := sub.Entries(".")
			for j := 0; err == nil && j < len(inner); j++ {
				in := inner[j].Name()
				if err = sub.Remove(in); errors.Is(err, unix.ENOTEMPTY) || errors.Is(err, unix.EEXIST) {
					_ = sub.Chmod(in, 0o700)
					err = unix.Renameat(sub.FD(), in, top.FD(), fmt.Sprintf(".up-%d-%d-%d", round, i, j))
					moved++
				}
			}
			sub.Close()
			if err != nil {
				return d.fail("remove", name, err)
			}
			if err := top.Remove(e.Name()); err != nil && !errors.Is(err, unix.ENOTEMPTY) {
				return err
			}
		}
		if moved == 0 && round > 1000 {
			return d.fail("remove", name, unix.ENOTEMPTY)
		}
	}
}

// Visit receives each thing in a tree: dir is the open folder that it lies in, base its
// name there, name its path from where the walk began. It returns whether to go into a folder.
type Visit func(dir *Dir, base, name string, st *unix.Stat_t) (into bool, err error)

// maxDepth is how deep a walk goes; what lies deeper is not seen.
const maxDepth = 500

// Walk visits what is in the tree, folders before what is in them, in no order. What
// goes away meanwhile, or cannot be read, is passed over.
func (d *Dir) Walk(visit Visit) error { return d.walk("", 0, visit) }

func (d *Dir) walk(prefix string, depth int, visit Visit) error {
	entries, err := d.Entries(".")
	if err != nil && len(entries) == 0 {
		if prefix == "" {
			return err
		}
		return nil
	}
	for _, e := range entries {
		var st unix.Stat_t
		if unix.Fstatat(d.FD(), e.Name(), &st, unix.AT_SYMLINK_NOFOLLOW) != nil {
			continue
		}
		into, err := visit(d, e.Name(), prefix+e.Name(), &st)
		if err != nil {
			return err
		}
		if !into || Kind(&st) != unix.S_IFDIR || depth >= maxDepth {
			continue
		}
		sub, err := d.Sub(e.Name())
		if err != nil {
			continue
		}
		err = sub.walk(prefix+e.Name()+"/", depth+1, visit)
		sub.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// ChownTree hands a folder and all that is in it to an owner; links themselves, not
// what they lead to. It ends, with an error, with ctx.
func ChownTree(ctx context.Context, name string, uid, gid int) error {
	d, err := Open(name)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := unix.Fchownat(d.FD(), "", uid, gid, unix.AT_EMPTY_PATH); err != nil {
		return d.fail("chown", name, err)
	}
	return d.Walk(func(dir *Dir, base, _ string, _ *unix.Stat_t) (bool, error) {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		err := unix.Fchownat(dir.FD(), base, uid, gid, unix.AT_SYMLINK_NOFOLLOW)
		if errors.Is(err, unix.ENOENT) {
			err = nil
		}
		return true, err
	})
}

// RemoveTree removes a folder of the harness's own with all that is in it, even where
// a tool has taken the permissions away. It is no error where there is none.
func RemoveTree(name string) error {
	up, base := path.Split(path.Clean(name))
	if up == "" {
		up = "."
	}
	dir, err := Open(up)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.RemoveAll(base)
}

// Usage adds up what a tree takes of its file system, in bytes, and how many files,
// folders and links it has.
func Usage(d *Dir) (bytes, files int64, err error) {
	err = d.Walk(func(_ *Dir, _, _ string, st *unix.Stat_t) (bool, error) {
		bytes, files = bytes+st.Blocks*512, files+1
		return true, nil
	})
	return bytes, files, err
}
