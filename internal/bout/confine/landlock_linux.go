package confine

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A service that runs as an ordinary user has no second user to give. What a check starts
// as the contender's then runs in a Landlock domain (landlock(7)) instead: it reads
// everything but what is the check's alone, writes to a folder of its own, and can neither
// trace nor, from version 6 of the interface on, signal what is outside the domain.

// otherTmp is the folder of its own, below TmpPath.
const otherTmp = TmpPath + "/as-contender"

const (
	readFile = unix.LANDLOCK_ACCESS_FS_EXECUTE | unix.LANDLOCK_ACCESS_FS_READ_FILE
	readTree = readFile | unix.LANDLOCK_ACCESS_FS_READ_DIR

	writeTree = unix.LANDLOCK_ACCESS_FS_WRITE_FILE | unix.LANDLOCK_ACCESS_FS_REMOVE_DIR | unix.LANDLOCK_ACCESS_FS_REMOVE_FILE |
		unix.LANDLOCK_ACCESS_FS_MAKE_CHAR | unix.LANDLOCK_ACCESS_FS_MAKE_DIR | unix.LANDLOCK_ACCESS_FS_MAKE_REG | unix.LANDLOCK_ACCESS_FS_MAKE_SOCK |
		unix.LANDLOCK_ACCESS_FS_MAKE_FIFO | unix.LANDLOCK_ACCESS_FS_MAKE_BLOCK | unix.LANDLOCK_ACCESS_FS_MAKE_SYM
)

// landlockVersion is the version of the kernel's interface; 0 where there is none.
func landlockVersion() int {
	n, _, errno := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, unix.LANDLOCK_CREATE_RULESET_VERSION)
	if errno != 0 {
		return 0
	}
	return int(n)
}

// runsOthers tells whether what a check starts can be kept apart from it.
func runsOthers() bool { return os.Geteuid() == 0 || landlockVersion() >= 1 }

// domain is a Landlock domain that is being described.
type domain struct {
	fd    int
	write uint64 // the rights to write that the kernel's version knows
}

func newDomain() (*domain, error) {
	version := landlockVersion()
	if version < 1 {
		return nil, errors.New("this kernel has no Landlock")
	}
	d := &domain{write: writeTree}
	if version >= 2 {
		d.write |= unix.LANDLOCK_ACCESS_FS_REFER
	}
	if version >= 3 {
		d.write |= unix.LANDLOCK_ACCESS_FS_TRUNCATE
	}
	attr := unix.LandlockRulesetAttr{Handled_access_fs: readTree | d.write}
	size := unsafe.Sizeof(attr.Handled_access_fs) // what the first version knows
	if version >= 6 {
		attr.Scoped = unix.LANDLOCK_SCOPE_SIGNAL | unix.LANDLOCK_SCOPE_ABSTRACT_UNIX_SOCKET
		size = unsafe.Offsetof(attr.Scoped) + unsafe.Sizeof(attr.Scoped)
	}
	fd, _, errno := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, uintptr(unsafe.Pointer(&attr)), size, 0)
	if errno != 0 {
		return nil, fmt.Errorf("make a Landlock domain: %w", errno)
	}
	d.fd = int(fd)
	return d, nil
}

func (d *domain) close() { _ = unix.Close(d.fd) }

// allow gives rights to a file, or to a folder with all below it. What is not there, or
// is a link, gets none.
func (d *domain) allow(name string, rights uint64) error {
	fd, err := unix.Open(name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
	case unix.S_IFLNK:
		return nil
	default: // the kernel takes no rights that only folders can have
		rights &= readFile | unix.LANDLOCK_ACCESS_FS_WRITE_FILE | d.write&unix.LANDLOCK_ACCESS_FS_TRUNCATE
	}
	rule := unix.LandlockPathBeneathAttr{Allowed_access: rights, Parent_fd: int32(fd)}
	if _, _, errno := unix.Syscall6(unix.SYS_LANDLOCK_ADD_RULE, uintptr(d.fd), unix.LANDLOCK_RULE_PATH_BENEATH, uintptr(unsafe.Pointer(&rule)), 0, 0, 0); errno != 0 {
		return fmt.Errorf("allow %s: %w", name, errno)
	}
	return nil
}

// allowBut gives rights to read all that is in a folder, but for some files below it and,
// in the folders that are looked into, for what its owner lets nobody else read: that is
// what a check does which keeps something to itself.
func (d *domain) allowBut(dir string, never []string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := filepath.Join(dir, e.Name())
		var within []string
		covered := false
		for _, n := range never {
			covered = covered || n == name
			if strings.HasPrefix(n, name+"/") {
				within = append(within, n)
			}
		}
		if covered {
			continue
		}
		if len(within) > 0 && e.IsDir() {
			if err := d.allowBut(name, within); err != nil {
				return err
			}
			continue
		}
		if info, err := e.Info(); err != nil || e.Type()&os.ModeSymlink == 0 && info.Mode().Perm()&0o004 == 0 {
			continue
		}
		if err := d.allow(name, readTree); err != nil {
			return err
		}
	}
	return nil
}

// restrict puts the calling thread, and all that it starts from now on, into the domain.
func (d *domain) restrict() error {
	if _, _, errno := unix.Syscall(unix.SYS_LANDLOCK_RESTRICT_SELF, uintptr(d.fd), 0, 0); errno != 0 {
		return fmt.Errorf("enter a Landlock domain: %w", errno)
	}
	return nil
}

// enterOther puts the calling thread into the domain in which a check's programs run as
// the contender's. never are files that they cannot read, as the check sees them.
func enterOther(workspace string, never []string) error {
	if err := os.Mkdir(otherTmp, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	d, err := newDomain()
	if err != nil {
		return err
	}
	defer d.close()
	top, err := os.ReadDir("/")
	if err != nil {
		return err
	}
	shown := make([]string, 0, len(top))
	for _, e := range top {
		shown = append(shown, "/"+e.Name())
	}
	beside, err := os.ReadDir(filepath.Dir(workspace))
	if err != nil {
		return err
	}
	for _, e := range beside {
		shown = append(shown, filepath.Join(filepath.Dir(workspace), e.Name()))
	}
	for _, name := range shown {
		if name == TmpPath || name == workspace || strings.HasPrefix(workspace, name+"/") {
			continue
		}
		if err := d.allow(name, readTree); err != nil {
			return err
		}
	}
	// Names alone can be listed everywhere.
	if err := d.allow("/", unix.LANDLOCK_ACCESS_FS_READ_DIR); err != nil {
		return err
	}
	for _, dir := range []string{workspace, TmpPath} {
		if err := d.allowBut(dir, never); err != nil {
			return err
		}
	}
	for _, dir := range []string{otherTmp, "/dev", "/proc"} {
		if err := d.allow(dir, readTree|d.write); err != nil {
			return err
		}
	}
	return d.restrict()
}
