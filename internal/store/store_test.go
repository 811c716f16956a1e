package store

import (
	"bytes"
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/verdict"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(dir, time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func contestWith(t *testing.T, s *Store, bouts int) (*Contest, []Bout) {
	t.Helper()
	c := &Contest{ID: s.NewID(), Name: "trial", Title: "Trial", State: ContestWaiting, Seed: 1, Repeats: 1, AtOnce: 1, CreatedAt: time.Now()}
	var rows []Bout
	for i := range bouts {
		rows = append(rows, Bout{ID: s.NewID(), ContestID: c.ID, Position: i, Task: "t", Contender: "c", Repeat: i + 1, State: Waiting, CreatedAt: time.Now()})
	}
	require.NoError(t, s.CreateContest(t.Context(), c, []ContestTask{{ContestID: c.ID, Slug: "t"}}, []ContestContender{{ContestID: c.ID, Slug: "c"}}, rows))
	return c, rows
}

func TestContentsComeBackWhole(t *testing.T) {
	s := open(t, t.TempDir())
	big := bytes.Repeat([]byte("tide "), 1<<20)
	for _, data := range [][]byte{nil, []byte("a"), big, {0, 1, 2, 255}} {
		d, err := s.Put(data)
		require.NoError(t, err)
		again, err := s.Put(data)
		require.NoError(t, err)
		assert.Equal(t, d, again)
		got, err := s.Get(d)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data, got))
	}
	d, err := s.Put(big)
	require.NoError(t, err)
	st, err := os.Stat(s.blobs.path(d))
	require.NoError(t, err)
	assert.Less(t, st.Size(), int64(len(big)/100), "it is compressed")
}

func TestDamagedContentsAreNoticed(t *testing.T) {
	s := open(t, t.TempDir())
	d, err := s.Put([]byte("a diff"))
	require.NoError(t, err)
	other, err := s.Put([]byte("another"))
	require.NoError(t, err)
	data, err := os.ReadFile(s.blobs.path(other))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.blobs.path(d), data, 0o600))
	_, err = s.Get(d)
	assert.ErrorContains(t, err, "damaged")
	require.NoError(t, os.WriteFile(s.blobs.path(d), []byte("not compressed"), 0o600))
	_, err = s.Get(d)
	assert.ErrorContains(t, err, "damaged")
	require.NoError(t, os.Remove(s.blobs.path(d)))
	_, err = s.Get(d)
	assert.ErrorContains(t, err, "missing from the data folder")
	_, err = s.Get("../../etc/passwd")
	assert.ErrorContains(t, err, "is not a digest")
}

func TestOneServiceAFolder(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := Open(dir, time.Now)
	var locked *LockedError
	require.ErrorAs(t, err, &locked)
	require.NoError(t, s.Close())
	open(t, dir)
}

// Records made by any earlier version are brought up to date, and nothing is lost.
func TestMigrations(t *testing.T) {
	names, err := filepath.Glob("migrations/*.sql")
	require.NoError(t, err)
	for version := range len(names) + 1 {
		dir := t.TempDir()
		s := open(t, dir)
		db, err := s.db.DB()
		require.NoError(t, err)
		var applied int
		require.NoError(t, db.QueryRow("PRAGMA user_version").Scan(&applied))
		assert.Equal(t, len(names), applied)
		if version > 0 {
			contestWith(t, s, 2)
		}
		require.NoError(t, s.Close())
		if version == 0 { // records from before there were any
			require.NoError(t, os.Remove(filepath.Join(dir, "records.sqlite")))
		}
		again := open(t, dir)
		bouts, err := again.Bouts(t.Context(), BoutFilter{})
		require.NoError(t, err)
		assert.Len(t, bouts, min(version, 1)*2)
	}
}

func TestNewerRecordsAreLeftAlone(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	db, err := s.db.DB()
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 999")
	require.NoError(t, err)
	require.NoError(t, s.Close())
	_, err = Open(dir, time.Now)
	assert.ErrorContains(t, err, "made by a newer Agonometer")
}

func TestDamagedRecordsAreTold(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "records.sqlite"), []byte(strings.Repeat("not a database ", 100)), 0o600))
	_, err := Open(dir, time.Now)
	assert.Error(t, err)
}

func TestABoutAndItsEventsMoveTogether(t *testing.T) {
	s := open(t, t.TempDir())
	c, bouts := contestWith(t, s, 1)
	b := &bouts[0]
	woken := s.Changed(c.ID)
	require.NoError(t, s.Advance(t.Context(), b, Working, map[string]any{"confinement": "namespaces"}))
	select {
	case <-woken:
	default:
		t.Error("nobody was woken")
	}
	again := s.Rerun(b)
	require.NoError(t, s.Finish(t.Context(), b, Judgement{Verdict: verdict.Of(verdict.Facts{Void: verdict.Interrupted})}, again, nil))
	got, err := s.Bout(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, again.ID, got.ReplacedBy)
	assert.Equal(t, verdict.Interrupted, got.Verdict().Reason)
	assert.NotNil(t, got.WorkingAt)
	faults, err := s.Faults(t.Context(), b, false)
	require.NoError(t, err)
	assert.Zero(t, faults, "an interruption is no fault")
	events, err := s.Events(t.Context(), c.ID, 0, 100)
	require.NoError(t, err)
	require.Len(t, events, 4)
	last, err := s.LastEvent(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, events[3].ID, last)
	rest, err := s.Events(t.Context(), c.ID, events[1].ID, 100)
	require.NoError(t, err)
	assert.Equal(t, events[2:], rest)

	// A judgement is added beside the old one, and the newest is used.
	require.NoError(t, s.Finish(t.Context(), again, Judgement{Verdict: verdict.Verdict{Outcome: verdict.Failed, Reason: verdict.CheckFailed}, Checks: []CheckResult{{Name: "a"}, {Name: "b"}}}, nil, nil))
	require.NoError(t, s.Finish(t.Context(), again, Judgement{Verdict: verdict.Verdict{Outcome: verdict.Passed, Reason: verdict.ChecksPassed}}, nil, nil))
	got, err = s.Bout(t.Context(), again.ID)
	require.NoError(t, err)
	require.Len(t, got.Judgements, 2)
	assert.Len(t, got.Judgements[0].Checks, 2)
	assert.Equal(t, verdict.Passed, got.Verdict().Outcome)
}

func TestManyWritersAtOnce(t *testing.T) {
	s := open(t, t.TempDir())
	c, bouts := contestWith(t, s, 16)
	var wg sync.WaitGroup
	errs := make([]error, len(bouts))
	for i := range bouts {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for range 10 {
				if err := s.Say(context.Background(), &bouts[i], "working"); err != nil {
					errs[i] = err
				}
			}
		}()
	}
	wg.Wait()
	for _, err := range errs {
		assert.NoError(t, err)
	}
	events, err := s.Events(t.Context(), c.ID, 0, 1000)
	require.NoError(t, err)
	assert.Len(t, events, 161)
}

func TestUnknownRecords(t *testing.T) {
	s := open(t, t.TempDir())
	_, err := s.Contest(t.Context(), "01X")
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = s.Bout(t.Context(), "01X")
	assert.ErrorIs(t, err, ErrNotFound)
}

// Records of the first version are taken along: what was one bout with one
// change becomes one with one round, and its verdict that of the first time too.
func TestRecordsOfTheFirstVersion(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "records.sqlite"))
	require.NoError(t, err)
	first, err := migrationFiles.ReadFile("migrations/0001_first.sql")
	require.NoError(t, err)
	_, err = db.Exec(string(first) + `
		PRAGMA user_version = 1;
		INSERT INTO contests VALUES ('C', 'trial', 'Trial', 'done', 1, 0, 1, 1, '/c.yaml', '', '2031-03-05 10:00:00+00:00', NULL, NULL);
		INSERT INTO contest_tasks VALUES ('C', 0, 'lamp', 'Lamp', '/r', 'abc', 'd', 'small', '[]', '[]', '{}', '', 'Light it.');
		INSERT INTO bouts (id, contest_id, position, task, contender, "repeat", rerun, seed, state, elapsed_ms, exit_code, diff, shown, log, result_tree, footprint, created_at, captured_at)
			VALUES ('B', 'C', 0, 'lamp', 'knot', 1, 0, 7, 'done', 1200, 0, '', '', '', 'tree', '{"files":2}', '2031-03-05 10:00:00+00:00', '2031-03-05 10:01:00+00:00'),
			('V', 'C', 1, 'lamp', 'knot', 2, 0, 8, 'done', NULL, NULL, '', '', '', '', NULL, '2031-03-05 10:00:00+00:00', NULL);
		INSERT INTO judgements VALUES ('J', 'B', '2031-03-05 10:02:00+00:00', '{"outcome":"passed","reason":"checks-passed"}', 'passed', 'checks-passed', 12);
		INSERT INTO check_results VALUES ('J', 0, 'lit', 'true', 'exit', 'passed', 0, '', 5, '', NULL, '', '', 0);`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	s := open(t, dir)
	b, err := s.Bout(t.Context(), "B")
	require.NoError(t, err)
	require.Len(t, b.Rounds, 1)
	assert.Equal(t, RoundOpening, b.Rounds[0].Kind)
	assert.EqualValues(t, 1200, *b.Rounds[0].ElapsedMS)
	assert.Equal(t, 2, b.Rounds[0].Footprint.Files)
	assert.Equal(t, 1, b.RoundsUsed)
	assert.Equal(t, verdict.Passed, b.First().Outcome)
	assert.Equal(t, WayDeciding, b.Judgements[0].Checks[0].Way)
	assert.Nil(t, b.Imported)
	v, err := s.Bout(t.Context(), "V")
	require.NoError(t, err)
	assert.Empty(t, v.Rounds, "what was never captured has no round")
	c, err := s.Contest(t.Context(), "C")
	require.NoError(t, err)
	assert.Equal(t, KindContest, c.Kind)
	tasks, err := s.Tasks(t.Context(), "C")
	require.NoError(t, err)
	assert.EqualValues(t, "change", tasks[0].Kind)
}

// What is known of a task: the newest full proving of that very version decides.
func TestKnown(t *testing.T) {
	s := open(t, t.TempDir())
	known := func(digest string) Proved {
		k, _, err := s.Known(t.Context(), "lamp", digest)
		require.NoError(t, err)
		return k
	}
	prove := func(digest string, repeats int, proved bool) {
		p := &Proving{Task: "lamp", Digest: digest, Repeats: repeats}
		require.NoError(t, s.CreateProving(t.Context(), p))
		p.State, p.Result = ProvingDone, &ProvingResult{Proved: proved}
		require.NoError(t, s.SetProving(t.Context(), p))
	}
	assert.Equal(t, ProvedNo, known("a"))
	prove("a", 1, false)
	assert.Equal(t, ProvedNo, known("a"))
	prove("a", 3, true)
	assert.Equal(t, ProvedYes, known("a"))
	prove("a", 1, false)
	assert.Equal(t, ProvedYes, known("a"), "a short one takes nothing back")
	assert.Equal(t, ProvedChanged, known("b"))
	prove("a", 3, false)
	assert.Equal(t, ProvedNo, known("a"), "a full one does")
}

// Who stops a contest and who runs it may meet: an end is not undone, and a stop not forgotten.
func TestStatesOfAContest(t *testing.T) {
	s := open(t, t.TempDir())
	for _, c := range []struct {
		states []ContestState
		want   ContestState
		events int
	}{
		{[]ContestState{ContestRunning, ContestDone}, ContestDone, 2},
		{[]ContestState{ContestRunning, ContestStopping, ContestStopped}, ContestStopped, 3},
		{[]ContestState{ContestStopping, ContestRunning}, ContestStopping, 1},
		{[]ContestState{ContestDone, ContestStopping}, ContestDone, 1},
		{[]ContestState{ContestDone, ContestStopped}, ContestDone, 1},
		{[]ContestState{ContestStopped, ContestStopping}, ContestStopped, 1},
		{[]ContestState{ContestByHand, ContestStopping, ContestStopped}, ContestStopped, 3},
	} {
		row, _ := contestWith(t, s, 1)
		before, err := s.Events(t.Context(), row.ID, 0, 100)
		require.NoError(t, err)
		for _, state := range c.states {
			require.NoError(t, s.SetContestState(t.Context(), row.ID, state))
		}
		got, err := s.Contest(t.Context(), row.ID)
		require.NoError(t, err)
		assert.Equal(t, c.want, got.State, c.states)
		after, err := s.Events(t.Context(), row.ID, 0, 100)
		require.NoError(t, err)
		assert.Equal(t, c.events, len(after)-len(before), "nothing is told of what did not happen: %v", c.states)
	}
}

func TestRecordsAreTheOwnersAlone(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "records.sqlite"), nil, 0o644)) // as an earlier version left it
	s := open(t, dir)
	contestWith(t, s, 1)
	for _, name := range []string{"records.sqlite", "records.sqlite-wal", "records.sqlite-shm"} {
		st, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Zero(t, st.Mode().Perm()&0o077, name)
	}
	st, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Zero(t, st.Mode().Perm()&0o077, "the folder")
}

func TestLostRecordsAreNotTakenForNewOnes(t *testing.T) {
	lose := map[string]func(name string) error{
		"emptied": func(name string) error { return os.Truncate(name, 0) },
		"removed": os.Remove,
	}
	for what, do := range lose {
		t.Run(what, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, dir)
			_, err := s.Put([]byte("a diff"))
			require.NoError(t, err)
			require.NoError(t, s.Close())
			name := filepath.Join(dir, "records.sqlite")
			require.NoError(t, do(name))
			_, err = Open(dir, time.Now)
			var missing *MissingRecordsError
			require.ErrorAs(t, err, &missing)
			assert.ErrorContains(t, err, "put the database back")
			if st, err := os.Stat(name); err == nil {
				assert.Zero(t, st.Size(), "nothing was written into it")
			}
		})
	}
	t.Run("a folder without contents is a new one", func(t *testing.T) {
		dir := t.TempDir()
		require.NoError(t, open(t, dir).Close())
		require.NoError(t, os.Truncate(filepath.Join(dir, "records.sqlite"), 0))
		open(t, dir)
	})
}

func TestDamagedContentsAreWrittenAgain(t *testing.T) {
	s := open(t, t.TempDir())
	d, err := s.Put([]byte("a diff"))
	require.NoError(t, err)
	for _, damage := range [][]byte{nil, []byte("not compressed")} {
		require.NoError(t, os.WriteFile(s.blobs.path(d), damage, 0o600))
		_, err = s.Put([]byte("a diff"))
		require.NoError(t, err)
		got, err := s.Get(d)
		require.NoError(t, err)
		assert.Equal(t, "a diff", string(got))
	}
}
