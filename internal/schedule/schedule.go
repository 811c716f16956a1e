// Package schedule says which bout runs when: contests one after the other,
// the bouts of a contest in its fair order, at most at_once together. It takes
// every bout through its states, stores what came of each step before the next
// begins, and goes on after a restart where the records end.
package schedule

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"agonometer/internal/bout"
	"agonometer/internal/bout/beneath"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// MaxReruns is how often a bout that is void by a fault is run again.
const MaxReruns = 2

// MaxInterruptions is how often a bout is run again because the service went away
// in the middle of it. A bout that brings the service down each time must not keep it
// from ever doing anything else.
const MaxInterruptions = 3

var (
	errStopped  = errors.New("stopped by a person")
	errShutdown = errors.New("the service is stopping")
)

// StateError says that something cannot be done in the state that a record is in.
type StateError struct{ Why string }

func (e *StateError) Error() string { return e.Why }

// Scheduler runs contests.
type Scheduler struct {
	store  *store.Store
	engine *bout.Engine
	log    *slog.Logger

	ctx    context.Context
	cancel context.CancelCauseFunc
	wake   chan struct{}
	done   chan struct{}

	voiding sync.Mutex // held while a contest's rest is declared void: that happens once

	mu      sync.Mutex
	current *running
	// stopped are bouts that a person stopped before they began: they do not begin. Each
	// is closed when that has been recorded.
	stopped map[string]chan struct{}
	// proving is the id of the proving that is being run, with what stops it.
	proving string
	// hands are the open bouts that persons work, by id.
	hands       map[string]*hand
	stopProving context.CancelCauseFunc
	rejudging   bool
}

// running is the contest that is being run.
type running struct {
	id     string
	cancel context.CancelCauseFunc
	active map[string]*activeBout
	// gates let what is known of a task before any contender be found out once.
	gates map[string]*sync.Mutex
}

// gate is a lock of its own for a task of the contest.
func (s *Scheduler) gate(cur *running, slug string) *sync.Mutex {
	s.mu.Lock()
	defer s.mu.Unlock()
	if cur.gates[slug] == nil {
		cur.gates[slug] = &sync.Mutex{}
	}
	return cur.gates[slug]
}

type activeBout struct {
	cancel context.CancelCauseFunc
	beside int
}

// New starts the scheduler: it takes up what an earlier service left, and then
// runs whatever is waiting. Close ends it.
func New(st *store.Store, engine *bout.Engine, log *slog.Logger) (*Scheduler, error) {
	s := &Scheduler{store: st, engine: engine, log: log, wake: make(chan struct{}, 1), done: make(chan struct{}), hands: map[string]*hand{}, stopped: map[string]chan struct{}{}}
	s.ctx, s.cancel = context.WithCancelCause(context.Background())
	if err := s.takeUp(); err != nil {
		return nil, err
	}
	go s.loop()
	if err := s.takeUpHands(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Close stops all work and waits until it has stopped. Bouts in the middle of
// their work stay as they are recorded; the next service takes them up.
func (s *Scheduler) Close() {
	s.engine.Leave()
	s.cancel(errShutdown)
	<-s.done
	s.closeHands()
}

// Create records a contest, to be run when its turn comes.
func (s *Scheduler) Create(ctx context.Context, c *contest.Contest, bundle *specfile.Bundle, seed specfile.Seed, drawn bool) (*store.Contest, error) {
	raw, err := json.Marshal(bundle)
	if err != nil {
		return nil, err
	}
	digest, err := s.store.Put(raw)
	if err != nil {
		return nil, err
	}
	var prices store.Digest
	if len(c.PriceSources) > 0 {
		text, err := json.Marshal(c.PriceSources)
		if err != nil {
			return nil, err
		}
		if prices, err = s.store.Put(text); err != nil {
			return nil, err
		}
	}
	now := time.Now().UTC()
	rate := ""
	if c.HourlyRate != nil {
		rate = c.HourlyRate.String()
	}
	row := &store.Contest{Prices: prices, HourlyRate: rate, ID: s.store.NewID(), Kind: store.KindContest, Name: string(c.File.Contest), Title: c.Title, State: store.ContestWaiting, Seed: int64(seed), SeedDrawn: drawn,
		Repeats: c.Repeats, AtOnce: c.AtOnce, Path: c.Path, Bundle: digest, CreatedAt: now}
	var tasks []store.ContestTask
	var contenders []store.ContestContender
	var contenderSlugs []specfile.Slug
	for i, t := range c.Tasks {
		one, err := s.taskRow(ctx, t, c.Commits[t.Task], Limits(c, t))
		if err != nil {
			return nil, err
		}
		one.ContestID, one.Position = row.ID, i
		tasks = append(tasks, *one)
	}
	driver := map[specfile.Slug]contender.Drive{}
	for i, con := range c.Contenders {
		contenderSlugs = append(contenderSlugs, con.Contender)
		driver[con.Contender] = con.Drive
		contenders = append(contenders, store.ContestContender{ContestID: row.ID, Position: i, Slug: string(con.Contender), Title: con.Title,
			Digest: con.Digest(), Source: string(con.Source), Path: con.Path, Guidance: c.GuidanceOf(con)})
	}
	var bouts []store.Bout
	for i, slot := range contest.Order(c.Items(), contenderSlugs, c.Repeats, seed) {
		bouts = append(bouts, store.Bout{ID: s.store.NewID(), ContestID: row.ID, Position: i, Task: string(slot.Task), Contender: string(slot.Contender), Wording: slot.Wording, Driver: driver[slot.Contender],
			Repeat: slot.Repeat, Seed: int64(contest.BoutSeed(seed, slot)), State: store.Waiting, CreatedAt: now})
	}
	if err := s.store.CreateContest(ctx, row, tasks, contenders, bouts); err != nil {
		return nil, err
	}
	s.poke()
	return row, nil
}

// taskRow is a task as the records have it.
func (s *Scheduler) taskRow(ctx context.Context, t *task.Task, commit string, limits task.Limits) (*store.ContestTask, error) {
	one := &store.ContestTask{Slug: string(t.Task), Title: t.Title, Repository: t.RepositoryAddress(), StartCommit: commit, Digest: t.Digest(commit), Size: string(t.Size),
		Labels: t.Labels, Checks: t.Checks, Limits: limits, Prepare: t.Prepare, Reads: t.Reads, Brief: t.Brief, Drafted: t.Drafted(), Wordings: t.Wordings, Attachments: []string{}, Kind: t.Kind}
	for _, a := range t.Attached {
		one.Attachments = append(one.Attachments, a.Name)
	}
	known, proving, err := s.store.Known(ctx, one.Slug, one.Digest)
	if err != nil {
		return nil, err
	}
	if one.Proved = known; proving != nil {
		one.ProvingID = proving.ID
	}
	return one, nil
}

// LimitsOf are Limits with what the contender's file says of the machine's resources: the
// contest's come first, then the contender's, then the task's.
func LimitsOf(c *contest.Contest, t *task.Task, con *contender.Contender) task.Limits {
	l := Limits(c, t)
	if con != nil && con.Limits != nil {
		l.Resources = c.File.Limits.Resources.Over(con.Limits.Over(l.Resources))
	}
	return l
}

// Limits are what a bout on a task of a contest may use: the contest's over
// the task's over the defaults.
func Limits(c *contest.Contest, t *task.Task) task.Limits {
	return c.File.Limits.Over(t.Limits.Over(task.Defaults()))
}

func (s *Scheduler) poke() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// takeUp makes the records of an earlier service right again: what was being
// worked on is void and run again; what was captured is judged later on.
func (s *Scheduler) takeUp() error {
	ctx := s.ctx
	bouts, err := s.store.Bouts(ctx, store.BoutFilter{States: []store.BoutState{store.Preparing, store.Working, store.Judging}})
	if err != nil {
		return err
	}
	for i := range bouts {
		b := &bouts[i]
		if b.Hand != nil { // a person goes on where they were
			continue
		}
		if b.State == store.Judging {
			if err := s.store.Advance(ctx, b, store.Captured, map[string]any{"captured_at": b.CapturedAt}); err != nil {
				return err
			}
			continue
		}
		before, err := s.store.Interruptions(ctx, b)
		if err != nil {
			return err
		}
		detail, again := "while "+string(b.State), s.store.Rerun(b)
		if before >= MaxInterruptions {
			detail, again = fmt.Sprintf("%s, and %d times before; it is not run again", detail, before), nil
		}
		s.log.Info("a bout was interrupted", "bout", b.ID, "state", b.State, "runs again", again != nil)
		v := verdict.Of(verdict.Facts{Void: verdict.Interrupted, VoidDetail: detail})
		if err := s.store.Finish(ctx, b, store.Judgement{Verdict: v}, again, nil); err != nil {
			return err
		}
	}
	provings, err := s.store.Provings(ctx, "", store.ProvingRunning)
	if err != nil {
		return err
	}
	for i := range provings {
		provings[i].State, provings[i].Doing = store.ProvingWaiting, ""
		if err := s.store.SetProving(ctx, &provings[i]); err != nil {
			return err
		}
	}
	return s.sweep(ctx)
}

// sweep removes the scratch folders that no kept workspace needs.
func (s *Scheduler) sweep(ctx context.Context) error {
	bouts, err := s.store.Bouts(ctx, store.BoutFilter{})
	if err != nil {
		return err
	}
	kept := map[string]bool{}
	for _, b := range bouts {
		if b.Kept != "" {
			kept[filepath.Base(b.Kept)] = true
		}
	}
	entries, err := os.ReadDir(s.engine.Scratch())
	if err != nil {
		return err
	}
	for _, e := range entries {
		// A bout's judging copies are named after it.
		if id, _, _ := strings.Cut(e.Name(), "-"); !kept[id] {
			if err := beneath.RemoveTree(filepath.Join(s.engine.Scratch(), e.Name())); err != nil {
				s.log.Warn("a left-over folder could not be removed", "folder", e.Name(), "error", err)
			}
		}
	}
	return nil
}

// loop runs contests in the order in which they were started.
func (s *Scheduler) loop() {
	defer close(s.done)
	for {
		if did, err := s.aside(); did || s.ctx.Err() != nil {
			if err != nil && s.ctx.Err() == nil {
				s.log.Error("a proving or a judging again cannot go on", "error", err)
			}
			if s.ctx.Err() != nil {
				return
			}
			continue
		}
		next, err := s.next()
		switch {
		case s.ctx.Err() != nil:
			return
		case err != nil:
			s.log.Error("the records cannot be read; trying again with the next contest", "error", err)
			next = nil
		}
		if next != nil {
			if err := s.run(next); err != nil && s.ctx.Err() == nil {
				s.log.Error("a contest cannot go on", "contest", next.ID, "error", err)
				if err := s.voidRest(next.ID, verdict.HarnessFault, "the contest cannot go on: "+err.Error()); err != nil {
					s.log.Error("nor can that be recorded", "contest", next.ID, "error", err)
					return
				}
			}
			continue
		}
		select {
		case <-s.wake:
		case <-s.ctx.Done():
			return
		}
	}
}

func (s *Scheduler) next() (*store.Contest, error) {
	all, err := s.store.Contests(s.ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range slices.Backward(all) {
		if c.State == store.ContestWaiting || c.State == store.ContestRunning || c.State == store.ContestStopping {
			return &c, nil
		}
	}
	return nil, nil
}

// recorded finds commits as a contest recorded them.
type recorded map[string]string

func (r recorded) ResolveCommit(repository, revision string) (string, error) {
	if id, ok := r[repository+"\x00"+revision]; ok {
		return id, nil
	}
	return "", errors.New("the contest's record does not have it")
}

// load reads a contest's files again, as they were when it was started.
func (s *Scheduler) load(row *store.Contest) (*contest.Contest, error) {
	raw, err := s.store.Get(row.Bundle)
	if err != nil {
		return nil, err
	}
	var b specfile.Bundle
	if err := json.Unmarshal(raw, &b); err != nil {
		return nil, fmt.Errorf("the contest's files: %w", err)
	}
	rows, err := s.store.Tasks(s.ctx, row.ID)
	if err != nil {
		return nil, err
	}
	known := recorded{}
	parsed := map[string]store.ContestTask{}
	for _, t := range rows {
		parsed[t.Slug] = t
	}
	for name, data := range b.Files {
		if contest.KindOf(name, data) != contest.KindTask {
			continue
		}
		t, _ := task.Parse(name, name, data, b.Files)
		known[t.RepositoryAddress()+"\x00"+t.StartCommit] = parsed[string(t.Task)].StartCommit
	}
	return contest.Load(&b, known)
}

// run runs one contest to its end, or until a person stops it.
func (s *Scheduler) run(row *store.Contest) error {
	ctx, cancel := context.WithCancelCause(s.ctx)
	defer cancel(nil)
	s.mu.Lock()
	cur := &running{id: row.ID, cancel: cancel, active: map[string]*activeBout{}, gates: map[string]*sync.Mutex{}}
	s.current = cur
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.current = nil
		s.mu.Unlock()
	}()
	err := s.bouts(ctx, cur, row)
	switch {
	case s.ctx.Err() != nil:
		return context.Cause(s.ctx)
	case errors.Is(context.Cause(ctx), errStopped):
		return s.voidRest(row.ID, verdict.StoppedByPerson, "the contest was stopped")
	}
	return err
}

// bouts runs the bouts of a contest; all that it started have ended when it returns.
func (s *Scheduler) bouts(ctx context.Context, cur *running, row *store.Contest) error {
	// A stop that came before this contest was the current one is in the records.
	now, err := s.store.Contest(ctx, row.ID)
	if err != nil {
		return err
	}
	switch now.State {
	case store.ContestStopped:
		return nil
	case store.ContestStopping:
		cur.cancel(errStopped)
		return nil
	}
	c, err := s.load(row)
	if err != nil {
		return err
	}
	if err := s.store.SetContestState(ctx, row.ID, store.ContestRunning); err != nil {
		return err
	}
	s.log.Info("a contest begins", "contest", row.ID, "name", row.Name)
	tasks := map[string]*task.Task{}
	for _, t := range c.Tasks {
		tasks[string(t.Task)] = t
	}
	contenders := map[string]*contender.Contender{}
	for _, con := range c.Contenders {
		contenders[string(con.Contender)] = con
	}
	secret := []string{c.Path}
	for _, con := range c.Contenders {
		secret = append(secret, con.Path)
	}
	for _, t := range c.Tasks {
		secret = append(secret, bout.Secret(t)...)
	}
	s.engine.Hide(row.ID, secret)
	defer s.engine.Unhide(row.ID)
	slots := make(chan struct{}, row.AtOnce)
	var wg sync.WaitGroup
	finished := make(chan struct{}, row.AtOnce)
	taken := map[string]bool{}
	inFlight := 0
	for ctx.Err() == nil {
		pending, err := s.store.Bouts(ctx, store.BoutFilter{ContestID: row.ID, States: []store.BoutState{store.Waiting, store.Captured}})
		if err != nil {
			if ctx.Err() != nil {
				break
			}
			wg.Wait()
			return err
		}
		pending = slices.DeleteFunc(pending, func(b store.Bout) bool { return b.Driver == contender.DriveHand })
		next := pick(pending, taken, time.Now())
		if next == nil {
			later := soonest(pending, taken)
			if inFlight == 0 && later.IsZero() {
				break
			}
			var due <-chan time.Time
			if !later.IsZero() {
				s.sayWaiting(pending, taken)
				due = time.After(time.Until(later))
			}
			select {
			case <-finished: // a bout that ends may leave a rerun behind
				inFlight--
			case <-due: // a bout that waited for its model service
			case <-ctx.Done():
			}
			continue
		}
		select {
		case slots <- struct{}{}:
		case <-ctx.Done():
			continue
		}
		taken[next.ID] = true
		inFlight++
		wg.Add(1)
		go func(b store.Bout) { // waited for at the end of run
			defer func() { <-slots; finished <- struct{}{}; wg.Done() }()
			s.one(ctx, cur, c, &b, tasks[b.Task], contenders[b.Contender])
		}(*next)
		// What has finished meanwhile is taken off the count without waiting.
		for drained := false; !drained; {
			select {
			case <-finished:
				inFlight--
			default:
				drained = true
			}
		}
	}
	go func() { // ends with the last bout, below
		for range finished {
		}
	}()
	wg.Wait()
	close(finished)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	left, err := s.leftToHand(s.ctx, row.ID)
	if err != nil {
		return err
	}
	if len(left) > 0 {
		s.log.Info("a contest waits for bouts that are worked by hand", "contest", row.ID, "bouts", len(left))
		return s.store.SetContestState(s.ctx, row.ID, store.ContestByHand)
	}
	if err := s.settleHandshakes(row.ID); err != nil {
		return err
	}
	s.log.Info("a contest has ended", "contest", row.ID)
	return s.store.SetContestState(s.ctx, row.ID, store.ContestDone)
}

// pick is the bout that is next in order: first those that only want judging, then reruns last.
func pick(pending []store.Bout, taken map[string]bool, now time.Time) *store.Bout {
	var best *store.Bout
	rank := func(b *store.Bout) [3]int {
		judged := 1
		if b.State == store.Captured {
			judged = 0
		}
		return [3]int{judged, b.Rerun, b.Position}
	}
	for i := range pending {
		b := &pending[i]
		if taken[b.ID] || b.NotBefore != nil && now.Before(*b.NotBefore) {
			continue
		}
		if best == nil || slices.Compare(first(rank(b)), first(rank(best))) < 0 {
			best = b
		}
	}
	return best
}

func first(a [3]int) []int { return a[:] }

// voidRest ends a contest with those of its bouts that have not ended; none is
// run again.
func (s *Scheduler) voidRest(contestID string, reason verdict.Reason, detail string) error {
	s.voiding.Lock()
	defer s.voiding.Unlock()
	left, err := s.store.Bouts(s.ctx, store.BoutFilter{ContestID: contestID, States: []store.BoutState{store.Waiting, store.Preparing, store.Working, store.Captured, store.Judging}})
	if err != nil {
		return err
	}
	for i := range left {
		s.closeHand(left[i].ID)
		v := verdict.Of(verdict.Facts{Void: reason, VoidDetail: detail})
		if err := s.store.Finish(s.ctx, &left[i], store.Judgement{Verdict: v}, nil, nil); err != nil {
			return err
		}
	}
	return s.store.SetContestState(s.ctx, contestID, store.ContestStopped)
}

// StopContest stops a contest that waits or runs.
func (s *Scheduler) StopContest(ctx context.Context, id string) error {
	ended := func(states ...store.ContestState) error {
		row, err := s.store.Contest(ctx, id)
		if err == nil && slices.Contains(states, row.State) {
			err = &StateError{"the contest has ended already (" + string(row.State) + ")"}
		}
		return err
	}
	if err := ended(store.ContestDone, store.ContestStopped); err != nil {
		return err
	}
	// Recorded first, so that a service that is killed now does not forget it, and one that
	// begins the contest just now reads it: that is the current one before it reads.
	if err := s.store.SetContestState(ctx, id, store.ContestStopping); err != nil {
		return err
	}
	if err := ended(store.ContestDone); err != nil { // stopped it may be: by this
		return err
	}
	s.mu.Lock()
	cur := s.current
	s.mu.Unlock()
	if cur == nil || cur.id != id {
		return s.voidRest(id, verdict.StoppedByPerson, "the contest was stopped")
	}
	cur.cancel(errStopped)
	return nil
}

// StopBout stops a bout that has not ended; it is void and not run again.
func (s *Scheduler) StopBout(ctx context.Context, id string) error {
	b, err := s.store.Bout(ctx, id)
	if err != nil {
		return err
	}
	if b.State == store.Done {
		return &StateError{"the bout has ended already"}
	}
	if b.Driver == contender.DriveHand {
		return s.Discard(ctx, id, "stopped by a person")
	}
	s.mu.Lock()
	var active *activeBout
	if s.current != nil {
		active = s.current.active[id]
	}
	_, already := s.stopped[id]
	recorded := make(chan struct{})
	if active == nil && !already {
		s.stopped[id] = recorded
	}
	s.mu.Unlock()
	switch {
	case active != nil:
		active.cancel(errStopped)
		return nil
	case already:
		return nil
	}
	defer close(recorded)
	if b, err = s.store.Bout(ctx, id); err == nil { // it may have ended since
		if b.State == store.Done {
			return &StateError{"the bout has ended already"}
		}
		err = s.finishVoid(nil, b, &bout.VoidError{Reason: verdict.StoppedByPerson, Detail: "before it began"}, nil)
	}
	if err != nil {
		s.mu.Lock()
		delete(s.stopped, id)
		s.mu.Unlock()
	}
	return err
}

// one takes a bout through its states. Whatever goes wrong ends in a verdict;
// only when the whole service stops is a bout left where it is.
func (s *Scheduler) one(ctx context.Context, cur *running, c *contest.Contest, b *store.Bout, t *task.Task, con *contender.Contender) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	me := &activeBout{cancel: cancel}
	s.mu.Lock()
	for _, other := range cur.active {
		other.beside = max(other.beside, len(cur.active))
	}
	me.beside = len(cur.active)
	cur.active[b.ID] = me
	stopped := s.stopped[b.ID]
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(cur.active, b.ID)
		s.mu.Unlock()
	}()
	if stopped != nil {
		select {
		case <-stopped:
		case <-s.ctx.Done():
		}
	}
	// A bout that was stopped while it waited has its verdict already.
	if now, err := s.store.Bout(s.ctx, b.ID); err != nil || now.State == store.Done {
		return
	}
	log := s.log.With("bout", b.ID)
	if err := s.steps(ctx, cur, c, b, t, con, me); err != nil {
		switch {
		case s.ctx.Err() != nil:
			return // the next service takes it up
		case errors.Is(context.Cause(ctx), errStopped):
			err = &bout.VoidError{Reason: verdict.StoppedByPerson}
		default:
			log.Warn("a bout is void", "error", err)
		}
		if err := s.finishVoid(c, b, bout.Void(err), me); err != nil {
			log.Error("a verdict cannot be recorded", "error", err)
		}
	}
}

// finishVoid ends a bout as void, with its rerun where there is one more to have.
func (s *Scheduler) finishVoid(c *contest.Contest, b *store.Bout, void *bout.VoidError, me *activeBout) error {
	facts := map[string]any{}
	if me != nil {
		facts["beside"] = s.besideOf(me)
	}
	if len(void.Log) > 0 && b.Log == "" {
		if d, err := s.store.Put(void.Log); err == nil {
			facts["log"] = d
		}
	}
	again, err := s.rerunOf(c, b, void.Reason)
	if err != nil {
		return err
	}
	v := verdict.Of(verdict.Facts{Void: void.Reason, VoidDetail: void.Detail})
	if again == nil && void.Reason.CountsInTheEnd() {
		v.Outcome = verdict.Failed // it was run again, and came to the same
	}
	if again == nil && void.Reason == verdict.HandshakeFailed {
		began, err := s.store.Began(s.ctx, b.ContestID, b.Contender)
		if err != nil {
			return err
		}
		if began {
			v.Outcome = verdict.Failed
		}
	}
	return s.store.Finish(s.ctx, b, store.Judgement{Verdict: v}, again, facts)
}

// settleHandshakes counts the bouts of a contest in which a tool did not begin to work,
// where the same contender did begin in another: it was able to.
func (s *Scheduler) settleHandshakes(contestID string) error {
	left, err := s.store.Unbegun(s.ctx, contestID)
	if err != nil {
		return err
	}
	for i := range left {
		b := &left[i]
		began, err := s.store.Began(s.ctx, contestID, b.Contender)
		if err != nil || !began {
			if err != nil {
				return err
			}
			continue
		}
		v := verdict.Verdict{Outcome: verdict.Failed, Reason: verdict.HandshakeFailed, Detail: "it did begin to work in other bouts of the contest"}
		if err := s.store.JudgeAgain(s.ctx, b, store.Judgement{Verdict: v}); err != nil {
			return err
		}
	}
	return nil
}

func (s *Scheduler) besideOf(me *activeBout) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return me.beside
}

// Busy says what is being run, in words, or "".
func (s *Scheduler) Busy() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.current != nil:
		return "A contest is running"
	case s.proving != "":
		return "A task is being proved"
	case s.rejudging:
		return "A contest is being judged again"
	case len(s.hands) > 0:
		return "A bout is being worked by hand"
	}
	return ""
}
