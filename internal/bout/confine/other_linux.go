package confine

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// A check that looks at a program from outside runs as one user, and starts the program,
// which a contender wrote, as another: it can then neither read what only the check may
// read, nor trace the check, nor signal it. No process inside may change its user; so the
// check asks the supervisor, over a socket that only the check can open, by a small helper:
// this binary under another name. Where the service is no root and has no second user to
// give, a Landlock domain stands in for it (landlock_linux.go).

// OtherPath is the helper: `/bout/as-contender program argument...` runs a program as the
// other user, with the same standard streams, and ends as it does.
const OtherPath = "/bout/as-contender"

const otherSocket = "/bout/.as-contender"

// otherID is the user number that the other user sees for itself.
const otherID = 1001

// maxAsked is how long what the helper asks for may be, in bytes.
const maxAsked = 1 << 20

type askedFor struct {
	Args []string `json:"args"`
	Env  []string `json:"env"`
	Dir  string   `json:"dir"`
}

type endedAs struct {
	Err    string `json:"err,omitempty"`
	Code   int    `json:"code"`
	Signal int    `json:"signal,omitempty"`
}

// others starts programs as the other user.
type others struct {
	spec     Spec
	listener *net.UnixListener

	mu    sync.Mutex
	ended map[int]chan syscall.WaitStatus // by process
}

// listenOthers opens the socket, below a root that is being built.
func listenOthers(rootFD int, spec Spec) (*others, error) {
	name := fmt.Sprintf("/proc/self/fd/%d%s", rootFD, otherSocket)
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: name, Net: "unix"})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false)
	if spec.Owner.Root {
		if err := os.Chown(name, spec.Owner.UID, spec.Owner.GID); err != nil {
			return nil, err
		}
	}
	return &others{spec: spec, listener: l, ended: map[int]chan syscall.WaitStatus{}}, os.Chmod(name, 0o600)
}

// otherStarted is a program that was started as the other user.
type otherStarted struct {
	pid   int
	ended chan syscall.WaitStatus
	err   error
}

// start starts a program as the other user. Each gets a thread, on which privileges are
// lowered for good, and which ends with it: a domain says what is allowed as things are now.
func (o *others) start(asked askedFor, files [3]int) otherStarted {
	out := make(chan otherStarted, 1)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread is of no use for anything else
		spec, attr := o.spec, &syscall.SysProcAttr{Setsid: true}
		spec.Owner = *spec.Other
		tmp := TmpPath
		err := lowerPrivileges(spec, attr)
		switch {
		case err != nil:
		case spec.Owner.Root:
			attr.UidMappings[0].ContainerID, attr.GidMappings[0].ContainerID = otherID, otherID
			attr.Credential = &syscall.Credential{Uid: otherID, Gid: otherID}
		default:
			tmp, err = otherTmp, enterOther(spec.Dir, spec.OtherNever)
		}
		if err == nil {
			err = installFilter()
		}
		if err != nil {
			out <- otherStarted{err: err}
			return
		}
		env := append(asked.Env, "HOME="+tmp, "TMPDIR="+tmp)
		o.mu.Lock() // so that its end is not heard of before it is known
		defer o.mu.Unlock()
		pid, _, err := syscall.StartProcess(asked.Args[0], asked.Args, &syscall.ProcAttr{Dir: asked.Dir, Env: env,
			Files: []uintptr{uintptr(files[0]), uintptr(files[1]), uintptr(files[2])}, Sys: attr})
		ended := make(chan syscall.WaitStatus, 1)
		if err == nil {
			o.ended[pid] = ended
		}
		out <- otherStarted{pid, ended, err}
	}()
	return <-out
}

// serve answers until the supervisor ends.
func (o *others) serve() {
	go func() {
		for {
			conn, err := o.listener.AcceptUnix()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				asked, files, err := receiveAsked(conn)
				if err != nil {
					_ = json.NewEncoder(conn).Encode(endedAs{Err: err.Error()})
					return
				}
				as := o.start(asked, files)
				for _, fd := range files {
					unix.Close(fd)
				}
				if as.err != nil {
					_ = json.NewEncoder(conn).Encode(endedAs{Err: as.err.Error()})
					return
				}
				gone := make(chan struct{})
				go func() { // ends with the connection
					one := make([]byte, 1)
					_, _ = conn.Read(one)
					close(gone)
				}()
				var status syscall.WaitStatus
				select {
				case status = <-as.ended:
				case <-gone: // who asked has ended, and so does what it asked for
					_ = syscall.Kill(-as.pid, syscall.SIGKILL)
					status = <-as.ended
				}
				out := endedAs{Code: status.ExitStatus()}
				if status.Signaled() {
					out.Signal = int(status.Signal())
				}
				_ = json.NewEncoder(conn).Encode(out)
			}()
		}
	}()
}

// reaped takes the end of a process that the supervisor heard of.
func (o *others) reaped(pid int, status syscall.WaitStatus) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if c := o.ended[pid]; c != nil {
		c <- status
		delete(o.ended, pid)
	}
}

// receiveAsked reads what the helper asks for, with its three streams.
func receiveAsked(conn *net.UnixConn) (asked askedFor, files [3]int, err error) {
	data, oob := make([]byte, maxAsked), make([]byte, unix.CmsgSpace(3*4))
	n, oobn, _, _, err := conn.ReadMsgUnix(data, oob)
	if err != nil {
		return asked, files, err
	}
	messages, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil || len(messages) != 1 {
		return asked, files, errors.New("three streams were expected")
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 3 {
		for _, fd := range fds {
			unix.Close(fd)
		}
		return asked, files, errors.New("three streams were expected")
	}
	copy(files[:], fds)
	for _, fd := range fds {
		unix.CloseOnExec(fd)
	}
	// A long request comes in several pieces; it ends with a line end.
	for n < len(data) && data[n-1] != '\n' {
		more, readErr := conn.Read(data[n:])
		if n += more; readErr != nil {
			break
		}
	}
	if err := json.Unmarshal(data[:n], &asked); err != nil || len(asked.Args) == 0 {
		for _, fd := range fds {
			unix.Close(fd)
		}
		return asked, files, errors.New("the request cannot be read, or is longer than 1 MiB")
	}
	return asked, files, nil
}

// asContender is the helper.
func asContender(args []string) int {
	complain := func(err error) int {
		fmt.Fprintln(os.Stderr, "as-contender: "+err.Error())
		return 126
	}
	if len(args) == 0 {
		return complain(errors.New("no program was named"))
	}
	program, err := exec.LookPath(args[0])
	if err != nil {
		return complain(err)
	}
	dir, err := os.Getwd()
	if err != nil {
		return complain(err)
	}
	if program, err = filepath.Abs(program); err != nil {
		return complain(err)
	}
	var env []string // without what the supervisor sets
	for _, kv := range os.Environ() {
		if !strings.HasPrefix(kv, "HOME=") && !strings.HasPrefix(kv, "TMPDIR=") {
			env = append(env, kv)
		}
	}
	conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: otherSocket, Net: "unix"})
	if err != nil {
		return complain(err)
	}
	defer conn.Close()
	data, err := json.Marshal(askedFor{Args: append([]string{program}, args[1:]...), Env: env, Dir: dir})
	if err != nil {
		return complain(err)
	}
	data = append(data, '\n')
	if n, _, err := conn.WriteMsgUnix(data, unix.UnixRights(0, 1, 2), nil); err != nil {
		return complain(err)
	} else if n < len(data) {
		if _, err := conn.Write(data[n:]); err != nil {
			return complain(err)
		}
	}
	signal.Ignore(syscall.SIGPIPE)
	var out endedAs
	if err := json.NewDecoder(conn).Decode(&out); err != nil {
		return complain(err)
	}
	switch {
	case out.Err != "":
		return complain(errors.New(out.Err))
	case out.Signal != 0:
		return 128 + out.Signal
	}
	return out.Code
}
