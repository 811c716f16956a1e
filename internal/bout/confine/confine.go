// Package confine runs one command so that it sees and changes only what it is
// meant to, and so that everything it started has ended when it has ended.
//
// The binary re-executes itself as a small supervisor. Where the machine allows
// it the supervisor is the first process of new mount, PID, IPC and UTS
// namespaces, builds a root of its own (system folders read-only, a workspace,
// a HOME and a TMPDIR at fixed paths, nothing else), and starts the command in
// a user namespace in which it is an ordinary user. When the supervisor ends,
// the kernel ends whatever is left. The supervisor ends when the command does,
// when it is told to, and when the service goes away, even by kill -9: it
// watches a pipe whose other end only the service holds.
//
// Where namespaces are not to be had the supervisor still runs, as a
// subreaper, and ends the command's process group and every orphan that comes
// back to it. That keeps nothing private and is flagged as unconfined.
package confine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"agonometer/internal/bout/beneath"
)

// Mode says how a command is held.
type Mode string

const (
	// Namespaces is the full confinement.
	Namespaces Mode = "namespaces"
	// ProcessGroup is the fallback: no privacy, no guarantee.
	ProcessGroup Mode = "process-group"
)

// The paths that are the same in every bout, in Namespaces mode.
const (
	WorkspacePath = "/bout/workspace"
	HomePath      = "/bout/home"
	TmpPath       = "/tmp"
	// BriefPath is where the file with the brief lies, read-only.
	BriefPath = "/bout/brief.md"
	// AttachmentsPath is where the files lie that go with the brief, read-only.
	AttachmentsPath = "/bout/attachments"
)

// SuperviseArg is the first argument that makes the binary a supervisor.
const SuperviseArg = "supervise"

// Bind makes a file or folder of the machine visible to the command.
type Bind struct {
	Source   string `json:"source"`
	Target   string `json:"target"`
	Writable bool   `json:"writable,omitempty"`
	// Still shows a folder so that no socket in it can be connected to.
	Still bool `json:"still,omitempty"`
	// Alias is set for a second name of something; it may be left out.
	Alias bool `json:"alias,omitempty"`
}

// Overlay shows a pristine folder that can be written to: what is written goes
// into Upper, and Lower stays as it is.
type Overlay struct {
	Lower  string `json:"lower"`
	Upper  string `json:"upper"`
	Work   string `json:"work"`
	Target string `json:"target"`
	// LowerOwner is to whom Lower belongs, where that is not the command's owner: it is
	// shown as if it belonged to that. 0 where it does.
	LowerOwner int `json:"lower_owner,omitempty"`
}

// Spec is one command and the world it sees.
type Spec struct {
	Mode Mode `json:"mode"`
	// Args is the program (a path or a name on PATH) and its arguments.
	Args []string `json:"args"`
	// Env is the whole environment, as NAME=value.
	Env []string `json:"env"`
	// Dir is the working directory as the command sees it.
	Dir string `json:"dir"`
	// Root is an empty folder of the caller's on which the new root is built.
	Root string `json:"root"`
	// Binds come on top of the system folders.
	Binds    []Bind    `json:"binds,omitempty"`
	Overlays []Overlay `json:"overlays,omitempty"`
	// Hide lists files and folders that are covered where a bind would show them.
	Hide []string `json:"hide,omitempty"`
	// Owner is who the command is on the machine; see Owner.
	Owner Owner `json:"owner"`
	// Other is a second owner, as whom the command may start programs by OtherPath. It
	// needs Namespaces. Where the service is no root it is the command's own, and a Landlock
	// domain keeps apart what is started.
	Other *Owner `json:"other,omitempty"`
	// OtherNever are files, as the command sees them, that what is started in such a domain
	// cannot open.
	OtherNever []string `json:"other_never,omitempty"`
	// NoNetwork takes the network away: only a loopback of its own is left. It
	// needs Namespaces.
	NoNetwork bool `json:"no_network,omitempty"`
	// Listen opens this port on the loopback of the command's own network, before
	// it starts, and hands the listener to the service: the one way out. It needs
	// NoNetwork.
	Listen int `json:"listen,omitempty"`
	// Mapping is the descriptor, in the supervisor, of the user namespace by which overlays'
	// lower folders are shown; Start sets it.
	Mapping int `json:"mapping,omitempty"`
	// Blank is one in which no id of the machine is known; likewise.
	Blank int `json:"blank,omitempty"`
	// Limits bound what the command uses. What only a supervisor can count needs Namespaces.
	Limits Limits `json:"limits,omitzero"`
	// TTY makes standard input, which must be a terminal then, the command's
	// controlling terminal.
	TTY bool `json:"tty,omitempty"`
}

// Owner is the user and group on the machine to whom a command's files belong.
// A service that runs as root hands them to an ordinary user; any other service
// can only use its own.
type Owner struct {
	UID int `json:"uid"`
	GID int `json:"gid"`
	// Root is set when the service runs as root, so that files must be handed over.
	Root bool `json:"root"`
}

// insideID is the user and group number that a command sees for itself when
// the service runs as root. hostID is an ordinary, usually unused, number.
const (
	insideID = 1000
	hostID   = 61_007
)

// nobodyID is an id that nothing on a machine belongs to.
const nobodyID = 4_294_000_000

// MaxOwners is how many bouts can have ids of their own at once.
const MaxOwners = 1000

// Numbered is the owner that the n-th of several bouts at once has, counted from 0. The
// first is who prepared states belong to.
func (o Owner) Numbered(n int) Owner {
	if o.Root {
		o.UID, o.GID = o.UID+n, o.GID+n
	}
	return o
}

// CurrentOwner tells to whom workspaces belong on this machine.
func CurrentOwner() Owner {
	if os.Geteuid() == 0 {
		return Owner{UID: hostID, GID: hostID, Root: true}
	}
	return Owner{UID: os.Geteuid(), GID: os.Getegid()}
}

// Result is how a command ended.
type Result struct {
	// ExitCode is the exit status; -1 when a signal ended it.
	ExitCode int
	// Signal is the name of the signal that ended it, or empty.
	Signal string
	// Elapsed runs from just before the start to the end, on the supervisor's monotonic clock.
	Elapsed time.Duration
	// TimedOut is set when Run ended it because its time was up.
	TimedOut bool
	// Stopped is set when it was ended because it was told to stop.
	Stopped bool
	// Limit is what it used too much of, where it was ended for that; LimitDetail says how much.
	Limit       LimitKind
	LimitDetail string
}

// Failed tells whether the command ended in error by itself.
func (r Result) Failed() bool { return r.ExitCode != 0 }

// SetupError says that the command was never started because its surroundings
// could not be made: the harness's fault, not the command's.
type SetupError struct{ Stage, Why string }

func (e *SetupError) Error() string { return "confinement: " + e.Stage + ": " + e.Why }

// StartError says that the program itself could not be started.
type StartError struct{ Program, Why string }

func (e *StartError) Error() string {
	return fmt.Sprintf("the program %q cannot be started: %s", e.Program, e.Why)
}

// IO is where a command's streams go. Nil means empty input and discarded output.
type IO struct {
	Stdin          io.Reader
	Stdout, Stderr io.Writer
	// TTY is a terminal that takes the place of all three; nil for none.
	TTY *os.File
}

// Grace is how long a command has between the polite signal and the hard end.
const Grace = 5 * time.Second

type control struct {
	Signal string `json:"signal"`
}

type report struct {
	Event   string `json:"event"` // starting, started, frozen, exited; setup and start are errors
	Stage   string `json:"stage,omitempty"`
	Why     string `json:"why,omitempty"`
	Code    int    `json:"code"`
	Signal  string `json:"signal,omitempty"`
	Elapsed int64  `json:"elapsed_ns,omitempty"`
	Mark    int64  `json:"mark_ns,omitempty"` // when it was started, by monotonic
	OK      bool   `json:"ok,omitempty"`
	// Limit is the limit at which the command was ended; Why says how far it was.
	Limit LimitKind `json:"limit,omitempty"`
	// Missing are the walls that could not be raised, in words.
	Missing []string `json:"missing,omitempty"`
}

// Process is a command that has been started.
type Process struct {
	cmd     *exec.Cmd
	mode    Mode
	group   *cgroup
	telling sync.Mutex // held while something is written to control
	control *os.File
	frozen  chan bool     // answers to Freeze
	ended   chan struct{} // closed when the supervisor has said its last
	starved bool          // the kernel ended a process of it for want of memory
	last    report        // that last, once ended is closed
	reports *json.Decoder
	report  *os.File
	grace   time.Duration
	once    sync.Once
	noise   *bytes.Buffer
	program string
	// Began is the moment just before the command's start, as its supervisor saw it:
	// on a busy machine the service hears of it a good deal later.
	Began time.Time
	// Listener is the loopback port that Spec.Listen asked for; nil where it asked
	// for none. It lies in the command's network and is served from the service's.
	Listener net.Listener
	// Missing are walls that should stand around the command and could not be raised, in words.
	Missing []string
}

// PID is the supervisor's process id on the machine; everything that the command
// starts is below it.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Start starts the command. Cancelling ctx ends it hard, with everything it started.
func Start(ctx context.Context, spec Spec, streams IO) (*Process, error) {
	ctlR, ctlW, err := os.Pipe()
	if err != nil {
		return nil, &SetupError{"pipe", err.Error()}
	}
	repR, repW, err := os.Pipe()
	if err != nil {
		ctlR.Close()
		ctlW.Close()
		return nil, &SetupError{"pipe", err.Error()}
	}
	cmd := exec.Command("/proc/self/exe", SuperviseArg)
	cmd.Env = []string{}
	cmd.Dir = "/"
	cmd.ExtraFiles = []*os.File{ctlR, repW}
	var pass, passed *os.File
	if spec.Listen != 0 && spec.NoNetwork && spec.Mode == Namespaces {
		if pass, passed, err = socketPair(); err != nil {
			for _, f := range []*os.File{ctlR, ctlW, repR, repW} {
				f.Close()
			}
			return nil, &SetupError{"socket pair", err.Error()}
		}
		defer pass.Close()
		cmd.ExtraFiles = append(cmd.ExtraFiles, passed)
	}
	hand := func(into *int, from, to int) error {
		mapping, err := mappingOf(from, to)
		if err == nil {
			*into = 3 + len(cmd.ExtraFiles)
			cmd.ExtraFiles = append(cmd.ExtraFiles, mapping)
		}
		return err
	}
	if spec.Owner.Root && slices.ContainsFunc(spec.Binds, func(b Bind) bool { return b.Still }) {
		_ = hand(&spec.Blank, nobodyID, nobodyID) // without it an overlay is used
	}
	for _, o := range spec.Overlays {
		if o.LowerOwner == 0 {
			continue
		}
		mapErr := hand(&spec.Mapping, o.LowerOwner, spec.Owner.UID)
		if mapErr != nil {
			for _, f := range []*os.File{ctlR, ctlW, repR, repW} {
				f.Close()
			}
			return nil, &SetupError{"give the bout ids of its own", mapErr.Error()}
		}
	}
	cmd.Stdin = streams.Stdin
	cmd.Stdout, cmd.Stderr = streams.Stdout, streams.Stderr
	if streams.TTY != nil {
		cmd.Stdin, cmd.Stdout, cmd.Stderr, spec.TTY = streams.TTY, streams.TTY, streams.TTY, true
	}
	cmd.WaitDelay = 2 * time.Second
	cmd.SysProcAttr = supervisorAttr(spec)
	p := &Process{cmd: cmd, mode: spec.Mode, frozen: make(chan bool, 1), ended: make(chan struct{}), control: ctlW, report: repR, reports: json.NewDecoder(repR), grace: Grace, program: spec.Args[0]}
	if spec.Mode == Namespaces && spec.Root == "" {
		err = errors.New("no root folder given")
	}
	for _, b := range spec.Binds {
		// A command that took the permissions away from its own folders must not keep what
		// comes after it from starting.
		if b.Writable && err == nil {
			err = usable(b.Source)
		}
	}
	if err == nil {
		err = cmd.Start()
	}
	ctlR.Close()
	repW.Close()
	if passed != nil {
		passed.Close()
	}
	if err != nil {
		ctlW.Close()
		repR.Close()
		return nil, &SetupError{"start the supervisor", err.Error()}
	}
	if spec.Mode == Namespaces { // before it knows what to start, so that all of it is in the group
		p.group = newCgroup(cmd.Process.Pid, spec.Limits)
	}
	if err := json.NewEncoder(ctlW).Encode(spec); err != nil {
		p.Kill()
		p.reap()
		return nil, &SetupError{"talk to the supervisor", err.Error()}
	}
	var first report
	err = p.reports.Decode(&first)
	if err == nil && first.Event == "starting" {
		// From here on the command may have run, and may have ended its supervisor
		// before that could say more: then it counts as started.
		if p.reports.Decode(&first) != nil {
			first.Event = "started"
		}
	}
	if err != nil {
		p.Kill()
		p.reap()
		return nil, &SetupError{"hear from the supervisor", err.Error()}
	}
	switch first.Event {
	case "started":
		p.Began, p.Missing = time.Now(), first.Missing
		if first.Mark != 0 { // else the command ended its supervisor before that could tell
			p.Began = p.Began.Add(-time.Duration(max(monotonic()-first.Mark, 0)))
		}
		if pass != nil {
			if p.Listener, err = receiveListener(pass); err != nil {
				p.Kill()
				p.reap()
				return nil, &SetupError{"take over the listener", err.Error()}
			}
		}
	case "start":
		p.Kill()
		p.reap()
		return nil, &StartError{p.program, first.Why}
	default:
		p.Kill()
		p.reap()
		return nil, &SetupError{first.Stage, first.Why}
	}
	stop := context.AfterFunc(ctx, p.Kill)
	_ = stop // the callback only closes a pipe, which is harmless after the end
	go p.listen()
	return p, nil
}

// usable gives a folder's owner the permissions back that it needs to be one.
func usable(name string) error {
	d, err := beneath.Open(name)
	if err != nil {
		return err
	}
	defer d.Close()
	st, err := d.Lstat(".")
	if err != nil || st.Mode&0o700 == 0o700 {
		return err
	}
	return d.Chmod(".", st.Mode&0o777|0o700)
}

// listen takes what the supervisor reports; it ends with the supervisor, whose end of
// the pipe closes then.
func (p *Process) listen() {
	defer close(p.ended)
	for {
		var r report
		if err := p.reports.Decode(&r); err != nil {
			p.last = report{Event: "lost", Why: err.Error()}
			return
		}
		if r.Event != eventFrozen {
			p.last = r
			return
		}
		select {
		case p.frozen <- r.OK:
		default: // nobody waits for it any more
		}
	}
}

// tell sends the supervisor a word.
func (p *Process) tell(signal string) error {
	p.telling.Lock()
	defer p.telling.Unlock()
	return json.NewEncoder(p.control).Encode(control{Signal: signal})
}

// Terminate sends the polite signal to the command's process group.
func (p *Process) Terminate() { _ = p.tell("TERM") }

// Kill ends the command and everything it started, at once.
func (p *Process) Kill() { p.once.Do(func() { p.control.Close() }) }

func (p *Process) reap() error {
	err := p.cmd.Wait()
	p.report.Close()
	p.starved = p.group.outOfMemory()
	go p.group.remove() // ends with the kernel's own cleaning up; what a service leaves its next one removes
	return err
}

// Wait waits for the command's end, and for the end of everything it started.
// At the time limit (0: none) the command gets the polite signal, and the hard
// one when it is still there after Grace.
// What is received from stop, which may be nil, ends the command in the same way.
func (p *Process) Wait(limit time.Duration, stop <-chan struct{}) (Result, error) {
	var timer <-chan time.Time
	if limit > 0 {
		t := time.NewTimer(limit)
		defer t.Stop()
		timer = t.C
	}
	var res Result
	began := time.Now()
	select {
	case <-p.ended:
	case <-timer:
		res.TimedOut = true
	case <-stop:
		res.Stopped = true
	}
	if res.TimedOut || res.Stopped {
		p.Terminate()
		hard := time.NewTimer(p.grace)
		select {
		case <-p.ended:
		case <-hard.C:
			p.Kill()
			<-p.ended
		}
		hard.Stop()
	}
	p.Kill()
	waitErr, last := p.reap(), p.last
	if last.Event != "exited" {
		// The supervisor went down: as it was told to, or because the command ended
		// it (where it has the same user, it can). The command had been started, so
		// that is how the command ended, and no fault of the harness: it must not be
		// able to make a bout void.
		res.ExitCode, res.Signal, res.Elapsed = -1, "killed", time.Since(began)
		if !res.TimedOut && !res.Stopped && !p.killed(waitErr) {
			res.Signal = "ended together with its supervisor"
		}
		p.blame(&res)
		return res, nil
	}
	res.ExitCode, res.Signal, res.Elapsed = last.Code, last.Signal, time.Duration(last.Elapsed)
	if last.Limit != "" {
		res.Limit, res.LimitDetail = last.Limit, last.Why
	}
	p.blame(&res)
	return res, nil
}

// blame says that a command went beyond its memory where the kernel ended it for that.
func (p *Process) blame(res *Result) {
	if p.starved && res.Limit == "" {
		res.Limit, res.LimitDetail = LimitMemory, "the kernel ended a process of it for want of memory"
	}
}

// killed tells whether the supervisor ended because its pipe was closed.
func (p *Process) killed(err error) bool {
	var exit *exec.ExitError
	return errors.As(err, &exit) && exit.ExitCode() == exitLifeline
}

// Run starts a command and waits for it.
func Run(ctx context.Context, spec Spec, streams IO, limit time.Duration) (Result, error) {
	p, err := Start(ctx, spec, streams)
	if err != nil {
		return Result{}, err
	}
	return p.Wait(limit, nil)
}

// Capability is what this machine allows.
type Capability struct {
	Mode Mode `json:"mode"`
	// Why says what stands in the way, when Mode is not Namespaces.
	Why string `json:"why,omitempty"`
	// CutsNetwork tells whether the network can be taken away.
	CutsNetwork bool `json:"cuts_network,omitempty"`
	// RunsOthers tells whether checks can start programs as the contender's (OtherPath), by
	// a second user or a Landlock domain.
	RunsOthers bool `json:"runs_others,omitempty"`
	// Missing are the walls that cannot be raised on this machine, in words; none where
	// the confinement is full.
	Missing []string `json:"missing,omitempty"`
}

// FullWalls is what Walls says where nothing is missing.
const FullWalls = "full"

// Walls says what stands around a bout: "full", or what is missing.
func (c Capability) Walls() string {
	if len(c.Missing) == 0 {
		return FullWalls
	}
	return "missing: " + strings.Join(c.Missing, "; ")
}

// Detect tries the full confinement with a command that does nothing. scratch
// is a folder in which it may work.
func Detect(scratch string) Capability {
	root, err := os.MkdirTemp(scratch, "probe-")
	if err != nil {
		return Capability{Mode: ProcessGroup, Why: err.Error()}
	}
	defer os.RemoveAll(root)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var missing []string
	try := func(noNetwork bool) error {
		var out bytes.Buffer
		p, err := Start(ctx, Spec{Mode: Namespaces, Args: []string{"sh", "-c", "exit 0"}, Env: []string{"PATH=" + os.Getenv("PATH")}, Dir: "/", Root: root,
			Owner: CurrentOwner(), NoNetwork: noNetwork}, IO{Stdout: &out, Stderr: &out})
		if err != nil {
			return err
		}
		missing = p.Missing
		res, err := p.Wait(0, nil)
		if err == nil && res.Failed() {
			err = fmt.Errorf("a trial command ended with %d: %s", res.ExitCode, strings.TrimSpace(out.String()))
		}
		return err
	}
	if err := try(false); err != nil {
		return Capability{Mode: ProcessGroup, Why: err.Error(), Missing: []string{"namespaces (" + err.Error() + ")"}}
	}
	if !FilterAvailable() {
		missing = append(missing, "a filter of system calls for this architecture")
	}
	c := Capability{Mode: Namespaces, CutsNetwork: try(true) == nil, RunsOthers: runsOthers(), Missing: missing}
	if !c.CutsNetwork {
		c.Missing = append(c.Missing, "taking the network away")
	}
	if !c.RunsOthers {
		c.Missing = append(c.Missing, "a second user, or Landlock, for what checks start as the contender's")
	}
	return c
}

// DetectOverlay tries whether overlays can be mounted in scratch, over a folder that the
// n-th owner sees as its own.
func DetectOverlay(scratch string, mode Mode, n int) bool {
	if mode != Namespaces || strings.ContainsAny(scratch, ",:\\") {
		return false
	}
	dir, err := os.MkdirTemp(scratch, "probe-")
	if err != nil {
		return false
	}
	defer os.RemoveAll(dir)
	owner := CurrentOwner()
	for _, d := range []string{"lower", "upper", "work", "root"} {
		if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
			return false
		}
		if owner.Root {
			who := owner
			if d != "lower" {
				who = owner.Numbered(n)
			}
			if err := os.Chown(filepath.Join(dir, d), who.UID, who.GID); err != nil {
				return false
			}
		}
	}
	lower := Overlay{Lower: filepath.Join(dir, "lower"), Upper: filepath.Join(dir, "upper"), Work: filepath.Join(dir, "work"), Target: HomePath}
	if n > 0 {
		lower.LowerOwner = owner.UID
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	res, err := Run(ctx, Spec{Mode: Namespaces, Args: []string{"sh", "-c", "echo x > " + HomePath + "/probe"}, Env: []string{"PATH=" + os.Getenv("PATH")},
		Dir: "/", Root: filepath.Join(dir, "root"), Owner: owner.Numbered(n),
		Overlays: []Overlay{lower}}, IO{}, 0)
	return err == nil && !res.Failed()
}

func signalName(s syscall.Signal) string { return s.String() }
