package person

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
)

func us(n int64) *int64 { n *= 1000; return &n }

func mark(kind Kind, at int64, until *int64, class string) Mark {
	return Mark{Kind: kind, AtUS: at * 1000, UntilUS: until, Class: class, Round: 1}
}

// diff adds and takes away lines of one file.
func diff(file string, plus, minus []string) []byte {
	var b strings.Builder
	b.WriteString("diff --git a/" + file + " b/" + file + "\n--- a/" + file + "\n+++ b/" + file + "\n@@ -1," + itoa(len(minus)) + " +1," + itoa(len(plus)) + " @@\n")
	for _, l := range minus {
		b.WriteString("-" + l + "\n")
	}
	for _, l := range plus {
		b.WriteString("+" + l + "\n")
	}
	return []byte(b.String())
}

func itoa(n int) string { return string(rune('0' + n)) }

func TestEffort(t *testing.T) {
	e := Of([]Mark{
		mark(Waiting, 100, us(400), ""), mark(Editing, 300, us(900), ""), mark(Waiting, 1000, nil, ""),
		mark(Correction, 50, nil, BareError), mark(Correction, 60, nil, Information), mark(Correction, 70, nil, Hint), mark(Correction, 80, nil, Hint),
		mark(Permission, 90, nil, ""), mark(Suggestion, 91, nil, Taken), mark(Suggestion, 92, nil, Refused), mark(Suggestion, 93, nil, Edited), mark(Note, 94, nil, ""),
	}, nil, nil, 1_500_000)
	assert.Equal(t, []int{1, 1, 2, 4}, []int{e.Errors, e.Information, e.Hints, e.Corrections()})
	assert.Equal(t, []int{1, 1, 1, 1, 1}, []int{e.Permissions, e.Taken, e.Refused, e.Edited, e.OwnEdits})
	assert.Equal(t, []int64{800, 600, 1300}, []int64{e.WaitingMS, e.EditingMS, e.AttentionMS}, "an open span lasts until now; what overlaps counts once")
	assert.True(t, e.Needed())
	assert.Nil(t, e.Kept)
	alone := Alone(diff("a", []string{"x"}, nil))
	assert.False(t, alone.Needed())
	assert.Equal(t, 1.0, *alone.Kept)
	hour := Effort{AttentionMS: 90_000}
	assert.Equal(t, "1.5 AVM", hour.Money(money(t, "60 AVM")).String())
}

func money(t *testing.T, s string) ledger.Money {
	var m ledger.Money
	require.NoError(t, m.ParseScalar(s))
	return m
}

func TestKeptLines(t *testing.T) {
	for _, c := range []struct {
		name                 string
		own                  []Own
		final                []byte
		kept                 float64
		ownAdded, ownRemoved int
	}{
		{"nothing was touched", nil, diff("a", []string{"1", "2"}, nil), 1, 0, 0},
		{"one of three was taken away", []Own{{diff("a", []string{"1", "2", "3"}, nil), diff("a", nil, []string{"2"})}}, diff("a", []string{"1", "3"}, nil), 2.0 / 3, 0, 1},
		{"one was written anew", []Own{{diff("a", []string{"1", "2"}, nil), diff("a", []string{"zwei"}, []string{"2"})}}, diff("a", []string{"1", "zwei"}, nil), 0.5, 1, 1},
		{"a line of the start was taken away", []Own{{diff("a", []string{"1"}, nil), diff("a", nil, []string{"old"})}}, diff("a", []string{"1"}, []string{"old"}), 1, 0, 1},
		{"the person's own line was taken away again", []Own{{diff("a", []string{"1"}, nil), diff("a", []string{"mine"}, nil)}, {diff("a", []string{"1", "mine"}, nil), diff("a", nil, []string{"mine"})}}, diff("a", []string{"1"}, nil), 1, 1, 1},
		{"a line only moved", []Own{{diff("a", []string{"1", "2"}, nil), diff("a", []string{"1"}, []string{"1"})}}, diff("a", []string{"2", "1"}, nil), 1, 1, 1},
		{"the tool took its own away", []Own{{diff("a", []string{"1", "2"}, nil), nil}}, diff("a", []string{"1"}, nil), 1, 0, 0},
		{"all of it was taken away", []Own{{diff("a", []string{"1"}, nil), diff("a", nil, []string{"1"})}}, nil, 0, 0, 1},
	} {
		e := Of(nil, c.own, c.final, 0)
		require.NotNil(t, e.Kept, c.name)
		assert.InDelta(t, c.kept, *e.Kept, 1e-9, c.name)
		assert.Equal(t, []int{c.ownAdded, c.ownRemoved}, []int{e.OwnLinesAdded, e.OwnLinesRemoved}, c.name)
	}
	assert.Nil(t, Of(nil, []Own{{[]byte("no diff"), []byte("@@ -1 +1 @@")}}, []byte("nonsense"), 0).Kept, "what cannot be read has no share")
}

func TestMarksAreChecked(t *testing.T) {
	for _, bad := range []Mark{{Kind: "sneeze"}, {Kind: Correction}, {Kind: Correction, Class: Taken}, {Kind: Note, Class: Hint}, {Kind: Note, AtUS: -1}, {Kind: Note, AtUS: 1, UntilUS: us(5)},
		{Kind: Waiting, AtUS: 9000, UntilUS: us(8)}, {Kind: Note, Words: strings.Repeat("x", maxWords+1)}} {
		assert.Error(t, bad.Check(), "%+v", bad)
	}
	for _, kind := range Kinds() {
		m := Mark{Kind: kind}
		if classes := kind.Classes(); len(classes) > 0 {
			m.Class = classes[0]
		}
		require.NoError(t, m.Check())
		e := m.Event(7)
		require.NoError(t, e.Valid())
		assert.Equal(t, kind.Spans(), e.Until == 7)
	}
	e := (&Mark{Kind: Correction, Class: Hint, Words: "look"}).Event(0)
	assert.Equal(t, timeline.Event{Kind: timeline.Corrected, Text: "hint: look"}, e)
}

// Attention never exceeds the parts together, nor falls below the longer of them.
func TestAttentionIsAUnion(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for range 500 {
		var marks []Mark
		for range rng.IntN(8) {
			from := rng.Int64N(1000)
			marks = append(marks, mark([]Kind{Waiting, Editing}[rng.IntN(2)], from, us(from+rng.Int64N(300)), ""))
		}
		e := Of(marks, nil, nil, 0)
		assert.LessOrEqual(t, e.AttentionMS, e.WaitingMS+e.EditingMS)
		assert.GreaterOrEqual(t, e.AttentionMS, max(e.WaitingMS, e.EditingMS))
		rng.Shuffle(len(marks), func(i, j int) { marks[i], marks[j] = marks[j], marks[i] })
		assert.Equal(t, e, Of(marks, nil, nil, 0))
	}
}
