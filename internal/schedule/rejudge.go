package schedule

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"

	"agonometer/internal/bout"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// rejudgeable tells whether a bout's stored diffs can be judged again: it has
// ended, something was captured, and it was not replaced by a rerun.
func rejudgeable(b *store.Bout) bool {
	return b.State == store.Done && b.RoundsUsed > 0 && b.ReplacedBy == "" && (b.Verdict() == nil || b.Verdict().Reason != verdict.StoppedByPerson)
}

// Rejudge records that stored diffs of a contest are to be judged again, with
// tasks as they are in loaded; slugs narrows them down (none: all).
func (s *Scheduler) Rejudge(ctx context.Context, row *store.Contest, loaded map[string]*task.Task, bundle *specfile.Bundle, slugs []string) (*store.Rejudging, error) {
	if row.State != store.ContestDone && row.State != store.ContestStopped {
		return nil, &StateError{"the contest has not ended yet; stored diffs are judged again when it has"}
	}
	tasks, err := s.store.Tasks(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	digests := map[string]string{}
	for _, t := range tasks {
		if len(slugs) > 0 && !slices.Contains(slugs, t.Slug) {
			continue
		}
		one := loaded[t.Slug]
		if one == nil {
			return nil, &StateError{fmt.Sprintf("there is no file for the task %s among those that were sent", t.Slug)}
		}
		digests[t.Slug] = one.Digest(t.StartCommit)
	}
	for _, slug := range slugs {
		if digests[slug] == "" {
			return nil, &StateError{fmt.Sprintf("the contest has no task %s", slug)}
		}
	}
	bouts, err := s.store.Bouts(ctx, store.BoutFilter{ContestID: row.ID})
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(bundle)
	if err != nil {
		return nil, err
	}
	r := &store.Rejudging{ContestID: row.ID, Tasks: slugs, Digests: digests}
	for i := range bouts {
		if rejudgeable(&bouts[i]) && digests[bouts[i].Task] != "" {
			r.Total++
		}
	}
	if r.Total == 0 {
		return nil, &StateError{"there is no captured change to be judged again"}
	}
	if r.Bundle, err = s.store.Put(raw); err != nil {
		return nil, err
	}
	if err := s.store.CreateRejudging(ctx, r); err != nil {
		return nil, err
	}
	s.poke()
	return r, nil
}

// TasksIn reads the task files of a bundle. Problems in any are returned together.
func TasksIn(b *specfile.Bundle) (map[string]*task.Task, specfile.Problems) {
	out := map[string]*task.Task{}
	var problems specfile.Problems
	for name, data := range b.Files {
		if contest.KindOf(name, data) != contest.KindTask {
			continue
		}
		t, doc := task.Parse(name, b.Short(name), data, b.Files)
		if !doc.Has("task") {
			continue // some other Markdown: a sealed file, an answer
		}
		problems = append(problems, doc.Problems...)
		out[string(t.Task)] = t
	}
	problems.Sort()
	return out, problems
}

// rejudge judges a contest's stored diffs again, with the tasks of its bundle
// and what is known of them now. No contender is run.
func (s *Scheduler) rejudge(r *store.Rejudging) error {
	busy := func(on bool) {
		s.mu.Lock()
		s.rejudging = on
		s.mu.Unlock()
	}
	busy(true)
	defer busy(false)
	raw, err := s.store.Get(r.Bundle)
	if err != nil {
		return err
	}
	var b specfile.Bundle
	if err := json.Unmarshal(raw, &b); err != nil {
		return err
	}
	tasks, problems := TasksIn(&b)
	if len(problems) > 0 {
		return problems
	}
	row, err := s.store.Contest(s.ctx, r.ContestID)
	if err != nil {
		return err
	}
	c, err := s.load(row)
	if err != nil {
		return err
	}
	r.State, r.Done = store.ProvingRunning, 0
	if err := s.store.SetRejudging(s.ctx, r); err != nil {
		return err
	}
	recorded, err := s.store.Tasks(s.ctx, r.ContestID)
	if err != nil {
		return err
	}
	bouts, err := s.store.Bouts(s.ctx, store.BoutFilter{ContestID: r.ContestID})
	if err != nil {
		return err
	}
	var mu sync.Mutex
	quietly := func(what string) {
		mu.Lock()
		defer mu.Unlock()
		r.Problem = what
		if err := s.store.SetRejudging(s.ctx, r); err != nil {
			s.log.Warn("progress cannot be recorded", "rejudging", r.ID, "error", err)
		}
	}
	for _, t := range recorded {
		one := tasks[t.Slug]
		if r.Digests[t.Slug] == "" || one == nil {
			continue
		}
		job := bout.Job{ID: r.ID, Task: one, Commit: t.StartCommit, Limits: Limits(c, one)}
		prepared, err := s.engine.Prepare(s.ctx, one, job.Commit, job.Limits, quietly)
		if err != nil {
			return err
		}
		known, proving, err := s.store.Known(s.ctx, t.Slug, r.Digests[t.Slug])
		if err != nil {
			return err
		}
		with := t
		with.Proved, with.ProvingID = known, ""
		if proving != nil {
			with.ProvingID = proving.ID
		}
		unsteady, err := s.unsteady(s.ctx, &with)
		if err != nil {
			return err
		}
		rs := rounds{s: s, c: c, job: job, prepared: prepared, quiet: true, me: &activeBout{}, say: func(string) {}}
		why := ""
		if one.Kind == task.Question {
			rs.bases = emptyBases()
		} else if rs.bases, why, err = s.measure(s.ctx, job, prepared, unsteady, func(what string) { quietly(t.Slug + ": " + what) }); err != nil {
			return err
		}
		for i := range bouts {
			b := &bouts[i]
			if b.Task != t.Slug || !rejudgeable(b) {
				continue
			}
			quietly(t.Slug + ", " + b.Contender)
			mine := rs
			mine.b = b
			mine.job.ID = b.ID
			mine.judgement = store.Judgement{TaskDigest: r.Digests[t.Slug], RejudgingID: r.ID}
			switch {
			case judgedIn(b, r.ID): // before the service was started anew
			case why != "":
				mine.judgement.Verdict = verdict.Of(verdict.Facts{Void: verdict.ReferenceFails, VoidDetail: why})
				err = s.store.JudgeAgain(s.ctx, b, mine.judgement)
			default:
				err = mine.judgeStored(s.ctx)
			}
			if err != nil {
				return err
			}
			r.Done++
		}
	}
	r.State, r.Problem = store.ProvingDone, ""
	return s.store.SetRejudging(s.ctx, r)
}

func judgedIn(b *store.Bout, rejudging string) bool {
	return slices.ContainsFunc(b.Judgements, func(j store.Judgement) bool { return j.RejudgingID == rejudging })
}
