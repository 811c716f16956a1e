package store

import (
	"context"
	"time"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/person"
)

// HandPhase is where a bout that a person works stands.
type HandPhase string

const (
	// HandPreparing is having its workspace made.
	HandPreparing HandPhase = "preparing"
	// HandReady has its workspace; the clock has not been started.
	HandReady HandPhase = "ready"
	// HandRunning has its clock running, HandPaused has it stopped for a while.
	HandRunning HandPhase = "running"
	HandPaused  HandPhase = "paused"
	// HandJudging is being captured and judged.
	HandJudging HandPhase = "judging"
	// HandOffered failed its checks; the words of the next round are offered.
	HandOffered HandPhase = "offered"
	// HandOver is done with.
	HandOver HandPhase = "over"
)

// Hand is what is known of a bout that a person works.
type Hand struct {
	Phase HandPhase `json:"phase"`
	// Worker is who works the tool, Familiarity how used to it they are, in words.
	Worker      string `json:"worker,omitempty"`
	Familiarity string `json:"familiarity,omitempty"`
	// Clock is when the clock was started; nil before.
	Clock *time.Time `json:"clock,omitempty"`
	// Round is the present one, with its stage and kind; Words those that were really
	// sent, Brief those that were to be sent.
	Round int       `json:"round"`
	Stage int       `json:"stage"`
	Kind  RoundKind `json:"kind"`
	Words string    `json:"words"`
	Brief string    `json:"brief"`
	// Differs is set where the words of any round were not those that were offered.
	Differs bool `json:"differs,omitempty"`
	// Began is when the present stretch of work began, on the bout's clock in
	// microseconds: behind a pause it is later than its round. Worked is how long the
	// stretches before it lasted, this round's and earlier ones'.
	Began  int64 `json:"began_us"`
	Worked int64 `json:"worked_us"`
	// RoundWorked is how long the earlier stretches of this round lasted.
	RoundWorked int64 `json:"round_worked_us"`
	// Pauses counts them.
	Pauses int `json:"pauses,omitempty"`
	// Wanted is the place of this bout among those that were left to a person when it
	// was started, from 1: anything but 1 is out of order. 0 where no order was wanted.
	Wanted int `json:"wanted,omitempty"`
	// Workspace is where the person works.
	Workspace string `json:"workspace"`
	// Answer is the tool's closing message in the round that is being judged.
	Answer string `json:"answer,omitempty"`
	// Keys is how many keys were pressed, for tasks of typing; nil where not counted.
	Keys *int `json:"keys,omitempty"`
	// Discarded says why a person threw the bout away; "" where nobody did.
	Discarded string `json:"discarded,omitempty"`
}

// Mark is something that a person noted in a bout.
type Mark struct {
	ID     string `gorm:"primaryKey"`
	BoutID string
	Mark   person.Mark `gorm:"serializer:json"`
	// NotedAt is when it was written down.
	NotedAt time.Time
	// Corrects is the mark that this one stands in the place of; "" for a first one.
	Corrects string
	// Reason says why it was corrected or taken back.
	Reason    string
	TakenBack bool
	// Before is the change as it stood when the person began to edit, BeforeTree its
	// tree, and Step what the person did, where the mark spans own editing.
	Before     Digest
	BeforeTree string
	Step       Digest
}

// FirstUse is a contender's first use of a repository in a contest.
type FirstUse struct {
	ID          string `gorm:"primaryKey"`
	ContestID   string
	Contender   string
	Repository  string
	StartCommit string
	Version     string
	ElapsedMS   int64
	Exchanges   []ledger.Exchange `gorm:"serializer:json"`
	// Trouble says in words why it came to nothing; "" where it went well.
	Trouble string
	Log     Digest
	At      time.Time
}

// Finding is one line of a readiness check.
type Finding struct {
	Level  string `json:"level"`
	What   string `json:"what"`
	Detail string `json:"detail"`
	Remedy string `json:"remedy,omitempty"`
}

// Readiness is what a check of a contender found.
type Readiness struct {
	ID        string `gorm:"primaryKey"`
	Contender string
	Digest    string
	OK        bool
	Version   string
	Findings  []Finding `gorm:"serializer:json"`
	// TrialMS is how long the trial bout took; nil where there was none.
	TrialMS *int64
	At      time.Time
}

// AddMark records a mark.
func (s *Store) AddMark(ctx context.Context, m *Mark) error {
	m.ID, m.NotedAt = s.NewID(), s.now().UTC()
	return s.db.WithContext(ctx).Create(m).Error
}

// EndMark ends a span that is open, in the one row that it has: it is no correction.
func (s *Store) EndMark(ctx context.Context, m *Mark) error {
	return s.db.WithContext(ctx).Save(m).Error
}

// Marks lists all marks of a bout, in the order in which they were noted, those that
// were corrected or taken back among them.
func (s *Store) Marks(ctx context.Context, boutID string) ([]Mark, error) {
	var out []Mark
	return out, s.db.WithContext(ctx).Where("bout_id = ?", boutID).Order("id").Find(&out).Error
}

// Current are the marks that count: not corrected since, and not taken back.
func Current(all []Mark) []Mark {
	gone := map[string]bool{}
	for i := range all {
		gone[all[i].Corrects] = true
	}
	var out []Mark
	for i := range all {
		if m := &all[i]; !gone[m.ID] && !m.TakenBack {
			out = append(out, *m)
		}
	}
	return out
}

// AddFirstUse records a first use.
func (s *Store) AddFirstUse(ctx context.Context, u *FirstUse) error {
	if u.ID == "" {
		u.ID = s.NewID()
	}
	u.At = s.now().UTC()
	if u.Exchanges == nil {
		u.Exchanges = []ledger.Exchange{}
	}
	return s.db.WithContext(ctx).Create(u).Error
}

// FirstUses lists those of a contest, in order.
func (s *Store) FirstUses(ctx context.Context, contestID string) ([]FirstUse, error) {
	var out []FirstUse
	return out, s.db.WithContext(ctx).Where("contest_id = ?", contestID).Order("id").Find(&out).Error
}

// AddReadiness records what a check of a contender found.
func (s *Store) AddReadiness(ctx context.Context, r *Readiness) error {
	r.ID, r.At = s.NewID(), s.now().UTC()
	if r.Findings == nil {
		r.Findings = []Finding{}
	}
	return s.db.WithContext(ctx).Create(r).Error
}

// Readinesses are the newest checks of each contender in each version of its file.
func (s *Store) Readinesses(ctx context.Context) ([]Readiness, error) {
	var out []Readiness
	return out, s.db.WithContext(ctx).Where("id IN (SELECT MAX(id) FROM readinesses GROUP BY contender, digest)").Order("id DESC").Find(&out).Error
}

// Tell wakes whoever follows a bout that a person works, with what has become of it.
func (s *Store) Tell(ctx context.Context, b *Bout, told map[string]any, facts map[string]any) error {
	return s.change(ctx, b, facts, told)
}
