package store

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
)

// What happens in a bout is stored in batches, comes back whole and in order, and
// the live feed is told of what was used.
func TestWhatHappened(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	c, bouts := contestWith(t, s, 2)
	b := &bouts[0]
	tokens, fresh := int64(120), int64(100)
	at := time.Date(2031, 3, 8, 5, 20, 0, 123456789, time.UTC)
	require.NoError(t, s.Happened(t.Context(), b, []timeline.Event{{Kind: timeline.Output, At: 1, Until: 2, Count: 3}}, nil, Spent{}))
	first, err := s.LastEvent(t.Context(), c.ID)
	require.NoError(t, err)
	var many []timeline.Event
	for i := range int64(700) {
		many = append(many, timeline.Event{Kind: timeline.Edit, At: 10 + i, Until: 10 + i, Text: "tides.go", First: i == 0})
	}
	money := &ledger.Money{}
	require.NoError(t, money.ParseScalar("0.000003 AVM"))
	exchange := Exchange{BoutID: b.ID, Number: 1, Round: 1, BeganAt: at, AtUS: 5, UntilUS: 2500, Method: "POST", Path: "/v1", Status: 200, Model: "spring", ModelAsked: "spring", Fresh: &fresh, EffortAsked: "high", Trouble: "none"}
	require.NoError(t, s.Happened(t.Context(), b, many, []Exchange{exchange}, Spent{Tokens: &tokens, Money: money, AtLeast: true}))

	all, last, err := s.Timeline(t.Context(), b.ID, 0)
	require.NoError(t, err)
	require.Len(t, all, 701)
	assert.Equal(t, timeline.Output, all[0].Kind)
	assert.Equal(t, many, all[1:])
	rest, _, err := s.Timeline(t.Context(), b.ID, last-1)
	require.NoError(t, err)
	assert.Len(t, rest, 1)
	none, same, err := s.Timeline(t.Context(), bouts[1].ID, 0)
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.Zero(t, same)

	got, err := s.Exchanges(t.Context(), b.ID)
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Nil(t, got[0].Cached, "what was not said is absent, and not zero")
	l := got[0].Ledger()
	assert.Equal(t, int64(2), l.TookMS)
	assert.Equal(t, "high", l.EffortAsked)
	assert.True(t, l.At.Equal(at.Truncate(time.Microsecond)) || l.At.Equal(at), "%s", l.At)
	by, err := s.ContestExchanges(t.Context(), c.ID)
	require.NoError(t, err)
	require.Len(t, by[b.ID], 1)
	assert.Empty(t, by[b.ID][0].Trouble, "what no sum needs is not read")
	assert.Equal(t, int64(100), *by[b.ID][0].Fresh)

	events, err := s.Events(t.Context(), c.ID, first, 10)
	require.NoError(t, err)
	require.Len(t, events, 1, "only what was used is news")
	assert.Equal(t, EventHappened, events[0].Kind)
	var told map[string]any
	require.NoError(t, json.Unmarshal([]byte(events[0].Data), &told))
	assert.Equal(t, "0.000003 AVM", told["money"])
	assert.Equal(t, 120.0, told["tokens"])

	// A batch that cannot be stored is not stored by half.
	require.Error(t, s.Happened(t.Context(), b, []timeline.Event{{Kind: timeline.Edit}}, []Exchange{exchange}, Spent{}))
	all, _, err = s.Timeline(t.Context(), b.ID, 0)
	require.NoError(t, err)
	assert.Len(t, all, 701)
}
