package ledger

import (
	"fmt"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/shopspring/decimal"

	"agonometer/internal/core/specfile"
)

// Date is a day, from whose beginning in UTC something holds.
type Date struct{ time.Time }

// DatePattern is the regular expression of a Date.
const DatePattern = `^[0-9]{4}-[0-9]{2}-[0-9]{2}$`

func (d *Date) ParseScalar(text string) error {
	t, err := time.Parse(time.DateOnly, text)
	d.Time = t
	return err
}

func (*Date) Expected() string { return "a day such as 2031-03-01" }

// Rates are prices of a million tokens, by kind. A kind without a price of its
// own costs what the kind costs that it belongs to: cached and written tokens
// what fresh ones do, reasoning what output does. It is never free unawares.
type Rates struct {
	Input     *Amount `yaml:"input" json:"input,omitempty" jsonschema_description:"Price of a million fresh tokens of the prompt."`
	Cached    *Amount `yaml:"cached" json:"cached,omitempty" jsonschema_description:"Of a million tokens read from a cache; default: as input."`
	Written   *Amount `yaml:"written" json:"written,omitempty" jsonschema_description:"Of a million tokens written to a cache; default: as input."`
	Output    *Amount `yaml:"output" json:"output,omitempty" jsonschema_description:"Price of a million tokens of the reply."`
	Reasoning *Amount `yaml:"reasoning" json:"reasoning,omitempty" jsonschema_description:"Of a million tokens of the reply that are reasoning; default: as output."`
}

// Step is prices for long prompts.
type Step struct {
	Prompt int   `yaml:"prompt" spec:"required" json:"prompt" jsonschema_description:"The prices hold for exchanges whose prompt is longer than this, in tokens."`
	Rates  Rates `yaml:"rates" spec:"required" json:"rates" jsonschema_description:"The prices of such an exchange, all of it; what is not named stays as it is for short ones."`
}

// Price is what one model costs.
type Price struct {
	Model   string  `yaml:"model" spec:"required" json:"model" jsonschema_description:"The model's name as the service gives it, or a glob pattern such as spring-*."`
	From    *Date   `yaml:"from" json:"from,omitempty" jsonschema_description:"The first day on which this price holds, in UTC; default: always."`
	Rates   Rates   `yaml:"rates" json:"rates,omitempty" jsonschema_description:"Prices of a million tokens, by kind."`
	Above   []Step  `yaml:"above" json:"above,omitempty" jsonschema_description:"Other prices for long prompts."`
	PerHour *Amount `yaml:"per_hour" json:"per_hour,omitempty" jsonschema_description:"For a model that runs on a machine of one's own: the price of an hour in which it answers, beside or instead of prices by token."`
	Context int     `yaml:"context" json:"context,omitempty" jsonschema_description:"The model's context size in tokens."`
}

// PriceList is the YAML of a price list.
type PriceList struct {
	PriceList specfile.Slug `yaml:"price_list" spec:"required" json:"price_list" jsonschema_description:"The list's name, a slug."`
	Title     string        `yaml:"title" json:"title,omitempty" jsonschema_description:"One line for people."`
	Currency  Currency      `yaml:"currency" spec:"required" json:"currency" jsonschema_description:"The currency of all its prices, in three capital letters."`
	Models    []Price       `yaml:"models" spec:"required" json:"models" jsonschema_description:"What each model costs. Of several that fit, the exact name is taken before a pattern, a longer pattern before a shorter one, a later day before an earlier one."`
}

// ParsePrices reads a price list; shown is its path for messages.
func ParsePrices(shown string, data []byte) (*PriceList, *specfile.Document) {
	p := &PriceList{}
	doc := specfile.DecodeYAML(shown, data, p)
	if doc.Has("models") && len(p.Models) == 0 {
		doc.Add("models", "an empty list", "at least one model")
	}
	seen := map[string]bool{}
	for i := range p.Models {
		m, key := &p.Models[i], fmt.Sprintf("models[%d]", i)
		if doc.Has(key+".model") && (strings.TrimSpace(m.Model) == "" || !doublestar.ValidatePattern(m.Model)) {
			doc.Add(key+".model", specfile.Quote(m.Model), "a model's name, or a glob pattern")
		}
		byToken := m.Rates != Rates{}
		if !byToken && m.PerHour == nil {
			doc.Add(key, "no price", "rates, or per_hour")
		}
		if byToken && (m.Rates.Input == nil || m.Rates.Output == nil) {
			doc.Add(key+".rates", "no price for "+missing(m.Rates), "at least input and output")
		}
		if m.Context < 0 {
			doc.Add(key+".context", fmt.Sprint(m.Context), "a number of tokens")
		}
		last := 0
		for j, s := range m.Above {
			at := fmt.Sprintf("%s.above[%d]", key, j)
			if s.Prompt <= last {
				doc.Add(at+".prompt", fmt.Sprint(s.Prompt), "a number of tokens above that of the step before")
			}
			if (s.Rates == Rates{}) {
				doc.Add(at+".rates", "no price", "at least one")
			}
			last = s.Prompt
		}
		name := m.Model
		if m.From != nil {
			name += " from " + m.From.Format(time.DateOnly)
		}
		if seen[name] && m.Model != "" {
			doc.Add(key+".model", specfile.Quote(name), "one price for a model from a day on (there is one already)")
		}
		seen[name] = true
	}
	return p, doc
}

func missing(r Rates) string {
	if r.Input == nil {
		return "input"
	}
	return "output"
}

// Prices are the price lists that hold together, in one currency.
type Prices struct{ Lists []*PriceList }

// Currency is that of all lists; "" where there are none.
func (p Prices) Currency() Currency {
	if len(p.Lists) == 0 {
		return ""
	}
	return p.Lists[0].Currency
}

// Find is the price of a model at a moment; nil where no list knows it. The
// first list that knows the model decides.
func (p Prices) Find(model string, at time.Time) *Price {
	for _, list := range p.Lists {
		var best *Price
		for i := range list.Models {
			m := &list.Models[i]
			if m.From != nil && at.Before(m.From.Time) {
				continue
			}
			if ok, _ := doublestar.Match(m.Model, model); (ok || m.Model == model) && (best == nil || better(m, best, model)) {
				best = m
			}
		}
		if best != nil {
			return best
		}
	}
	return nil
}

func better(a, b *Price, model string) bool {
	if (a.Model == model) != (b.Model == model) {
		return a.Model == model
	}
	if len(a.Model) != len(b.Model) {
		return len(a.Model) > len(b.Model)
	}
	if a.From == nil || b.From == nil {
		return a.From != nil
	}
	return a.From.After(b.From.Time)
}

// rates are those for a prompt of a length; all kinds are set that can be.
func (p *Price) rates(prompt int64) Rates {
	r := p.Rates
	for _, s := range p.Above {
		if prompt <= int64(s.Prompt) {
			continue
		}
		for _, one := range []struct{ into, from **Amount }{{&r.Input, &s.Rates.Input}, {&r.Cached, &s.Rates.Cached}, {&r.Written, &s.Rates.Written},
			{&r.Output, &s.Rates.Output}, {&r.Reasoning, &s.Rates.Reasoning}} {
			if *one.from != nil {
				*one.into = *one.from
			}
		}
	}
	if r.Cached == nil {
		r.Cached = r.Input
	}
	if r.Written == nil {
		r.Written = r.Input
	}
	if r.Reasoning == nil {
		r.Reasoning = r.Output
	}
	return r
}

var hour = decimal.NewFromInt(time.Hour.Milliseconds())

// Cost is what one exchange cost by this price, exactly. tookMS is how long the
// model worked on it, in milliseconds.
func (p *Price) Cost(t Tokens, tookMS int64) decimal.Decimal {
	var prompt int64
	if n := t.Prompt(); n != nil {
		prompt = *n
	}
	r := p.rates(prompt)
	total := decimal.Zero
	add := func(n *int64, rate *Amount) {
		if n != nil && rate != nil {
			total = total.Add(cost(*n, rate.Decimal))
		}
	}
	add(t.Fresh, r.Input)
	add(t.Cached, r.Cached)
	add(t.Written, r.Written)
	plain := t.Output
	if t.Output != nil && t.Reasoning != nil {
		rest := *t.Output - *t.Reasoning
		plain = &rest
		add(t.Reasoning, r.Reasoning)
	}
	add(plain, r.Output)
	if p.PerHour != nil {
		total = total.Add(p.PerHour.Mul(decimal.NewFromInt(tookMS)).DivRound(hour, 12))
	}
	return total
}

// byToken tells whether tokens have a price of their own.
func (p *Price) byToken() bool { return p.Rates.Input != nil || p.Rates.Output != nil }
