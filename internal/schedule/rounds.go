package schedule

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"agonometer/internal/bout"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/person"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// leastTime is how much of a bout's time must be left for another round.
const leastTime = time.Second

// steps takes a bout from its preparation to its verdict: round after round, a
// stage of the task after the other, each judged before the next begins.
func (s *Scheduler) steps(ctx context.Context, cur *running, c *contest.Contest, b *store.Bout, t *task.Task, con *contender.Contender, me *activeBout) error {
	if t == nil {
		return &bout.VoidError{Reason: verdict.HarnessFault, Detail: "the contest does not have the task any more"}
	}
	job := s.job(c, b, t, con)
	say := func(what string) {
		if err := s.store.Say(s.ctx, b, what); err != nil {
			s.log.Warn("progress cannot be recorded", "bout", b.ID, "error", err)
		}
	}
	captured := b.State == store.Captured
	if !captured {
		facts := map[string]any{"confinement": string(s.engine.Capability.Mode), "confinement_why": s.engine.Capability.Walls()}
		if err := s.store.Advance(ctx, b, store.Preparing, facts); err != nil {
			return err
		}
	}
	prepared, err := s.engine.Prepare(ctx, t, job.Commit, job.Limits, say)
	if err != nil {
		return err
	}
	bases, err := s.baselines(ctx, cur, job, prepared, say)
	if err != nil {
		return err
	}
	r := s.newRounds(c, b, job, prepared, bases, me, say)
	if captured {
		return r.judgeStored(ctx)
	}
	if r.job.FirstUse, err = s.firstUse(ctx, cur, r.job, prepared, say); err != nil {
		return err
	}
	return r.run(ctx)
}

// job is a bout as the engine sees it.
func (s *Scheduler) job(c *contest.Contest, b *store.Bout, t *task.Task, con *contender.Contender) bout.Job {
	job := bout.Job{ID: b.ID, Task: t, Commit: c.Commits[t.Task], Contender: con, Limits: LimitsOf(c, t, con), Seed: specfile.Seed(b.Seed),
		Prices: c.PriceLists, VoidRefused: c.OnRefused == contest.MakeVoid, VoidOtherModel: c.OnOtherModel == contest.MakeVoid, Happened: s.happened(b)}
	if con != nil {
		job.Guidance = c.GuidanceOf(con)
	}
	return job
}

func (s *Scheduler) newRounds(c *contest.Contest, b *store.Bout, job bout.Job, p *workspace.Prepared, bases []outcome.Baseline, me *activeBout, say func(string)) *rounds {
	r := &rounds{s: s, c: c, b: b, job: job, prepared: p, bases: bases, me: me, say: say}
	r.judgement.TaskDigest = job.Task.Digest(job.Commit)
	return r
}

// words are those of a stage of the task, in the bout's wording.
func (r *rounds) words(stage int) (string, error) {
	if stage > 0 {
		return r.stage(stage).Brief, nil
	}
	words, ok := r.job.Task.Words(r.b.Wording)
	if !ok {
		return "", &bout.VoidError{Reason: verdict.HarnessFault, Detail: "the task does not have the wording " + r.b.Wording + " any more"}
	}
	return words, nil
}

// baselines are what is known of each stage of a task before any contender: read
// from the records, or measured now, once in a contest.
func (s *Scheduler) baselines(ctx context.Context, cur *running, job bout.Job, p *workspace.Prepared, say func(string)) ([]outcome.Baseline, error) {
	if job.Task.Kind == task.Question {
		return emptyBases(), nil
	}
	gate := s.gate(cur, string(job.Task.Task))
	gate.Lock()
	defer gate.Unlock()
	rows, err := s.store.Tasks(ctx, cur.id)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(rows, func(t store.ContestTask) bool { return t.Slug == string(job.Task.Task) })
	if at < 0 {
		return nil, errors.New("the contest's records do not have the task " + string(job.Task.Task))
	}
	row := &rows[at]
	fails := func(why string) error {
		if strings.Contains(why, "cannot run: ") {
			return &bout.VoidError{Reason: verdict.CheckCannotRun, Detail: why}
		}
		return &bout.VoidError{Reason: verdict.ReferenceFails, Detail: why}
	}
	if row.ReferenceFails != "" {
		return nil, fails(row.ReferenceFails)
	}
	if row.Baseline != "" {
		text, err := s.store.Get(row.Baseline)
		if err != nil {
			return nil, err
		}
		var out []outcome.Baseline
		return out, json.Unmarshal(text, &out)
	}
	unsteady, err := s.unsteady(ctx, row)
	if err != nil {
		return nil, err
	}
	job.ID += "-before"
	out, why, err := s.measure(ctx, job, p, unsteady, say)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(out)
	if err != nil {
		return nil, err
	}
	digest, err := s.store.Put(text)
	if err != nil {
		return nil, err
	}
	if err := s.store.SetTask(ctx, cur.id, row.Slug, map[string]any{"baseline": digest, "reference_fails": why}); err != nil {
		return nil, err
	}
	if why != "" {
		return nil, fails(why)
	}
	return out, nil
}

// emptyBases are those of a question: nothing is run before anyone.
func emptyBases() []outcome.Baseline { return make([]outcome.Baseline, 1) }

// unsteady are the tests that a task's proving found unsteady, by stage.
func (s *Scheduler) unsteady(ctx context.Context, row *store.ContestTask) (map[int][]outcome.Key, error) {
	out := map[int][]outcome.Key{}
	if row.ProvingID == "" {
		return out, nil
	}
	p, err := s.store.Proving(ctx, row.ProvingID)
	if err != nil || p.Result == nil {
		return out, err
	}
	for _, u := range p.Result.Unsteady {
		out[u.Stage] = append(out[u.Stage], u.Key)
	}
	return out, nil
}

// measure finds out what is known of each stage, and whether the reference
// passes; why says in words what does not.
func (s *Scheduler) measure(ctx context.Context, job bout.Job, p *workspace.Prepared, unsteady map[int][]outcome.Key, say func(string)) (out []outcome.Baseline, why string, err error) {
	for i := range job.Task.Stages {
		stage := &job.Task.Stages[i]
		base, err := s.engine.Baseline(ctx, job, p, stage, func(what string) { say("before anyone: " + what) })
		var reference *bout.ReferenceError
		if errors.As(err, &reference) {
			return out, reference.Error(), nil
		}
		if err != nil {
			return nil, "", err
		}
		base.Unsteady = unsteady[i]
		out = append(out, *base)
		if why == "" {
			why = base.CannotRun()
		}
		if base.Reference != nil {
			if wrong := referenceWrong(stage, base); wrong != "" && why == "" {
				why = wrong
			}
		}
	}
	return out, why, nil
}

// referenceWrong says in words why a reference does not pass; "" when it does.
func referenceWrong(stage *task.Stage, base *outcome.Baseline) string {
	compared := outcome.Compare(stage, base, outcome.Runs{Deciding: base.Reference})
	for _, c := range compared.Checks {
		if c.OK {
			continue
		}
		why := "with the reference patch check " + c.Check + " does not pass: " + c.Why
		if c.NotRun {
			why = "with the reference patch check " + c.Check + " was not reached"
		}
		for i := range compared.Rows {
			if r := &compared.Rows[i]; r.Check == c.Check && (r.Missed() || r.Broken()) && r.Name != "" {
				return why + ", " + r.Name
			}
		}
		return why
	}
	return ""
}

// rounds is one bout on its way through its rounds.
type rounds struct {
	s         *Scheduler
	c         *contest.Contest
	b         *store.Bout
	job       bout.Job
	prepared  *workspace.Prepared
	bases     []outcome.Baseline
	me        *activeBout
	say       func(string)
	judgement store.Judgement
	verdicts  []staged
	reported  reports
	told      reports // over the protocol
	// facts are written together with the verdict.
	facts map[string]any
	// asks works out what the bout asked of a person; nil where nobody was there.
	asks  func(final []byte) person.Effort
	quiet bool // a bout that has ended is judged again: its state stays
}

// staged is the verdict of a round and the stage that it belongs to.
type staged struct {
	stage   int
	verdict verdict.Verdict
	tree    string
	judged  *bout.Judged
}

func (r *rounds) stage(i int) *task.Stage { return &r.job.Task.Stages[i] }

// run works on every stage of the task.
func (r *rounds) run(ctx context.Context) (err error) {
	session, err := r.s.engine.Open(ctx, r.job, r.prepared)
	if err != nil {
		return err
	}
	defer session.Close()
	defer func() {
		if err != nil { // a void bout keeps what was seen of it
			r.s.keepSeen(r.b, session)
		}
	}()
	repairs := r.c.RepairRoundsOf(r.job.Task)
	left := r.job.Limits.Time.Std()
	var elapsed int64
	number := 0
	for i := range r.job.Task.Stages {
		words, err := r.words(i)
		if err != nil {
			return err
		}
		kind := store.RoundOpening
		if i > 0 {
			kind = store.RoundFollowUp
		}
		for try := 0; ; try++ {
			number++
			var advanceErr error
			w, err := session.HandOver(ctx, words, number > 1, left, func() { advanceErr = r.working(ctx, number, kind) })
			if err := errors.Join(err, advanceErr); err != nil {
				return err
			}
			elapsed += w.Result.Elapsed.Milliseconds()
			left -= w.Working
			row, err := r.record(ctx, session, w, number, i, kind, w.Words, elapsed)
			if err != nil {
				return err
			}
			judged, v, err := r.judge(ctx, row)
			if err != nil {
				return err
			}
			if len(r.verdicts) < 2 || r.verdicts[len(r.verdicts)-2].judged != judged {
				checked(session, number, judged)
			}
			if w.Limit != "" {
				return r.finish(ctx, session, row, judged)
			}
			last := i == len(r.job.Task.Stages)-1
			if v.Outcome == verdict.Passed || try >= repairs || left < leastTime || r.job.Task.Kind == task.Question {
				if !last && left < leastTime {
					r.notReached(i + 1)
				}
				if last || left < leastTime {
					return r.finish(ctx, session, row, judged)
				}
				break
			}
			kind = store.RoundRepair
			words = r.repairWords(judged)
		}
	}
	return errors.New("a task without stages")
}

// notReached says that a stage was never handed over: the time was up before.
func (r *rounds) notReached(stage int) {
	r.verdicts = append(r.verdicts, staged{stage: stage, verdict: verdict.Verdict{Outcome: verdict.Failed, Reason: verdict.TimeLimit, Stage: r.stage(stage).Name,
		Detail: "no time was left for it"}})
}

func (r *rounds) working(ctx context.Context, number int, kind store.RoundKind) error {
	if err := r.s.store.Advance(ctx, r.b, store.Working, nil); err != nil {
		return err
	}
	if number > 1 {
		r.say(fmt.Sprintf("round %d (%s)", number, kind))
	}
	return nil
}

// repairWords are what a person would say next.
func (r *rounds) repairWords(j *bout.Judged) string {
	if j != nil {
		if failing := j.Failing(); len(failing) > 0 {
			return bout.RepairWords(r.c.RepairWordsOr(), failing)
		}
	}
	return r.c.NotRightWordsOr()
}

// record stores what a hand-over brought, before anything is judged.
func (r *rounds) record(ctx context.Context, session *bout.Session, w *bout.Worked, number, stage int, kind store.RoundKind, words string, elapsed int64) (*store.Round, error) {
	ms, code := w.Result.Elapsed.Milliseconds(), w.Result.ExitCode
	cap := w.Captured
	facts, err := seen(session)
	if err != nil {
		return nil, err
	}
	reported, err := nullableJSON(r.reported.add(w.Reported))
	if err != nil {
		return nil, err
	}
	protocol, err := nullableJSON(r.told.add(w.Protocol))
	if err != nil {
		return nil, err
	}
	effort, err := json.Marshal(r.effort(session, w))
	if err != nil {
		return nil, err
	}
	exit := &code
	if r.asks != nil { // a person worked it: there is no program that ended
		exit = nil
	}
	row := &store.Round{Protocol: w.Protocol, Limit: w.Limit, LimitDetail: w.LimitDetail, Reported: w.Reported, Number: number, Stage: stage, Kind: kind, ElapsedMS: &ms, ExitCode: exit, Signal: w.Result.Signal, TimedOut: w.Result.TimedOut,
		ResultTree: cap.Tree, LogCut: w.LogCut, Footprint: r.s.footprint(r.b.ID, cap.Shown), Step: r.s.footprint(r.b.ID, w.Step)}
	for into, data := range map[*store.Digest][]byte{&row.Words: []byte(words), &row.Diff: cap.Diff, &row.Shown: cap.Shown, &row.Log: w.Log, &row.Answer: w.Answer, &row.Recording: w.Recording} {
		d, err := r.s.store.Put(data)
		if err != nil {
			return nil, err
		}
		*into = d
	}
	r.b.LeftOut = &store.LeftOut{Ignored: cap.Ignored, TooLarge: firstNames(cap.TooLarge), Special: cap.Special, Unreadable: cap.Unreadable,
		NestedGit: cap.NestedGit, InSubmodules: cap.InSubmodules, Struck: cap.Struck, Elsewhere: firstNames(cap.Elsewhere)}
	leftOut, err := json.Marshal(r.b.LeftOut)
	if err != nil {
		return nil, err
	}
	footprint, err := nullableJSON(row.Footprint)
	if err != nil {
		return nil, err
	}
	r.b.Diff, r.b.ResultTree, r.b.StartTree = row.Diff, cap.Tree, r.prepared.Tree
	maps.Copy(facts, map[string]any{"limit": w.Limit, "reported": reported, "protocol": protocol, "effort": string(effort), "version": session.Version, "guidance_changed": session.GuidanceChanged,
		"diff": row.Diff, "shown": row.Shown, "log": row.Log, "log_cut": w.LogCut, "footprint": footprint, "left_out": string(leftOut),
		"result_tree": cap.Tree, "start_tree": r.prepared.Tree, "elapsed_ms": elapsed, "exit_code": exit, "signal": w.Result.Signal, "timed_out": w.Result.TimedOut,
		"workspace_ms": session.WorkspaceMS, "home_ms": session.HomeMS, "home_bytes": session.HomeBytes, "home_layered": session.HomeLayered,
		"capture_ms": w.CaptureMS, "kept": session.Kept, "beside": r.s.besideOf(r.me)})
	return row, r.s.store.AddRound(ctx, r.b, row, facts)
}

// effort is what the bout has asked of a person so far.
func (r *rounds) effort(session *bout.Session, w *bout.Worked) person.Effort {
	if r.asks != nil {
		return r.asks(w.Captured.Shown)
	}
	e := person.Alone(w.Captured.Shown)
	e.Answered, e.AnsweredMS = session.Answered()
	return e
}

// footprint measures a change. Odd names can make a diff that git understands
// and the parser does not: the size is then absent. The bout goes on, or a
// contender could void it so.
func (s *Scheduler) footprint(id string, shown []byte) *patch.Footprint {
	fp, err := patch.Measure(shown)
	if err != nil {
		s.log.Warn("a change cannot be measured", "bout", id, "error", err)
		return nil
	}
	return &fp
}

func nullableJSON[T any](v *T) (any, error) {
	if v == nil {
		return nil, nil
	}
	text, err := json.Marshal(v)
	return string(text), err
}

// maxNames is how many names of files that were too large are kept.
const maxNames = 100

func firstNames(names []string) []string {
	if len(names) > maxNames {
		return append(slices.Clone(names[:maxNames]), fmt.Sprintf("… and %d more", len(names)-maxNames))
	}
	return names
}

// judgeStored judges what an earlier service captured, or what was made
// elsewhere. Where another round would have been due the workspace is gone: then
// the bout is void.
func (r *rounds) judgeStored(ctx context.Context) error {
	full, err := r.s.store.Bout(ctx, r.b.ID)
	if err != nil {
		return err
	}
	var last *store.Round
	var judged *bout.Judged
	var v verdict.Verdict
	repairs := r.c.RepairRoundsOf(r.job.Task)
	tries := 0
	for i := range full.Rounds {
		row := &full.Rounds[i]
		if last != nil && last.Stage == row.Stage {
			tries++
		} else {
			tries = 0
		}
		last = row
		if row.Stage >= len(r.job.Task.Stages) {
			return &bout.VoidError{Reason: verdict.HarnessFault, Detail: "the task does not have the stage any more"}
		}
		if judged, v, err = r.judge(ctx, row); err != nil {
			return err
		}
	}
	if last == nil {
		return &bout.VoidError{Reason: verdict.HarnessFault, Detail: "nothing was captured"}
	}
	if full.Imported == nil && !r.quiet && last.Limit == "" {
		more := last.Stage < len(r.job.Task.Stages)-1
		if v.Outcome != verdict.Passed && tries < repairs || more {
			return &bout.VoidError{Reason: verdict.Interrupted, Detail: "between two rounds; the workspace is gone"}
		}
	}
	switch next := last.Stage + 1; {
	case full.Imported != nil:
		// What was made elsewhere is there as a whole: every stage looks at it.
		for ; next < len(r.job.Task.Stages); next++ {
			row := *last
			row.Stage = next
			if judged, _, err = r.judge(ctx, &row); err != nil {
				return err
			}
		}
	case next < len(r.job.Task.Stages):
		r.notReached(next)
	}
	return r.finish(ctx, nil, last, judged)
}

// judge judges one stored round and adds it to the judgement.
func (r *rounds) judge(ctx context.Context, row *store.Round) (*bout.Judged, verdict.Verdict, error) {
	stage, base := r.stage(row.Stage), &r.bases[row.Stage]
	facts := verdict.Facts{Limit: row.Limit, LimitDetail: row.LimitDetail, Changed: row.Diff != "", EndedInError: row.ExitCode != nil && *row.ExitCode != 0 && row.Limit == "",
		Question: r.job.Task.Kind == task.Question, Strict: r.job.Task.Protect == task.Strict}
	if l := r.b.LeftOut; l != nil {
		for _, where := range l.Elsewhere {
			facts.Flags = append(facts.Flags, "work was left elsewhere, and is no part of the change: "+where)
		}
	}
	out := store.RoundJudgement{Round: row.Number, Stage: row.Stage}
	var judged *bout.Judged
	if facts.Changed || facts.Question {
		result, said, err := r.s.stored(row)
		if err != nil {
			return nil, verdict.Verdict{}, err
		}
		if !r.quiet {
			if err := r.s.store.Advance(ctx, r.b, store.Judging, nil); err != nil {
				return nil, verdict.Verdict{}, err
			}
		}
		if n := len(r.verdicts); n > 0 && facts.Changed && r.verdicts[n-1].stage == row.Stage && r.verdicts[n-1].tree == row.ResultTree && r.verdicts[n-1].judged != nil {
			judged = r.verdicts[n-1].judged // nothing was changed since: what was found holds
			r.say("nothing was changed since the round before")
		} else if judged, err = r.s.engine.Judge(ctx, r.job, r.prepared, stage, base, result, said, r.say); err != nil {
			return nil, verdict.Verdict{}, err
		}
		r.gather(&facts, &out, judged)
		if facts.Changed {
			if err := r.edits(ctx, row, &out, result, said, judged); err != nil {
				return nil, verdict.Verdict{}, err
			}
			facts.Beyond = bout.OutOfBounds(r.job.Task, out.Edits)
		}
		if err := r.keep(row.Number, judged); err != nil {
			return nil, verdict.Verdict{}, err
		}
		text, err := json.Marshal(judged.Compared.Rows)
		if err != nil {
			return nil, verdict.Verdict{}, err
		}
		if len(judged.Compared.Rows) > 0 {
			if out.Tests, err = r.s.store.Put(text); err != nil {
				return nil, verdict.Verdict{}, err
			}
		}
	}
	out.Verdict = verdict.Of(facts)
	out.Verdict.Stage = stage.Name
	r.judgement.Rounds = append(r.judgement.Rounds, out)
	r.verdicts = append(r.verdicts, staged{row.Stage, out.Verdict, row.ResultTree, judged})
	return judged, out.Verdict, nil
}

// stored reads a round's change and closing message back.
func (s *Scheduler) stored(row *store.Round) (bout.Result, []byte, error) {
	var out bout.Result
	var said []byte
	out.Tree = row.ResultTree
	for from, into := range map[store.Digest]*[]byte{row.Diff: &out.Diff, row.Answer: &said} {
		if from == "" {
			continue
		}
		data, err := s.store.Get(from)
		if err != nil {
			return out, nil, err
		}
		*into = data
	}
	if row.Shown != "" {
		shown, err := s.store.Get(row.Shown)
		if err != nil {
			return out, nil, err
		}
		out.Shown = shown
	}
	return out, said, nil
}

// gather turns what judging found into the facts of a verdict.
func (r *rounds) gather(facts *verdict.Facts, out *store.RoundJudgement, j *bout.Judged) {
	c := &j.Compared
	goals, guards := verdict.Share(c.Goals), c.Guards
	for _, f := range j.Facts {
		goals.Total++
		if f.Reached {
			goals.Reached++
		} else {
			facts.Missed = append(facts.Missed, f.Fact+": "+f.Words)
		}
	}
	facts.Goals, facts.Strange, facts.Flags = &goals, j.Strange, append(facts.Flags, c.Flags...)
	if c.Own.Total > 0 {
		own := verdict.Share(c.Own)
		facts.Own = &own
	}
	for i := range c.Rows {
		row := &c.Rows[i]
		name := outcome.Key{Check: row.Check, Name: row.Name}.String()
		switch {
		case row.Missed():
			facts.Missed = append(facts.Missed, name)
		case row.Broken():
			facts.Broken = append(facts.Broken, name)
		}
	}
	for _, check := range c.Checks {
		one := verdict.Check{Name: check.Check, Outcome: checkOutcome(check), Why: check.Why}
		for k := range j.Deciding {
			if r := &j.Deciding[k].Run; r.Check == check.Check && r.Limit != "" {
				one.Limit, one.Why = limitReasons[r.Limit], r.Trouble
			}
		}
		if reads := readsOf(r.job.Task.Stages[out.Stage].Checks, check.Check); reads != task.ReadsExit {
			one.Missed, one.Broken = check.Missed, check.Broken
		}
		facts.Checks = append(facts.Checks, one)
	}
	facts.Subverted = j.Subverted()
	out.Canaries = j.Canaries
	if j.Canaries != nil {
		out.CanaryMS = &j.CanaryMS
	}
	for _, w := range j.Weakened {
		facts.Weakened = append(facts.Weakened, w.Words())
	}
	if j.OneUser {
		facts.Flags = append(facts.Flags, "{as_contender} ran the result as the check's own user: this machine has neither a second one nor Landlock")
	}
	if j.Networked {
		facts.Flags = append(facts.Flags, "judged with the network there: this machine cannot take it away")
	}
	if b := r.b.Imported; b != nil && b.OffBase != "" {
		facts.Flags = append(facts.Flags, b.OffBase)
	}
	out.Guards, out.Figures, out.Facts, out.PutBack, out.LeftOut, out.OverheadMS = &guards, c.Figures, j.Facts, j.PutBack, j.LeftOut, j.OverheadMS
	r.judgement.CopyMS = &j.CopyMS
}

// limitReasons are the reasons for the limits of the machine's resources.
var limitReasons = bout.LimitReasons()

func readsOf(checks []task.Check, name string) task.Reader {
	for _, c := range checks {
		if string(c.Name) == name {
			return c.Reads
		}
	}
	return ""
}

func checkOutcome(c outcome.CheckResult) verdict.CheckOutcome {
	switch {
	case c.NotRun:
		return verdict.CheckNotRun
	case c.TimedOut:
		return verdict.CheckTimeOut
	case c.OK:
		return verdict.CheckOK
	}
	return verdict.CheckFail
}

// keep adds a round's check results, with their logs and tests, to the judgement.
func (r *rounds) keep(round int, j *bout.Judged) error {
	add := func(way string, results []judge.Result, compared []outcome.CheckResult) error {
		for i := range results {
			res := &results[i]
			row := store.CheckResult{Round: round, Way: way, Name: string(res.Check.Name), Run: res.Check.Run, Reads: string(res.Check.Reads), Signal: res.Signal,
				Detail: res.Run.Trouble, LogCut: res.LogCut, Outcome: verdict.CheckNotRun}
			switch {
			case res.Run.TimedOut:
				row.Outcome = verdict.CheckTimeOut
			case res.Run.OK():
				row.Outcome = verdict.CheckOK
			case res.Run.Ran:
				row.Outcome = verdict.CheckFail
			}
			for _, c := range compared {
				if c.Check == row.Name && !(c.OK && res.Check.Reads == task.ReadsNumber) {
					row.Outcome = checkOutcome(c)
					if c.Why != "" {
						row.Detail = c.Why
					}
				}
			}
			if res.Run.Ran {
				code, ms := res.Run.ExitCode, res.Elapsed.Milliseconds()
				row.ExitCode, row.ElapsedMS = &code, &ms
			}
			if res.Run.Reads.SeesTests() && res.Run.Ran {
				sum := res.Run.Summary()
				row.Summary = &sum
			}
			var err error
			if row.Log, err = r.s.store.Put(res.Log); err != nil {
				return err
			}
			if len(res.Run.Tests) > 0 {
				text, err := json.Marshal(res.Run.Tests)
				if err != nil {
					return err
				}
				if row.Tests, err = r.s.store.Put(text); err != nil {
					return err
				}
			}
			r.judgement.Checks = append(r.judgement.Checks, row)
		}
		return nil
	}
	return errors.Join(add(store.WayDeciding, j.Deciding, j.Compared.Checks), add(store.WayVisible, j.Visible, nil), add(store.WayAgain, j.Again, nil), add(store.WayOwnTests, j.OwnTests, nil))
}

// finish works out what the rounds come to, and ends the bout.
func (r *rounds) finish(ctx context.Context, session *bout.Session, last *store.Round, judged *bout.Judged) error {
	end := &r.verdicts[len(r.verdicts)-1]
	if session != nil && judged != nil && end.verdict.Outcome == verdict.Failed && end.verdict.Check != "" {
		if err := r.madeOnly(ctx, session, last, judged, end); err != nil {
			return err
		}
	}
	r.judgement.Verdict = together(r.verdicts, false)
	first := together(r.verdicts, true)
	r.judgement.First = &first
	if r.quiet {
		return r.s.store.JudgeAgain(ctx, r.b, r.judgement)
	}
	facts := map[string]any{"beside": r.s.besideOf(r.me)}
	maps.Copy(facts, r.facts)
	return r.s.store.Finish(r.s.ctx, r.b, r.judgement, nil, facts)
}

// madeOnly finds out whether what fails on the clean copy passes where it was made.
func (r *rounds) madeOnly(ctx context.Context, session *bout.Session, last *store.Round, judged *bout.Judged, end *staged) error {
	r.say("the failing check again, where the tool worked")
	check, passes, err := session.PassesHere(ctx, r.stage(last.Stage), &r.bases[last.Stage], judged)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		// The workspace is the contender's: what it did there must not void a lost bout.
		r.s.log.Warn("a failing check cannot be run where the tool worked", "bout", r.b.ID, "error", err)
		return nil
	}
	if !passes {
		return nil
	}
	v := &end.verdict
	words := "check " + check + " " + verdict.MadeOnlyWords
	if v.Detail != "" {
		v.Detail += "; "
	}
	v.Detail += words
	r.judgement.Rounds[len(r.judgement.Rounds)-1].Verdict = *v
	return nil
}

// together is the verdict of all stages: that of the first stage that did not
// pass, or of the last one. first looks at each stage's first round, else at its
// last.
func together(all []staged, first bool) verdict.Verdict {
	byStage := map[int]verdict.Verdict{}
	stages := 0
	for _, one := range all {
		if _, there := byStage[one.stage]; !there || !first {
			byStage[one.stage] = one.verdict
		}
		stages = max(stages, one.stage+1)
	}
	out := byStage[stages-1]
	goals := verdict.Share{}
	for i := range stages {
		if g := byStage[i].Goals; g != nil {
			goals.Reached += g.Reached
			goals.Total += g.Total
		}
	}
	for i := range stages {
		if v := byStage[i]; v.Outcome != verdict.Passed {
			out = v
			break
		}
	}
	if out.Goals != nil {
		out.Goals = &goals
	}
	return out
}
