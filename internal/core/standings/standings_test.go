package standings

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/ledger"
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
	rows := Table([]string{"ruff", "knot", "stint", "dunlin"}, map[string]int{"knot": 3, "ruff": 3, "stint": 3, "dunlin": 3}, bouts, nil)
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
	want := Table([]string{"knot", "ruff", "stint"}, nil, bouts, nil)
	for range 20 {
		rng.Shuffle(len(bouts), func(i, j int) { bouts[i], bouts[j] = bouts[j], bouts[i] })
		assert.Equal(t, want, Table([]string{"stint", "knot", "ruff"}, nil, bouts, nil))
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

func used(source ledger.Source, tokens int64, money string, atLeast bool) ledger.Sheet {
	s := ledger.Sheet{Source: source, Total: &tokens, AtLeast: atLeast, MoneyAtLeast: atLeast}
	if money != "" {
		s.Money = &ledger.Money{}
		if err := s.Money.ParseScalar(money); err != nil {
			panic(err)
		}
	}
	return s
}

// Everything that was spent counts, whatever came of it; what was not there to
// be had is a figure of its own.
func TestMoneyAndAvailability(t *testing.T) {
	ms := func(n int64) *int64 { return &n }
	one := func(name string, o verdict.Outcome, u ledger.Sheet, change func(*Bout)) Bout {
		b := bout(name, o, 1000, 1)
		b.Used = u
		if change != nil {
			change(&b)
		}
		return b
	}
	bouts := []Bout{
		one("knot", verdict.Passed, used(ledger.Metered, 100, "0.10 AVM", false), func(b *Bout) { b.FirstEditMS, b.WaitedMS = ms(40), ms(5) }),
		one("knot", verdict.Passed, used(ledger.Metered, 300, "0.30 AVM", false), func(b *Bout) { b.FirstEditMS, b.Refused, b.WaitedMS = ms(80), true, ms(700) }),
		one("knot", verdict.Failed, used(ledger.Metered, 200, "0.20 AVM", false), func(b *Bout) { b.Late = true }),
		one("knot", verdict.Void, used(ledger.Metered, 50, "0.05 AVM", false), func(b *Bout) { b.Replaced, b.Refused = true, true }),
		one("ruff", verdict.Passed, used(ledger.Metered, 10, "", true), nil),
		one("ruff", verdict.Passed, used(ledger.Reported, 20, "0.02 AVM", false), nil),
		one("dunlin", verdict.Failed, used(ledger.Metered, 10, "0.01 AVM", true), nil),
		{Contender: "stint", Outcome: verdict.Passed},
	}
	rows := map[string]Row{}
	for _, r := range Table([]string{"knot", "ruff", "dunlin", "stint"}, nil, bouts, nil) {
		rows[r.Contender] = r
	}
	knot := rows["knot"]
	assert.Equal(t, 3, knot.Done, "what was replaced is no bout of its own")
	assert.Equal(t, "0.65 AVM", knot.Spent.String())
	assert.Equal(t, "0.325 AVM", knot.PerPassed.String())
	assert.False(t, knot.SpentAtLeast)
	assert.Equal(t, 200.0, *knot.MedianTokens)
	assert.Equal(t, 60.0, *knot.MedianFirstEditMS)
	assert.InDelta(t, 600.0/33, *knot.TokensPerLine, 1e-9)
	assert.Equal(t, ledger.Metered, knot.Source)
	a := knot.Availability
	assert.Equal(t, []int{4, 2, 1, 1}, []int{a.Tries, a.Refused, a.Void, a.Late})
	assert.Equal(t, 0.25, *a.Share, "a bout that was refused and void counts once")
	assert.Equal(t, int64(705), *a.WaitedMS)

	assert.Equal(t, Mixed, rows["ruff"].Source, "not to be ranked unawares")
	assert.True(t, rows["ruff"].TokensAtLeast)
	assert.True(t, rows["ruff"].SpentAtLeast, "one bout has no price")
	assert.Nil(t, rows["dunlin"].PerPassed, "nothing passed")
	assert.True(t, rows["dunlin"].SpentAtLeast)
	stint := rows["stint"]
	assert.Equal(t, ledger.NotKnown, stint.Source)
	assert.Nil(t, stint.MedianTokens)
	assert.Nil(t, stint.Spent)
	assert.Nil(t, stint.Availability.WaitedMS, "what was not seen is absent")
	assert.Equal(t, 1.0, *stint.Availability.Share)
}
