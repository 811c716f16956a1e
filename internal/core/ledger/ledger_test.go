package ledger

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const tides = `price_list: tides
title: What the tides cost
currency: AVM
models:
  - model: spring
    rates: {input: 3, cached: "0.30", written: "3.75", output: 15}
    above:
      - {prompt: 1000, rates: {input: 6, output: "22.5"}}
    context: 4000
  - model: spring
    from: 2031-03-01
    rates: {input: 2, output: 10, reasoning: 8}
  - model: neap-*
    rates: {input: "0.1", output: "0.7"}
  - model: ebb
    per_hour: "1.80"
`

func prices(t *testing.T, text string) Prices {
	p, doc := ParsePrices("prices.yaml", []byte(text))
	require.Empty(t, doc.Problems)
	return Prices{[]*PriceList{p}}
}

func n(v int64) *int64 { return &v }

var before, after = time.Date(2031, 2, 28, 23, 59, 59, 0, time.UTC), time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC)

func TestMoneyIsExact(t *testing.T) {
	p := prices(t, tides)
	for _, c := range []struct {
		name, model string
		at          time.Time
		tokens      Tokens
		took        int64
		want        string
	}{
		{"every kind", "spring", before, Tokens{Fresh: n(100), Cached: n(200), Written: n(40), Output: n(7)}, 0, "0.000615"},
		{"a long prompt: all of it", "spring", before, Tokens{Fresh: n(1001), Output: n(1)}, 0, "0.0060285"},
		{"at the step it is still short", "spring", before, Tokens{Fresh: n(1000), Output: n(1)}, 0, "0.003015"},
		{"cached ones without a price cost as fresh ones", "spring", after, Tokens{Fresh: n(1), Cached: n(1)}, 0, "0.000004"},
		{"reasoning has a price", "spring", after, Tokens{Output: n(10), Reasoning: n(4)}, 0, "0.000092"},
		{"a pattern", "neap-small", before, Tokens{Fresh: n(3)}, 0, "0.0000003"},
		{"machine time", "ebb", before, Tokens{Fresh: n(1e9)}, 1500, "0.00075"},
	} {
		price := p.Find(c.model, c.at)
		require.NotNil(t, price, c.name)
		assert.Equal(t, c.want, price.Cost(c.tokens, c.took).String(), c.name)
	}
	assert.Nil(t, p.Find("full", after))

	// Ten million times a third of nothing is still exact.
	var many []Exchange
	for range 1000 {
		many = append(many, Exchange{Replied: "neap-small", At: before, Tokens: Tokens{Fresh: n(1), Output: n(1)}})
	}
	assert.Equal(t, "0.0008 AVM", Of(many, p).Money.String())
	assert.Equal(t, "0.000266667 AVM", Of(many, p).Money.Per(3).String())
	assert.Nil(t, Of(many, p).Money.Per(0))
}

func TestPriceListMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"price_list: a\ncurrency: mark\nmodels: []":                                                                         "three capital letters",
		"price_list: a\ncurrency: AVM\nmodels: []":                                                                          "at least one model",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x}]":                                                                "rates, or per_hour",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x, rates: {input: 1}}]":                                             "at least input and output",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x, rates: {input: -1, output: 1}}]":                                 "an amount such as",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x, rates: {input: 1e9, output: 1}}]":                                "an amount such as",
		"price_list: a\ncurrency: AVM\nmodels: [{model: '[', per_hour: 1}]":                                                 "a glob pattern",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x, per_hour: 1}, {model: x, per_hour: 2}]":                          "there is one already",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x, from: 2031-13-01, per_hour: 1}]":                                 "a day such as",
		"price_list: a\ncurrency: AVM\nmodels: [{model: x, rates: {input: 1, output: 1}, above: [{prompt: 0, rates: {}}]}]": "above that of the step before",
	} {
		_, doc := ParsePrices("p.yaml", []byte(text))
		assert.Contains(t, doc.Problems.Err().Error(), want, text)
	}
}

func TestSheets(t *testing.T) {
	p := prices(t, tides)
	all := []Exchange{
		{Round: 1, At: before, Asked: "spring", Replied: "spring", Tokens: Tokens{Fresh: n(100), Cached: n(900), Output: n(10)}},
		{Round: 1, At: before, Asked: "spring", Refused: true},
		{Round: 2, At: before, Asked: "spring", Replied: "neap-small", Tokens: Tokens{Fresh: n(90), Output: n(5)}, Partial: true},
	}
	l := Best(all, Others{Reported: &Told{Tokens: Tokens{Fresh: n(1000), Output: n(15)}}}, before, p)
	assert.Equal(t, Metered, l.Source)
	assert.Equal(t, int64(1105), *l.Total)
	assert.Equal(t, []int{3, 1, 1, 0}, []int{l.Exchanges, l.Refused, l.Partial, l.NotCounted})
	assert.Equal(t, "0.0007325 AVM", l.Money.String())
	assert.True(t, l.AtLeast && l.MoneyAtLeast, "one was cut off")
	assert.Equal(t, int64(1000), *l.LargestPrompt)
	assert.Equal(t, 0.25, *l.ContextShare)
	assert.Nil(t, l.Difference, "what was cut off cannot be compared")
	all[2].Partial = false
	l = Best(all, Others{Reported: &Told{Tokens: Tokens{Fresh: n(1000), Output: n(15)}}}, before, p)
	assert.False(t, l.AtLeast || l.MoneyAtLeast)
	assert.Equal(t, int64(-90), *l.Difference, "the tool's report stands beside it")
	assert.Equal(t, Reported, l.Reported.Source)
	require.Len(t, l.Rounds, 2)
	assert.Equal(t, int64(95), *l.Rounds[1].Total)
	require.Len(t, l.Lines, 2)
	assert.Equal(t, "neap-small", l.Lines[0].Model)

	unknown := Of(append(all, Exchange{Round: 2, At: before, Replied: "full", Tokens: Tokens{Output: n(1)}}, Exchange{Round: 2, At: before, Replied: "spring", Wanting: true}), p)
	assert.True(t, unknown.AtLeast)
	assert.True(t, unknown.MoneyAtLeast, "unpriced is not free")
	assert.Equal(t, []string{"full"}, unknown.Unpriced)
	assert.Equal(t, 1, unknown.NotCounted)
	nothing := Of([]Exchange{{Wanting: true, Replied: "spring"}}, p)
	assert.Nil(t, nothing.Total, "not counted is not zero")
	assert.True(t, nothing.AtLeast)
	assert.Nil(t, Of(all, Prices{}).Money, "no list, no money")

	only := Best(nil, Others{Reported: &Told{Model: "spring", Tokens: Tokens{Fresh: n(10), Output: n(10)}}, Typed: &Told{Tokens: Tokens{Fresh: n(1)}}}, after, p)
	assert.Equal(t, Reported, only.Source)
	assert.Equal(t, "0.00012 AVM", only.Money.String())
	assert.Nil(t, only.Reported)
	assert.Equal(t, TypedIn, only.TypedIn.Source)
	assert.Equal(t, NotKnown, Best(nil, Others{Typed: &Told{}}, after, p).Source)
	money := &Money{}
	require.NoError(t, money.ParseScalar("0.5 AVM"))
	assert.Equal(t, "0.5 AVM", Best(nil, Others{Typed: &Told{Money: money}}, after, p).Money.String())
	assert.Nil(t, Best(nil, Others{Typed: &Told{Money: money}}, after, p).Total)
}

// The money of a whole is the sum of its parts, in whatever order they come.
func TestMoneyAddsUp(t *testing.T) {
	p := prices(t, tides)
	rng := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		var all []Exchange
		for range rng.IntN(20) + 1 {
			all = append(all, Exchange{Round: rng.IntN(3), At: before, Replied: []string{"spring", "neap-a", "full", "ebb"}[rng.IntN(4)], TookMS: rng.Int64N(5000),
				Tokens: Tokens{Fresh: n(rng.Int64N(3000)), Output: n(rng.Int64N(500))}})
		}
		whole := Best(all, Others{}, before, p)
		rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		again, err := json.Marshal(Best(all, Others{}, before, p))
		require.NoError(t, err)
		first, _ := json.Marshal(whole)
		require.JSONEq(t, string(first), string(again))
		if whole.Money == nil {
			continue
		}
		rounds, lines := Money{Currency: "AVM"}, Money{Currency: "AVM"}
		for _, r := range whole.Rounds {
			if r.Money != nil {
				rounds = rounds.Plus(*r.Money)
			}
		}
		for _, l := range whole.Lines {
			if l.Money != nil {
				lines = lines.Plus(*l.Money)
			}
		}
		require.Equal(t, whole.Money.String(), rounds.String())
		require.Equal(t, whole.Money.String(), lines.String())
	}
}

func TestDepartures(t *testing.T) {
	part := Percent(0.2)
	e := &Expects{Models: []ExpectedModel{{Model: "spring"}, {Model: "neap-*", AtMost: &part}}, Effort: "high"}
	all := []Exchange{
		{At: after, Replied: "spring", Tokens: Tokens{Fresh: n(60)}}, {At: before, Replied: "ebb", Tokens: Tokens{Fresh: n(10)}},
		{At: after, Replied: "neap-small", Tokens: Tokens{Fresh: n(30)}, EffortAsked: "low", Effort: "low"}, {At: after, Asked: "full", Refused: true},
		{At: after, EffortAsked: "high", Effort: "medium"},
	}
	var words []string
	for _, d := range e.Departures(all) {
		words = append(words, d.Words)
	}
	assert.Equal(t, []string{"another model replied: ebb, 1 exchange, 10% of the tokens", "effort low instead of high in 1 exchange", "effort medium instead of high in 1 exchange",
		"neap-small replied more than its 20%: 1 exchange, 30% of the tokens"}, words)
	assert.Equal(t, "effort medium instead of high in 1 exchange", (*Expects)(nil).Departures(all)[0].Words, "another effort than asked is told without any file")
	assert.Len(t, (*Expects)(nil).Departures(all), 1)
	assert.True(t, e.Allows("neap-large"))
	assert.False(t, e.Allows("ebb"))
	var p Percent
	assert.Error(t, p.ParseScalar("120%"))
	require.NoError(t, p.ParseScalar("12.5%"))
	assert.Equal(t, Percent(0.125), p)
}

func TestMoneyInJSON(t *testing.T) {
	var m Money
	require.NoError(t, json.Unmarshal([]byte(`"12.50 AVM"`), &m))
	text, _ := json.Marshal(m)
	assert.Equal(t, `"12.5 AVM"`, string(text))
	for _, bad := range []string{`"12.50"`, `"-1 AVM"`, `"1e3 AVM"`, `"1 avm"`, `"` + strings.Repeat("9", 40) + ` AVM"`} {
		assert.Error(t, json.Unmarshal([]byte(bad), &m), bad)
	}
}

func FuzzPrices(f *testing.F) {
	f.Add([]byte(tides))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, doc := ParsePrices("p.yaml", data)
		if len(doc.Problems) > 0 {
			return
		}
		for _, m := range p.Models {
			if price := (Prices{[]*PriceList{p}}).Find(m.Model, after); price != nil {
				assert.False(t, price.Cost(Tokens{Fresh: n(MaxTokens), Output: n(MaxTokens)}, 1).IsNegative())
			}
		}
	})
}
