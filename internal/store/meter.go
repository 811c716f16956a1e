package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
)

// Exchange is one request of a bout to its model service, with its reply.
type Exchange struct {
	BoutID  string `gorm:"primaryKey"`
	Number  int    `gorm:"primaryKey"`
	Round   int
	BeganAt time.Time
	// AtUS and UntilUS are moments on the bout's clock, in microseconds; FirstUS is
	// when the reply's head came. PacedUS is how long it had waited before AtUS.
	AtUS    int64
	PacedUS int64
	FirstUS *int64
	UntilUS int64
	Method  string
	Path    string
	// Status is 0 where no reply came.
	Status      int
	BytesIn     int64
	BytesOut    int64
	ModelAsked  string
	EffortAsked string
	Model       string
	Effort      string
	Shape       string
	Fresh       *int64
	Cached      *int64
	Written     *int64
	Output      *int64
	Reasoning   *int64
	// Wanting is set where there should have been counts and there were none.
	Wanting    bool
	Partial    bool
	Strange    bool
	Refused    bool
	Cause      string
	CauseWords string
	RetryAfter string
	Trouble    string
	// RequestBody and ReplyBody are digests; empty where bodies are not kept.
	RequestBody Digest
	ReplyBody   Digest
	BodiesCut   bool
}

// Tokens are its counts.
func (x *Exchange) Tokens() ledger.Tokens {
	return ledger.Tokens{Fresh: x.Fresh, Cached: x.Cached, Written: x.Written, Output: x.Output, Reasoning: x.Reasoning}
}

// Ledger is the exchange as the ledger sees it.
func (x *Exchange) Ledger() ledger.Exchange {
	return ledger.Exchange{Bout: x.BoutID, Round: x.Round, At: x.BeganAt, TookMS: (x.UntilUS - x.AtUS) / 1000, Asked: x.ModelAsked, Replied: x.Model, Tokens: x.Tokens(),
		EffortAsked: x.EffortAsked, Effort: x.Effort, Wanting: x.Wanting, Partial: x.Partial, Refused: x.Refused}
}

// timelineRow is an event as it is stored.
type timelineRow struct {
	BoutID string `gorm:"primaryKey"`
	Seq    int64  `gorm:"primaryKey"`
	Event  string
}

func (timelineRow) TableName() string { return "timeline_events" }

// Spent is what a running bout has used so far, told to the live feed.
type Spent struct {
	Tokens  *int64
	Money   *ledger.Money
	AtLeast bool
}

// Happened stores a batch of what happened in a bout, and tells the live feed how
// far it has got.
func (s *Store) Happened(ctx context.Context, b *Bout, events []timeline.Event, exchanges []Exchange, spent Spent) error {
	rows := make([]timelineRow, 0, len(events))
	for i := range events {
		text, err := json.Marshal(events[i])
		if err != nil {
			return err
		}
		rows = append(rows, timelineRow{BoutID: b.ID, Event: string(text)})
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if len(rows) > 0 {
			var last int64
			if err := tx.Model(&timelineRow{}).Where("bout_id = ?", b.ID).Select("COALESCE(MAX(seq), 0)").Scan(&last).Error; err != nil {
				return err
			}
			for i := range rows {
				rows[i].Seq = last + 1 + int64(i)
			}
			if err := tx.CreateInBatches(rows, 200).Error; err != nil {
				return err
			}
		}
		if len(exchanges) > 0 {
			if err := tx.CreateInBatches(exchanges, 20).Error; err != nil {
				return err
			}
		}
		if len(exchanges) == 0 {
			return nil // the feed tells of what was used; the rest is read from the timeline
		}
		told := map[string]any{"task": b.Task, "contender": b.Contender, "repeat": b.Repeat, "wording": b.Wording, "happened": len(events) + len(exchanges)}
		if spent.Tokens != nil {
			told["tokens"], told["at_least"] = *spent.Tokens, spent.AtLeast
		}
		if spent.Money != nil {
			told["money"] = spent.Money
		}
		return s.event(tx, b.ContestID, b.ID, EventHappened, told)
	})
	if err == nil {
		s.wake(b.ContestID)
	}
	return err
}

// Timeline is what happened in a bout, in the order in which it was stored, from
// behind an event on.
func (s *Store) Timeline(ctx context.Context, boutID string, after int64) ([]timeline.Event, int64, error) {
	var rows []timelineRow
	if err := s.db.WithContext(ctx).Where("bout_id = ? AND seq > ?", boutID, after).Order("seq").Find(&rows).Error; err != nil {
		return nil, after, err
	}
	out := make([]timeline.Event, len(rows))
	for i := range rows {
		if err := json.Unmarshal([]byte(rows[i].Event), &out[i]); err != nil {
			return nil, after, err
		}
		after = rows[i].Seq
	}
	return out, after, nil
}

// Exchanges lists the exchanges of a bout, in order.
func (s *Store) Exchanges(ctx context.Context, boutID string) ([]Exchange, error) {
	var out []Exchange
	return out, s.db.WithContext(ctx).Where("bout_id = ?", boutID).Order("number").Find(&out).Error
}

// ContestExchanges lists those of all bouts of a contest, by bout.
func (s *Store) ContestExchanges(ctx context.Context, contestID string) (map[string][]Exchange, error) {
	var all []Exchange
	err := s.db.WithContext(ctx).Where("bout_id IN (SELECT id FROM bouts WHERE contest_id = ?)", contestID).
		Omit("method", "path", "trouble", "cause_words", "retry_after", "request_body", "reply_body").Order("bout_id, number").Find(&all).Error
	out := map[string][]Exchange{}
	for _, x := range all {
		out[x.BoutID] = append(out[x.BoutID], x)
	}
	return out, err
}

// SetBout writes facts about a bout that need no event of their own.
func (s *Store) SetBout(ctx context.Context, id string, facts map[string]any) error {
	return s.db.WithContext(ctx).Model(&Bout{}).Where("id = ?", id).Updates(facts).Error
}
