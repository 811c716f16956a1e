package answer

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/task"
)

func figure(v float64) *task.Figure { f := task.Figure(v); return &f }

func lines(name string) (int, bool) {
	n, ok := map[string]int{"src/due.js": 40, "berth/berth.go": 81, "due.js": 40}[name]
	return n, ok
}

func TestExamine(t *testing.T) {
	two := 2
	none := 0
	cases := []struct {
		name, reply string
		fact        task.Fact
		want        bool
	}{
		{"words", "It is\n  DueOf that decides.", task.Fact{Text: "dueof that"}, true},
		{"no words", "something else", task.Fact{Text: "dueOf"}, false},
		{"an alternative", "they come FIRST", task.Fact{AnyOf: []string{"on top", "come first"}}, true},
		{"no alternative", "at the end", task.Fact{AnyOf: []string{"on top", "come first"}}, false},
		{"an expression", "x = 12;", task.Fact{Matches: `x = \d+`}, true},
		{"not there, as wanted", "all fine", task.Fact{Text: "broken", Absent: true}, true},
		{"there, and must not be", "it is broken", task.Fact{Text: "broken", Absent: true}, false},
		{"a number", "it is 0.4 m deep", task.Fact{Number: figure(0.4)}, true},
		{"another number", "it is 0.41 m deep", task.Fact{Number: figure(0.4)}, false},
		{"a number within", "it is 0.41 m deep", task.Fact{Number: figure(0.4), Within: figure(0.01)}, true},
		{"a decimal comma", "es sind 2,7 Meter", task.Fact{Number: figure(2.7)}, true},
		{"thousands", "60,000 entries", task.Fact{Number: figure(60000)}, true},
		{"below zero", "it dries: -0.8 m", task.Fact{Number: figure(-0.8)}, true},
		{"a hyphen is no sign", "bar-buoy-21", task.Fact{Number: figure(21)}, true},
		{"no number at all", "deep", task.Fact{Number: figure(1)}, false},
		{"places", "see src/due.js:12 and berth/berth.go:40-44", task.Fact{References: &two}, true},
		{"too few places", "see src/due.js:12, src/due.js:12", task.Fact{References: &two}, false},
		{"a line that is not there", "src/due.js:12 and berth/berth.go:500", task.Fact{References: &two}, false},
		{"a file that is not there", "src/due.js:12, src/tides.js:1", task.Fact{References: &none}, false},
		{"line 0", "src/due.js:0", task.Fact{References: &none}, false},
		{"a span out of range", "src/due.js:30-41", task.Fact{References: &none}, false},
		{"a host is no place", "at 127.0.0.1:8080, 12:30", task.Fact{References: &none}, true},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got := Examine([]task.Fact{c.fact}, c.reply, lines)
			require.Len(t, got, 1)
			assert.Equal(t, c.want, got[0].Reached, got[0].Words)
			assert.NotEmpty(t, got[0].Words)
		})
	}
}

func FuzzExamine(f *testing.F) {
	one := 1
	facts := []task.Fact{{Text: "a"}, {AnyOf: []string{"b", "c"}}, {Matches: "d+"}, {Number: figure(1), Within: figure(0.1)}, {References: &one}}
	f.Add("src/due.js:3 and 1,000.5 -- b")
	f.Add(strings.Repeat("9", 400))
	f.Fuzz(func(t *testing.T, reply string) {
		if got := Examine(facts, reply, lines); len(got) != len(facts) {
			t.Fatal(len(got))
		}
	})
}
