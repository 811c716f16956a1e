// Package bout runs one bout, step by step, against the real machine: prepare,
// hand over, capture, judge. It records nothing itself; what it returns is
// stored by its caller before the next step begins.
package bout

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/meter"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// Engine runs bouts on this machine. Its folders lie below Data.
type Engine struct {
	Data           string
	Git            *workspace.Git
	Repositories   *workspace.Repositories
	Maker          workspace.Maker
	Capability     confine.Capability
	Path           string
	KeepWorkspaces bool
	// NumbersOwners gives concurrent bouts ids of their own.
	NumbersOwners bool
	Log           *slog.Logger
	Meter         *meter.Meter

	leaving   atomic.Bool
	measuring measuring
	measurers measurers

	mu     sync.Mutex
	owners map[string]*held    // by bout
	hide   map[string][]string // what no command of a bout may see, by who said so
	gates  map[string]*sync.Mutex
	subs   map[string][]workspace.Submodule // of start commits, once they were looked for
	pacers map[string]*meter.Pacer
}

// Close ends what the engine has open.
func (e *Engine) Close() error {
	e.measurers.close()
	return e.Meter.Close()
}

// NewEngine makes the folders and finds out what this machine allows.
func NewEngine(data string, log *slog.Logger) (*Engine, error) {
	if real, err := filepath.EvalSymlinks(data); err == nil {
		data = real // what is shown and what is covered are compared by real paths
	}
	e := &Engine{Data: data, Path: os.Getenv("PATH"), Log: log, gates: map[string]*sync.Mutex{}, pacers: map[string]*meter.Pacer{}}
	for _, dir := range []string{e.starts(), e.prepared(), e.Scratch(), e.mirrors(), e.FirstUses(), e.Hands()} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	git, err := workspace.NewGit(filepath.Join(data, "git"))
	if err != nil {
		return nil, err
	}
	e.Git = git
	e.measuring.git = git
	if e.Meter, err = meter.New(log); err != nil {
		return nil, err
	}
	e.Repositories = &workspace.Repositories{Git: git, Mirrors: e.mirrors()}
	confine.RemoveCgroups()
	e.Capability = confine.Detect(e.Scratch())
	layers := confine.DetectOverlay(e.Scratch(), e.Capability.Mode, 0)
	e.Maker = workspace.Copier{LayerHome: layers}
	// A layered HOME has to be shown as another owner's, which not every kernel and file system can.
	e.NumbersOwners = e.owner().Root && e.Capability.Mode == confine.Namespaces && (!layers || confine.DetectOverlay(e.Scratch(), e.Capability.Mode, 1))
	if e.owner().Root && e.Capability.Mode == confine.Namespaces && !e.NumbersOwners {
		e.Capability.Missing = append(e.Capability.Missing, "ids of their own for concurrent bouts")
	}
	return e, nil
}

// Unconfine makes bouts run as plain process groups, flagged as unconfined.
func (e *Engine) Unconfine(why string) {
	e.Capability = confine.Capability{Mode: confine.ProcessGroup, Why: why, Missing: []string{"namespaces (" + why + ")"}}
	e.Maker = workspace.Copier{}
}

func (e *Engine) starts() string   { return filepath.Join(e.Data, "starts") }
func (e *Engine) prepared() string { return filepath.Join(e.Data, "prepared") }
func (e *Engine) mirrors() string  { return filepath.Join(e.Data, "mirrors") }

// FirstUses is the folder in which lies what first uses left.
func (e *Engine) FirstUses() string { return filepath.Join(e.Data, "first-uses") }

// Hands is the folder in which persons work.
func (e *Engine) Hands() string { return filepath.Join(e.Data, "hand") }

// Scratch is the folder in which bouts live while they run.
func (e *Engine) Scratch() string { return filepath.Join(e.Data, "scratch") }

// Job is a bout as the engine sees it.
type Job struct {
	ID        string
	Task      *task.Task
	Commit    string
	Contender *contender.Contender
	Limits    task.Limits
	Seed      specfile.Seed
	// Guidance is written into the workspace under the contender's name for it; ""
	// for none.
	Guidance string
	// FirstUse is what a first use of the tool in this repository left; nil for none.
	FirstUse *FirstUse
	// Prices are those by which the limit of spending is watched.
	Prices ledger.Prices
	// VoidRefused and VoidOtherModel end a bout, which is void then, when its model
	// service refuses, or when a model replies that the contender does not expect.
	VoidRefused, VoidOtherModel bool
	// Happened takes what happened while the contender worked, in batches, with the
	// moment at which the bout's clock began.
	Happened func(clock time.Time, events []timeline.Event, exchanges []*meter.Exchange, spent Spent)
}

// VoidError says that a bout is void, and why.
type VoidError struct {
	Reason verdict.Reason
	Detail string
	Log    []byte
}

func (e *VoidError) Error() string { return string(e.Reason) + ": " + e.Detail }

// voidOf turns an error of a step into the reason why a bout is void.
func voidOf(err error) *VoidError {
	var void *VoidError
	if errors.As(err, &void) {
		return void
	}
	var shake *drive.HandshakeError
	if errors.As(err, &shake) {
		return &VoidError{Reason: verdict.HandshakeFailed, Detail: err.Error()}
	}
	var missing *drive.MissingError
	var start *confine.StartError
	if errors.As(err, &missing) || errors.As(err, &start) {
		return &VoidError{Reason: verdict.CannotStart, Detail: err.Error()}
	}
	return &VoidError{Reason: verdict.HarnessFault, Detail: err.Error()}
}

// Void is the reason of a void bout for an error that Work or Judge returned.
func Void(err error) *VoidError { return voidOf(err) }

// LimitReasons are the verdicts' reasons for the limits of the machine's resources.
func LimitReasons() map[string]verdict.Reason {
	return map[string]verdict.Reason{string(confine.LimitMemory): verdict.MemoryLimit, string(confine.LimitDisk): verdict.DiskLimit, string(confine.LimitCPU): verdict.CPULimit}
}

// bounds are the limits of one command of a bout. p is what its folders begin with.
func bounds(l task.Limits, p *workspace.Prepared) confine.Limits {
	out := confine.Limits{Memory: int64(l.Memory), CPU: l.CPU.Std(), Disk: int64(l.Disk), Files: int64(l.Files), Processes: uint64(l.Processes), OpenFiles: uint64(l.OpenFiles)}
	if p != nil {
		out.DiskFrom, out.FilesFrom = p.DiskBytes, p.DiskFiles
	}
	return out
}

// gate is a lock of its own for each name, so that a thing is made once.
func (e *Engine) gate(name string) *sync.Mutex {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.gates[name] == nil {
		e.gates[name] = &sync.Mutex{}
	}
	return e.gates[name]
}

// Leave says that the service is about to end: folders of bouts are left to the next
// one, since removing what a contender made can take any time.
func (e *Engine) Leave() { e.leaving.Store(true) }

// remove frees a folder of a bout.
func (e *Engine) remove(dir string) error {
	if e.leaving.Load() {
		return nil
	}
	return beneath.RemoveTree(dir)
}

// own gives a bout an id of its own for as long as it has something open; give takes it
// back. As root, what concurrent bouts leave belongs to different users.
func (e *Engine) own(id string) confine.Owner {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.owners == nil {
		e.owners = map[string]*held{}
	}
	h := e.owners[id]
	if h == nil {
		h = &held{}
		taken := map[int]bool{}
		for _, other := range e.owners {
			taken[other.number] = true
		}
		if e.NumbersOwners {
			for h.number = 0; taken[h.number] && h.number < confine.MaxOwners; h.number++ {
			}
		}
		e.owners[id] = h
	}
	h.times++
	return e.owner().Numbered(h.number)
}

func (e *Engine) give(id string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if h := e.owners[id]; h != nil {
		if h.times--; h.times <= 0 {
			delete(e.owners, id)
		}
	}
}

// held is an id that a bout has.
type held struct{ number, times int }

func (e *Engine) copyOptions() workspace.CopyOptions { return e.copyOptionsOf(e.owner()) }

func (e *Engine) copyOptionsOf(owner confine.Owner) workspace.CopyOptions {
	return workspace.CopyOptions{Owned: owner.Root && e.Capability.Mode == confine.Namespaces, UID: owner.UID, GID: owner.GID}
}

func (e *Engine) owner() confine.Owner { return confine.CurrentOwner() }

// Hide covers files and folders for every command of every bout that is started from
// now on, until Unhide: a contest's, since its tasks can lie beside each other's answers.
func (e *Engine) Hide(of string, names []string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.hide == nil {
		e.hide = map[string][]string{}
	}
	e.hide[of] = names
}

// Unhide takes back what Hide said.
func (e *Engine) Unhide(of string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.hide, of)
}

func (e *Engine) hidden() []string {
	e.mu.Lock()
	defer e.mu.Unlock()
	var out []string
	for _, names := range e.hide {
		out = append(out, names...)
	}
	return out
}

// Secret are the files and folders of a task that a contender must not see.
func Secret(t *task.Task) []string {
	out := []string{t.File}
	if !task.IsURL(t.Repository) {
		out = append(out, t.RepositoryAddress())
	}
	files, folders := task.Names(t.File, t.Source)
	return append(append(out, files...), folders...)
}

// world is what every command of a bout on this task sees.
func (e *Engine) world(t *task.Task, w, home, tmp, root string) confine.World {
	hide := append(Secret(t), e.hidden()...)
	var reads []string
	for _, name := range t.Reads {
		if rest, ok := strings.CutPrefix(name, "~/"); ok {
			home, err := os.UserHomeDir()
			if err != nil {
				continue // a service without a home folder has nothing there
			}
			name = filepath.Join(home, rest)
		}
		reads = append(reads, name)
	}
	return confine.World{Reads: reads, Mode: e.Capability.Mode, Owner: e.owner(), Workspace: w, Home: home, Tmp: tmp, Root: root, Path: e.Path, Hide: hide, Keep: []string{e.Data}}
}

func (e *Engine) worldOf(t *task.Task, w *workspace.Workspace, owner confine.Owner) confine.World {
	world := e.world(t, w.Tree(), w.Home(), w.Tmp(), w.Root())
	world.Owner = owner
	world.HomeLower, world.HomeWork = w.HomeLayer()
	return world
}

// lastReference is the reference of the last stage that has one: it is for all stages
// before it too.
func lastReference(t *task.Task) []byte {
	for _, s := range slices.Backward(t.Stages) {
		if s.Reference != nil {
			return s.Reference
		}
	}
	return nil
}

// submodules finds those of a start commit, once for as long as the service runs: each bout
// asks, and what cannot be reached takes its time.
func (e *Engine) submodules(ctx context.Context, address, commit string) ([]workspace.Submodule, error) {
	key := address + "\x00" + commit
	e.mu.Lock()
	known, ok := e.subs[key]
	e.mu.Unlock()
	if ok && workspace.StartsAreThere(known) { // they may have been pruned
		return known, nil
	}
	subs, err := e.Repositories.Submodules(ctx, e.starts(), address, commit)
	if err != nil || ctx.Err() != nil {
		return subs, errors.Join(err, ctx.Err())
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.subs == nil {
		e.subs = map[string][]workspace.Submodule{}
	}
	e.subs[key] = subs
	return subs, nil
}

// Prepare returns the prepared state of a task, made now if it is not there.
// say is called when there is something that takes time.
func (e *Engine) Prepare(ctx context.Context, t *task.Task, commit string, limits task.Limits, say func(string)) (*workspace.Prepared, error) {
	gate := e.gate(t.RepositoryAddress() + "\x00" + commit)
	gate.Lock()
	defer gate.Unlock()
	start, err := e.Repositories.StartRepository(ctx, e.starts(), t.RepositoryAddress(), commit)
	if err != nil {
		return nil, voidOf(err)
	}
	subs, err := e.submodules(ctx, t.RepositoryAddress(), commit)
	if err != nil {
		return nil, voidOf(err)
	}
	p, err := e.Git.Prepare(ctx, e.prepared(), start, commit, t.Prepare, patch.Prefixed(lastReference(t)), subs, e.copyOptions(), func(ctx context.Context, ws, home, tmp string) (time.Duration, error) {
		say("preparing " + filepath.Base(t.Repository) + " (once): " + firstLine(t.Prepare))
		root := filepath.Join(filepath.Dir(tmp), "root")
		if err := os.Mkdir(root, 0o755); err != nil {
			return 0, err
		}
		defer os.Remove(root)
		if opt := e.copyOptions(); opt.Owned {
			for _, dir := range []string{ws, home, tmp} {
				if err := beneath.ChownTree(ctx, dir, opt.UID, opt.GID); err != nil {
					return 0, err
				}
			}
		}
		world := e.world(t, ws, home, tmp, root)
		world.Limits = bounds(limits, nil)
		out := confine.NewOutput(int64(limits.Output))
		res, err := confine.Run(ctx, world.Spec([]string{"sh", "-c", t.Prepare}, nil), confine.IO{Stdout: out, Stderr: out}, limits.Prepare.Std())
		if err != nil {
			return 0, err
		}
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		if res.TimedOut || res.Failed() {
			why := fmt.Sprintf("exit status %d", res.ExitCode)
			if res.Limit != "" {
				why = res.LimitDetail
			} else if res.TimedOut {
				why = "not done after " + limits.Prepare.Std().String()
			}
			return 0, &VoidError{Reason: verdict.PrepareFailed, Detail: strings.TrimSuffix(why+": "+judge.End(out.Bytes(), 1, 300), ": "), Log: out.Bytes()}
		}
		return res.Elapsed, nil
	})
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, voidOf(err)
	}
	return p, nil
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return line
}

func lastLine(b []byte) string {
	s := strings.TrimSpace(string(b))
	return s[strings.LastIndexByte(s, '\n')+1:]
}
