package confine

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// The root of a command is built by descriptors: what is shown is opened first (no part
// of its path may be a link, for it was resolved when the list was made), cloned as a
// mount that lies nowhere, and then moved onto an open place below the new root. Places
// are made one folder at a time, and what a command of an earlier round left in their
// way goes. So no link, wherever it was put, makes the supervisor make or show anything
// outside.

// systemFolders are what programs need of the machine; they are shown read-only.
var systemFolders = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/nix/store"}

// etcNames are what programs need of /etc: names, services and protocols, certificates,
// the clock's zone, the linker, alternatives, and settings of language runtimes. What
// else lies there is the machine's own business. passwd, group and hosts are made.
var etcNames = []string{"alternatives", "bindresvport.blacklist", "ca-certificates", "ca-certificates.conf", "crypto-policies", "debian_version", "default/locale",
	"ethertypes", "fonts", "fedora-release", "gai.conf", "gnutls", "host.conf", "inputrc", "ld.so.cache", "ld.so.conf", "ld.so.conf.d", "locale.alias", "locale.conf", "locale.gen",
	"localtime", "magic", "magic.mime", "mailcap", "mime.types", "networks", "nsswitch.conf", "os-release", "perl", "php", "pki", "protocols", "python", "redhat-release",
	"resolv.conf", "rpc", "services", "sgml", "shells", "ssl", "terminfo", "timezone", "xml",
	// Runtimes whose own folders lead here.
	"java*", "maven", "ant", "gradle", "python2*", "python3*", "ghc*", "mono", "erlang", "R", "texmf", "dotnet", "emacs", "vim"}

const maxEtcFile = 4 << 20

var devices = []string{"null", "zero", "full", "random", "urandom", "tty"}

// place is a root under construction.
type place struct {
	root   string // its path, where it is built
	fd     int
	shown  []Bind // what is shown so far
	asRoot bool
	// mapping is the user namespace by which a layer is shown as the command's own.
	mapping int
	// blank is one that knows no owner, by which folders are shown still; 0 for none.
	blank int
}

// buildRoot makes the command's root and moves into it. second is set where the command
// may start programs as another user.
func buildRoot(spec Spec, second **others) *stageError {
	fail := func(stage string, err error) *stageError { return &stageError{stage, err} }
	_ = unix.Sethostname([]byte("bout"))
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fail("make mounts private", err)
	}
	root := spec.Root
	if err := unix.Mount("tmpfs", root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=755,size=16m"); err != nil {
		return fail("mount a root", err)
	}
	fd, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return fail("open the root", err)
	}
	defer unix.Close(fd)
	p := &place{root: root, fd: fd, asRoot: spec.Owner.Root, mapping: spec.Mapping, blank: spec.Blank}
	for _, dir := range systemFolders {
		st, err := os.Lstat(dir)
		switch {
		case err != nil:
		case st.Mode()&fs.ModeSymlink != 0:
			to, err := os.Readlink(dir)
			if err == nil {
				err = unix.Symlinkat(to, fd, strings.TrimPrefix(dir, "/"))
			}
			if err != nil {
				return fail("make "+dir, err)
			}
		default:
			if err := p.bind(Bind{Source: dir, Target: dir}); err != nil {
				return fail("show "+dir, err)
			}
		}
	}
	if err := p.etc(spec); err != nil {
		return fail("make /etc", err)
	}
	for _, dir := range []string{"/proc", "/dev", "/dev/shm", "/dev/pts", "/run", "/var", "/tmp", "/root", "/home"} {
		one, err := p.open(dir, true)
		if err != nil {
			return fail("make "+dir, err)
		}
		unix.Close(one)
	}
	_ = unix.Symlinkat("/tmp", fd, "var/tmp")
	// Outer folders first, so that an inner one is laid on top.
	extra := append([]Bind(nil), spec.Binds...)
	sort.SliceStable(extra, func(i, j int) bool { return len(extra[i].Target) < len(extra[j].Target) })
	for _, b := range extra {
		if !b.Writable && p.covered(b) {
			continue
		}
		if err := p.bind(b); err != nil && !b.Alias {
			return fail("show "+b.Target, err)
		}
	}
	for _, o := range spec.Overlays {
		if err := p.overlay(o); err != nil {
			return fail("lay a private layer over "+o.Target, err)
		}
	}
	for _, h := range spec.Hide {
		if err := p.hide(h); err != nil {
			return fail("hide "+h, err)
		}
	}
	if err := unix.Mount("proc", filepath.Join(root, "/proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return fail("mount /proc", err)
	}
	if err := unix.Mount("tmpfs", filepath.Join(root, "/dev/shm"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777,size=256m"); err != nil {
		return fail("mount /dev/shm", err)
	}
	for _, d := range devices {
		if err := p.device("/dev/" + d); err != nil {
			return fail("show /dev/"+d, err)
		}
	}
	p.terminals()
	for name, to := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2"} {
		_ = unix.Symlinkat(to, fd, "dev/"+name)
	}
	if spec.Other != nil {
		if *second, err = listenOthers(fd, spec); err != nil {
			return fail("make the way to the other user", err)
		}
	}
	old := filepath.Join(root, ".old")
	if err := os.Mkdir(old, 0o700); err != nil {
		return fail("make the old root's place", err)
	}
	if err := unix.PivotRoot(root, old); err != nil {
		return fail("change the root", err)
	}
	if err := os.Chdir("/"); err != nil {
		return fail("enter the root", err)
	}
	if err := unix.Unmount("/.old", unix.MNT_DETACH); err != nil {
		return fail("leave the old root", err)
	}
	_ = os.Remove("/.old")
	if err := unix.Mount("", "/", "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV, ""); err != nil {
		return fail("make the root read-only", err)
	}
	return nil
}

// step opens a name in an open folder; mounts may be crossed, links may not.
func step(fd int, name string, flags int) (int, error) {
	return unix.Openat2(fd, name, &unix.OpenHow{Flags: uint64(flags|unix.O_PATH|unix.O_NOFOLLOW) | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS})
}

// open opens a place below the root, made where it is not there: a folder, or an empty
// file to mount a file on. What is of the wrong kind goes in the command's own folders,
// and is an error elsewhere.
func (p *place) open(target string, dir bool) (int, error) {
	here, err := step(p.fd, ".", unix.O_DIRECTORY)
	if err != nil {
		return -1, err
	}
	parts := strings.Split(strings.Trim(path.Clean(target), "/"), "/")
	commands := within(target, TmpPath) || within(target, "/bout")
	for i, part := range parts {
		folder := dir || i < len(parts)-1
		next, err := p.openOne(here, part, folder, commands)
		unix.Close(here)
		if err != nil {
			return -1, err
		}
		here = next
	}
	return here, nil
}

func (p *place) openOne(parent int, name string, folder, clear bool) (int, error) {
	for try := 0; ; try++ {
		fd, err := step(parent, name, 0)
		if err == nil {
			var st unix.Stat_t
			if err = unix.Fstat(fd, &st); err == nil && (st.Mode&unix.S_IFMT == unix.S_IFDIR) == folder && st.Mode&unix.S_IFMT != unix.S_IFLNK {
				return fd, nil
			}
			unix.Close(fd)
			if err == nil {
				err = unix.EEXIST
			}
		}
		if try > 2 || !clear && !errors.Is(err, unix.ENOENT) {
			return -1, fmt.Errorf("%s: %w", name, err)
		}
		if !errors.Is(err, unix.ENOENT) {
			dup, dupErr := unix.FcntlInt(uintptr(parent), unix.F_DUPFD_CLOEXEC, 0)
			if dupErr != nil {
				return -1, dupErr
			}
			d := beneath.Of(dup, name)
			err := d.RemoveAll(name)
			d.Close()
			if err != nil {
				return -1, err
			}
		}
		if folder {
			err = unix.Mkdirat(parent, name, 0o755)
		} else {
			var made int
			if made, err = unix.Openat(parent, name, unix.O_CREAT|unix.O_EXCL|unix.O_WRONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o644); err == nil {
				unix.Close(made)
			}
		}
		if err != nil && !errors.Is(err, unix.EEXIST) {
			return -1, fmt.Errorf("make %s: %w", name, err)
		}
	}
}

// covered tells whether what a bind is to show can be seen at its target already: by
// an earlier bind, and over the machine's own links where there are some on the way. The
// command's own folders have no say in that.
func (p *place) covered(b Bind) bool {
	if within(b.Target, TmpPath) || within(b.Target, "/bout") {
		return false
	}
	fd, err := unix.Openat2(p.fd, strings.TrimPrefix(b.Target, "/"), &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS})
	if err != nil {
		return false
	}
	defer unix.Close(fd)
	var there, wanted unix.Stat_t
	if unix.Fstat(fd, &there) != nil || unix.Stat(b.Source, &wanted) != nil {
		return false
	}
	if there.Dev == wanted.Dev && there.Ino == wanted.Ino {
		return true
	}
	for _, e := range p.shown { // an overlay has other inodes
		if e.Still && e.Source == e.Target && within(b.Source, e.Source) && within(b.Target, e.Target) {
			return true
		}
	}
	return false
}

// clone opens what is to be shown and makes of it a mount that lies nowhere yet.
func clone(source string, recursive bool) (mount int, dir bool, err error) {
	fd, err := unix.Openat2(unix.AT_FDCWD, source, &unix.OpenHow{Flags: unix.O_PATH | unix.O_NOFOLLOW | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS})
	if err != nil {
		return -1, false, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return -1, false, err
	}
	flags := uint(unix.OPEN_TREE_CLONE | unix.OPEN_TREE_CLOEXEC | unix.AT_EMPTY_PATH)
	if recursive {
		flags |= unix.AT_RECURSIVE
	}
	mount, err = unix.OpenTree(fd, "", flags)
	if err != nil {
		return -1, false, fmt.Errorf("open_tree: %w", err)
	}
	return mount, st.Mode&unix.S_IFMT == unix.S_IFDIR, nil
}

// attach moves a mount onto a target.
func (p *place) attach(mount int, target string, dir bool) error {
	at, err := p.open(target, dir)
	if err != nil {
		return err
	}
	defer unix.Close(at)
	if err := unix.MoveMount(mount, "", at, "", unix.MOVE_MOUNT_F_EMPTY_PATH|unix.MOVE_MOUNT_T_EMPTY_PATH); err != nil {
		return fmt.Errorf("move_mount: %w", err)
	}
	return nil
}

func (p *place) bind(b Bind) error {
	mount, dir, err := clone(b.Source, true)
	if err != nil {
		return err
	}
	defer func() { unix.Close(mount) }()
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_NOSUID | unix.MOUNT_ATTR_NODEV}
	if !b.Writable {
		attr.Attr_set |= unix.MOUNT_ATTR_RDONLY
	}
	switch {
	case !b.Still || !dir:
	case p.blank != 0 && unix.MountSetattr(mount, "", unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_IDMAP, Userns_fd: uint64(p.blank)}) == nil:
		// Through an id-mapped mount nothing can be written to whose owner has no id there
		// (inode_permission in the kernel), and a socket is connected to by who may write to it. What
		// others change in the folder is seen.
	case !mountsBelow(b.Source):
		if still, err := p.stillLayer(b.Source); err == nil {
			unix.Close(mount)
			mount = still
		}
	}
	if err := unix.MountSetattr(mount, "", unix.AT_EMPTY_PATH|unix.AT_RECURSIVE, &attr); err != nil {
		return fmt.Errorf("mount_setattr: %w", err)
	}
	if err := p.attach(mount, b.Target, dir); err != nil {
		return err
	}
	p.shown = append(p.shown, b)
	return nil
}

// stillLayer is a read-only overlay of a folder, in which nothing can be connected to: a
// socket's address is its inode, and an overlay has inodes of its own. What is made in the
// folder later on may not be seen in it.
func (p *place) stillLayer(source string) (int, error) {
	empty, err := p.open("/.empty", true) // an overlay has two layers at least
	if err != nil {
		return -1, err
	}
	unix.Close(empty)
	ctx, err := unix.Fsopen("overlay", unix.FSOPEN_CLOEXEC)
	if err != nil {
		return -1, err
	}
	defer unix.Close(ctx)
	for _, layer := range []string{source, path.Join(p.root, ".empty")} {
		if err := unix.FsconfigSetString(ctx, "lowerdir+", layer); err != nil {
			return -1, err
		}
	}
	if !p.asRoot {
		if err := unix.FsconfigSetFlag(ctx, "userxattr"); err != nil {
			return -1, err
		}
	}
	if err := unix.FsconfigCreate(ctx); err != nil {
		return -1, err
	}
	return unix.Fsmount(ctx, unix.FSMOUNT_CLOEXEC, unix.MOUNT_ATTR_RDONLY|unix.MOUNT_ATTR_NOSUID|unix.MOUNT_ATTR_NODEV)
}

// mountsBelow tells whether something is mounted below a folder: an overlay would not show it.
func mountsBelow(dir string) bool {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return true
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if fields := strings.Fields(lines.Text()); len(fields) > 4 && fields[4] != dir && within(fields[4], dir) {
			return true
		}
	}
	return false
}

// overlay mounts a pristine folder with a private layer over it. With
// `volatile` the kernel does not flush the layer at the end; a layer that was
// mounted so before has a mark that refuses the next mount, which is taken away.
func (p *place) overlay(o Overlay) error {
	at, err := p.open(o.Target, true)
	if err != nil {
		return err
	}
	defer unix.Close(at)
	if err := os.RemoveAll(filepath.Join(o.Work, "work", "incompat")); err != nil {
		return err
	}
	below := o.Lower
	if o.LowerOwner != 0 && p.asRoot {
		if below, err = p.lowerAs(o.Lower, p.mapping); err != nil {
			return fmt.Errorf("show it as another's: %w", err)
		}
		defer func() { _ = unix.Unmount(below, unix.MNT_DETACH) }() // the overlay has a copy of the mount
	}
	options := "lowerdir=" + below + ",upperdir=" + o.Upper + ",workdir=" + o.Work + ",volatile"
	if p.asRoot {
		options += ",redirect_dir=on,metacopy=off,index=off"
	} else {
		options += ",userxattr"
	}
	return unix.Mount("overlay", fmt.Sprintf("/proc/self/fd/%d", at), "overlay", unix.MS_NOSUID|unix.MS_NODEV, options)
}

// lowerAs mounts a folder so that what belongs to one owner on disk belongs to another
// as it is seen (an id-mapped mount), below the new root, and returns where. The mapping
// is that of a user namespace.
func (p *place) lowerAs(source string, mapping int) (string, error) {
	mount, _, err := clone(source, false)
	if err != nil {
		return "", err
	}
	defer unix.Close(mount)
	if err := unix.MountSetattr(mount, "", unix.AT_EMPTY_PATH, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_IDMAP | unix.MOUNT_ATTR_RDONLY, Userns_fd: uint64(mapping)}); err != nil {
		return "", fmt.Errorf("mount_setattr: %w", err)
	}
	const name = "/.lower"
	if err := p.attach(mount, name, true); err != nil {
		return "", err
	}
	return p.root + name, nil
}

func (p *place) device(dev string) error {
	if _, err := os.Stat(dev); err != nil {
		return nil
	}
	mount, _, err := clone(dev, false)
	if err != nil {
		return err
	}
	defer unix.Close(mount)
	return p.attach(mount, dev, false)
}

// terminals gives the command pseudo-terminals of its own; it lives without where the
// kernel does not allow it.
func (p *place) terminals() {
	if err := unix.Mount("devpts", filepath.Join(p.root, "/dev/pts"), "devpts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=0620"); err == nil {
		_ = unix.Symlinkat("pts/ptmx", p.fd, "dev/ptmx")
	}
}

// hide covers a path of the machine wherever a bind shows it. Both are real paths.
func (p *place) hide(name string) error {
	for _, b := range p.shown {
		if !within(name, b.Source) {
			continue
		}
		rel := strings.TrimPrefix(path.Join(b.Target, strings.TrimPrefix(name, b.Source)), "/")
		at, err := step(p.fd, rel, 0)
		if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP) || errors.Is(err, unix.EACCES) {
			continue // it is not there, or covered already
		}
		if err != nil {
			return err
		}
		err = p.cover(at)
		unix.Close(at)
		if err != nil {
			return err
		}
	}
	return nil
}

// cover lays nothing over an open place.
func (p *place) cover(at int) error {
	var st unix.Stat_t
	if err := unix.Fstat(at, &st); err != nil {
		return err
	}
	place := fmt.Sprintf("/proc/self/fd/%d", at)
	if st.Mode&unix.S_IFMT == unix.S_IFDIR {
		return unix.Mount("tmpfs", place, "tmpfs", unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV, "mode=755,size=4k")
	}
	return unix.Mount("/dev/null", place, "", unix.MS_BIND, "")
}

// etc makes the command's own /etc.
func (p *place) etc(spec Spec) error {
	dir, err := p.open("/etc", true)
	if err != nil {
		return err
	}
	etc := beneath.Of(dir, "/etc")
	defer etc.Close()
	id := insideID
	group := insideID
	if !spec.Owner.Root {
		id, group = spec.Owner.UID, spec.Owner.GID
	}
	users := "root:x:0:0:root:/root:/usr/sbin/nologin\nnobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n"
	groups := "root:x:0:\nnogroup:x:65534:\n"
	if id != 0 {
		users += fmt.Sprintf("dev:x:%d:%d:dev:%s:/bin/sh\n", id, group, HomePath)
		groups += fmt.Sprintf("dev:x:%d:\n", group)
	}
	hosts, _ := os.ReadFile("/etc/hosts")
	for name, text := range map[string]string{"passwd": users, "group": groups, "hostname": "bout\n",
		"hosts": "127.0.0.1 localhost bout\n::1 localhost ip6-localhost ip6-loopback\n" + string(hosts)} {
		if err := etc.WriteFile(name, []byte(text), 0o644, nil); err != nil {
			return err
		}
	}
	for _, pattern := range etcNames {
		names, _ := filepath.Glob(filepath.Join("/etc", pattern))
		for _, name := range names {
			if err := p.etcEntry(etc, name); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
	}
	return nil
}

func (p *place) etcEntry(etc *beneath.Dir, name string) error {
	base := strings.TrimPrefix(name, "/etc/")
	st, err := os.Lstat(name)
	if err != nil {
		return nil
	}
	if up := path.Dir(base); up != "." {
		made, err := etc.MkdirAll(up, 0o755, nil)
		if err != nil {
			return err
		}
		made.Close()
	}
	if st.Mode()&fs.ModeSymlink != 0 {
		to, err := os.Readlink(name)
		if err != nil {
			return err
		}
		full := to
		if !path.IsAbs(to) {
			full = path.Join("/etc", path.Dir(base), to)
		}
		if within(full, "/usr") || within(full, "/etc") {
			return etc.Symlink(to, base, nil)
		}
		if st, err = os.Stat(name); err != nil { // resolv.conf may lead to /run: what it leads to is shown
			return nil
		}
	}
	switch {
	case st.IsDir():
		return p.bind(Bind{Source: name, Target: name})
	case !st.Mode().IsRegular() || st.Mode().Perm()&0o004 == 0 || st.Size() > maxEtcFile:
		return nil // not everybody's to read
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil
	}
	return etc.WriteFile(base, data, 0o644, nil)
}
