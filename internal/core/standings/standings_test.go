package standings

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/verdict"
)

func bout(name string, o verdict.Outcome, ms int64, files int) Bout {
	return Bout{Contender: name, Outcome: o, ElapsedMS: &ms, Footprint: &patch.Footprint{Files: files, LinesAdded: 10 * files, LinesRemoved: files}}
}

func TestTable(t *testing.T) {
	bouts := []Bout{
		bout("knot", verdict.Passed, 100, 1), bout("knot", verdict.Failed, 300, 3), bout("knot", verdict.Void, 9999, 99),
		bout("stint", verdict.Passed, 500, 2), bout("stint", verdict.Passed, 700, 4),
		{Contender: "ruff", Outcome: verdict.Void},
	}
	rows := Table([]string{"ruff", "knot", "stint", "dunlin"}, map[string]int{"knot": 3, "ruff": 3, "stint": 3, "dunlin": 3}, bouts)
	require.Len(t, rows, 4)
	assert.Equal(t, []string{"stint", "knot", "dunlin", "ruff"}, []string{rows[0].Contender, rows[1].Contender, rows[2].Contender, rows[3].Contender})
	knot := rows[1]
	assert.Equal(t, 0.5, *knot.SuccessShare)
	assert.Equal(t, 200.0, *knot.MedianElapsedMS, "the void bout counts for nothing")
	assert.Equal(t, 100.0, *knot.MedianPassedMS)
	assert.Equal(t, 2.0, *knot.MedianFiles)
	assert.Equal(t, 1, knot.Void)
	assert.Equal(t, 3, knot.Done)
	// What was not measured is absent, not zero.
	for _, r := range rows[2:] {
		assert.Nil(t, r.SuccessShare)
		assert.Nil(t, r.MedianElapsedMS)
		assert.Nil(t, r.MedianFiles)
	}
}

func TestTheOrderOfBoutsMakesNoDifference(t *testing.T) {
	var bouts []Bout
	rng := rand.New(rand.NewPCG(1, 2))
	for range 60 {
		o := verdict.Passed
		if rng.IntN(3) == 0 {
			o = verdict.Failed
		}
		bouts = append(bouts, bout([]string{"knot", "ruff", "stint"}[rng.IntN(3)], o, rng.Int64N(5000), rng.IntN(9)))
	}
	want := Table([]string{"knot", "ruff", "stint"}, nil, bouts)
	for range 20 {
		rng.Shuffle(len(bouts), func(i, j int) { bouts[i], bouts[j] = bouts[j], bouts[i] })
		assert.Equal(t, want, Table([]string{"stint", "knot", "ruff"}, nil, bouts))
	}
}

func TestMedian(t *testing.T) {
	assert.Nil(t, Median(nil))
	assert.Equal(t, 3.0, *Median([]float64{5, 1, 3}))
	assert.Equal(t, 2.5, *Median([]float64{4, 1, 3, 2}))
	in := []float64{3, 1, 2}
	Median(in)
	assert.Equal(t, []float64{3, 1, 2}, in)
}
