// Package store keeps the records: facts in SQLite through GORM, and diffs,
// logs and files in a content-addressed folder beside it.
//
// One process at a time owns a data folder. Every change of a bout and the
// event that tells of it are written in one transaction.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/oklog/ulid/v2"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	_ "modernc.org/sqlite" // the driver "sqlite", in Go alone: see docs/architecture.md

	"agonometer/internal/core/verdict"
)

//go:embed migrations/*.sql
var migrationFiles embed.FS

// ErrNotFound says that there is no such record.
var ErrNotFound = errors.New("no such record")

// LockedError says that another process owns the data folder.
type LockedError struct{ Dir string }

func (e *LockedError) Error() string {
	return "the data folder " + e.Dir + " is in use by another service; stop that one, or choose another folder with --data"
}

// Store is an open data folder.
type Store struct {
	Dir   string
	db    *gorm.DB
	blobs *blobs
	lock  *os.File
	now   func() time.Time

	mu      sync.Mutex
	waiters map[string]chan struct{}
}

// Open opens a data folder, makes it where it is not there, locks it, and
// brings its records up to the present version.
func Open(dir string, now func() time.Time) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	// Records hold briefs, diffs and replies: nobody else's business.
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	lock, err := Lock(dir)
	if err != nil {
		return nil, err
	}
	s := &Store{Dir: dir, lock: lock, now: now, waiters: map[string]chan struct{}{}}
	if s.blobs, err = openBlobs(filepath.Join(dir, "blobs")); err != nil {
		s.Close()
		return nil, err
	}
	records := filepath.Join(dir, "records.sqlite")
	if err := s.openRecords(records); err != nil {
		s.Close()
		return nil, err
	}
	// PRAGMAs stand in the address, so that they hold for every connection; a
	// transaction takes the write lock at its start, so that none has to give up midway.
	dsn := "file:" + strings.NewReplacer("?", "%3f", "#", "%23", "%", "%25").Replace(records) +
		"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_pragma=synchronous(FULL)&_txlock=immediate&_time_format=sqlite"
	s.db, err = gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: dsn}, &gorm.Config{
		Logger: logger.Discard, NowFunc: now, SkipDefaultTransaction: true})
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("open the records in %s: %w", dir, err)
	}
	if err := s.migrate(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// MissingRecordsError says that a data folder has contents, but that the database
// that says what they are is gone or empty.
type MissingRecordsError struct{ File string }

func (e *MissingRecordsError) Error() string {
	return e.File + " is missing or empty, but the folder beside it holds earlier contents: " +
		"put the database back from a backup, or choose another folder with --data to start without records"
}

// openRecords makes the database's file, which only its owner may read; SQLite
// gives its companions the same mode. A file that was lost or emptied is not
// taken for a new one.
func (s *Store) openRecords(name string) error {
	st, err := os.Stat(name)
	if (err != nil && errors.Is(err, fs.ErrNotExist)) || err == nil && st.Size() == 0 {
		wal, walErr := os.Stat(name + "-wal") // a database that was never checkpointed has all in there
		if used, usedErr := s.blobs.used(); usedErr != nil || used && (walErr != nil || wal.Size() == 0) {
			return errors.Join(&MissingRecordsError{name}, usedErr)
		}
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("open the records: %w", err)
	}
	f.Close()
	for _, companion := range []string{"", "-wal", "-shm"} {
		if err := os.Chmod(name+companion, 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("open the records: %w", err)
		}
	}
	return nil
}

// Lock takes a data folder for this process alone; closing the file gives it back.
func Lock(dir string) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder cannot be written: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, &LockedError{dir}
	}
	return lock, nil
}

// Close closes the records and gives the folder back.
func (s *Store) Close() error {
	var err error
	if s.db != nil {
		if db, dbErr := s.db.DB(); dbErr == nil {
			err = db.Close()
		}
	}
	s.lock.Close()
	return err
}

// migrate applies the migrations that the records have not had yet, each in a
// transaction of its own.
func (s *Store) migrate() error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return fmt.Errorf("read the version of the records: %w", err)
	}
	names, err := fs.Glob(migrationFiles, "migrations/*.sql")
	if err != nil {
		return err
	}
	sort.Strings(names)
	if version > len(names) {
		return fmt.Errorf("the records in %s are of version %d, made by a newer Agonometer; this one knows %d", s.Dir, version, len(names))
	}
	for i, name := range names[version:] {
		text, err := migrationFiles.ReadFile(name)
		if err != nil {
			return err
		}
		if err := apply(db, string(text), version+i+1); err != nil {
			return fmt.Errorf("bring the records to version %d: %w", version+i+1, err)
		}
	}
	return nil
}

// apply brings the records to a version in one transaction. Foreign keys are not
// looked at meanwhile, so that a table can be put in the place of another; that
// nothing is left dangling is looked at before the end.
func apply(db *sql.DB, text string, version int) error {
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "PRAGMA foreign_keys = 0"); err != nil {
		return err
	}
	defer conn.ExecContext(ctx, "PRAGMA foreign_keys = 1")
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Exec(text); err != nil {
		return err
	}
	dangling, err := tx.Query("PRAGMA foreign_key_check")
	if err != nil {
		return err
	}
	bad := dangling.Next()
	if err := errors.Join(dangling.Err(), dangling.Close()); err != nil {
		return err
	}
	if bad {
		return errors.New("records would be left without what they belong to")
	}
	if _, err := tx.Exec("PRAGMA user_version = " + strconv.Itoa(version)); err != nil {
		return err
	}
	return tx.Commit()
}

// NewID makes an id: a ULID, whose order is the order of time.
func (s *Store) NewID() string {
	return ulid.MustNew(ulid.Timestamp(s.now()), ulid.DefaultEntropy()).String()
}

// Put stores a content durably.
func (s *Store) Put(data []byte) (Digest, error) { return s.blobs.put(data) }

// Get reads a content back.
func (s *Store) Get(d Digest) ([]byte, error) { return s.blobs.get(d) }

func found(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrNotFound
	}
	return err
}

// Changed returns a channel that is closed when the contest has a new event.
// Take it before reading, so that nothing is missed between.
func (s *Store) Changed(contestID string) <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.waiters[contestID]
	if c == nil {
		c = make(chan struct{})
		s.waiters[contestID] = c
	}
	return c
}

func (s *Store) wake(contestID string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.waiters[contestID]; c != nil {
		close(c)
		delete(s.waiters, contestID)
	}
}

func (s *Store) event(tx *gorm.DB, contestID, boutID string, kind EventKind, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	return tx.Create(&Event{ContestID: contestID, BoutID: boutID, At: s.now().UTC(), Kind: kind, Data: string(text)}).Error
}

// CreateContest records a contest with its tasks, contenders and bouts.
func (s *Store) CreateContest(ctx context.Context, c *Contest, tasks []ContestTask, contenders []ContestContender, bouts []Bout) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(c).Error; err != nil {
			return err
		}
		if err := tx.CreateInBatches(tasks, 50).Error; err != nil {
			return err
		}
		if err := tx.CreateInBatches(contenders, 50).Error; err != nil {
			return err
		}
		if err := tx.CreateInBatches(bouts, 20).Error; err != nil {
			return err
		}
		return s.event(tx, c.ID, "", EventContest, map[string]any{"state": c.State})
	})
	if err == nil {
		s.wake(c.ID)
	}
	return err
}

// Contests lists all contests, the newest first.
func (s *Store) Contests(ctx context.Context) ([]Contest, error) {
	var out []Contest
	return out, s.db.WithContext(ctx).Order("id DESC").Find(&out).Error
}

// Contest finds one contest by its id.
func (s *Store) Contest(ctx context.Context, id string) (*Contest, error) {
	var c Contest
	if err := s.db.WithContext(ctx).First(&c, "id = ?", id).Error; err != nil {
		return nil, found(err)
	}
	return &c, nil
}

// Tasks lists a contest's tasks in their order; of all contests, newest first, for "".
func (s *Store) Tasks(ctx context.Context, contestID string) ([]ContestTask, error) {
	var out []ContestTask
	q := s.db.WithContext(ctx)
	if contestID != "" {
		q = q.Where("contest_id = ?", contestID)
	}
	return out, q.Order("contest_id DESC, position").Find(&out).Error
}

// Contenders lists a contest's contenders in their order; of all contests, newest first, for "".
func (s *Store) Contenders(ctx context.Context, contestID string) ([]ContestContender, error) {
	var out []ContestContender
	q := s.db.WithContext(ctx)
	if contestID != "" {
		q = q.Where("contest_id = ?", contestID)
	}
	return out, q.Order("contest_id DESC, position").Find(&out).Error
}

// SetContestState moves a contest on. One that has ended is not stopped any more, and one
// that is being stopped does not begin to run: then nothing is changed.
func (s *Store) SetContestState(ctx context.Context, id string, state ContestState) error {
	now := s.now().UTC()
	set := map[string]any{"state": state}
	switch state {
	case ContestRunning:
		set["started_at"] = gorm.Expr("COALESCE(started_at, ?)", now)
	case ContestDone, ContestStopped:
		set["ended_at"] = now
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		row := tx.Model(&Contest{}).Where("id = ?", id)
		switch state { // who stops a contest and who runs it may meet here
		case ContestRunning:
			row = row.Where("state <> ?", ContestStopping)
		case ContestStopping:
			row = row.Where("state NOT IN ?", []ContestState{ContestDone, ContestStopped})
		case ContestStopped:
			row = row.Where("state <> ?", ContestDone)
		}
		if done := row.Updates(set); done.Error != nil || done.RowsAffected == 0 {
			return done.Error
		}
		return s.event(tx, id, "", EventContest, map[string]any{"state": state})
	})
	if err == nil {
		s.wake(id)
	}
	return err
}

// BoutFilter narrows a list of bouts; empty fields do not.
type BoutFilter struct {
	ContestID string
	Task      string
	Contender string
	States    []BoutState
}

// withJudgements loads what the verdict of a bout needs.
func withJudgements(q *gorm.DB) *gorm.DB {
	return q.Preload("Judgements", func(q *gorm.DB) *gorm.DB { return q.Order("judgements.id") })
}

// Bouts lists bouts in the order of their contest, with their judgements but
// without the single checks.
func (s *Store) Bouts(ctx context.Context, f BoutFilter) ([]Bout, error) {
	q := withJudgements(s.db.WithContext(ctx))
	if f.ContestID != "" {
		q = q.Where("contest_id = ?", f.ContestID)
	}
	if f.Task != "" {
		q = q.Where("task = ?", f.Task)
	}
	if f.Contender != "" {
		q = q.Where("contender = ?", f.Contender)
	}
	if len(f.States) > 0 {
		q = q.Where("state IN ?", f.States)
	}
	var out []Bout
	return out, q.Order("contest_id DESC, position, rerun").Find(&out).Error
}

// Bout finds one bout with its judgements and their checks.
func (s *Store) Bout(ctx context.Context, id string) (*Bout, error) {
	var b Bout
	q := withJudgements(s.db.WithContext(ctx)).Preload("Judgements.Checks", func(q *gorm.DB) *gorm.DB { return q.Order("position") }).
		Preload("Rounds", func(q *gorm.DB) *gorm.DB { return q.Order("number") })
	if err := q.First(&b, "id = ?", id).Error; err != nil {
		return nil, found(err)
	}
	return &b, nil
}

// Advance moves a bout into a state and writes facts about it, in one step
// with the event that tells of it. `facts` are column names and values.
func (s *Store) Advance(ctx context.Context, b *Bout, state BoutState, facts map[string]any) error {
	now := s.now().UTC()
	set := map[string]any{"state": state, "doing": ""}
	switch state {
	case Preparing:
		set["preparing_at"] = now
	case Working:
		set["working_at"] = now
	case Captured:
		set["captured_at"] = now
	}
	for k, v := range facts {
		set[k] = v
	}
	return s.change(ctx, b, set, map[string]any{"state": state})
}

// AddRound records a round with the facts that it adds to its bout, which is
// captured then.
func (s *Store) AddRound(ctx context.Context, b *Bout, r *Round, facts map[string]any) error {
	r.BoutID, r.CapturedAt = b.ID, s.now().UTC()
	set := map[string]any{"state": Captured, "doing": "", "captured_at": r.CapturedAt, "rounds_used": r.Number}
	for k, v := range facts {
		set[k] = v
	}
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(r).Error; err != nil {
			return err
		}
		if err := tx.Model(&Bout{}).Where("id = ?", b.ID).Updates(set).Error; err != nil {
			return err
		}
		return s.event(tx, b.ContestID, b.ID, EventBout, map[string]any{"state": Captured, "round": r.Number, "task": b.Task, "contender": b.Contender, "repeat": b.Repeat, "wording": b.Wording})
	})
	if err == nil {
		s.wake(b.ContestID)
	}
	return err
}

// Say tells what a running bout is doing, in words.
func (s *Store) Say(ctx context.Context, b *Bout, doing string) error {
	return s.change(ctx, b, map[string]any{"doing": doing}, map[string]any{"doing": doing})
}

func (s *Store) change(ctx context.Context, b *Bout, set map[string]any, told map[string]any) error {
	told["task"], told["contender"], told["repeat"], told["wording"] = b.Task, b.Contender, b.Repeat, b.Wording
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Bout{}).Where("id = ?", b.ID).Updates(set).Error; err != nil {
			return err
		}
		return s.event(tx, b.ContestID, b.ID, EventBout, told)
	})
	if err == nil {
		s.wake(b.ContestID)
	}
	return err
}

// Finish records a judgement and ends the bout. Where `again` is given it is
// recorded in the same step as the rerun that takes the bout's place.
func (s *Store) Finish(ctx context.Context, b *Bout, j Judgement, again *Bout, facts map[string]any) error {
	now := s.now().UTC()
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := s.addJudgement(tx, b, &j); err != nil {
			return err
		}
		set := map[string]any{"state": Done, "done_at": now, "doing": ""}
		for k, v := range facts {
			set[k] = v
		}
		if again != nil {
			set["replaced_by"] = again.ID
			if err := tx.Create(again).Error; err != nil {
				return err
			}
		}
		if err := tx.Model(&Bout{}).Where("id = ?", b.ID).Updates(set).Error; err != nil {
			return err
		}
		told := map[string]any{"state": Done, "outcome": j.Outcome, "reason": j.Reason, "check": j.Verdict.Check,
			"task": b.Task, "contender": b.Contender, "repeat": b.Repeat, "wording": b.Wording}
		if err := s.event(tx, b.ContestID, b.ID, EventBout, told); err != nil {
			return err
		}
		if again == nil {
			return nil
		}
		return s.event(tx, b.ContestID, again.ID, EventBout, map[string]any{"state": Waiting, "rerun": again.Rerun,
			"task": b.Task, "contender": b.Contender, "repeat": b.Repeat, "wording": b.Wording})
	})
	if err == nil {
		s.wake(b.ContestID)
	}
	return err
}

// addJudgement records a judgement with its checks.
func (s *Store) addJudgement(tx *gorm.DB, b *Bout, j *Judgement) error {
	j.ID, j.BoutID, j.At = s.NewID(), b.ID, s.now().UTC()
	j.Outcome, j.Reason = j.Verdict.Outcome, j.Verdict.Reason
	if j.First == nil {
		j.First = &j.Verdict
	}
	checks := j.Checks
	j.Checks = nil
	if err := tx.Create(j).Error; err != nil {
		return err
	}
	for i := range checks {
		checks[i].JudgementID, checks[i].Position = j.ID, i
	}
	if len(checks) == 0 {
		return nil
	}
	return tx.CreateInBatches(checks, 50).Error
}

// JudgeAgain adds a judgement to a bout that has ended. The ones before stay.
func (s *Store) JudgeAgain(ctx context.Context, b *Bout, j Judgement) error {
	err := s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := s.addJudgement(tx, b, &j); err != nil {
			return err
		}
		return s.event(tx, b.ContestID, b.ID, EventBout, map[string]any{"state": Done, "outcome": j.Outcome, "reason": j.Reason, "check": j.Verdict.Check,
			"task": b.Task, "contender": b.Contender, "repeat": b.Repeat, "wording": b.Wording, "again": true})
	})
	if err == nil {
		s.wake(b.ContestID)
	}
	return err
}

// Rerun makes the row of a bout's rerun; Finish records it.
func (s *Store) Rerun(b *Bout) *Bout {
	return &Bout{ID: s.NewID(), ContestID: b.ContestID, Position: b.Position, Task: b.Task, Contender: b.Contender,
		Wording: b.Wording, Driver: b.Driver, Repeat: b.Repeat, Rerun: b.Rerun + 1, Seed: b.Seed, State: Waiting, CreatedAt: s.now().UTC()}
}

// Faults counts how often a bout and its earlier tries were void for a fault
// (not by interruption, and not by a person): of the model service, or of this machine.
func (s *Store) Faults(ctx context.Context, b *Bout, ofService bool) (int, error) {
	not, service := "NOT ", []verdict.Reason{verdict.Refused, verdict.OtherModel}
	if ofService {
		not = ""
	}
	var n int64
	err := s.earlierVoids(ctx, b).
		Where("judgements.reason NOT IN ?", []verdict.Reason{verdict.Interrupted, verdict.StoppedByPerson, verdict.Discarded}).
		Where("judgements.reason "+not+"IN ?", service).
		Count(&n).Error
	return int(n), err
}

// Began tells whether a contender began to work in any bout of a contest.
func (s *Store) Began(ctx context.Context, contestID, contender string) (bool, error) {
	var ids []string
	err := s.db.WithContext(ctx).Model(&Bout{}).Where("contest_id = ? AND contender = ? AND captured_at IS NOT NULL", contestID, contender).Limit(1).Pluck("id", &ids).Error
	return len(ids) > 0, err
}

// Unbegun lists the bouts of a contest that are void because their tool did not begin to
// work, and that no rerun took the place of.
func (s *Store) Unbegun(ctx context.Context, contestID string) ([]Bout, error) {
	var out []Bout
	err := s.db.WithContext(ctx).Where("contest_id = ? AND state = ? AND COALESCE(replaced_by, '') = ''", contestID, Done).
		Where("id IN (?)", s.db.Model(&Judgement{}).Select("bout_id").Where("outcome = ? AND reason = ?", verdict.Void, verdict.HandshakeFailed)).
		Where("id NOT IN (?)", s.db.Model(&Judgement{}).Select("bout_id").Where("outcome <> ?", verdict.Void)).Find(&out).Error
	return out, err
}

// Interruptions counts how often a bout and its earlier tries were void because the
// service went away.
func (s *Store) Interruptions(ctx context.Context, b *Bout) (int, error) {
	var n int64
	err := s.earlierVoids(ctx, b).Where("judgements.reason = ?", verdict.Interrupted).Count(&n).Error
	return int(n), err
}

// earlierVoids are the judgements by which a bout and its earlier tries are void.
func (s *Store) earlierVoids(ctx context.Context, b *Bout) *gorm.DB {
	return s.db.WithContext(ctx).Model(&Judgement{}).
		Joins("JOIN bouts ON bouts.id = judgements.bout_id").
		Where(`bouts.contest_id = ? AND bouts.task = ? AND bouts.contender = ? AND bouts."repeat" = ? AND bouts.wording = ?`, b.ContestID, b.Task, b.Contender, b.Repeat, b.Wording).
		Where("judgements.outcome = ?", verdict.Void)
}

// Events lists a contest's events after an id, oldest first.
func (s *Store) Events(ctx context.Context, contestID string, after int64, limit int) ([]Event, error) {
	var out []Event
	return out, s.db.WithContext(ctx).Where("contest_id = ? AND id > ?", contestID, after).Order("id").Limit(limit).Find(&out).Error
}

// LastEvent is the id of a contest's newest event; 0 where there is none.
func (s *Store) LastEvent(ctx context.Context, contestID string) (int64, error) {
	var id sql.NullInt64
	err := s.db.WithContext(ctx).Model(&Event{}).Where("contest_id = ?", contestID).Select("MAX(id)").Scan(&id).Error
	return id.Int64, err
}
