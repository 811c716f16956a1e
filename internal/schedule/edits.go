package schedule

import (
	"context"
	"encoding/json"
	"slices"

	"agonometer/internal/bout"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/task"
	"agonometer/internal/store"
)

// edits works out the edit measures of a round and keeps them with its judgement. A
// change that cannot be measured has none: that must not void a bout.
func (r *rounds) edits(ctx context.Context, row *store.Round, out *store.RoundJudgement, result bout.Result, said []byte, judged *bout.Judged) error {
	with := judged.BesideOf()
	with.Said, with.LintStart = said, r.bases[row.Stage].Lint
	with.Earlier = r.touchedBefore(ctx, row)
	text, err := json.Marshal(with)
	if err != nil {
		return err
	}
	if out.Beside, err = r.s.store.Put(text); err != nil {
		return err
	}
	r.say("the edit measures")
	marks, err := r.s.store.EditMarks(ctx, r.b.ID)
	if err != nil {
		return err
	}
	return r.s.measured(ctx, r.b.ID, r.job.Task, r.prepared, r.stage(row.Stage), result, with, marks, out)
}

// touchedBefore are the paths that earlier rounds of the bout had changed.
func (r *rounds) touchedBefore(ctx context.Context, row *store.Round) []string {
	full, err := r.s.store.Bout(ctx, r.b.ID)
	if err != nil {
		return nil
	}
	var out []string
	for i := range full.Rounds {
		earlier := &full.Rounds[i]
		if earlier.Number >= row.Number || earlier.Shown == "" {
			continue
		}
		shown, err := r.s.store.Get(earlier.Shown)
		if err != nil {
			continue
		}
		files, err := patch.Parse(shown, 1)
		if err != nil {
			continue
		}
		for _, f := range files {
			if !slices.Contains(out, f.Path) {
				out = append(out, f.Path)
			}
		}
	}
	return out
}

// measured works out measures and puts them into a round's judgement.
func (s *Scheduler) measured(ctx context.Context, id string, t *task.Task, p *workspace.Prepared, stage *task.Stage, result bout.Result, with bout.Beside, marks map[string]store.EditMark, out *store.RoundJudgement) error {
	m, err := s.engine.MeasureEdits(ctx, t, p, stage, result, with)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.log.Warn("a change cannot be measured", "bout", id, "error", err)
		return nil
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if out.Measures, err = s.store.Put(text); err != nil {
		return err
	}
	out.MeasuresVersion, out.Edits = m.Version, m.Values(store.SetAside(marks))
	return nil
}

// MeasureAgain works out the edit measures of a bout anew, from what was stored of it.
// The verdict stays. It returns the bout with its new figures.
func (s *Scheduler) MeasureAgain(ctx context.Context, id string) (*store.Bout, error) {
	b, err := s.store.Bout(ctx, id)
	if err != nil {
		return nil, err
	}
	if b.State != store.Done || len(b.Judgements) == 0 || len(b.Rounds) == 0 {
		return nil, &StateError{"the bout has not ended, or nothing was captured; there is nothing to measure"}
	}
	row, err := s.store.Contest(ctx, b.ContestID)
	if err != nil {
		return nil, err
	}
	t, commit, c, err := s.TaskOf(ctx, row, b.Task)
	if err != nil {
		return nil, err
	}
	p, err := s.engine.Prepare(ctx, t, commit, Limits(c, t), func(string) {})
	if err != nil {
		return nil, err
	}
	marks, err := s.store.EditMarks(ctx, id)
	if err != nil {
		return nil, err
	}
	r := &rounds{s: s, b: b}
	j := &b.Judgements[len(b.Judgements)-1]
	known, err := s.knownStart(ctx, row.ID, b.Task)
	if err != nil {
		return nil, err
	}
	for i := range j.Rounds {
		one := &j.Rounds[i]
		at := slices.IndexFunc(b.Rounds, func(x store.Round) bool { return x.Number == one.Round })
		if at < 0 || b.Rounds[at].Diff == "" || one.Stage >= len(t.Stages) {
			continue
		}
		result, said, err := s.stored(&b.Rounds[at])
		if err != nil {
			return nil, err
		}
		with := bout.Beside{}
		if one.Beside != "" {
			text, err := s.store.Get(one.Beside)
			if err != nil {
				return nil, err
			}
			if err := json.Unmarshal(text, &with); err != nil {
				return nil, err
			}
		} else if one.Stage < len(known) {
			with.LintStart = known[one.Stage].Lint
		}
		with.Said, with.Earlier = said, r.touchedBefore(ctx, &b.Rounds[at])
		if err := s.measured(ctx, id, t, p, &t.Stages[one.Stage], result, with, marks, one); err != nil {
			return nil, err
		}
	}
	return b, s.store.SetRounds(ctx, j)
}

// knownStart is what is known of a contest's task at its start, by stage; nil for nothing.
func (s *Scheduler) knownStart(ctx context.Context, contestID, slug string) ([]outcome.Baseline, error) {
	tasks, err := s.store.Tasks(ctx, contestID)
	if err != nil {
		return nil, err
	}
	for i := range tasks {
		if tasks[i].Slug == slug && tasks[i].Baseline != "" {
			text, err := s.store.Get(tasks[i].Baseline)
			if err != nil {
				return nil, err
			}
			var out []outcome.Baseline
			return out, json.Unmarshal(text, &out)
		}
	}
	return nil, nil
}
