package watch

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// notifier hears from the kernel what changes in folders (inotify(7)). Folders are given
// as open descriptors: a path could lead elsewhere by the time it is looked up. Whoever
// reads takes no lock of the notifier's while it hands on what it heard, so that adding a
// folder never waits for somebody who waits for that.
type notifier struct {
	f *os.File

	mu      sync.Mutex
	folders map[int32]string // by watch
}

// heard is what is listened for.
const heard = unix.IN_CREATE | unix.IN_MODIFY | unix.IN_DELETE | unix.IN_MOVED_FROM | unix.IN_MOVED_TO | unix.IN_ONLYDIR

func newNotifier() (*notifier, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, fmt.Errorf("inotify: %w", err)
	}
	return &notifier{f: os.NewFile(uintptr(fd), "inotify"), folders: map[int32]string{}}, nil
}

// add listens to a folder, which is known by a name from now on.
func (n *notifier) add(dir *beneath.Dir, name string) error {
	raw, err := n.f.SyscallConn()
	if err != nil {
		return err
	}
	var addErr error
	err = raw.Control(func(fd uintptr) {
		n.mu.Lock()
		defer n.mu.Unlock()
		var wd int
		if wd, addErr = unix.InotifyAddWatch(int(fd), fmt.Sprintf("/proc/self/fd/%d", dir.FD()), heard); addErr == nil {
			n.folders[int32(wd)] = name
		}
	})
	return errors.Join(err, addErr)
}

func (n *notifier) folder(wd int32) (string, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	name, ok := n.folders[wd]
	return name, ok
}

func (n *notifier) forget(wd int32) {
	n.mu.Lock()
	delete(n.folders, wd)
	n.mu.Unlock()
}

// listen calls changed for every change, and lost where the kernel had more to say than
// it keeps. It returns when the notifier is closed.
func (n *notifier) listen(changed func(folder, base string, mask uint32), lost func()) {
	buf := make([]byte, 64<<10)
	for {
		got, err := n.f.Read(buf)
		if err != nil {
			return
		}
		for rest := buf[:got]; len(rest) >= unix.SizeofInotifyEvent; {
			wd, mask := int32(binary.NativeEndian.Uint32(rest)), binary.NativeEndian.Uint32(rest[4:])
			size := unix.SizeofInotifyEvent + int(binary.NativeEndian.Uint32(rest[12:]))
			if size > len(rest) {
				break // the kernel gives whole events
			}
			base := strings.TrimRight(string(rest[unix.SizeofInotifyEvent:size]), "\x00")
			rest = rest[size:]
			switch {
			case mask&unix.IN_Q_OVERFLOW != 0:
				lost()
			case mask&unix.IN_IGNORED != 0:
				n.forget(wd)
			default:
				if folder, ok := n.folder(wd); ok && base != "" {
					changed(folder, base, mask)
				}
			}
		}
	}
}

// close ends listen.
func (n *notifier) close() { _ = n.f.Close() }
