package confine

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// exitLifeline is the supervisor's exit status when its pipe was closed.
const exitLifeline = 75

const maxProcesses = 4096

// holdArg makes the binary a process that only waits.
const holdArg = "hold-namespace"

func supervisorAttr(spec Spec) *syscall.SysProcAttr {
	// A session of its own: whatever terminal the service was started in is not the
	// supervisor's, and so not that of anything that it starts.
	attr := &syscall.SysProcAttr{Setsid: true}
	if spec.Mode != Namespaces {
		return attr
	}
	attr.Cloneflags = syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS
	if spec.NoNetwork {
		attr.Cloneflags |= syscall.CLONE_NEWNET
	}
	if !spec.Owner.Root {
		attr.Cloneflags |= syscall.CLONE_NEWUSER
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: spec.Owner.UID, HostID: spec.Owner.UID, Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: spec.Owner.GID, HostID: spec.Owner.GID, Size: 1}}
		attr.AmbientCaps = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_SETPCAP, unix.CAP_DAC_OVERRIDE, unix.CAP_NET_ADMIN}
	}
	return attr
}

// MaybeSupervise turns the process into a supervisor when it was started as
// one, and does not return then. It stands first in main and in TestMain.
func MaybeSupervise() {
	if os.Args[0] == OtherPath {
		os.Exit(asContender(os.Args[1:]))
	}
	if len(os.Args) == 2 && os.Args[1] == holdArg {
		time.Sleep(time.Minute) // it is ended long before
		os.Exit(0)
	}
	if len(os.Args) == 2 && os.Args[1] == SuperviseArg {
		// Only a caller that holds the two pipes can mean it.
		if _, err := unix.FcntlInt(3, unix.F_GETFD, 0); err != nil {
			fmt.Fprintln(os.Stderr, "this command is for Agonometer's own use")
			os.Exit(2)
		}
		os.Exit(supervise())
	}
}

func supervise() int {
	runtime.LockOSThread()
	// Nothing but the standard three is handed on, whatever was open in what started the service.
	if err := unix.CloseRange(3, math.MaxUint32, unix.CLOSE_RANGE_CLOEXEC); err != nil {
		for fd := range 1024 {
			syscall.CloseOnExec(3 + fd)
		}
	}
	ctl := json.NewDecoder(os.NewFile(3, "control"))
	out := &reporter{to: json.NewEncoder(os.NewFile(4, "report"))}
	var spec Spec
	if err := ctl.Decode(&spec); err != nil {
		_ = out.Encode(report{Event: "setup", Stage: "read what to do", Why: err.Error()})
		return 1
	}
	openStreams(spec)
	var missing []string // walls that could not be raised
	// What the kernel ends first when memory runs out.
	_ = os.WriteFile("/proc/self/oom_score_adj", []byte("1000"), 0)
	// The session keyring is inherited, and so would be the service's with what lies in it.
	if _, err := unix.KeyctlInt(unix.KEYCTL_JOIN_SESSION_KEYRING, 0, 0, 0, 0); err != nil && !errors.Is(err, unix.ENOSYS) {
		missing = append(missing, "a keyring of its own: "+err.Error())
	}
	// Not to be traced or read by a command that has the same user.
	_ = unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
	var second *others
	if spec.Mode == Namespaces {
		if spec.NoNetwork {
			if err := raiseLoopback(); err != nil {
				_ = out.Encode(report{Event: "setup", Stage: "raise the loopback", Why: err.Error()})
				return 1
			}
			if spec.Listen != 0 {
				if err := passListener(spec.Listen); err != nil {
					_ = out.Encode(report{Event: "setup", Stage: "open the way to the meter", Why: err.Error()})
					return 1
				}
			}
		}
		if err := buildRoot(spec, &second); err != nil {
			_ = out.Encode(report{Event: "setup", Stage: err.stage, Why: err.err.Error()})
			return 1
		}
	} else {
		_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
	}
	if second != nil {
		second.serve()
	}
	program, err := lookPath(spec)
	if err != nil {
		_ = out.Encode(report{Event: "start", Why: err.Error()})
		return 1
	}
	attr := &syscall.SysProcAttr{Setsid: true}
	if spec.TTY { // whose group the terminal's signals reach
		attr.Setctty, attr.Ctty = true, 0
	}
	if err := lowerPrivileges(spec, attr); err != nil {
		_ = out.Encode(report{Event: "setup", Stage: "drop privileges", Why: err.Error()})
		return 1
	}
	if err := installFilter(); err != nil {
		missing = append(missing, err.Error())
	}
	var watch *guard
	if spec.Mode == Namespaces {
		watch = newGuard(spec.Limits)
	}
	_ = out.Encode(report{Event: "starting"})
	began, mark := time.Now(), monotonic()
	pid, _, err := syscall.StartProcess(program, spec.Args, &syscall.ProcAttr{
		Dir: spec.Dir, Env: spec.Env, Files: []uintptr{0, 1, 2}, Sys: attr})
	if err != nil {
		why := err.Error()
		if errors.Is(err, syscall.ENOENT) {
			why = "not found, or its interpreter is not; programs outside the system's folders must be named under 'reads'"
		}
		_ = out.Encode(report{Event: "start", Why: why})
		return 1
	}
	// What the command holds open must not be held open by the supervisor too.
	closeStdio()
	_ = out.Encode(report{Event: "started", Mark: mark, Missing: missing})

	if watch != nil {
		go watch.watch() // ends with the supervisor
	}
	var mu sync.Mutex
	ended := false
	forward := func(s syscall.Signal) {
		mu.Lock()
		defer mu.Unlock()
		if !ended {
			_ = syscall.Kill(-pid, s)
			_ = syscall.Kill(pid, s)
		}
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP)
	go func() {
		for s := range signals {
			forward(s.(syscall.Signal))
		}
	}()
	go func() {
		for {
			var c control
			if err := ctl.Decode(&c); err != nil {
				if spec.Mode != Namespaces {
					endOrphans(pid)
				}
				os.Exit(exitLifeline) // as the first process of the namespace it takes all others along
			}
			switch c.Signal {
			case signalFreeze:
				_ = out.Encode(report{Event: eventFrozen, OK: freeze()})
			case signalThaw:
				_ = syscall.Kill(-1, syscall.SIGCONT)
			default:
				forward(syscall.SIGTERM)
			}
		}
	}()
	var status syscall.WaitStatus
	for {
		var ws syscall.WaitStatus
		got, err := syscall.Wait4(-1, &ws, 0, nil)
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil {
			_ = out.Encode(report{Event: "setup", Stage: "wait", Why: err.Error()})
			return 1
		}
		if got == pid {
			status = ws
			break
		}
		second.reaped(got, ws)
	}
	elapsed := time.Since(began)
	mu.Lock()
	ended = true
	mu.Unlock()
	if spec.Mode != Namespaces {
		endOrphans(pid)
	}
	rep := report{Event: "exited", Code: status.ExitStatus(), Elapsed: elapsed.Nanoseconds()}
	if status.Signaled() {
		rep.Code, rep.Signal = -1, signalName(status.Signal())
	}
	rep.Limit, rep.Why = watch.reached()
	_ = out.Encode(rep)
	return 0
}

// reporter sends reports, from several goroutines.
type reporter struct {
	mu sync.Mutex
	to *json.Encoder
}

func (r *reporter) Encode(one report) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.to.Encode(one)
}

// raiseLoopback makes the loopback of a fresh network namespace work: it starts
// out down, and tests with servers of their own would fail.
func raiseLoopback() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	ifr, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	ifr.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, ifr)
}

// passFD is where the supervisor finds the socket over which it passes a listener.
const passFD = 5

// passListener opens a port on the loopback of this network and hands it over:
// a socket stays in the network in which it was made, whoever holds it. So the
// meter itself serves it, nothing is copied on the way, and nothing else of the
// service's network can be reached.
func passListener(port int) error {
	defer unix.Close(passFD)
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := unix.Bind(fd, &unix.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		return err
	}
	if err := unix.Listen(fd, 512); err != nil {
		return err
	}
	return unix.Sendmsg(passFD, []byte{0}, unix.UnixRights(fd), nil, 0)
}

// socketPair makes the two ends over which a listener is passed.
func socketPair() (here, there *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	return os.NewFile(uintptr(fds[0]), "here"), os.NewFile(uintptr(fds[1]), "there"), nil
}

// receiveListener takes over the listener that a supervisor passed. It was sent
// before the command started, so there is nothing to wait for.
func receiveListener(from *os.File) (net.Listener, error) {
	one, rights := make([]byte, 1), make([]byte, unix.CmsgSpace(4))
	_, n, _, _, err := unix.Recvmsg(int(from.Fd()), one, rights, unix.MSG_DONTWAIT|unix.MSG_CMSG_CLOEXEC)
	if err != nil {
		return nil, err
	}
	messages, err := unix.ParseSocketControlMessage(rights[:n])
	if err != nil || len(messages) != 1 {
		return nil, fmt.Errorf("nothing was passed (%v)", err)
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 1 {
		return nil, fmt.Errorf("no listener was passed (%v)", err)
	}
	f := os.NewFile(uintptr(fds[0]), "listener")
	defer f.Close()
	return net.FileListener(f)
}

func closeStdio() {
	null, err := os.OpenFile("/dev/null", os.O_RDWR, 0)
	if err != nil {
		return
	}
	for fd := range 3 {
		_ = unix.Dup3(int(null.Fd()), fd, 0)
	}
	null.Close()
}

// monotonic is the machine's monotonic clock, in nanoseconds: the same for the
// service and its supervisors.
func monotonic() int64 {
	var t unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_MONOTONIC, &t) // fails for unknown clocks alone
	return t.Nano()
}

// lookPath finds the program as the command's own PATH has it.
func lookPath(spec Spec) (string, error) {
	name := spec.Args[0]
	if strings.Contains(name, "/") {
		return name, nil
	}
	for _, kv := range spec.Env {
		dirs, ok := strings.CutPrefix(kv, "PATH=")
		if !ok {
			continue
		}
		for _, dir := range filepath.SplitList(dirs) {
			full := filepath.Join(dir, name)
			if st, err := os.Stat(full); err == nil && st.Mode().IsRegular() && st.Mode()&0o111 != 0 {
				return full, nil
			}
		}
	}
	return "", fmt.Errorf("%w on the PATH that it gets", exec.ErrNotFound)
}

// lowerPrivileges prepares the thread that starts the command: no new
// privileges, no capabilities, an ordinary user.
func lowerPrivileges(spec Spec, attr *syscall.SysProcAttr) error {
	processes := uint64(maxProcesses)
	if n := spec.Limits.Processes; n > 0 {
		processes = n
	}
	_ = unix.Setrlimit(unix.RLIMIT_NPROC, &unix.Rlimit{Cur: processes, Max: processes})
	if n := spec.Limits.OpenFiles; n > 0 {
		var now unix.Rlimit
		if unix.Getrlimit(unix.RLIMIT_NOFILE, &now) == nil && now.Max > n {
			_ = unix.Setrlimit(unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: n, Max: n})
		}
	}
	_ = unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	if spec.Mode != Namespaces {
		return unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
	}
	if spec.Owner.Root {
		attr.Cloneflags = syscall.CLONE_NEWUSER
		attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: insideID, HostID: spec.Owner.UID, Size: 1}}
		attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: insideID, HostID: spec.Owner.GID, Size: 1}}
		attr.GidMappingsEnableSetgroups = true
		attr.Credential = &syscall.Credential{Uid: insideID, Gid: insideID}
	} else {
		if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
			return fmt.Errorf("clear ambient capabilities: %w", err)
		}
		for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
			_ = unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0)
		}
	}
	return unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
}

// openStreams lets a command open its standard streams by their names, as shells do:
// /dev/stdout leads to a pipe or a terminal that the service made, which belongs to the
// service's user. A pipe has no name by which others could reach it; a terminal has one, and
// is handed to the command's user alone.
func openStreams(spec Spec) {
	for fd := range 3 {
		var st unix.Stat_t
		if unix.Fstat(fd, &st) != nil {
			continue
		}
		switch kind := st.Mode & unix.S_IFMT; {
		case kind == unix.S_IFIFO:
			_ = unix.Fchmod(fd, 0o666)
		case spec.TTY && kind == unix.S_IFCHR && spec.Owner.Root:
			_ = unix.Fchown(fd, spec.Owner.UID, spec.Owner.GID)
		}
	}
}

type stageError struct {
	stage string
	err   error
}

// endOrphans ends the command's process group and everything that has become a
// child of this subreaper, until nothing is left.
func endOrphans(pgid int) {
	deadline := time.Now().Add(10 * time.Second)
	for time.Now().Before(deadline) {
		_ = syscall.Kill(-pgid, syscall.SIGKILL)
		children := descendants(os.Getpid())
		if len(children) == 0 {
			return
		}
		for _, pid := range children {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		for {
			var ws syscall.WaitStatus
			if got, err := syscall.Wait4(-1, &ws, syscall.WNOHANG, nil); got <= 0 || err != nil {
				break
			}
		}
		time.Sleep(2 * time.Millisecond)
	}
}

// descendants lists the processes below pid, from /proc.
func descendants(pid int) []int {
	parents := map[int][]int{}
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		child, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		// The name in brackets may hold anything; the fields follow the last bracket.
		fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
		if len(fields) < 2 {
			continue
		}
		if parent, err := strconv.Atoi(fields[1]); err == nil {
			parents[parent] = append(parents[parent], child)
		}
	}
	var out []int
	queue := []int{pid}
	for len(queue) > 0 {
		next := parents[queue[0]]
		queue = queue[1:]
		out = append(out, next...)
		queue = append(queue, next...)
	}
	return out
}
