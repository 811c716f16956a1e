package ledger

import (
	"sort"
	"time"

	"github.com/shopspring/decimal"
)

// Source says where a figure is from. The ladder: the first that is there is used.
type Source string

const (
	// Metered was counted by the meter, from what the model service answered.
	Metered Source = "metered"
	// Protocol is what the tool told over the protocol by which it is driven.
	Protocol Source = "protocol"
	// Reported is what the tool says of itself.
	Reported Source = "reported"
	// TypedIn was told by a person.
	TypedIn Source = "typed-in"
	// NotKnown is where nothing is said.
	NotKnown Source = "unknown"
)

// Exchange is one request to a model service with its reply, as the ledger sees it.
type Exchange struct {
	Bout  string
	Round int
	// At is when it began; by it the price is found.
	At time.Time
	// TookMS is from its beginning to its end, in milliseconds.
	TookMS int64
	// Asked and Replied are models; either may be "".
	Asked, Replied string
	// EffortAsked is the effort that was asked for, Effort the one that the service
	// says it used; either may be "".
	EffortAsked, Effort string
	Tokens              Tokens
	// Wanting is set for an exchange that should have had counts and did not, or
	// not all: what it used is not known.
	Wanting bool
	Partial bool
	Refused bool
}

// model is the one that is paid for.
func (e *Exchange) model() string {
	if e.Replied != "" {
		return e.Replied
	}
	return e.Asked
}

// ModelLine is what one model used.
type ModelLine struct {
	Model     string `json:"model"`
	Exchanges int    `json:"exchanges"`
	// NotCounted is how many of them said nothing of what they used.
	NotCounted int    `json:"not_counted"`
	Tokens     Tokens `json:"tokens"`
	// Money is nil where no price list knows the model: unpriced, never free.
	Money *Money `json:"money"`
	// Share is the model's part of all counted tokens, from 0 to 1.
	Share *float64 `json:"share"`
	// TookMS is how long it worked, all exchanges added up, in milliseconds.
	TookMS int64 `json:"took_ms"`
}

// Sheet is a ledger: what some exchanges, or a report, come to.
type Sheet struct {
	Source    Source `json:"source"`
	Exchanges int    `json:"exchanges"`
	Refused   int    `json:"refused"`
	// NotCounted is how many exchanges said nothing; Partial how many were cut off.
	NotCounted int    `json:"not_counted"`
	Partial    int    `json:"partial"`
	Tokens     Tokens `json:"tokens"`
	// Total is the prompt and the reply together.
	Total *int64 `json:"total"`
	// AtLeast is set where a part of the tokens was not counted.
	AtLeast bool `json:"at_least"`
	// Money is nil where nothing could be priced.
	Money *Money `json:"money"`
	// MoneyRange stands in Money's place where it is only known to lie between two amounts.
	MoneyRange *Range `json:"money_range"`
	// MoneyAtLeast is set where a part has no price or was not counted.
	MoneyAtLeast bool `json:"money_at_least"`
	// Unpriced are models that no price list knows.
	Unpriced []string `json:"unpriced"`
	// LargestPrompt is in tokens; ContextShare its part of that model's context
	// size, from 0 to 1, where the price list gives one.
	LargestPrompt *int64      `json:"largest_prompt"`
	ContextShare  *float64    `json:"context_share"`
	Lines         []ModelLine `json:"lines"`
}

// Of adds up exchanges. Without price lists there is no money.
func Of(exchanges []Exchange, prices Prices) Sheet {
	s := Sheet{Source: NotKnown, Unpriced: []string{}, Lines: []ModelLine{}}
	if len(exchanges) == 0 {
		return s
	}
	s.Source = Metered
	lines := map[string]*ModelLine{}
	sums := map[string]*decimal.Decimal{}
	unpriced := map[string]bool{}
	total, priced := decimal.Zero, false
	for i := range exchanges {
		e := &exchanges[i]
		name := e.model()
		l := lines[name]
		if l == nil {
			l = &ModelLine{Model: name}
			lines[name] = l
		}
		s.Exchanges++
		l.Exchanges++
		l.TookMS += e.TookMS
		if e.Refused {
			s.Refused++
		}
		if e.Partial {
			s.Partial++
			s.AtLeast = true
		}
		if e.Wanting {
			s.NotCounted++
			l.NotCounted++
			s.AtLeast = true
		}
		s.Tokens, l.Tokens = s.Tokens.Plus(e.Tokens), l.Tokens.Plus(e.Tokens)
		price := prices.Find(name, e.At)
		if n := e.Tokens.Prompt(); n != nil && (s.LargestPrompt == nil || *n > *s.LargestPrompt) {
			s.LargestPrompt, s.ContextShare = n, nil
			if price != nil && price.Context > 0 {
				share := float64(*n) / float64(price.Context)
				s.ContextShare = &share
			}
		}
		switch {
		case len(prices.Lists) == 0:
		case price == nil:
			if e.Tokens.Counted() || e.Wanting {
				unpriced[name], s.MoneyAtLeast = true, true
			}
		default:
			c := price.Cost(e.Tokens, e.TookMS)
			if price.byToken() && (e.Wanting || e.Partial) {
				s.MoneyAtLeast = true
			}
			total, priced = total.Add(c), true
			if sums[name] == nil {
				sums[name] = &decimal.Decimal{}
			}
			*sums[name] = sums[name].Add(c)
		}
	}
	s.Total = s.Tokens.Total()
	if s.Total == nil && !s.AtLeast {
		// Nothing but refusals and questions about the service: nothing was used.
		zero := int64(0)
		s.Total, priced = &zero, priced || len(prices.Lists) > 0
	}
	if priced {
		s.Money = &Money{total, prices.Currency()}
	}
	for name, l := range lines {
		if sum := sums[name]; sum != nil {
			l.Money = &Money{*sum, prices.Currency()}
		}
		if n := l.Tokens.Total(); n != nil && s.Total != nil && *s.Total > 0 {
			share := float64(*n) / float64(*s.Total)
			l.Share = &share
		}
		s.Lines = append(s.Lines, *l)
	}
	sort.Slice(s.Lines, func(i, j int) bool { return s.Lines[i].Model < s.Lines[j].Model })
	for name := range unpriced {
		s.Unpriced = append(s.Unpriced, name)
	}
	sort.Strings(s.Unpriced)
	return s
}

// Told is what a tool reports of itself, or a person types in.
type Told struct {
	Model  string `json:"model,omitempty"`
	Tokens Tokens `json:"tokens"`
	Money  *Money `json:"money,omitempty"`
	// Allowance is what was read off a subscription, in Money's place.
	Allowance *Allowance `json:"allowance,omitempty"`
	// AtLeast is set where a part is known to be missing.
	AtLeast bool `json:"at_least,omitempty"`
}

// Empty tells whether nothing was told.
func (t *Told) Empty() bool {
	return t == nil || !t.Tokens.Counted() && t.Money == nil && t.Allowance == nil
}

// Sheet is a ledger of what was told, at a moment. Money that was told stands
// as it is; else tokens of a model that a list knows are priced.
func (t *Told) Sheet(source Source, at time.Time, prices Prices) Sheet {
	if t.Empty() {
		return Of(nil, prices)
	}
	s := Sheet{Source: source, Tokens: t.Tokens, Total: t.Tokens.Total(), AtLeast: t.AtLeast || !t.Tokens.Counted(), Unpriced: []string{}, Lines: []ModelLine{}}
	line := ModelLine{Model: t.Model, Tokens: t.Tokens}
	switch price := prices.Find(t.Model, at); {
	case t.Money != nil:
		s.Money = t.Money
	case t.Allowance != nil:
		if r, err := t.Allowance.Range(); err == nil {
			s.MoneyRange = &r
		}
	case price != nil && price.byToken():
		// The lengths of the single prompts are not known, so steps cannot be followed.
		s.Money, s.MoneyAtLeast = &Money{(&Price{Rates: price.Rates}).Cost(t.Tokens, 0), prices.Currency()}, len(price.Above) > 0 || s.AtLeast
	case len(prices.Lists) > 0:
		s.Unpriced, s.MoneyAtLeast = append(s.Unpriced, t.Model), true
	}
	line.Money = s.Money
	s.Lines = append(s.Lines, line)
	return s
}

// Ledger is everything that is known of what a bout used: the best source, and
// the others beside it.
type Ledger struct {
	Sheet
	// Rounds are the sheets of single rounds, where they were metered.
	Rounds []RoundSheet `json:"rounds"`
	// Reported is the tool's own report, where another source is used.
	Reported *Sheet `json:"reported"`
	// Protocol is what was told over the protocol, TypedIn by a person, likewise.
	Protocol *Sheet `json:"protocol"`
	TypedIn  *Sheet `json:"typed_in"`
	// Difference is what the tool reports (by itself, or over the protocol) less what
	// was metered, in tokens of all kinds; nil where one of the two is not there or is not whole.
	Difference *int64 `json:"difference"`
}

// RoundSheet is the ledger of one round.
type RoundSheet struct {
	Round int `json:"round"`
	Sheet
}

// Others are the sources of a bout beside the meter; nil where one says nothing.
type Others struct{ Protocol, Reported, Typed *Told }

// Best goes up the ladder: metered, over the protocol, reported, typed in, unknown.
// at is when the bout was run.
func Best(exchanges []Exchange, told Others, at time.Time, prices Prices) Ledger {
	l := Ledger{Sheet: Of(exchanges, prices), Rounds: []RoundSheet{}}
	var sheets [3]*Sheet
	for i, one := range []*Told{told.Protocol, told.Reported, told.Typed} {
		if !one.Empty() {
			s := one.Sheet([]Source{Protocol, Reported, TypedIn}[i], at, prices)
			sheets[i] = &s
		}
	}
	if l.Source == Metered {
		rounds := map[int][]Exchange{}
		for _, e := range exchanges {
			rounds[e.Round] = append(rounds[e.Round], e)
		}
		for n, list := range rounds {
			l.Rounds = append(l.Rounds, RoundSheet{n, Of(list, prices)})
		}
		sort.Slice(l.Rounds, func(i, j int) bool { return l.Rounds[i].Round < l.Rounds[j].Round })
		r := sheets[1]
		if r == nil {
			r = sheets[0]
		}
		if r != nil && r.Total != nil && l.Total != nil && !l.AtLeast && !r.AtLeast {
			d := *r.Total - *l.Total
			l.Difference = &d
		}
	} else {
		for i, s := range sheets {
			if s != nil {
				l.Sheet, sheets[i] = *s, nil
				break
			}
		}
	}
	l.Protocol, l.Reported, l.TypedIn = sheets[0], sheets[1], sheets[2]
	return l
}
