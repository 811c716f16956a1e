package store

import (
	"context"

	"gorm.io/gorm"
)

// SetTask writes facts about a task of a contest: column names and values.
func (s *Store) SetTask(ctx context.Context, contestID, slug string, facts map[string]any) error {
	return s.db.WithContext(ctx).Model(&ContestTask{}).Where("contest_id = ? AND slug = ?", contestID, slug).Updates(facts).Error
}

// provingKey is the name under which a proving's changes are waited for.
func provingKey(id string) string { return "proving " + id }

// ProvingChanged is Changed for a proving.
func (s *Store) ProvingChanged(id string) <-chan struct{} { return s.Changed(provingKey(id)) }

// CreateProving records a proving that is to be run.
func (s *Store) CreateProving(ctx context.Context, p *Proving) error {
	p.ID, p.CreatedAt, p.State = s.NewID(), s.now().UTC(), ProvingWaiting
	return s.db.WithContext(ctx).Create(p).Error
}

// SetProving writes facts about a proving: column names and values.
func (s *Store) SetProving(ctx context.Context, p *Proving) error {
	if p.State == ProvingDone || p.State == ProvingStopped {
		now := s.now().UTC()
		p.EndedAt = &now
	}
	err := s.db.WithContext(ctx).Save(p).Error
	if err == nil {
		s.wake(provingKey(p.ID))
	}
	return err
}

// Proving finds one proving by its id.
func (s *Store) Proving(ctx context.Context, id string) (*Proving, error) {
	var p Proving
	if err := s.db.WithContext(ctx).First(&p, "id = ?", id).Error; err != nil {
		return nil, found(err)
	}
	return &p, nil
}

// Provings lists provings, the newest first: of one task for a slug, of all for "".
func (s *Store) Provings(ctx context.Context, slug string, states ...ProvingState) ([]Proving, error) {
	var out []Proving
	q := s.db.WithContext(ctx)
	if slug != "" {
		q = q.Where("task = ?", slug)
	}
	if len(states) > 0 {
		q = q.Where("state IN ?", states)
	}
	return out, q.Order("id DESC").Find(&out).Error
}

// FullRepeats is how often each side of a proof is run; fewer prove nothing.
const FullRepeats = 3

// Known tells what is known of a task of a digest: the newest proving of that
// very version decides; a proving of an earlier one makes it changed.
func (s *Store) Known(ctx context.Context, slug, digest string) (Proved, *Proving, error) {
	all, err := s.Provings(ctx, slug, ProvingDone)
	if err != nil {
		return ProvedNo, nil, err
	}
	before := false
	for i := range all {
		p := &all[i]
		if p.Repeats < FullRepeats || p.Result == nil {
			continue
		}
		if p.Digest == digest {
			if p.Result.Proved {
				return ProvedYes, p, nil
			}
			return ProvedNo, p, nil
		}
		before = before || p.Result.Proved
	}
	if before {
		return ProvedChanged, nil, nil
	}
	return ProvedNo, nil, nil
}

// CreateRejudging records that stored diffs are to be judged again.
func (s *Store) CreateRejudging(ctx context.Context, r *Rejudging) error {
	r.ID, r.CreatedAt, r.State = s.NewID(), s.now().UTC(), ProvingWaiting
	return s.setRejudging(ctx, r)
}

// SetRejudging records how far a judging again has got.
func (s *Store) SetRejudging(ctx context.Context, r *Rejudging) error {
	if r.State == ProvingDone || r.State == ProvingStopped {
		now := s.now().UTC()
		r.EndedAt = &now
	}
	return s.setRejudging(ctx, r)
}

func (s *Store) setRejudging(ctx context.Context, r *Rejudging) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Save(r).Error; err != nil {
			return err
		}
		return s.event(tx, r.ContestID, "", EventRejudge, map[string]any{"state": r.State, "rejudging": r.ID, "done": r.Done, "total": r.Total, "doing": r.Problem})
	})
	if err == nil {
		s.wake(r.ContestID)
	}
	return err
}

// Rejudgings lists those of a contest, the newest first; of all for "".
func (s *Store) Rejudgings(ctx context.Context, contestID string, states ...ProvingState) ([]Rejudging, error) {
	var out []Rejudging
	q := s.db.WithContext(ctx)
	if contestID != "" {
		q = q.Where("contest_id = ?", contestID)
	}
	if len(states) > 0 {
		q = q.Where("state IN ?", states)
	}
	return out, q.Order("id DESC").Find(&out).Error
}

// AddWaiting records a bout that is to be worked by hand outside any contest.
func (s *Store) AddWaiting(ctx context.Context, b *Bout) error {
	return s.db.WithContext(ctx).Omit("Judgements", "Rounds").Create(b).Error
}

// AddBout records a bout that was made elsewhere, with its one round, as
// captured; its contest waits for it to be judged. con and t are recorded too
// where the contest does not have them yet.
func (s *Store) AddBout(ctx context.Context, b *Bout, r *Round, con *ContestContender) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if con != nil {
			if err := tx.Create(con).Error; err != nil {
				return err
			}
		}
		if err := tx.Omit("Judgements", "Rounds").Create(b).Error; err != nil {
			return err
		}
		r.BoutID, r.CapturedAt = b.ID, *b.CapturedAt
		if err := tx.Create(r).Error; err != nil {
			return err
		}
		if err := tx.Model(&Contest{}).Where("id = ? AND state IN ?", b.ContestID, []ContestState{ContestDone, ContestStopped, ContestByHand}).
			Updates(map[string]any{"state": ContestWaiting, "ended_at": nil}).Error; err != nil {
			return err
		}
		return s.event(tx, b.ContestID, b.ID, EventBout, map[string]any{"state": Captured, "task": b.Task, "contender": b.Contender, "repeat": b.Repeat, "wording": b.Wording})
	})
	if err == nil {
		s.wake(b.ContestID)
	}
	return err
}
