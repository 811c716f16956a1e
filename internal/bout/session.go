package bout

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/verdict"
	"agonometer/internal/core/wire"
)

// Worked is what came of a hand-over.
type Worked struct {
	Result confine.Result
	// Limit is the limit at which the tool was stopped; empty for none. LimitDetail
	// says more.
	Limit       verdict.Reason
	LimitDetail string
	// Working is how long the tool worked, without the waits that its pace asked for.
	Working time.Duration
	// Reported is what the tool says it used; nil where it says nothing.
	Reported *ledger.Told
	Captured *workspace.Captured
	Log      []byte
	LogCut   int64
	// Answer is the closing message: standard output, or the contender's answer file.
	Answer []byte
	// Step is what this round changed, for people; Captured is against the start.
	Step []byte
	// Words are those that were really handed over.
	Words string
	// Recording is what a terminal showed, as an asciicast.
	Recording []byte
	// Protocol is what the tool told over the protocol that it used.
	Protocol *ledger.Told
	// CaptureMS is what taking the change out cost, in milliseconds.
	CaptureMS int64
}

// leastTotal is how much of a change is captured in all, in bytes, unless a task wants
// larger files: a change is held in memory, in more forms than one.
const leastTotal = 64 << 20

func maxTotal(file specfile.Size) int64 { return max(leastTotal, 2*int64(file)) }

// maxAnswer is how much of a closing message is kept, in bytes.
const maxAnswer = 1 << 20

// Session is a contender's workspace while its bout lasts: round after round.
type Session struct {
	e     *Engine
	job   Job
	w     *workspace.Workspace
	tree  string // that of the last capture
	dir   string
	world confine.World
	owner confine.Owner
	owned bool // whether owner is to be given back
	// WorkspaceMS and HomeMS are what copying cost, in milliseconds.
	WorkspaceMS, HomeMS int64
	HomeBytes           int64
	// HomeLayered is set when HOME was a private layer over the prepared one.
	HomeLayered bool
	// Kept is the workspace's folder where it is kept.
	Kept string
	// Network is open or meter-only, as it really is; Metered tells whether the
	// meter stands before the model service.
	Network string
	Metered bool

	// Version is what the tool says that it is; "" where it says nothing.
	Version string
	// GuidanceChanged says in words what the tool did to its guidance; "" for nothing.
	GuidanceChanged string

	observer *observer
	driver   drive.Driver
	placed   map[string][]byte
	attached []string // as the tool sees them
	round    int
}

// Open makes a contender's workspace. Close gives it back.
func (e *Engine) Open(ctx context.Context, j Job, p *workspace.Prepared) (*Session, error) {
	s := &Session{e: e, job: j, dir: filepath.Join(e.Scratch(), j.ID), HomeBytes: p.HomeBytes, driver: drive.For(j.Contender), owner: e.own(j.ID), owned: true}
	maker := e.Maker
	if j.Contender.Drive == contender.DriveACP {
		maker = workspace.Copier{} // its commands run beside it: two cannot have one layer
	}
	var err error
	if s.w, err = maker.Make(ctx, p, s.dir, s.copyOptions()); err == nil {
		err = s.furnish(ctx)
	}
	if err != nil {
		s.Close()
		return nil, voidOf(err)
	}
	lower, _ := s.w.HomeLayer()
	s.WorkspaceMS, s.HomeMS, s.HomeLayered = s.w.PrepareMS, s.w.HomeMS, lower != ""
	if e.KeepWorkspaces {
		s.Kept = s.dir
	}
	return s, nil
}

// copyOptions say to whom what is copied for the contender belongs.
func (s *Session) copyOptions() workspace.CopyOptions { return s.e.copyOptionsOf(s.owner) }

func (s *Session) furnish(ctx context.Context) error {
	s.world = s.e.worldOf(s.job.Task, s.w, s.owner)
	s.world.Limits = bounds(s.job.Limits, s.w.Prepared)
	s.world.Hide = append(s.world.Hide, s.job.Contender.Path)
	s.world.Brief = filepath.Join(s.dir, "brief.md")
	if err := s.place(true); err != nil {
		return err
	}
	if err := s.job.FirstUse.carry(s); err != nil {
		return err
	}
	if err := s.observe(); err != nil {
		return err
	}
	h := s.handOver()
	values := h.Values()
	delete(values, contender.Brief)
	if err := drive.Carry(s.job.Contender, s.w.Home(), s.copyOptions(), values); err != nil {
		return err
	}
	for _, name := range s.job.Contender.Reads {
		place, err := drive.Place(s.job.Contender, name)
		if err != nil {
			return err
		}
		s.world.Reads = append(s.world.Reads, place)
	}
	return s.askVersion(ctx)
}

// Close frees the workspace, unless workspaces are kept.
func (s *Session) Close() {
	s.driver.Close()
	if s.owned {
		s.owned = false
		defer s.e.give(s.job.ID)
	}
	if s.observer != nil {
		s.observer.close()
	}
	if s.e.KeepWorkspaces {
		return
	}
	if err := s.e.remove(s.dir); err != nil {
		s.e.Log.Warn("a workspace could not be removed", "bout", s.job.ID, "error", err)
	}
}

// HandOver hands words over, waits for the tool's end and captures the change
// against the start. again is set in later rounds; left is the time that may be
// used; working is called at the hand-over.
func (s *Session) HandOver(ctx context.Context, words string, again bool, left time.Duration, working func()) (*Worked, error) {
	if s.job.Contender.MentionAttachments() && !again {
		words = task.Mention(words, s.attached)
	}
	if err := os.WriteFile(s.world.Brief, []byte(words+"\n"), 0o644); err != nil {
		return nil, voidOf(err)
	}
	out := confine.NewOutput(int64(s.job.Limits.Output))
	said := confine.NewOutput(maxAnswer)
	working()
	s.round++
	seen := s.observer.watch.Output()
	both := io.MultiWriter(out, seen)
	stdout := io.MultiWriter(out, seen, said)
	var reports *wire.Reply
	if r := s.job.Contender.Reports; r != nil {
		reports = r.Reading().Reply(wire.FormLines)
		stdout = io.MultiWriter(stdout, reports)
	}
	h := s.handOver()
	h.Again, h.Brief, h.Limit, h.Output, h.Stdout = again, words, left, both, stdout
	if !again {
		h.Attachments = s.attached
	}
	ended, spent, err := s.observer.work(ctx, s.round, h)
	if err != nil {
		return nil, voidOf(err)
	}
	res := ended.Result
	if ended.Version != "" && s.Version == "" {
		s.Version = ended.Version
	}
	reason, detail := s.observer.why()
	if (reason == verdict.TimeLimit || reason == verdict.QuietLimit) && ended.LastLine != "" {
		detail = strings.TrimPrefix(detail+"; the last that it printed: "+ended.LastLine, "; ")
	}
	if ctx.Err() != nil || reason.Service() {
		s.observer.watch.Changed(nil) // what happened until then is told all the same
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if reason.Service() {
		return nil, &VoidError{Reason: reason, Detail: detail, Log: out.Bytes()}
	}
	s.driver.Freeze()
	if reason == verdict.DiskLimit { // it ends here: room for taking out what it did
		s.driver.Close()
		for _, dir := range []string{s.w.Tmp(), s.w.Home()} {
			_ = beneath.RemoveTree(dir)
		}
	}
	worked, err := s.capture(ctx, again)
	s.driver.Thaw()
	if err != nil && ctx.Err() == nil && reason == "" && diskFull(err) && s.wroteMuch() {
		reason, detail = verdict.DiskLimit, "it filled the disk"
	}
	if err != nil && ctx.Err() == nil && reason == verdict.DiskLimit {
		// Its own doing: what it wrote leaves no room for taking out what it did.
		s.e.Log.Warn("what a contender wrote could not be taken out of a full disk", "bout", s.job.ID, "error", err)
		s.observer.changed()
		worked, err = &Worked{Captured: &workspace.Captured{Tree: s.w.Prepared.Tree}}, nil
		detail += "; what it had changed could not be taken out any more"
	}
	if err != nil {
		return nil, err
	}
	res.TimedOut = reason == verdict.TimeLimit
	worked.Limit, worked.LimitDetail, worked.Working, worked.Result = reason, detail, spent, res
	worked.Words, worked.Recording, worked.Protocol = words, ended.Recording, ended.Protocol
	worked.Log, worked.LogCut, worked.Answer = out.Bytes(), out.Cut(), said.Bytes()
	if reports != nil {
		worked.Reported = s.job.Contender.Reports.Told(reports.Read())
	}
	if ended.Answer != nil {
		worked.Answer = ended.Answer
	}
	if name := s.job.Contender.AnswerFile; name != "" {
		worked.Answer = s.read(name)
	}
	secrets := drive.Secrets(s.job.Contender)
	if drive.Shows(worked.Recording, secrets) {
		worked.Recording = nil // its pieces cannot be mended one by one
		worked.Log = append(worked.Log, "\n(the recording was left out: it showed a kept key)\n"...)
	}
	worked.LimitDetail = strike(worked.LimitDetail, secrets)
	for _, text := range []*[]byte{&worked.Log, &worked.Answer} {
		if struck := workspace.Strike(*text, secrets); struck != nil {
			*text = struck
		}
	}
	return worked, nil
}

// diskFull tells whether an error, of a call or of git, says that there is no room left.
func diskFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || strings.Contains(err.Error(), "No space left on device") || strings.Contains(err.Error(), "quota exceeded")
}

// muchWritten is how much a contender must have written to have filled a disk, in bytes
// and in files.
const (
	muchWritten = 32 << 20
	muchFiles   = 10_000
)

// wroteMuch tells whether the contender wrote so much that a full disk is its own doing.
func (s *Session) wroteMuch() bool {
	var bytes, files int64
	for _, dir := range []string{s.w.Tree(), s.w.Home(), s.w.Tmp()} {
		d, err := beneath.Open(dir)
		if err != nil {
			continue
		}
		b, f, _ := beneath.Usage(d)
		d.Close()
		bytes, files = bytes+b, files+f
	}
	p := s.w.Prepared
	return bytes-p.DiskBytes > muchWritten || files-p.DiskFiles > muchFiles
}

// strike takes kept keys out of a text.
func strike(text string, secrets []string) string {
	if struck := workspace.Strike([]byte(text), secrets); struck != nil {
		return string(struck)
	}
	return text
}

// capture takes the change out of the workspace, in which nothing runs.
func (s *Session) capture(ctx context.Context, again bool) (*Worked, error) {
	began := time.Now()
	captured, err := s.e.Git.Capture(ctx, s.w, s.captureLimits())
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, voidOf(fmt.Errorf("capture: %w", err))
	}
	if s.tree == "" {
		s.tree = s.w.Prepared.Tree
	}
	step := captured.Shown
	if again {
		if step, err = s.e.Git.Step(ctx, s.w, s.tree, captured.Tree); err != nil {
			return nil, voidOf(fmt.Errorf("capture: %w", err))
		}
	}
	s.tree = captured.Tree
	s.observer.changed(captured.Shown, step)
	s.lookAtGuidance()
	return &Worked{Step: step, Captured: captured, CaptureMS: time.Since(began).Milliseconds()}, nil
}

// read reads a file of the workspace; nil where there is no such regular file.
func (s *Session) read(name string) []byte {
	root, err := os.OpenRoot(s.w.Tree())
	if err != nil {
		return nil
	}
	defer root.Close()
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		return nil
	}
	data, _ := io.ReadAll(io.LimitReader(f, maxAnswer))
	return data
}

// Here runs a check in the workspace as the tool left it: with its HOME, its
// ignored files and its tests. laid is put over the workspace first, so this is
// the last that happens in it.
func (s *Session) Here(ctx context.Context, c task.Check, laid workspace.Laid) (*judge.Result, error) {
	s.driver.Close()
	if err := s.w.Lay(laid); err != nil {
		return nil, voidOf(err)
	}
	if opt := s.copyOptions(); opt.Owned {
		if err := beneath.ChownTree(ctx, s.w.Tree(), opt.UID, opt.GID); err != nil {
			return nil, voidOf(err)
		}
	}
	world := s.world
	world.Brief, world.NoNetwork, world.Listen = "", false, 0
	if len(laid.Files) > 0 || c.Sealed || s.Network == string(contender.MeterOnly) {
		// What is sealed must not be carried out by the code that it looks at; and a
		// contender that may reach nothing but its meter left its code here.
		world.NoNetwork = s.job.Task.Network != task.NetworkNeeded && s.e.Capability.CutsNetwork
	}
	results, err := judge.Run(ctx, func(task.Check) (judge.Copy, error) { return judge.Copy{World: world, Tree: s.w.Tree()}, nil },
		[]task.Check{c}, judge.Options{Limits: s.job.Limits, Secrets: drive.Secrets(s.job.Contender)})
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, voidOf(err)
	}
	return &results[0], nil
}

// CaptureFolder takes the change out of a folder that was worked on elsewhere,
// against the start of a task.
func (e *Engine) CaptureFolder(ctx context.Context, id, folder string, p *workspace.Prepared, limits task.Limits) (*workspace.Captured, error) {
	dir := filepath.Join(e.Scratch(), id+"-import")
	if err := os.Mkdir(dir, 0o711); err != nil {
		return nil, err
	}
	defer beneath.RemoveTree(dir)
	w := &workspace.Workspace{Prepared: p, Dir: dir}
	st, err := os.Stat(folder)
	if err != nil {
		return nil, fmt.Errorf("no such folder on the service's machine: %s", folder)
	}
	if !st.IsDir() {
		return nil, fmt.Errorf("%s is no folder", folder)
	}
	if err := workspace.CopyTree(folder, w.Tree(), workspace.CopyOptions{Ctx: ctx, Skip: func(name string, dir bool) bool { return name == ".git" }}); err != nil {
		return nil, err
	}
	return e.Git.Capture(ctx, w, workspace.Limits{File: int64(limits.File), Total: maxTotal(limits.File)})
}

// firstFailing is the first check of a run that did not go well by itself.
func firstFailing(run outcome.Run) (string, bool) {
	for i := range run {
		if run[i].Ran && !run[i].OK() {
			return run[i].Check, true
		}
	}
	return "", false
}

// RepairWords are the words of a repair round: what failed in the visible run,
// as a person would paste it, in the contest's wording. {output} is replaced.
func RepairWords(template string, failing []judge.Result) string {
	var b strings.Builder
	for i := range failing {
		r := &failing[i]
		if i > 0 {
			b.WriteString("\n\n")
		}
		fmt.Fprintf(&b, "$ %s\n%s", strings.TrimSpace(r.Check.Run), shorten(r))
	}
	return strings.ReplaceAll(template, "{output}", b.String())
}

// maxPasted is how much of one check's output is handed back, in bytes.
const maxPasted = 8 << 10

// maxWhole is how many failures are handed back whole.
const maxWhole = 3

// shorten makes of a check's output what a person would paste: the first
// failures whole, the rest counted; of any other output its end.
func shorten(r *judge.Result) string {
	var b strings.Builder
	if r.Run.TimedOut {
		b.WriteString(r.Run.Trouble + "\n")
	}
	if r.Run.Reads.SeesTests() {
		shown, left := 0, 0
		for _, t := range r.Run.Tests {
			if t.Outcome != "failed" {
				continue
			}
			if shown >= maxWhole || b.Len() > maxPasted {
				left++
				continue
			}
			shown++
			fmt.Fprintf(&b, "%s\n%s\n", t.Name, strings.TrimRight(cutTo(t.Message, maxPasted/maxWhole), "\n"))
		}
		if left > 0 {
			fmt.Fprintf(&b, "... and %d more that failed\n", left)
		}
		if shown > 0 {
			return strings.TrimRight(b.String(), "\n")
		}
	}
	text := strings.TrimRight(strings.ToValidUTF8(string(r.Log), "\ufffd"), "\n")
	if len(text) > maxPasted {
		text = "... (the beginning is left out)\n" + strings.ToValidUTF8(text[len(text)-maxPasted:], "")
	}
	b.WriteString(text)
	if r.Run.ExitCode != 0 && !r.Run.TimedOut {
		fmt.Fprintf(&b, "\nexit status %d", r.Run.ExitCode)
	}
	return b.String()
}

func cutTo(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n], "") + "\n... (cut)"
}
