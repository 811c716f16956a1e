package ledger

import (
	"fmt"
	"regexp"
	"sort"
	"strconv"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// Percent is a share from 0 to 1, written like 20%.
type Percent float64

// PercentPattern is the regular expression of a Percent.
const PercentPattern = `^(100|[0-9]{1,2}(\.[0-9]{1,4})?)%$`

var percentRE = regexp.MustCompile(PercentPattern)

func (p *Percent) ParseScalar(text string) error {
	if !percentRE.MatchString(text) {
		return fmt.Errorf("not a share")
	}
	n, err := strconv.ParseFloat(text[:len(text)-1], 64)
	*p = Percent(n / 100)
	return err
}

func (*Percent) Expected() string { return "a share from 0% to 100%, such as 20%" }

// ExpectedModel is a model that may reply.
type ExpectedModel struct {
	Model  string   `yaml:"model" spec:"required" json:"model" jsonschema_description:"A model's name, or a glob pattern such as spring-*."`
	AtMost *Percent `yaml:"at_most" json:"at_most,omitempty" jsonschema_description:"Its largest part of all counted tokens, such as 20% for a helper model; default 100%."`
}

// Expects says which models may reply to a contender, and at which effort.
type Expects struct {
	Models []ExpectedModel `yaml:"models" json:"models,omitempty" jsonschema_description:"The models that may reply, helper models included. Any other is flagged."`
	Effort string          `yaml:"effort" json:"effort,omitempty" jsonschema_description:"The effort that every request that names one must ask for. Another is flagged."`
}

// Check finds what is wrong beyond the form of the keys.
func (e *Expects) Check(add func(key, found, expected string)) {
	for i, m := range e.Models {
		if m.Model == "" || !doublestar.ValidatePattern(m.Model) {
			add(fmt.Sprintf("models[%d].model", i), strconv.Quote(m.Model), "a model's name, or a glob pattern")
		}
	}
}

// Departure is one way in which what happened is not what was expected.
type Departure struct {
	// Model and Effort name what was not expected; one of them is set.
	Model  string `json:"model,omitempty"`
	Effort string `json:"effort,omitempty"`
	// Exchanges is how many; First when the first of them began.
	Exchanges int       `json:"exchanges"`
	First     time.Time `json:"first"`
	// Tokens and Share are the model's tokens, and their part of all counted ones.
	Tokens *int64   `json:"tokens"`
	Share  *float64 `json:"share"`
	Words  string   `json:"words"`
}

// OtherModel is how people are told of a model that nobody expected.
const OtherModel = "another model replied"

// Departures compares what was asked for and what replied with what was
// expected. An exchange that nobody answered tells nothing of a model.
func (e *Expects) Departures(exchanges []Exchange) []Departure {
	out := []Departure{}
	if e == nil {
		e = &Expects{}
	}
	byModel := map[string]*Departure{}
	var all int64
	for i := range exchanges {
		x := &exchanges[i]
		if n := x.Tokens.Total(); n != nil {
			all += *n
		}
		if x.Replied != "" && len(e.Models) > 0 {
			note(byModel, x.Replied, x).Model = x.Replied
		}
	}
	for name, d := range byModel {
		m := e.find(name)
		if d.Tokens != nil && all > 0 {
			share := float64(*d.Tokens) / float64(all)
			d.Share = &share
		}
		switch {
		case m == nil:
			d.Words = fmt.Sprintf("%s: %s, %s", OtherModel, name, d.amount())
		case m.AtMost != nil && d.Share != nil && *d.Share > float64(*m.AtMost):
			d.Words = fmt.Sprintf("%s replied more than its %.4g%%: %s", name, 100*float64(*m.AtMost), d.amount())
		default:
			continue
		}
		out = append(out, *d)
	}
	byEffort := map[string]*Departure{}
	for i := range exchanges {
		x := &exchanges[i]
		wanted := e.Effort
		if wanted == "" {
			wanted = x.EffortAsked
		}
		for _, used := range []string{x.EffortAsked, x.Effort} { // what was asked for, what the service says
			if used != "" && used != wanted {
				note(byEffort, "effort "+used+" instead of "+wanted, x).Effort = used
				break
			}
		}
	}
	for words, d := range byEffort {
		d.Words = words + " in " + exchangesWord(d.Exchanges)
		out = append(out, *d)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Words < out[j].Words })
	return out
}

func note(by map[string]*Departure, name string, x *Exchange) *Departure {
	d := by[name]
	if d == nil {
		d = &Departure{First: x.At}
		by[name] = d
	}
	if x.At.Before(d.First) {
		d.First = x.At
	}
	d.Exchanges++
	d.Tokens = sum(d.Tokens, x.Tokens.Total())
	return d
}

func (d *Departure) amount() string {
	s := exchangesWord(d.Exchanges)
	if d.Share != nil {
		s += fmt.Sprintf(", %.3g%% of the tokens", 100**d.Share)
	}
	return s
}

func exchangesWord(n int) string {
	if n == 1 {
		return "1 exchange"
	}
	return fmt.Sprintf("%d exchanges", n)
}

// find is the expected model of a name: the exact one before a pattern.
func (e *Expects) find(name string) *ExpectedModel {
	var found *ExpectedModel
	for i := range e.Models {
		m := &e.Models[i]
		if m.Model == name {
			return m
		}
		if ok, _ := doublestar.Match(m.Model, name); ok && found == nil {
			found = m
		}
	}
	return found
}

// Allows tells whether a model may reply at all.
func (e *Expects) Allows(model string) bool {
	return e == nil || len(e.Models) == 0 || model == "" || e.find(model) != nil
}
