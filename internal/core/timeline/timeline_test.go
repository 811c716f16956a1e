package timeline

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const ms = int64(1000)

func TestSummarise(t *testing.T) {
	s := Summarise([]Event{
		{Kind: Round, Round: 1, At: 0, Until: 5000 * ms},
		{Kind: Exchange, Round: 1, At: 100 * ms, Until: 1000 * ms},
		{Kind: Exchange, Round: 1, At: 600 * ms, Until: 1500 * ms}, // overlaps: counted once
		{Kind: Edit, Round: 1, At: 1600 * ms, Until: 1600 * ms, Text: "tides.go"},
		{Kind: Refused, Round: 1, At: 2000 * ms, Until: 2100 * ms},
		{Kind: Output, Round: 1, At: 2200 * ms, Until: 2200 * ms}, // all but its first 50 ms is waiting
		{Kind: Exchange, Round: 1, At: 3000 * ms, Until: 3500 * ms},
		{Kind: Busy, Round: 1, At: 3400 * ms, Until: 3750 * ms},
		{Kind: Check, Round: 1, At: 5100 * ms, Until: 9000 * ms},
		{Kind: Round, Round: 2, At: 9000 * ms, Until: 10000 * ms},
		{Kind: Edit, Round: 2, At: 9500 * ms, Until: 9500 * ms, Text: "berths.go"},
		{Kind: Edit, Round: 2, At: 9900 * ms, Until: 9900 * ms, Text: "tides.go"},
	})
	assert.Equal(t, 6000*ms, s.Elapsed)
	assert.Equal(t, 1600*ms, *s.FirstEdit)
	assert.Equal(t, 5900*ms, *s.LastEdit, "judging between the rounds is no working time")
	assert.Equal(t, []int{3, 2}, []int{s.Edits, s.Files})
	assert.Equal(t, Parts{Refused: 1000 * ms, Exchange: 1900 * ms, Own: 900 * ms, Quiet: 2200 * ms}, s.Parts)
	assert.Equal(t, 1250*ms, s.LongestQuiet)
	assert.Equal(t, Timing{}, Summarise(nil))
}

// Whatever happened, the parts add up to the whole, and each instant has the
// class that looking at it alone would give.
func TestPartsAddUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	for range 400 {
		var all []Event
		at := int64(0)
		for r := 1; r <= 1+rng.IntN(3); r++ {
			at += rng.Int64N(300)
			end := at + rng.Int64N(2000)
			all = append(all, Event{Kind: Round, Round: r, At: at, Until: end})
			for range rng.IntN(12) {
				from := at + rng.Int64N(max(1, end-at))
				all = append(all, Event{Kind: []Kind{Exchange, Paced, Asked, Busy, Check}[rng.IntN(5)], Round: r, At: from, Until: from + rng.Int64N(600)})
			}
			at = end
		}
		s := Summarise(all)
		require.Equal(t, s.Elapsed, s.Parts.Whole())
		var want Parts
		for _, r := range all {
			if r.Kind != Round {
				continue
			}
			for now := r.At; now < r.Until; now++ {
				class := classQuiet
				for i := range all {
					if c, from, to, ok := classOf(&all[i]); ok && from <= now && now < to {
						class = min(class, c)
					}
				}
				want.add(class, 1)
			}
		}
		require.Equal(t, want, s.Parts)
		rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		require.Equal(t, s.Parts, Summarise(all).Parts, "the order in which events come does not matter")
	}
}

func TestEventsAreValidated(t *testing.T) {
	for _, bad := range []Event{{Kind: Edit, At: -1}, {Kind: Edit, At: 5, Until: 4}, {At: 1, Until: 1}} {
		assert.Error(t, bad.Valid())
	}
	assert.NoError(t, (&Event{Kind: Edit, At: 1, Until: 1}).Valid())
}

func BenchmarkSummarise(b *testing.B) {
	var all []Event
	all = append(all, Event{Kind: Round, Round: 1, Until: Us(time.Hour)})
	for i := range int64(20_000) {
		all = append(all, Event{Kind: []Kind{Exchange, Edit, Output, Busy}[i%4], Round: 1, At: i * 1000, Until: i*1000 + 500})
	}
	for b.Loop() {
		Summarise(all)
	}
}
