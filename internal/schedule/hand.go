package schedule

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"agonometer/internal/bout"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/person"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// hand is an open bout that a person works. Its records say where it stands, so that
// it survives a restart; mu guards it against two calls at once.
type hand struct {
	mu       sync.Mutex
	b        *store.Bout
	c        *contest.Contest
	job      bout.Job
	prepared *workspace.Prepared
	session  *bout.Session
	rounds   *rounds
	stretch  chan struct{} // closed when the present stretch of work ends
	// busy is set while the bout is prepared or judged, which holds mu for long.
	busy atomic.Bool
}

// occupy says that mu, which is held, will be held for long; release gives it back.
func (h *hand) occupy() { h.busy.Store(true) }

func (h *hand) release() {
	h.busy.Store(false)
	h.mu.Unlock()
}

func (h *hand) state() *store.Hand { return h.b.Hand }

// maxHandRounds is how often what failed is handed back outside any contest.
const maxHandRounds = task.MaxRepairRounds

// HandStart asks for a bout to be worked by hand.
type HandStart struct {
	// Contest is the id of the contest whose bout it is; "" for one that stands alone,
	// whose task and contender are given with their files.
	Contest         string
	Task, Contender string
	Loaded          *task.Task
	Commit          string
	By              *contender.Contender
	Bundle          *specfile.Bundle
	Worker          string
	Familiarity     string
}

// leftToHand are the bouts of a contest that a person has still to work, in the
// order in which the contest wants them.
func (s *Scheduler) leftToHand(ctx context.Context, contestID string) ([]store.Bout, error) {
	all, err := s.store.Bouts(ctx, store.BoutFilter{ContestID: contestID})
	if err != nil {
		return nil, err
	}
	left := slices.DeleteFunc(all, func(b store.Bout) bool { return b.Driver != contender.DriveHand || b.State == store.Done })
	slices.SortStableFunc(left, func(a, b store.Bout) int {
		if a.Rerun != b.Rerun {
			return a.Rerun - b.Rerun
		}
		return a.Position - b.Position
	})
	return left, nil
}

// StartHand takes the next bout that fits and makes its workspace, in the
// background: the record tells when it is ready.
func (s *Scheduler) StartHand(ctx context.Context, in HandStart) (*store.Bout, error) {
	wanted := 0
	if in.Contest == "" {
		row, err := s.alone(ctx, store.KindHand, in.Loaded, in.Commit, in.By, in.Bundle)
		if err != nil {
			return nil, err
		}
		in.Contest, in.Task, in.Contender = row.ID, string(in.Loaded.Task), string(in.By.Contender)
		b := &store.Bout{ID: s.store.NewID(), ContestID: row.ID, Task: in.Task, Contender: in.Contender, Repeat: 1, State: store.Waiting, Driver: contender.DriveHand, CreatedAt: time.Now().UTC()}
		if name := in.Loaded.Wordings[0].Name; name != "" {
			b.Wording = string(name)
		}
		if err := s.store.AddWaiting(ctx, b); err != nil {
			return nil, err
		}
	} else {
		wanted = 1
	}
	row, err := s.store.Contest(ctx, in.Contest)
	if err != nil {
		return nil, err
	}
	if row.State == store.ContestStopped || row.State == store.ContestStopping {
		return nil, &StateError{"the contest was stopped; start a new one"}
	}
	left, err := s.leftToHand(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	var b *store.Bout
	place := 0
	for i := range left {
		if left[i].State != store.Waiting {
			continue
		}
		place++
		if (in.Task == "" || left[i].Task == in.Task) && (in.Contender == "" || left[i].Contender == in.Contender) {
			b = &left[i]
			break
		}
	}
	if b == nil {
		return nil, &StateError{noHandBout(row, left, in)}
	}
	if wanted > 0 {
		wanted = place
	}
	b.Hand = &store.Hand{Phase: store.HandPreparing, Worker: in.Worker, Familiarity: in.Familiarity, Wanted: wanted}
	c, err := s.load(row)
	if err != nil {
		return nil, err
	}
	h := &hand{b: b, c: c}
	h.mu.Lock() // until it is ready
	h.occupy()
	s.mu.Lock()
	_, open := s.hands[b.ID]
	if !open {
		s.hands[b.ID] = h
	}
	s.mu.Unlock()
	if open {
		return nil, &StateError{"the bout has been started already"}
	}
	facts, err := h.facts(map[string]any{"confinement": "by hand"})
	if err == nil {
		err = s.store.Advance(ctx, b, store.Preparing, facts)
	}
	if err != nil {
		s.forget(b.ID)
		return nil, err
	}
	go func() {
		defer h.release()
		if err := s.readyHand(h); err != nil {
			s.log.Warn("a bout by hand cannot begin", "bout", b.ID, "error", err)
			s.endHand(h, bout.Void(err), !h.alone())
		}
	}()
	return b, nil
}

func noHandBout(row *store.Contest, left []store.Bout, in HandStart) string {
	what := "no bout is left to be worked by hand in the contest " + row.Name
	var open []string
	for i := range left {
		if left[i].State == store.Waiting {
			open = append(open, left[i].Contender+" on "+left[i].Task)
		}
	}
	if in.Task != "" || in.Contender != "" {
		what = fmt.Sprintf("the contest %s has no bout left to be worked by hand of %s", row.Name, strings.Join(slices.DeleteFunc([]string{in.Contender, in.Task}, func(s string) bool { return s == "" }), " on "))
	}
	if len(open) > 0 {
		what += "; there are: " + strings.Join(open, ", ")
	}
	return what
}

func (h *hand) facts(more map[string]any) (map[string]any, error) {
	text, err := json.Marshal(h.b.Hand)
	if err != nil {
		return nil, err
	}
	if more == nil {
		more = map[string]any{}
	}
	more["hand"] = string(text)
	return more, nil
}

// save records where a bout stands and tells whoever follows it.
func (s *Scheduler) save(h *hand, more map[string]any) error {
	facts, err := h.facts(more)
	if err != nil {
		return err
	}
	return s.store.Tell(s.ctx, h.b, map[string]any{"hand": h.b.Hand.Phase}, facts)
}

// settle records where a bout stands after long work. Who follows it acts on what is
// told, so the bout is not busy any more by then: it is waited for, for the moment that
// its lock is still held.
func (s *Scheduler) settle(h *hand, more map[string]any) error {
	h.busy.Store(false)
	return s.save(h, more)
}

// readyHand makes a bout's workspace; its lock is held.
func (s *Scheduler) readyHand(h *hand) error {
	if err := s.openHand(h); err != nil {
		return err
	}
	words, err := h.rounds.words(0)
	if err != nil {
		return err
	}
	st := h.state()
	st.Phase, st.Kind, st.Brief, st.Workspace = store.HandReady, store.RoundOpening, words, h.session.Tree()
	return s.settle(h, nil)
}

// openHand opens what a bout needs: its task, its prepared state and its workspace.
func (s *Scheduler) openHand(h *hand) error {
	var t *task.Task
	for _, one := range h.c.Tasks {
		if string(one.Task) == h.b.Task {
			t = one
		}
	}
	var con *contender.Contender
	for _, one := range h.c.Contenders {
		if string(one.Contender) == h.b.Contender {
			con = one
		}
	}
	if t == nil || con == nil {
		return &bout.VoidError{Reason: verdict.HarnessFault, Detail: "the contest does not have the task or the contender any more"}
	}
	h.job = s.job(h.c, h.b, t, con)
	say := func(what string) {
		if err := s.store.Say(s.ctx, h.b, what); err != nil {
			s.log.Warn("progress cannot be recorded", "bout", h.b.ID, "error", err)
		}
	}
	var err error
	if h.prepared, err = s.engine.Prepare(s.ctx, t, h.job.Commit, h.job.Limits, say); err != nil {
		return err
	}
	h.rounds = s.newRounds(h.c, h.b, h.job, h.prepared, nil, &activeBout{}, say)
	h.rounds.asks = func(final []byte) person.Effort { return s.effortOf(h.b, t, final) }
	h.session, err = s.engine.OpenHand(s.ctx, h.job, h.prepared)
	return err
}

// open finds an open bout and takes its lock; unlock gives it back.
func (s *Scheduler) open(ctx context.Context, id string, phases ...store.HandPhase) (h *hand, unlock func(), err error) {
	s.mu.Lock()
	h = s.hands[id]
	s.mu.Unlock()
	if h == nil {
		b, err := s.store.Bout(ctx, id)
		switch {
		case err != nil:
			return nil, nil, err
		case b.Driver != contender.DriveHand:
			return nil, nil, &StateError{"the bout is not worked by hand"}
		case b.State == store.Waiting:
			return nil, nil, &StateError{"the bout has not been started: agonometer hand start"}
		}
		return nil, nil, &StateError{"the bout has ended already"}
	}
	if h.busy.Load() {
		return nil, nil, &StateError{"the bout is being prepared or judged; wait for that"}
	}
	h.mu.Lock()
	if h.session == nil || h.state().Phase == store.HandOver {
		h.mu.Unlock()
		return nil, nil, &StateError{"the bout has ended already"}
	}
	if len(phases) > 0 && !slices.Contains(phases, h.state().Phase) {
		phase := h.state().Phase
		h.mu.Unlock()
		return nil, nil, &StateError{"that cannot be done now: " + phaseWords(phase)}
	}
	return h, h.mu.Unlock, nil
}

func phaseWords(p store.HandPhase) string {
	switch p {
	case store.HandReady:
		return "the clock has not been started yet"
	case store.HandRunning:
		return "the clock is running"
	case store.HandPaused:
		return "the bout is paused; resume it first"
	case store.HandOffered:
		return "the round has been judged; begin the next one, or end the bout"
	}
	return "the bout is " + string(p)
}

// BeginHand starts the clock of a round: the words have been handed over. Empty words
// mean those that were offered.
func (s *Scheduler) BeginHand(ctx context.Context, id, words string) error {
	at := time.Now()
	h, unlock, err := s.open(ctx, id, store.HandReady, store.HandOffered)
	if err != nil {
		return err
	}
	defer unlock()
	st := h.state()
	if st.Clock == nil {
		clock := at.UTC().Round(0)
		st.Clock = &clock
	}
	if words = strings.TrimSpace(words); words == "" {
		words = st.Brief
	}
	st.Words = words
	st.Differs = st.Differs || words != st.Brief
	st.Round++
	st.RoundWorked = 0
	if err := s.store.Advance(ctx, h.b, store.Working, nil); err != nil {
		return err
	}
	s.stretch(h, at)
	return s.save(h, nil)
}

// stretch begins a stretch of work.
func (s *Scheduler) stretch(h *hand, at time.Time) {
	st := h.state()
	h.session.BeginStretch(st.Round, at)
	st.Phase, st.Began = store.HandRunning, h.session.At(at)
	h.stretch = make(chan struct{})
	left := h.job.Limits.Time.Std() - time.Duration(st.Worked)*time.Microsecond - time.Since(at)
	go s.atLimit(h, h.session, h.stretch, left)
}

// atLimit ends a round at a limit; it ends with the stretch of work.
func (s *Scheduler) atLimit(h *hand, session *bout.Session, over chan struct{}, left time.Duration) {
	t := time.NewTimer(max(left, 0))
	defer t.Stop()
	stopped := session.Stopped()
	reason := verdict.TimeLimit
	select {
	case <-over:
		return
	case <-s.ctx.Done():
		return
	case <-t.C:
	case <-stopped:
		reason, _ = session.Why()
	}
	h.mu.Lock()
	select {
	case <-over: // somebody was faster
		h.mu.Unlock()
		return
	default:
	}
	if h.session == nil { // the service is stopping
		h.mu.Unlock()
		return
	}
	s.finishRound(h, "", reason, true)
}

// rest ends the present stretch of work, with the spans that are open.
func (s *Scheduler) rest(h *hand, at time.Time) error {
	st := h.state()
	now := max(h.session.At(at), st.Began)
	if err := s.endSpans(h, now); err != nil {
		return err
	}
	close(h.stretch)
	if err := h.session.EndStretch(s.ctx, at); err != nil {
		return err
	}
	st.Worked += now - st.Began
	st.RoundWorked += now - st.Began
	return nil
}

// PauseHand stops the clock for a while; ResumeHand lets it run on.
func (s *Scheduler) PauseHand(ctx context.Context, id string) error {
	at := time.Now()
	h, unlock, err := s.open(ctx, id, store.HandRunning)
	if err != nil {
		return err
	}
	defer unlock()
	if err := s.rest(h, at); err != nil {
		return err
	}
	h.state().Phase = store.HandPaused
	h.state().Pauses++
	return s.save(h, nil)
}

func (s *Scheduler) ResumeHand(ctx context.Context, id string) error {
	h, unlock, err := s.open(ctx, id, store.HandPaused)
	if err != nil {
		return err
	}
	defer unlock()
	s.stretch(h, time.Now())
	return s.save(h, nil)
}

// FinishHand ends a round: what is there is captured, and judged in the background.
// answer is the tool's closing message, where there is one.
func (s *Scheduler) FinishHand(ctx context.Context, id, answer string) error {
	h, unlock, err := s.open(ctx, id, store.HandRunning, store.HandPaused)
	if err != nil {
		return err
	}
	if h.job.Task.Kind == task.Question && strings.TrimSpace(answer) == "" && h.job.Task.Deliverable == "" {
		unlock()
		return &StateError{"the task is a question: the tool's reply is needed (--answer)"}
	}
	s.finishRound(h, answer, "", false)
	return nil
}

// finishRound ends a round; the lock is held, and is given back when the round has
// been judged. wait says whether to wait for that.
func (s *Scheduler) finishRound(h *hand, answer string, limit verdict.Reason, wait bool) {
	done := make(chan struct{})
	at := time.Now()
	h.occupy()
	st := h.state()
	var err error
	if st.Phase == store.HandRunning {
		err = s.rest(h, at)
	}
	st.Phase = store.HandJudging
	if answer != "" {
		st.Answer = answer
	}
	err = errors.Join(err, s.save(h, nil))
	go func() {
		defer close(done)
		defer h.release()
		if err == nil {
			err = s.judgeRound(h, limit)
		}
		if err == nil || s.ctx.Err() != nil {
			return
		}
		s.log.Warn("a round by hand cannot be judged", "bout", h.b.ID, "error", err)
		s.endHand(h, bout.Void(err), !h.alone())
	}()
	if wait {
		<-done
	}
}

// judgeRound captures and judges a round, and offers the next one or ends the bout.
func (s *Scheduler) judgeRound(h *hand, limit verdict.Reason) error {
	ctx, st := s.ctx, h.state()
	before := ""
	if full, err := s.store.Bout(ctx, h.b.ID); err != nil {
		return err
	} else if n := len(full.Rounds); n > 0 {
		before = full.Rounds[n-1].ResultTree
	}
	var row *store.Round
	if st.Round > 0 {
		w, err := h.session.CaptureHand(ctx, st.Round > 1, before)
		if err != nil {
			return err
		}
		w.Words, w.Limit, w.Answer = st.Words, limit, []byte(st.Answer)
		w.Result = confine.Result{Elapsed: time.Duration(st.RoundWorked) * time.Microsecond}
		w.LimitDetail = ""
		if row, err = h.rounds.record(ctx, h.session, w, st.Round, st.Stage, st.Kind, st.Words, st.Worked/1000); err != nil {
			return err
		}
		if err := s.retime(ctx, h.b.ID); err != nil {
			return err
		}
	}
	judged, v, err := s.judgeAll(ctx, h)
	if err != nil {
		return err
	}
	last := st.Stage == len(h.job.Task.Stages)-1
	repairs := h.c.RepairRoundsOf(h.job.Task)
	if h.alone() && h.c.RepairRounds == nil && h.job.Task.RepairRounds == nil {
		repairs = maxHandRounds
	}
	tries := h.tries()
	over := limit != "" || h.job.Limits.Time.Std() <= time.Duration(st.Worked)*time.Microsecond || h.job.Task.Kind == task.Question
	switch {
	case over, v.Outcome == verdict.Passed && last, v.Outcome != verdict.Passed && tries > repairs && last:
		return s.concludeHand(h, row, judged)
	case v.Outcome == verdict.Passed || tries > repairs:
		st.Stage++
		st.Kind, st.Brief = store.RoundFollowUp, h.rounds.stage(st.Stage).Brief
	default:
		st.Kind, st.Brief = store.RoundRepair, h.rounds.repairWords(judged)
	}
	st.Phase, st.Answer = store.HandOffered, ""
	return s.settle(h, map[string]any{"state": store.Working, "doing": ""})
}

// alone tells whether the bout belongs to no contest.
func (h *hand) alone() bool { return strings.HasPrefix(h.c.Path, alonePath) }

// tries is how many rounds the present stage has had.
func (h *hand) tries() int {
	n := 0
	for _, v := range h.rounds.verdicts {
		if v.stage == h.state().Stage {
			n++
		}
	}
	return n
}

// judgeAll judges the rounds that have not been judged since the bout was opened: the
// last one, and after a restart those before it too.
func (s *Scheduler) judgeAll(ctx context.Context, h *hand) (*bout.Judged, verdict.Verdict, error) {
	r := h.rounds
	if r.bases == nil {
		cur := &running{id: h.b.ContestID, active: map[string]*activeBout{}, gates: map[string]*sync.Mutex{}}
		job := h.job
		job.ID += "-start"
		bases, err := s.baselines(ctx, cur, job, h.prepared, r.say)
		if err != nil {
			return nil, verdict.Verdict{}, err
		}
		r.bases = bases
	}
	full, err := s.store.Bout(ctx, h.b.ID)
	if err != nil {
		return nil, verdict.Verdict{}, err
	}
	var judged *bout.Judged
	var v verdict.Verdict
	for i := range full.Rounds {
		if i < len(r.verdicts) {
			judged, v = r.verdicts[i].judged, r.verdicts[i].verdict
			continue
		}
		row := &full.Rounds[i]
		row.ExitCode = nil // a person worked it: there is no program to have ended
		if judged, v, err = r.judge(ctx, row); err != nil {
			return nil, v, err
		}
	}
	return judged, v, nil
}

// concludeHand ends a bout with what its rounds come to.
func (s *Scheduler) concludeHand(h *hand, row *store.Round, judged *bout.Judged) error {
	st := h.state()
	if st.Stage < len(h.job.Task.Stages)-1 {
		h.rounds.notReached(st.Stage + 1)
	}
	was := st.Phase
	st.Phase = store.HandOver
	var err error
	if h.rounds.facts, err = h.facts(nil); err == nil { // over together with its verdict
		err = h.rounds.finish(s.ctx, nil, row, judged)
	}
	if err != nil {
		st.Phase = was
		return err
	}
	s.afterHand(h)
	return nil
}

// EndHand ends a bout whose round has been judged: no further round is wanted.
func (s *Scheduler) EndHand(ctx context.Context, id string) error {
	h, unlock, err := s.open(ctx, id, store.HandOffered)
	if err != nil {
		return err
	}
	defer unlock()
	judged, _, err := s.judgeAll(s.ctx, h)
	if err != nil {
		return err
	}
	return s.concludeHand(h, nil, judged)
}

// Discard throws a bout away, with a reason; in a contest its place is open again.
func (s *Scheduler) Discard(ctx context.Context, id, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return &StateError{"a bout is thrown away with a reason, which is kept"}
	}
	s.mu.Lock()
	h := s.hands[id]
	s.mu.Unlock()
	if h == nil {
		b, err := s.store.Bout(ctx, id)
		if err != nil {
			return err
		}
		if b.State == store.Done || b.Driver != contender.DriveHand {
			return &StateError{"the bout has ended already"}
		}
		v := verdict.Of(verdict.Facts{Void: verdict.StoppedByPerson, VoidDetail: reason})
		if err := s.store.Finish(ctx, b, store.Judgement{Verdict: v}, nil, nil); err != nil {
			return err
		}
		return s.settleContest(ctx, b.ContestID)
	}
	h, unlock, err := s.open(ctx, id)
	if err != nil {
		return err
	}
	defer unlock()
	if h.state().Phase == store.HandRunning {
		if err := s.rest(h, time.Now()); err != nil {
			return err
		}
	}
	h.state().Discarded = reason
	s.endHand(h, &bout.VoidError{Reason: verdict.Discarded, Detail: reason}, !h.alone())
	return nil
}

// endHand ends a bout as void; its lock is held.
func (s *Scheduler) endHand(h *hand, void *bout.VoidError, again bool) {
	h.state().Phase = store.HandOver
	var rerun *store.Bout
	if again {
		rerun = s.store.Rerun(h.b)
	}
	facts, err := h.facts(nil)
	if err == nil && h.session != nil {
		err = s.retime(s.ctx, h.b.ID)
	}
	if err == nil {
		v := verdict.Of(verdict.Facts{Void: void.Reason, VoidDetail: void.Detail})
		err = s.store.Finish(s.ctx, h.b, store.Judgement{Verdict: v}, rerun, facts)
	}
	if err != nil && s.ctx.Err() == nil {
		s.log.Error("a verdict cannot be recorded", "bout", h.b.ID, "error", err)
	}
	s.afterHand(h)
}

// afterHand frees what an ended bout had; its lock is held.
func (s *Scheduler) afterHand(h *hand) {
	s.forget(h.b.ID)
	if h.session != nil {
		h.session.Remove()
		h.session = nil
	}
	if err := s.settleContest(s.ctx, h.b.ContestID); err != nil && s.ctx.Err() == nil {
		s.log.Error("a contest cannot be ended", "contest", h.b.ContestID, "error", err)
	}
}

// settleContest ends a contest that waited for its last bout by hand.
func (s *Scheduler) settleContest(ctx context.Context, id string) error {
	row, err := s.store.Contest(ctx, id)
	if err != nil || row.State != store.ContestByHand {
		return err
	}
	left, err := s.leftToHand(ctx, id)
	if err != nil || len(left) > 0 {
		return err
	}
	return s.store.SetContestState(ctx, id, store.ContestDone)
}

func (s *Scheduler) forget(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.hands, id)
}

// closeHand ends an open bout whose contest is being stopped.
func (s *Scheduler) closeHand(id string) {
	s.mu.Lock()
	h := s.hands[id]
	delete(s.hands, id)
	s.mu.Unlock()
	if h == nil {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.session != nil {
		if h.state().Phase == store.HandRunning {
			close(h.stretch)
		}
		h.session.Remove()
		h.session = nil
	}
}

// closeHands leaves all open bouts as they are: the next service finds them.
func (s *Scheduler) closeHands() {
	s.mu.Lock()
	open := s.hands
	s.hands = map[string]*hand{}
	s.mu.Unlock()
	for _, h := range open {
		h.mu.Lock()
		if h.session != nil {
			h.session.Leave()
			h.session = nil
		}
		h.mu.Unlock()
	}
}

// takeUpHands opens again the bouts that persons were working when the service ended.
// Their clocks went on: a person does not stop for that.
func (s *Scheduler) takeUpHands() error {
	bouts, err := s.store.Bouts(s.ctx, store.BoutFilter{States: []store.BoutState{store.Preparing, store.Working, store.Captured, store.Judging}})
	if err != nil {
		return err
	}
	for i := range bouts {
		b := &bouts[i]
		if b.Hand == nil {
			continue
		}
		row, err := s.store.Contest(s.ctx, b.ContestID)
		if err != nil {
			return err
		}
		c, err := s.load(row)
		if err != nil {
			s.log.Error("a bout by hand cannot be taken up", "bout", b.ID, "error", err)
			continue
		}
		h := &hand{b: b, c: c}
		s.mu.Lock()
		s.hands[b.ID] = h
		s.mu.Unlock()
		h.mu.Lock()
		h.occupy()
		go func() {
			if err := s.takeUpHand(h); err != nil {
				if s.ctx.Err() == nil {
					s.log.Warn("a bout by hand cannot go on", "bout", b.ID, "error", err)
					s.endHand(h, bout.Void(err), !h.alone())
				}
				h.release()
			}
		}()
	}
	return nil
}

// takeUpHand opens a bout where it stood. The lock is held; it is given back unless
// there is an error.
func (s *Scheduler) takeUpHand(h *hand) error {
	st := h.state()
	if st.Phase == store.HandPreparing {
		if err := s.readyHand(h); err != nil {
			return err
		}
		h.release()
		return nil
	}
	if err := s.openHand(h); err != nil {
		return err
	}
	if st.Clock != nil {
		events, _, err := s.store.Timeline(s.ctx, h.b.ID, 0)
		if err != nil {
			return err
		}
		h.session.Resume(*st.Clock, events)
	}
	switch st.Phase {
	case store.HandRunning:
		at := st.Clock.Add(time.Duration(st.Began) * time.Microsecond)
		s.stretch(h, at)
		h.session.CatchUp(at)
	case store.HandJudging:
		// The round may have been recorded already: then it is only judged.
		full, err := s.store.Bout(s.ctx, h.b.ID)
		if err != nil {
			return err
		}
		if len(full.Rounds) >= st.Round {
			go func() {
				defer h.release()
				if err := s.judgeStoredRound(h); err != nil && s.ctx.Err() == nil {
					s.endHand(h, bout.Void(err), !h.alone())
				}
			}()
			return nil
		}
		s.finishRound(h, "", "", false)
		return nil
	}
	h.release()
	return nil
}

// judgeStoredRound goes on with a round that was recorded and not judged.
func (s *Scheduler) judgeStoredRound(h *hand) error {
	judged, v, err := s.judgeAll(s.ctx, h)
	if err != nil {
		return err
	}
	st := h.state()
	if v.Outcome == verdict.Passed && st.Stage == len(h.job.Task.Stages)-1 {
		return s.concludeHand(h, nil, judged)
	}
	st.Phase, st.Kind, st.Brief = store.HandOffered, store.RoundRepair, h.rounds.repairWords(judged)
	return s.save(h, map[string]any{"state": store.Working, "doing": ""})
}

// Now stands for the present moment in a mark.
const Now = -1

// AddMark notes something in a bout whose clock was started. A mark at Now is at this
// moment, or at that of the clock's last stop; one that ends a span closes the open
// one of its kind.
func (s *Scheduler) AddMark(ctx context.Context, id string, m person.Mark) (*store.Mark, error) {
	at := time.Now()
	h, unlock, err := s.open(ctx, id)
	if err != nil {
		return nil, err
	}
	defer unlock()
	st := h.state()
	if st.Clock == nil {
		return nil, &StateError{"the clock has not been started yet"}
	}
	now := h.session.At(at)
	if st.Phase != store.HandRunning && m.Kind.Spans() {
		return nil, &StateError{"that cannot be done now: " + phaseWords(st.Phase)}
	}
	if m.AtUS == Now {
		m.AtUS = now
	}
	m.Round = st.Round
	if m.AtUS > now {
		return nil, &StateError{"the mark lies in the future"}
	}
	if err := m.Check(); err != nil {
		return nil, &StateError{err.Error()}
	}
	all, err := s.store.Marks(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, o := range store.Current(all) {
		if m.Kind.Spans() && m.UntilUS == nil && o.Mark.Kind.Spans() && o.Mark.UntilUS == nil {
			return nil, &StateError{fmt.Sprintf("a mark of the kind %s is open; end it first", o.Mark.Kind)}
		}
	}
	row := &store.Mark{BoutID: id, Mark: m}
	if m.Kind == person.Editing {
		shot, err := h.session.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		if row.Before, err = s.store.Put(shot.Shown); err != nil {
			return nil, err
		}
		row.BeforeTree = shot.Tree
	}
	if err := s.store.AddMark(ctx, row); err != nil {
		return nil, err
	}
	return row, s.save(h, nil)
}

// EndSpan ends the open span of a kind, now.
func (s *Scheduler) EndSpan(ctx context.Context, id string, kind person.Kind) error {
	at := time.Now()
	h, unlock, err := s.open(ctx, id, store.HandRunning)
	if err != nil {
		return err
	}
	defer unlock()
	ended, err := s.endSpansOf(h, h.session.At(at), kind)
	if err != nil {
		return err
	}
	if ended == 0 {
		return &StateError{fmt.Sprintf("no mark of the kind %s is open", kind)}
	}
	return s.save(h, nil)
}

func (s *Scheduler) endSpans(h *hand, now int64) error {
	_, err := s.endSpansOf(h, now, "")
	return err
}

func (s *Scheduler) endSpansOf(h *hand, now int64, kind person.Kind) (ended int, err error) {
	all, err := s.store.Marks(s.ctx, h.b.ID)
	if err != nil {
		return 0, err
	}
	for _, m := range store.Current(all) {
		if !m.Mark.Kind.Spans() || m.Mark.UntilUS != nil || kind != "" && m.Mark.Kind != kind {
			continue
		}
		until := max(now, m.Mark.AtUS)
		m.Mark.UntilUS = &until
		if m.Mark.Kind == person.Editing {
			shot, err := h.session.Snapshot(s.ctx)
			if err != nil {
				return ended, err
			}
			step, err := h.session.Between(s.ctx, m.BeforeTree, shot.Tree)
			if err != nil {
				return ended, err
			}
			if m.Step, err = s.store.Put(step); err != nil {
				return ended, err
			}
		}
		ended++
		if err := s.store.EndMark(s.ctx, &m); err != nil {
			return ended, err
		}
	}
	return ended, nil
}

// CorrectMark puts a mark in the place of another one, or takes it back: during the
// bout or after it. The original stays on record.
func (s *Scheduler) CorrectMark(ctx context.Context, id, markID string, m person.Mark, reason string, takeBack bool) error {
	all, err := s.store.Marks(ctx, id)
	if err != nil {
		return err
	}
	now := store.Current(all)
	at := slices.IndexFunc(now, func(o store.Mark) bool { return o.ID == markID })
	if at < 0 {
		if slices.ContainsFunc(all, func(o store.Mark) bool { return o.ID == markID }) {
			return &StateError{"the mark was corrected or taken back already"}
		}
		return store.ErrNotFound
	}
	old := now[at]
	if takeBack {
		m = old.Mark
	}
	m.Round = old.Mark.Round
	if err := m.Check(); err != nil {
		return &StateError{err.Error()}
	}
	if m.Kind.Spans() && m.UntilUS == nil && (!old.Mark.Kind.Spans() || old.Mark.UntilUS != nil) {
		return &StateError{"the corrected mark needs an end"}
	}
	row := &store.Mark{BoutID: id, Mark: m, Corrects: markID, Reason: reason, TakenBack: takeBack, Before: old.Before, BeforeTree: old.BeforeTree, Step: old.Step}
	if err := s.store.AddMark(ctx, row); err != nil {
		return err
	}
	b, err := s.store.Bout(ctx, id)
	if err != nil {
		return err
	}
	if b.State == store.Done && b.Shown != "" {
		final, err := s.store.Get(b.Shown)
		if err != nil {
			return err
		}
		t, _, _, err := s.TaskOfBout(ctx, b)
		if err != nil {
			return err
		}
		effort, err := json.Marshal(s.effortOf(b, t, final))
		if err != nil {
			return err
		}
		if err := s.store.SetBout(ctx, id, map[string]any{"effort": string(effort)}); err != nil {
			return err
		}
	}
	if err := s.retime(ctx, id); err != nil {
		return err
	}
	return s.store.Tell(ctx, b, map[string]any{"doing": b.Doing}, map[string]any{"doing": b.Doing})
}

// TaskOfBout is the task of a bout as its contest recorded it.
func (s *Scheduler) TaskOfBout(ctx context.Context, b *store.Bout) (*task.Task, string, *contest.Contest, error) {
	row, err := s.store.Contest(ctx, b.ContestID)
	if err != nil {
		return nil, "", nil, err
	}
	return s.TaskOf(ctx, row, b.Task)
}

// UsedHand takes what a person knows of what a bout used: while it is open, and after it.
func (s *Scheduler) UsedHand(ctx context.Context, id string, told *ledger.Told, keys *int) error {
	b, err := s.store.Bout(ctx, id)
	if err != nil {
		return err
	}
	if b.Driver != contender.DriveHand || b.Hand == nil {
		return &StateError{"the bout is not worked by hand"}
	}
	facts := map[string]any{}
	if told != nil {
		if told.Allowance != nil {
			if _, err := told.Allowance.Range(); err != nil {
				return &StateError{err.Error()}
			}
		}
		text, err := json.Marshal(told)
		if err != nil {
			return err
		}
		facts["typed"] = string(text)
	}
	if keys != nil {
		s.mu.Lock()
		h := s.hands[id]
		s.mu.Unlock()
		if h == nil {
			return &StateError{"the bout has ended: keys are counted while it is open"}
		}
		h, unlock, err := s.open(ctx, id)
		if err != nil {
			return err
		}
		defer unlock()
		h.state().Keys = keys
		if facts, err = h.facts(facts); err != nil {
			return err
		}
	}
	return s.store.Tell(ctx, b, map[string]any{"doing": b.Doing}, facts)
}

// effortOf works out what a bout asks of the person who works it, from its marks.
func (s *Scheduler) effortOf(b *store.Bout, t *task.Task, final []byte) person.Effort {
	all, err := s.store.Marks(s.ctx, b.ID)
	if err != nil {
		s.log.Error("marks cannot be read", "bout", b.ID, "error", err)
	}
	var marks []person.Mark
	var own []person.Own
	var now int64
	for _, m := range store.Current(all) {
		marks = append(marks, m.Mark)
		now = max(now, m.Mark.AtUS)
		if m.Mark.Kind == person.Editing && m.BeforeTree != "" {
			before, err1 := s.store.Get(m.Before)
			step, err2 := s.store.Get(m.Step)
			if errors.Join(err1, err2) == nil {
				own = append(own, person.Own{Before: before, Step: step})
			}
		}
	}
	e := person.Of(marks, own, final, now)
	if b.Hand != nil && t.Kind == task.Typing {
		e.Keys = b.Hand.Keys
		if files, err := patch.Parse(final, 0); err == nil {
			n := 0
			for _, f := range files {
				for _, hunk := range f.Hunks {
					for _, l := range hunk.Lines {
						if l.Kind == patch.LineAdded {
							n += utf8.RuneCountInString(strings.TrimLeft(l.Text, " \t")) + 1
						}
					}
				}
			}
			e.Wanted = &n
		}
	}
	return e
}

// retime works a bout's times out again, from its timeline and its marks.
func (s *Scheduler) retime(ctx context.Context, id string) error {
	events, err := s.HandTimeline(ctx, id, 0)
	if err != nil {
		return err
	}
	text, err := json.Marshal(timeline.Summarise(events))
	if err != nil {
		return err
	}
	return s.store.SetBout(ctx, id, map[string]any{"timing": string(text)})
}

// HandTimeline is what happened in a bout, with its marks; spans that are open last
// until now, in microseconds on its clock.
func (s *Scheduler) HandTimeline(ctx context.Context, id string, now int64) ([]timeline.Event, error) {
	events, _, err := s.store.Timeline(ctx, id, 0)
	if err != nil {
		return nil, err
	}
	all, err := s.store.Marks(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, m := range store.Current(all) {
		events = append(events, m.Mark.Event(now))
	}
	return events, nil
}

// HandView is an open bout as its person sees it.
type HandView struct {
	Hand store.Hand
	// NowUS is the present moment on the bout's clock, WorkedUS how long it ran; 0 before.
	NowUS, WorkedUS int64
	MeterURL        string
	Attachments     []string
	// Touched are the files that were edited, by the moment of their last edit.
	Touched map[string]int64
	// SignUS is the tool's last sign of life; nil where there was none.
	SignUS *int64
	Spent  bout.Spent
}

// ViewHand shows an open bout; ok is false where it is being prepared or judged, or
// has ended.
func (s *Scheduler) ViewHand(id string) (v HandView, ok bool) {
	s.mu.Lock()
	h := s.hands[id]
	s.mu.Unlock()
	if h == nil || h.busy.Load() {
		return v, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.session == nil {
		return v, false
	}
	st := h.state()
	v = HandView{Hand: *st, MeterURL: h.session.MeterURL(), Attachments: h.session.Attachments(), Touched: h.session.Touched(), Spent: h.session.Spent()}
	if st.Clock == nil {
		return v, true
	}
	v.NowUS, v.WorkedUS = h.session.At(time.Now()), st.Worked
	if st.Phase == store.HandRunning {
		v.WorkedUS += v.NowUS - st.Began
	}
	v.SignUS = s.lastSign(h)
	return v, true
}

// lastSign is when the tool was last seen at work: an edit that was not the person's,
// an exchange, the words that were sent, the end of a wait.
func (s *Scheduler) lastSign(h *hand) *int64 {
	st := h.state()
	events, err := s.HandTimeline(s.ctx, h.b.ID, h.session.At(time.Now()))
	if err != nil {
		return nil
	}
	last := st.Began
	var mine []timeline.Event
	for _, e := range events {
		if e.Kind == timeline.Person {
			mine = append(mine, e)
		}
	}
	of := func(at int64) bool {
		return slices.ContainsFunc(mine, func(m timeline.Event) bool { return m.At <= at && at <= m.Until })
	}
	for _, e := range events {
		switch e.Kind {
		case timeline.Exchange, timeline.Asked, timeline.Corrected, timeline.Permitted:
			last = max(last, e.Until)
		case timeline.Edit:
			if !of(e.At) {
				last = max(last, e.At)
			}
		}
	}
	for _, at := range h.session.Touched() {
		if !of(at) {
			last = max(last, at)
		}
	}
	return &last
}
