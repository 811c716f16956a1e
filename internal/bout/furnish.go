package bout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/meter"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// handOver is what every program of the contender is started with.
func (s *Session) handOver() drive.HandOver {
	return drive.HandOver{Contender: s.job.Contender, Seed: s.job.Seed, World: s.world, MeterURL: s.observer.url(), Keep: int64(s.job.Limits.Output), Seen: s.observer.seen,
		Breached: func(limit confine.LimitKind, detail string) { s.observer.end(LimitReasons()[string(limit)], detail) }}
}

// place lays out the attached files and, in a fresh workspace, writes the guidance.
func (s *Session) place(fresh bool) error {
	own := func(root *os.Root, name string) error {
		if opt := s.copyOptions(); opt.Owned && s.job.Contender.Drive != contender.DriveHand {
			return root.Lchown(name, opt.UID, opt.GID)
		}
		return nil
	}
	g := s.job.Contender.Guidance
	if g != nil && s.job.Guidance != "" {
		s.placed = map[string][]byte{g.As: []byte(strings.TrimRight(s.job.Guidance, "\n") + "\n")}
	}
	if fresh && len(s.placed) > 0 {
		root, err := os.OpenRoot(s.w.Tree())
		if err != nil {
			return err
		}
		defer root.Close()
		name := filepath.FromSlash(g.As)
		if dir := filepath.Dir(name); dir != "." {
			if err := root.MkdirAll(dir, 0o755); err != nil {
				return fmt.Errorf("guidance: %w", err)
			}
			for d := dir; d != "."; d = filepath.Dir(d) {
				if err := own(root, d); err != nil {
					return err
				}
			}
		}
		if err := root.WriteFile(name, s.placed[g.As], 0o644); err != nil {
			return fmt.Errorf("guidance: %w", err)
		}
		if err := own(root, name); err != nil {
			return err
		}
	}
	if len(s.job.Task.Attached) == 0 {
		return nil
	}
	dir := filepath.Join(s.dir, "attachments")
	if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	s.world.Attachments = dir
	for _, a := range s.job.Task.Attached {
		if err := os.WriteFile(filepath.Join(dir, a.Name), a.Data, 0o644); err != nil {
			return err
		}
		s.attached = append(s.attached, filepath.Join(s.world.AttachmentsPath(), a.Name))
	}
	return nil
}

// lookAtGuidance says what became of the guidance, which is a part of the change
// only where the tool changed it.
func (s *Session) lookAtGuidance() {
	s.GuidanceChanged = ""
	for name, text := range s.placed {
		now := s.read(name)
		switch {
		case now == nil:
			s.GuidanceChanged = "the guidance " + name + " was taken away"
		case !bytes.Equal(now, text):
			s.GuidanceChanged = "the guidance " + name + " was changed; it is a part of the change now"
		}
	}
}

func (s *Session) captureLimits() workspace.Limits {
	c := s.job.Contender
	return workspace.Limits{File: int64(s.job.Limits.File), Total: maxTotal(s.job.Limits.File), Secrets: drive.Secrets(c), Placed: s.placed, Except: func(name string) bool {
		return name == c.AnswerFile && name != "" || c.FirstUse != nil && matches(c.FirstUse.Keep, name)
	}}
}

func matches(patterns []string, name string) bool {
	for _, p := range patterns {
		if ok, _ := doublestar.Match(p, name); ok {
			return true
		}
	}
	return false
}

// versionTime is how long a tool may take to tell its version.
const versionTime = 5 * time.Second

// askVersion asks the tool for its version, before the clock starts: in an empty
// repository that is thrown away, without the meter and without the bout's brief, so
// that there is nothing it could begin to work on.
func (s *Session) askVersion(ctx context.Context) error {
	run := s.job.Contender.VersionCommand
	if len(run) == 0 {
		return nil
	}
	aside := filepath.Join(s.dir, "version")
	if err := os.Mkdir(aside, 0o711); err != nil {
		return err
	}
	defer beneath.RemoveTree(aside)
	out := confine.NewOutput(8 << 10)
	h := s.handOver()
	h.Output, h.Limit, h.MeterURL, h.Attachments = out, versionTime, "", nil
	h.World.Listen, h.World.NoNetwork, h.World.Brief, h.World.Attachments = 0, s.e.Capability.CutsNetwork, "", ""
	h.World.HomeLower, h.World.HomeWork = "", ""
	opt := s.copyOptions()
	for into, name := range map[*string]string{&h.World.Workspace: "workspace", &h.World.Home: "home", &h.World.Tmp: "tmp", &h.World.Root: "root"} {
		*into = filepath.Join(aside, name)
		if err := os.Mkdir(*into, 0o700); err != nil {
			return err
		}
	}
	if err := s.e.Git.Empty(ctx, h.World.Workspace); err != nil {
		return err
	}
	values := h.Values()
	delete(values, contender.Brief)
	if err := drive.Carry(s.job.Contender, h.World.Home, opt, values); err != nil {
		return err
	}
	if opt.Owned {
		for _, dir := range []string{h.World.Workspace, h.World.Home, h.World.Tmp, h.World.Root} {
			if err := beneath.ChownTree(ctx, dir, opt.UID, opt.GID); err != nil {
				return err
			}
		}
	}
	res, err := drive.Aside(ctx, h, run)
	switch {
	case err != nil:
		return err
	case res.TimedOut:
		s.Version = "not told within " + versionTime.String()
	case res.Failed():
		s.Version = fmt.Sprintf("not told: exit status %d", res.ExitCode)
	default:
		s.Version = strike(shortLine(string(out.Bytes())), drive.Secrets(s.job.Contender))
	}
	return nil
}

// shortLine is the first line of a text, at most 200 characters of it.
func shortLine(text string) string {
	line := []rune(strings.ToValidUTF8(firstLine(text), "\ufffd"))
	return strings.TrimSpace(string(line[:min(len(line), 200)]))
}

// FirstUse is what came of a contender's first use of a repository.
type FirstUse struct {
	// Dir holds what it left: home and tree, folders each.
	Dir string
	// Elapsed is how long it took.
	Elapsed time.Duration
	// Exchanges are those that were metered.
	Exchanges []ledger.Exchange
	Log       []byte
	Version   string
	// Trouble says in words why it came to nothing; "" where it went well.
	Trouble string
}

// DefaultFirstUse is how long a first use may take.
const DefaultFirstUse = 30 * time.Minute

// UseFirst runs a contender's first use in a fresh copy of a task's repository, and
// keeps in dir what it left in HOME and, by its patterns, in the workspace.
func (e *Engine) UseFirst(ctx context.Context, j Job, p *workspace.Prepared, dir string) (*FirstUse, error) {
	use := &FirstUse{Dir: dir}
	f := j.Contender.FirstUse
	j.Happened = func(_ time.Time, _ []timeline.Event, seen []*meter.Exchange, _ Spent) {
		for _, x := range seen {
			use.Exchanges = append(use.Exchanges, x.Ledger())
		}
	}
	s, err := e.Open(ctx, j, p)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	out := confine.NewOutput(int64(j.Limits.Output))
	limit := f.Time.Std()
	if limit == 0 {
		limit = DefaultFirstUse
	}
	h := s.handOver()
	h.Output, h.Limit = out, limit
	use.Version = s.Version
	ended, _, err := s.observer.run(ctx, 1, h, func(ctx context.Context, h drive.HandOver) (drive.Ended, error) {
		res, err := drive.Aside(ctx, h, f.Run)
		return drive.Ended{Result: res}, err
	})
	if err != nil {
		return nil, voidOf(err)
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	s.observer.watch.Changed(nil)
	use.Elapsed, use.Log = ended.Elapsed, out.Bytes()
	if struck := workspace.Strike(use.Log, drive.Secrets(j.Contender)); struck != nil {
		use.Log = struck
	}
	reason, _ := s.observer.why()
	switch {
	case reason != "":
		use.Trouble = "stopped: " + verdict.Reasons()[reason]
	case ended.Failed():
		use.Trouble = strings.TrimSuffix(fmt.Sprintf("exit status %d: %s", ended.ExitCode, lastLine(use.Log)), ": ")
	}
	s.observer.close() // tells what is left of the exchanges
	if use.Trouble != "" {
		return use, nil
	}
	return use, use.keep(s)
}

// keep copies what the first use left: of HOME what the prepared one does not have
// just so, of the workspace what the contender names.
func (u *FirstUse) keep(s *Session) error {
	lower, home := s.w.Prepared.Home(), s.w.Home()
	if err := os.MkdirAll(u.Dir, 0o700); err != nil {
		return err
	}
	now, err := beneath.Open(home)
	if err != nil {
		return err
	}
	defer now.Close()
	before, err := beneath.Open(lower)
	if err != nil {
		return err
	}
	defer before.Close()
	if err := workspace.CopyTree(home, filepath.Join(u.Dir, "home"), workspace.CopyOptions{Skip: func(name string, dir bool) bool {
		if dir {
			return false
		}
		a, errA := now.Lstat(name)
		b, errB := before.Lstat(name)
		return errA == nil && errB == nil && a.Size == b.Size && a.Mtim == b.Mtim && a.Mode == b.Mode
	}}); err != nil {
		return fmt.Errorf("keep what the first use left: %w", err)
	}
	patterns := s.job.Contender.FirstUse.Keep
	if len(patterns) == 0 {
		return nil
	}
	return workspace.CopyTree(s.w.Tree(), filepath.Join(u.Dir, "tree"), workspace.CopyOptions{Skip: func(name string, dir bool) bool {
		return name == ".git" || !dir && !matches(patterns, name)
	}})
}

// carry lays what a first use left into a bout's workspace and HOME.
func (u *FirstUse) carry(s *Session) error {
	if u == nil || u.Dir == "" {
		return nil
	}
	for from, to := range map[string]string{"home": s.w.Home(), "tree": s.w.Tree()} {
		from = filepath.Join(u.Dir, from)
		if _, err := os.Stat(from); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err := workspace.CopyTree(from, to, s.copyOptions()); err != nil {
			return fmt.Errorf("carry what the first use left: %w", err)
		}
	}
	return nil
}
