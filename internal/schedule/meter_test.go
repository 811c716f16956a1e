package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/store"
)

// A bout that waits for its model service lets others go first.
func TestBoutsThatWait(t *testing.T) {
	now := time.Now()
	soon, later := now.Add(time.Minute), now.Add(time.Hour)
	pending := []store.Bout{{ID: "later", NotBefore: &later, State: store.Waiting}, {ID: "soon", NotBefore: &soon, State: store.Waiting}, {ID: "now", Position: 9, State: store.Waiting}}
	assert.Equal(t, "now", pick(pending, map[string]bool{}, now).ID)
	taken := map[string]bool{"now": true}
	assert.Nil(t, pick(pending, taken, now))
	assert.Equal(t, soon, soonest(pending, taken))
	assert.Equal(t, "soon", pick(pending, taken, soon).ID)
	taken["soon"] = true
	assert.Equal(t, later, soonest(pending, taken))
	taken["later"] = true
	assert.True(t, soonest(pending, taken).IsZero())
}

func TestPausesGrow(t *testing.T) {
	c := &contest.Contest{}
	assert.Equal(t, []time.Duration{30 * time.Second, time.Minute, 2 * time.Minute}, []time.Duration{c.RefusedPauseOf(1), c.RefusedPauseOf(2), c.RefusedPauseOf(3)})
	c.RefusedPause = specfile.Duration(20 * time.Minute)
	assert.Equal(t, time.Hour, c.RefusedPauseOf(40), "not for ever")
}

// What a tool reports round by round is added up; a round that says nothing leaves a gap.
func TestReportsAddUp(t *testing.T) {
	n := func(v int64) *int64 { return &v }
	money := func(s string) *ledger.Money {
		m := &ledger.Money{}
		assert.NoError(t, m.ParseScalar(s))
		return m
	}
	told := func(fresh int64, m *ledger.Money) *ledger.Told {
		return &ledger.Told{Tokens: ledger.Tokens{Fresh: n(fresh)}, Money: m}
	}
	var r reports
	assert.Nil(t, r.add(nil))
	got := r.add(told(10, money("0.1 AVM")))
	assert.True(t, got.AtLeast, "the round before said nothing")
	got = r.add(told(5, money("0.2 AVM")))
	assert.Equal(t, int64(15), *got.Tokens.Fresh)
	assert.Equal(t, "0.3 AVM", got.Money.String())

	r = reports{}
	assert.False(t, r.add(told(1, nil)).AtLeast)
	assert.False(t, r.add(told(2, nil)).AtLeast)
	assert.True(t, r.add(nil).AtLeast)
	r = reports{}
	r.add(told(1, money("0.1 AVM")))
	assert.True(t, r.add(told(1, nil)).AtLeast, "money of one round is not money of two")
}
