package store

import (
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/patch"
)

func TestWordsOnFindings(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "records"))
	ctx := t.Context()
	at := time.Date(2031, 3, 5, 10, 0, 0, 0, time.UTC)
	require.Error(t, s.SetEditMark(ctx, &EditMark{BoutID: "none", Finding: "f", Mark: "aside", Reason: "r", At: at}), "a mark belongs to a bout")
	require.NoError(t, s.db.Exec(`INSERT INTO contests (id, name, title, state, seed, seed_drawn, repeats, at_once, path, bundle, created_at) VALUES ('C', 'trial', 'Trial', 'done', 1, 0, 1, 1, '/c.yaml', '', ?)`, at).Error)
	require.NoError(t, s.db.Exec(`INSERT INTO bouts (id, contest_id, position, task, contender, "repeat", rerun, seed, state, created_at) VALUES ('B', 'C', 0, 'lamp', 'knot', 1, 0, 7, 'done', ?)`, at).Error)

	none, err := s.EditMarks(ctx, "B")
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, s.SetEditMark(ctx, &EditMark{BoutID: "B", Finding: "f", Mark: "aside", Reason: "first", At: at}))
	require.NoError(t, s.SetEditMark(ctx, &EditMark{BoutID: "B", Finding: "f", Mark: "aside", Reason: "second", By: "ina", At: at}))
	require.NoError(t, s.SetEditMark(ctx, &EditMark{BoutID: "B", Finding: "g", Mark: "welcome", At: at}))
	marks, err := s.EditMarks(ctx, "B")
	require.NoError(t, err)
	assert.Len(t, marks, 2)
	assert.Equal(t, "second", marks["f"].Reason, "the last word counts")
	assert.Equal(t, map[string]bool{"f": true}, SetAside(marks), "a welcome stray is counted")
	require.NoError(t, s.DropEditMark(ctx, "B", "f"))
	require.NoError(t, s.DropEditMark(ctx, "B", "f"))
	marks, err = s.EditMarks(ctx, "B")
	require.NoError(t, err)
	assert.Len(t, marks, 1)
	require.NoError(t, s.db.Exec(`DELETE FROM bouts WHERE id = 'B'`).Error)
	marks, err = s.EditMarks(ctx, "B")
	require.NoError(t, err)
	assert.Empty(t, marks, "with the bout goes what was said of it")
}

func TestMeasuresAreReadBack(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "records"))
	m, err := s.Measures(&RoundJudgement{})
	require.NoError(t, err)
	assert.Nil(t, m, "a round that was not measured")
	v := 2.0
	text, err := json.Marshal(patch.Measures{Version: 7, Figures: []patch.Figure{{Name: "strays", Value: &v}}})
	require.NoError(t, err)
	at, err := s.Put(text)
	require.NoError(t, err)
	m, err = s.Measures(&RoundJudgement{Measures: at})
	require.NoError(t, err)
	assert.Equal(t, 7, m.Version)
	strays, ok := m.Figure("strays")
	assert.True(t, ok)
	assert.Equal(t, 2.0, strays)
	broken, err := s.Put([]byte("{"))
	require.NoError(t, err)
	_, err = s.Measures(&RoundJudgement{Measures: broken})
	assert.Error(t, err)
	_, err = s.Measures(&RoundJudgement{Measures: Digest("00")})
	assert.Error(t, err)
}
