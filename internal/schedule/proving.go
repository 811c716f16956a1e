package schedule

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/bout"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/answer"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// Provings and judgings again stand in one line with the contests: they would
// disturb the times of bouts that ran beside them.

// aside runs the oldest proving or judging again that waits; did is false where
// there is none.
func (s *Scheduler) aside() (did bool, err error) {
	provings, err := s.store.Provings(s.ctx, "", store.ProvingWaiting)
	if err != nil {
		return false, err
	}
	rejudgings, err := s.store.Rejudgings(s.ctx, "", store.ProvingWaiting, store.ProvingRunning)
	if err != nil {
		return false, err
	}
	switch {
	case len(provings) > 0:
		p := &provings[len(provings)-1]
		if err := s.prove(p); err != nil {
			if s.ctx.Err() != nil {
				return true, err
			}
			p.State, p.Doing = store.ProvingDone, ""
			p.Result = &store.ProvingResult{Reasons: []string{err.Error()}, Steps: []store.ProvingStep{}}
			return true, errors.Join(err, s.store.SetProving(s.ctx, p))
		}
		return true, nil
	case len(rejudgings) > 0:
		r := &rejudgings[len(rejudgings)-1]
		if err := s.rejudge(r); err != nil {
			if s.ctx.Err() != nil {
				return true, err
			}
			r.State, r.Problem = store.ProvingDone, err.Error()
			return true, errors.Join(err, s.store.SetRejudging(s.ctx, r))
		}
		return true, nil
	}
	return false, nil
}

// Prove records a proving, to be run when its turn comes. Fewer than
// store.FullRepeats repeats tell how the sides differ, and prove nothing.
func (s *Scheduler) Prove(ctx context.Context, t *task.Task, commit string, bundle *specfile.Bundle, repeats int) (*store.Proving, error) {
	raw, err := json.Marshal(bundle)
	if err != nil {
		return nil, err
	}
	digest, err := s.store.Put(raw)
	if err != nil {
		return nil, err
	}
	p := &store.Proving{Task: string(t.Task), Title: t.Title, Digest: t.Digest(commit), StartCommit: commit, Bundle: digest, Repeats: repeats}
	if err := s.store.CreateProving(ctx, p); err != nil {
		return nil, err
	}
	s.poke()
	return p, nil
}

// StopProving stops a proving that waits or runs.
func (s *Scheduler) StopProving(ctx context.Context, id string) error {
	p, err := s.store.Proving(ctx, id)
	if err != nil {
		return err
	}
	s.mu.Lock()
	stop := s.stopProving
	running := s.proving == id
	s.mu.Unlock()
	switch {
	case running:
		stop(errStopped)
		return nil
	case p.State == store.ProvingWaiting:
		p.State = store.ProvingStopped
		return s.store.SetProving(ctx, p)
	}
	return &StateError{"the proving has ended already"}
}

// proof is a proving on its way.
type proof struct {
	s      *Scheduler
	p      *store.Proving
	job    bout.Job
	result store.ProvingResult
	rows   []outcome.Row
}

func (pr *proof) step(what string, ok bool, words string) {
	pr.result.Steps = append(pr.result.Steps, store.ProvingStep{What: what, OK: ok, Words: words})
	if !ok {
		pr.result.Reasons = append(pr.result.Reasons, words)
	}
}

// failed is a step that did not work, with what a command printed.
func (pr *proof) failed(what, words string, printed []byte) error {
	pr.step(what, false, words)
	if len(bytes.TrimSpace(printed)) == 0 {
		return nil
	}
	last := &pr.result.Steps[len(pr.result.Steps)-1]
	last.Output = judge.End(printed, 20, 4000)
	var err error
	last.Log, err = pr.s.store.Put(printed)
	return err
}

func (pr *proof) say(what string) {
	pr.p.Doing = what
	if err := pr.s.store.SetProving(pr.s.ctx, pr.p); err != nil {
		pr.s.log.Warn("progress cannot be recorded", "proving", pr.p.ID, "error", err)
	}
}

// prove runs one proving to its end.
func (s *Scheduler) prove(p *store.Proving) error {
	ctx, cancel := context.WithCancelCause(s.ctx)
	defer cancel(nil)
	s.mu.Lock()
	s.proving, s.stopProving = p.ID, cancel
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.proving, s.stopProving = "", nil
		s.mu.Unlock()
	}()
	raw, err := s.store.Get(p.Bundle)
	if err != nil {
		return err
	}
	var b specfile.Bundle
	if err := json.Unmarshal(raw, &b); err != nil {
		return err
	}
	t, doc := task.Parse(b.Main, b.Main, b.Files[b.Main], b.Files)
	if err := doc.Problems.Err(); err != nil {
		return err
	}
	pr := &proof{s: s, p: p, job: bout.Job{ID: p.ID, Task: t, Commit: p.StartCommit, Limits: t.Limits.Over(task.Defaults())}}
	pr.result.Steps = []store.ProvingStep{}
	p.State, p.Steps = store.ProvingRunning, 1+len(t.Stages)*p.Repeats
	s.log.Info("a proving begins", "proving", p.ID, "task", p.Task)
	err = pr.run(ctx)
	switch {
	case s.ctx.Err() != nil:
		return err
	case errors.Is(context.Cause(ctx), errStopped):
		p.State, p.Doing = store.ProvingStopped, ""
		return s.store.SetProving(s.ctx, p)
	case err != nil:
		return err
	}
	if text, err := json.Marshal(pr.rows); err != nil {
		return err
	} else if len(pr.rows) > 0 {
		if p.Tests, err = s.store.Put(text); err != nil {
			return err
		}
	}
	pr.result.Proved = len(pr.result.Reasons) == 0 && p.Repeats >= store.FullRepeats
	if len(pr.result.Reasons) == 0 && !pr.result.Proved {
		pr.result.Warnings = append(pr.result.Warnings, fmt.Sprintf("%d repeats show nothing about steadiness; %d are needed", p.Repeats, store.FullRepeats))
	}
	p.Result, p.State, p.Doing = &pr.result, store.ProvingDone, ""
	return s.store.SetProving(s.ctx, p)
}

func (pr *proof) run(ctx context.Context) error {
	t := pr.job.Task
	pr.step("brief", strings.TrimSpace(t.Brief) != "", fmt.Sprintf("%d words", len(strings.Fields(t.Brief))))
	if t.Drafted() {
		pr.result.Warnings = append(pr.result.Warnings, task.DraftedWords)
	}
	pr.say("preparing")
	began := time.Now()
	prepared, err := pr.s.engine.Prepare(ctx, t, pr.job.Commit, pr.job.Limits, pr.say)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var void *bout.VoidError
		if errors.As(err, &void) && void.Reason == verdict.PrepareFailed {
			return pr.failed("prepare", "prepare does not work: "+void.Detail, void.Log)
		}
		pr.step("prepare", false, "prepare does not work: "+err.Error())
		return nil
	}
	words := "nothing to prepare"
	if t.Prepare != "" {
		words = fmt.Sprintf("works (%.1f s when it was run", float64(prepared.PrepareMS)/1000)
		if time.Since(began) < time.Duration(prepared.PrepareMS)*time.Millisecond/2 {
			words += ", kept from before"
		}
		words += ")"
	}
	pr.step("prepare", true, words)
	for _, s := range prepared.EmptySubmodules {
		pr.result.Warnings = append(pr.result.Warnings, "the submodule "+s.Path+" arrives empty: "+s.Why)
	}
	if err := pr.scope(ctx, prepared); err != nil {
		return err
	}
	pr.p.StepsDone = 1
	if t.Kind == task.Question {
		pr.question()
		return nil
	}
	for i := range t.Stages {
		if err := pr.stage(ctx, i, prepared); err != nil {
			return err
		}
	}
	return nil
}

// scope sees whether every scope pattern names something, at the start or in a reference.
func (pr *proof) scope(ctx context.Context, p *workspace.Prepared) error {
	t := pr.job.Task
	if len(t.Scope) == 0 {
		return nil
	}
	files, err := pr.s.engine.Git.Files(p)
	if err != nil {
		return err
	}
	for i := range t.Stages {
		if names, err := pr.s.engine.Changed(ctx, p, t.Stages[i].Reference, ""); err == nil {
			files = append(files, names...)
		}
	}
	var idle []string
	for _, pattern := range t.Scope {
		found := false
		for _, f := range files {
			if ok, _ := doublestar.Match(pattern, f); ok {
				found = true
				break
			}
		}
		if !found {
			idle = append(idle, pattern)
		}
	}
	if len(idle) > 0 {
		pr.step("scope", false, "these scope patterns match nothing: "+strings.Join(idle, ", "))
	} else {
		pr.step("scope", true, plural(len(t.Scope), "pattern")+", each matches something")
	}
	return nil
}

func (pr *proof) question() {
	t := pr.job.Task
	nowhere := func(string) (int, bool) { return 0, false }
	fails := 0
	for _, f := range answer.Examine(t.Facts, "", nowhere) {
		if !f.Reached {
			fails++
		}
	}
	pr.result.Goals = len(t.Facts)
	pr.step("start", fails > 0, fmt.Sprintf("an empty reply misses %d of %d facts", fails, len(t.Facts)))
	if t.Answer == nil {
		pr.step("reference", false, "there is no reference_answer, so nothing shows that the question can be answered")
		return
	}
	p, err := pr.s.engine.Prepare(pr.s.ctx, t, pr.job.Commit, pr.job.Limits, pr.say)
	if err != nil {
		pr.step("reference", false, err.Error())
		return
	}
	judged, err := pr.s.engine.Judge(pr.s.ctx, pr.job, p, &t.Stages[0], &outcome.Baseline{}, bout.Result{}, t.Answer, pr.say)
	if err != nil {
		pr.step("reference", false, err.Error())
		return
	}
	var missed []string
	for _, f := range judged.Facts {
		after := testlog.Failed
		if f.Reached {
			after = testlog.Passed
		} else {
			missed = append(missed, f.Fact+" ("+f.Words+")")
		}
		pr.rows = append(pr.rows, outcome.Row{Name: f.Fact, Role: outcome.Goal, Before: testlog.Missing, Reference: after, After: after, Message: f.Words})
	}
	if len(missed) > 0 {
		pr.step("reference", false, "the reference answer does not hold: "+strings.Join(missed, "; "))
		return
	}
	pr.step("reference", true, "the reference answer holds "+all(len(t.Facts), "fact"))
}

// stage proves one stage: its baseline is measured as often as the proof wants.
func (pr *proof) stage(ctx context.Context, i int, prepared *workspace.Prepared) error {
	stage := &pr.job.Task.Stages[i]
	prefix := ""
	if stage.Name != "" {
		prefix = stage.Name + ": "
	}
	var bases []*outcome.Baseline
	for n := range pr.p.Repeats {
		base, err := pr.s.engine.Baseline(ctx, pr.job, prepared, stage, func(what string) {
			pr.say(fmt.Sprintf("%srepeat %d of %d: %s", prefix, n+1, pr.p.Repeats, what))
		})
		var reference *bout.ReferenceError
		if errors.As(err, &reference) {
			pr.step(prefix+"reference", false, reference.Error())
			return nil
		}
		if err != nil {
			return err
		}
		bases = append(bases, base)
		pr.p.StepsDone++
	}
	base := bases[0]
	base.Unsteady = disagreeing(bases)
	roles := base.Roles(stage, nil)
	goals, guards := 0, 0
	var early, shaky []string
	for k, known := range roles {
		switch known.Role {
		case outcome.Goal:
			goals++
			if known.Before == testlog.Passed {
				early = append(early, k.String())
			}
		case outcome.Guard:
			guards++
		}
	}
	for _, k := range base.Unsteady {
		pr.result.Unsteady = append(pr.result.Unsteady, store.UnsteadyTest{Stage: i, Key: k})
		pr.result.Warnings = append(pr.result.Warnings, prefix+k.String()+" is unsteady: repeats do not agree; it is no guard")
		if roles[k].Role == outcome.Goal {
			shaky = append(shaky, k.String())
		}
	}
	sort.Strings(early)
	pr.result.Goals += goals
	pr.result.Guards += guards
	for _, runs := range []outcome.Run{base.Start, base.StartSealed, base.Reference} {
		for _, c := range runs {
			if c.Cached {
				pr.result.Warnings = append(pr.result.Warnings, prefix+"check "+c.Check+" took results from a cache: its repeats show nothing")
			}
		}
	}
	if why := base.CannotRun(); why != "" {
		return pr.failed(prefix+"start", why, base.Printed[strings.Fields(why)[1]])
	}
	switch {
	case stage.Reference == nil && goals == 0:
		pr.step(prefix+"start", false, "without a reference patch and without goal: nothing says what the change must reach")
	case goals == 0:
		pr.step(prefix+"start", false, "there is no goal: no test and no check tells the start from the reference")
	case len(early) > 0:
		pr.step(prefix+"start", false, fmt.Sprintf("%d of %d goals pass at the start already: %s", len(early), goals, strings.Join(firstNames(early), ", ")))
	default:
		pr.step(prefix+"start", true, "misses "+all(goals, "goal"))
	}
	if stage.Reference == nil {
		pr.step(prefix+"reference", false, "there is no reference_patch, so nothing shows that the brief can be met")
		return nil
	}
	compared := outcome.Compare(stage, base, outcome.Runs{Deciding: base.Reference})
	pr.rows = append(pr.rows, compared.Rows...)
	pr.result.Figures = append(pr.result.Figures, compared.Figures...)
	if wrong := referenceWrong(stage, base); wrong != "" {
		if tests, err := pr.s.engine.ReferenceTests(ctx, pr.job, prepared, stage); err == nil && len(tests) > 0 {
			wrong += "; it changes tests, which judging puts back or leaves out (" + strings.Join(firstNames(tests), ", ") + "): put them under sealed, or name them under unprotected"
		}
		var printed []byte
		for _, c := range compared.Checks {
			if !c.OK {
				printed = base.Printed[c.Check]
				break
			}
		}
		if err := pr.failed(prefix+"reference", wrong, printed); err != nil {
			return err
		}
	} else {
		pr.step(prefix+"reference", true, "reaches "+all(compared.Goals.Total, "goal")+" and keeps "+all(compared.Guards.Total, "guard"))
	}
	switch {
	case len(shaky) > 0:
		pr.step(prefix+"repeats", false, "these goals are unsteady: "+strings.Join(firstNames(shaky), ", "))
	case len(bases) < 2:
	case len(base.Unsteady) > 0:
		pr.step(prefix+"repeats", true, fmt.Sprintf("%d repeats of each side agree, but for %d unsteady tests, which are no guards", len(bases), len(base.Unsteady)))
	default:
		pr.step(prefix+"repeats", true, fmt.Sprintf("%d repeats of each side agree", len(bases)))
	}
	return nil
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// all is "the one goal", "both goals" or "all 4 goals".
func all(n int, what string) string {
	switch n {
	case 0:
		return "no " + what
	case 1:
		return "the one " + what
	case 2:
		return "both " + what + "s"
	}
	return fmt.Sprintf("all %d %ss", n, what)
}

// disagreeing lists the tests whose outcomes differ between baselines.
func disagreeing(bases []*outcome.Baseline) []outcome.Key {
	sides := func(b *outcome.Baseline) []outcome.Run { return []outcome.Run{b.Start, b.StartSealed, b.Reference} }
	odd := map[outcome.Key]bool{}
	for side := range sides(bases[0]) {
		var runs []outcome.Run
		for _, b := range bases {
			runs = append(runs, sides(b)[side])
		}
		for _, k := range outcome.Disagree(runs) {
			odd[k] = true
		}
	}
	out := make([]outcome.Key, 0, len(odd))
	for k := range odd {
		out = append(out, k)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].Check != out[j].Check {
			return out[i].Check < out[j].Check
		}
		return out[i].Name < out[j].Name
	})
	return out
}
