package schedule

import (
	"encoding/json"
	"time"

	"agonometer/internal/bout"
	"agonometer/internal/bout/meter"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// MaxRefusedReruns is how often a bout that is void by its model service is run again.
// After that it counts as failed: whether the service or the contender brought the
// refusals about cannot be told, and what cannot be had does not help anybody. Its
// availability tells the rest.
const MaxRefusedReruns = 1

// happened returns what stores the batches of a bout. They are stored also when
// the bout is being stopped: what was used is counted.
func (s *Scheduler) happened(b *store.Bout) func(time.Time, []timeline.Event, []*meter.Exchange, bout.Spent) {
	return func(clock time.Time, events []timeline.Event, seen []*meter.Exchange, spent bout.Spent) {
		rows := make([]store.Exchange, 0, len(seen))
		for _, x := range seen {
			row, err := s.exchange(b.ID, x, clock)
			if err != nil {
				s.log.Error("an exchange cannot be recorded", "bout", b.ID, "error", err)
				continue
			}
			rows = append(rows, row)
		}
		if err := s.store.Happened(s.ctx, b, events, rows, store.Spent(spent)); err != nil {
			s.log.Error("what happened in a bout cannot be recorded", "bout", b.ID, "error", err)
		}
	}
}

func (s *Scheduler) exchange(boutID string, x *meter.Exchange, clock time.Time) (store.Exchange, error) {
	at := func(t time.Time) int64 { return timeline.Us(t.Sub(clock)) }
	row := store.Exchange{BoutID: boutID, Number: x.Number, Round: x.Round, BeganAt: x.Began.UTC().Round(0), AtUS: at(x.Began), PacedUS: timeline.Us(x.Began.Sub(x.Arrived)), UntilUS: at(x.Ended),
		Method: x.Method, Path: x.Path, Status: x.Status, BytesIn: x.BytesIn, BytesOut: x.BytesOut, ModelAsked: x.Asked.Model, EffortAsked: x.Asked.Effort,
		Model: x.Read.Model, Effort: x.Read.Effort, Shape: x.Read.Shape, Wanting: x.Wanting, Partial: x.Partial, Strange: x.Read.Strange, Refused: x.Refused,
		Cause: string(x.Cause), CauseWords: x.CauseWords, RetryAfter: x.RetryAfter, Trouble: x.Trouble, BodiesCut: x.BodiesCut}
	t := x.Read.Tokens
	row.Fresh, row.Cached, row.Written, row.Output, row.Reasoning = t.Fresh, t.Cached, t.Written, t.Output, t.Reasoning
	if !x.FirstByte.IsZero() {
		first := at(x.FirstByte)
		row.FirstUS = &first
	}
	for into, body := range map[*store.Digest][]byte{&row.RequestBody: x.RequestBody, &row.ReplyBody: x.ReplyBody} {
		if len(body) == 0 {
			continue
		}
		d, err := s.store.Put(body)
		if err != nil {
			return row, err
		}
		*into = d
	}
	return row, nil
}

// seen are the facts about a bout that observing its contender brought.
func seen(session *bout.Session) (map[string]any, error) {
	timing, err := json.Marshal(session.Timing())
	if err != nil {
		return nil, err
	}
	machine, err := json.Marshal(session.Machine())
	if err != nil {
		return nil, err
	}
	return map[string]any{"timing": string(timing), "machine": string(machine), "network": session.Network, "metered": session.Metered, "scanned": session.Scanned()}, nil
}

// checked puts the checks of a judged round on the timeline.
func checked(session *bout.Session, round int, j *bout.Judged) {
	if j == nil {
		return
	}
	for _, results := range [][]bout.CheckRun{j.Visible, j.Deciding, j.Again, j.OwnTests} {
		for i := range results {
			if r := &results[i]; r.Run.Ran {
				session.Checked(string(r.Check.Name), round, r.Began, r.Elapsed, r.Run.OK())
			}
		}
	}
}

// rerunOf is the rerun of a void bout; nil where there is none to have any more.
func (s *Scheduler) rerunOf(c *contest.Contest, b *store.Bout, reason verdict.Reason) (*store.Bout, error) {
	if !reason.Reruns() {
		return nil, nil
	}
	most := MaxReruns
	faults, err := s.store.Faults(s.ctx, b, reason.Service())
	if err != nil {
		return nil, err
	}
	switch {
	case reason.Service():
		most = MaxRefusedReruns
	case reason == verdict.HandshakeFailed:
		most = 1
	}
	if faults >= most {
		return nil, nil
	}
	again := s.store.Rerun(b)
	if reason == verdict.Refused && c != nil {
		at := time.Now().UTC().Add(c.RefusedPauseOf(faults + 1))
		again.NotBefore = &at
	}
	return again, nil
}

// soonest is when the next of the pending bouts may begin; the zero time where none waits.
func soonest(pending []store.Bout, taken map[string]bool) time.Time {
	var at time.Time
	for i := range pending {
		if n := pending[i].NotBefore; n != nil && !taken[pending[i].ID] && (at.IsZero() || n.Before(at)) {
			at = *n
		}
	}
	return at
}

// keepSeen records what was seen of a bout that has no round to show for it.
func (s *Scheduler) keepSeen(b *store.Bout, session *bout.Session) {
	facts, err := seen(session)
	if err == nil {
		err = s.store.SetBout(s.ctx, b.ID, facts)
	}
	if err != nil && s.ctx.Err() == nil {
		s.log.Error("what was seen of a bout cannot be recorded", "bout", b.ID, "error", err)
	}
}

// reports adds up what a tool reports round by round.
type reports struct {
	sum    *ledger.Told
	rounds int
}

// add takes the report of one more round, and returns the sum; nil where none
// said anything. A round that said nothing makes it a part of the truth.
func (r *reports) add(t *ledger.Told) *ledger.Told {
	r.rounds++
	switch {
	case t == nil && r.sum == nil:
	case t == nil:
		r.sum.AtLeast = true
	case r.sum == nil:
		one := *t
		one.AtLeast = r.rounds > 1
		r.sum = &one
	default:
		r.sum.Tokens = r.sum.Tokens.Plus(t.Tokens)
		switch {
		case t.Money != nil && r.sum.Money != nil:
			both := r.sum.Money.Plus(*t.Money)
			r.sum.Money = &both
		case (t.Money == nil) != (r.sum.Money == nil):
			r.sum.AtLeast = true
		}
	}
	return r.sum
}

// sayWaiting tells what the bouts wait for that may not begin yet.
func (s *Scheduler) sayWaiting(pending []store.Bout, taken map[string]bool) {
	for i := range pending {
		b := &pending[i]
		if b.NotBefore == nil || taken[b.ID] || b.Doing != "" {
			continue
		}
		if err := s.store.Say(s.ctx, b, "its model service refused; again after "+b.NotBefore.Local().Format(time.TimeOnly)); err != nil {
			s.log.Warn("progress cannot be recorded", "bout", b.ID, "error", err)
		}
	}
}
