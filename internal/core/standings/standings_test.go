package standings

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/person"
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

func TestPersonsAndRanges(t *testing.T) {
	rate := func(text string) *ledger.Money {
		m := &ledger.Money{}
		require.NoError(t, m.ParseScalar(text))
		return m
	}
	spent := func(from, to string) ledger.Sheet {
		if from == to {
			return ledger.Sheet{Source: ledger.Metered, Money: rate(from)}
		}
		return ledger.Sheet{Source: ledger.TypedIn, MoneyRange: &ledger.Range{From: *rate(from), To: *rate(to)}}
	}
	kept := 0.5
	rows := Table([]string{"ruff", "knot"}, nil, []Bout{
		{Contender: "ruff", Outcome: verdict.Passed, Driven: "hand", Used: spent("1 AVM", "1.2 AVM"), Effort: &person.Effort{Errors: 1, Hints: 1, OwnEdits: 2, AttentionMS: 60_000, Kept: &kept}},
		{Contender: "ruff", Outcome: verdict.Passed, Driven: "hand", Used: spent("0.5 AVM", "0.5 AVM"), Effort: &person.Effort{AttentionMS: 60_000}},
		{Contender: "ruff", Outcome: verdict.Void, Driven: "hand", Discarded: true, Replaced: true, Effort: &person.Effort{AttentionMS: 60_000}},
		{Contender: "knot", Outcome: verdict.Passed, Driven: "command", Used: spent("0.4 AVM", "0.4 AVM"), Effort: &person.Effort{}},
		{Contender: "knot", Outcome: verdict.Failed, Driven: "elsewhere"},
	}, rate("60 AVM"))
	by := map[string]Row{}
	for _, r := range rows {
		by[r.Contender] = r
	}
	ruff := by["ruff"]
	assert.Nil(t, ruff.Spent, "a range stays one")
	assert.Equal(t, []string{"1.5 AVM", "1.7 AVM"}, []string{ruff.SpentRange.From.String(), ruff.SpentRange.To.String()})
	assert.Equal(t, []string{"0.75 AVM", "0.85 AVM"}, []string{ruff.PerPassedRange.From.String(), ruff.PerPassedRange.To.String()})
	assert.Equal(t, "3 AVM", ruff.PersonMoney.String(), "the time of a bout that was thrown away is spent too")
	assert.Equal(t, "2.25 AVM", ruff.PerPassedWithPersonRange.From.String())
	assert.Equal(t, []int{2, 2, 2, 1}, []int{ruff.Corrections, ruff.OwnEdits, ruff.EffortOf, ruff.Availability.Discarded})
	assert.Equal(t, 0.5, *ruff.MedianKept)
	knot := by["knot"]
	assert.Equal(t, string(Mixed), knot.Driven)
	assert.Equal(t, "0.4 AVM", knot.PerPassedWithPerson.String())
	assert.Equal(t, 1, knot.EffortOf, "what is not known is not counted as nothing")
}

func TestByWording(t *testing.T) {
	ms := func(n int64) *int64 { return &n }
	bouts := []Bout{
		{Task: "a", Wording: "long", Contender: "x", Outcome: verdict.Passed, First: verdict.Failed, ElapsedMS: ms(10)},
		{Task: "a", Wording: "long", Contender: "x", Outcome: verdict.Passed, ElapsedMS: ms(30)},
		{Task: "a", Wording: "short", Contender: "x", Outcome: verdict.Failed},
		{Task: "a", Wording: "short", Contender: "x", Outcome: verdict.Void},
		{Task: "a", Wording: "long", Contender: "y", Outcome: verdict.Passed},
		{Task: "plain", Contender: "x", Outcome: verdict.Passed},
	}
	rows, spreads := ByWording(bouts)
	require.Len(t, rows, 3, "a task with one wording is not told apart")
	assert.Equal(t, WordingRow{Task: "a", Wording: "long", Contender: "x", Passed: 2, FirstPassed: 1, MedianElapsedMS: rows[0].MedianElapsedMS}, rows[0])
	assert.Equal(t, 20.0, *rows[0].MedianElapsedMS)
	assert.Equal(t, []Spread{{Task: "a", Contender: "x", Best: "long", Worst: "short", BestPassed: 2, BestOf: 2, WorstOf: 1, Share: 1}}, spreads, "one wording alone says nothing of words")
	slices.Reverse(bouts)
	again, same := ByWording(bouts)
	assert.Equal(t, rows, again)
	assert.Equal(t, spreads, same)
}
