package bout

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// A bout that a person works has a session too: a workspace that belongs to the
// service's own user, watched in stretches of work between pauses. Nothing in it is
// run by Agonometer before it is judged, and judging uses a fresh copy as always.

// OpenHand makes the workspace in which a person works; where there is one already,
// from before the service was stopped, it is used as it is.
func (e *Engine) OpenHand(ctx context.Context, j Job, p *workspace.Prepared) (*Session, error) {
	s := &Session{e: e, job: j, dir: filepath.Join(e.Hands(), j.ID), driver: drive.For(j.Contender), owner: e.owner()}
	_, err := os.Stat(s.dir)
	fresh := err != nil
	if !fresh {
		s.w = &workspace.Workspace{Prepared: p, Dir: s.dir}
	} else if s.w, err = (workspace.Copier{LayerHome: true}).Make(ctx, p, s.dir, workspace.CopyOptions{}); err != nil {
		_ = beneath.RemoveTree(s.dir)
		return nil, voidOf(err)
	} else {
		s.WorkspaceMS = s.w.PrepareMS
	}
	s.world = s.e.worldOf(j.Task, s.w, e.owner())
	s.world.Mode = confine.ProcessGroup // a person sees the folders where they are
	if err := s.place(fresh); err != nil {
		return nil, voidOf(err)
	}
	if err := s.observe(); err != nil {
		return nil, err
	}
	s.Network = "" // the person's own; nothing is known of it
	return s, nil
}

// Tree is the workspace's folder on this machine.
func (s *Session) Tree() string { return s.w.Tree() }

// Attachments are the files that go with the brief, as a person finds them.
func (s *Session) Attachments() []string { return s.attached }

// MeterURL is what the tool may be told instead of its model service's address; ""
// where the contender has no meter.
func (s *Session) MeterURL() string { return s.observer.url() }

// Resume makes a session go on whose clock began at a moment, with the edits that
// are on record.
func (s *Session) Resume(clock time.Time, events []timeline.Event) {
	var edits []timeline.Event
	for _, e := range events {
		if e.Kind == timeline.Edit {
			edits = append(edits, e)
		}
	}
	s.observer.watch.Resume(clock, edits)
}

// BeginStretch begins a stretch of a person's work at a moment, in a round counted
// from 1.
func (s *Session) BeginStretch(round int, at time.Time) {
	if s.observer.line != nil {
		s.observer.line.Round(round)
	}
	s.round = round
	s.observer.watch.Begin(round, at)
	s.observer.watch.Run(0)
}

// CatchUp takes the edits that nobody watched, since a moment.
func (s *Session) CatchUp(since time.Time) { s.observer.watch.CatchUp(since) }

// EndStretch ends a stretch of work at a moment, and makes its record whole: edits of
// files that git ignores are told from the others by what has changed.
func (s *Session) EndStretch(ctx context.Context, at time.Time) error {
	s.observer.watch.EndRound(at)
	shot, err := s.Snapshot(ctx)
	if err != nil {
		s.observer.watch.Changed(nil)
		return err
	}
	s.observer.changed(shot.Shown)
	return nil
}

// At is a moment on the bout's clock, in microseconds.
func (s *Session) At(t time.Time) int64 { return s.observer.watch.At(t) }

// Touched are the files that were edited, with the moments of their last edits in
// microseconds.
func (s *Session) Touched() map[string]int64 { return s.observer.watch.Touched() }

// Stopped is closed when a limit of tokens or of spending was reached; Why says which.
func (s *Session) Stopped() <-chan struct{}      { return s.observer.stop }
func (s *Session) Why() (verdict.Reason, string) { return s.observer.why() }
func (s *Session) End(reason verdict.Reason)     { s.observer.end(reason, "") }
func (s *Session) Spent() Spent {
	s.observer.mu.Lock()
	defer s.observer.mu.Unlock()
	return s.observer.spent
}

// Snapshot is the change as it stands now; nothing is recorded.
func (s *Session) Snapshot(ctx context.Context) (*workspace.Captured, error) {
	return s.e.Git.Capture(ctx, s.w, s.captureLimits())
}

// Between is the change from one tree to another, both of snapshots.
func (s *Session) Between(ctx context.Context, from, to string) ([]byte, error) {
	return s.e.Git.Step(ctx, s.w, from, to)
}

// CaptureHand takes the change out of a person's workspace. again is set in later
// rounds, whose step is against the tree of the one before.
func (s *Session) CaptureHand(ctx context.Context, again bool, before string) (*Worked, error) {
	if again {
		s.tree = before
	}
	return s.capture(ctx, again)
}

// Leave stops looking without an end: the workspace stays, and OpenHand finds it again.
func (s *Session) Leave() {
	s.observer.watch.Leave()
	s.observer.close()
}

// Remove ends the session, and frees the workspace unless workspaces are kept.
func (s *Session) Remove() {
	s.observer.watch.Leave()
	s.Close()
}
