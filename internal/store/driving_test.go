package store

import (
	"database/sql"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/person"
)

// Records of the third version keep everything that hangs on their bouts, although
// the table of bouts is made anew.
func TestRecordsOfTheThirdVersion(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "records.sqlite")+"?_pragma=foreign_keys(1)")
	require.NoError(t, err)
	for _, name := range []string{"0001_first.sql", "0002_judging.sql", "0003_meter.sql"} {
		text, err := migrationFiles.ReadFile("migrations/" + name)
		require.NoError(t, err)
		_, err = db.Exec(string(text))
		require.NoError(t, err)
	}
	_, err = db.Exec(`PRAGMA user_version = 3;
		INSERT INTO contests (id, name, title, state, seed, seed_drawn, repeats, at_once, path, bundle, created_at) VALUES ('C', 'trial', 'Trial', 'done', 1, 0, 1, 1, '/c.yaml', '', '2031-03-05 10:00:00+00:00');
		INSERT INTO bouts (id, contest_id, position, task, contender, "repeat", rerun, seed, state, created_at, imported, "limit", reported)
			VALUES ('B', 'C', 0, 'lamp', 'knot', 1, 0, 7, 'done', '2031-03-05 10:00:00+00:00', NULL, 'quiet-limit', '{"tokens":{"fresh":5}}'),
			('I', 'C', 1, 'lamp', 'stint', 1, 0, 8, 'done', '2031-03-05 10:00:00+00:00', '{"from":"patch"}', '', NULL);
		INSERT INTO timeline_events VALUES ('B', 1, '{"at_us":0,"until_us":9,"kind":"round","round":1}');
		INSERT INTO rounds (bout_id, number, stage, kind, words, diff, shown, result_tree, log, log_cut, answer, captured_at, signal, timed_out) VALUES ('B', 1, 0, 'opening', '', '', '', '', '', 0, '', '2031-03-05 10:00:00+00:00', '', 0);
		INSERT INTO judgements (id, bout_id, at, verdict, outcome, reason) VALUES ('J', 'B', '2031-03-05 10:02:00+00:00', '{"outcome":"failed","reason":"quiet-limit"}', 'failed', 'quiet-limit');`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	s := open(t, dir)
	b, err := s.Bout(t.Context(), "B")
	require.NoError(t, err)
	assert.Len(t, b.Rounds, 1)
	assert.Len(t, b.Judgements, 1)
	assert.Equal(t, contender.DriveCommand, b.Driver)
	assert.EqualValues(t, "quiet-limit", b.Limit)
	assert.Equal(t, int64(5), *b.Reported.Tokens.Fresh)
	events, _, err := s.Timeline(t.Context(), "B", 0)
	require.NoError(t, err)
	assert.Len(t, events, 1)
	i, err := s.Bout(t.Context(), "I")
	require.NoError(t, err)
	assert.Equal(t, contender.Elsewhere, i.Driver)
	raw, err := s.db.DB()
	require.NoError(t, err)
	_, err = raw.Exec("INSERT INTO marks (id, bout_id, mark, noted_at) VALUES ('M', 'nowhere', '{}', '2031-03-05 10:00:00+00:00')")
	assert.Error(t, err, "foreign keys are looked at again")
}

func TestMarksAndReadiness(t *testing.T) {
	s := open(t, t.TempDir())
	c, _ := contestWith(t, s, 1)
	bouts, err := s.Bouts(t.Context(), BoutFilter{ContestID: c.ID})
	require.NoError(t, err)
	id := bouts[0].ID
	note := func(m Mark) Mark { m.BoutID = id; require.NoError(t, s.AddMark(t.Context(), &m)); return m }
	first := note(Mark{Mark: person.Mark{Kind: person.Note, Words: "one"}})
	second := note(Mark{Mark: person.Mark{Kind: person.Waiting, AtUS: 5}})
	until := int64(9)
	second.Mark.UntilUS = &until
	require.NoError(t, s.EndMark(t.Context(), &second))
	third := note(Mark{Mark: person.Mark{Kind: person.Note, Words: "uno"}, Corrects: first.ID, Reason: "another tongue"})
	note(Mark{Mark: third.Mark, Corrects: third.ID, TakenBack: true})
	all, err := s.Marks(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, all, 4, "nothing is gone")
	now := Current(all)
	require.Len(t, now, 1)
	assert.Equal(t, int64(9), *now[0].Mark.UntilUS)

	for _, ok := range []bool{false, true} {
		require.NoError(t, s.AddReadiness(t.Context(), &Readiness{Contender: "knot", Digest: "d", OK: ok}))
	}
	ready, err := s.Readinesses(t.Context())
	require.NoError(t, err)
	require.Len(t, ready, 1)
	assert.True(t, ready[0].OK, "the newest counts")
	require.NoError(t, s.AddFirstUse(t.Context(), &FirstUse{ContestID: c.ID, Contender: "knot", Exchanges: []ledger.Exchange{{Bout: "x"}}}))
	uses, err := s.FirstUses(t.Context(), c.ID)
	require.NoError(t, err)
	require.Len(t, uses, 1)
	assert.Len(t, uses[0].Exchanges, 1)

	// The same place in another wording is another bout.
	again := bouts[0]
	again.ID, again.Wording, again.Judgements = s.NewID(), "short", nil
	require.NoError(t, s.AddWaiting(t.Context(), &again))
	again.ID = s.NewID()
	assert.Error(t, s.AddWaiting(t.Context(), &again))
}
