package contest

import (
	"fmt"
	"time"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
)

// OnEvent says what becomes of a bout in which its model service did something
// that spoils the comparison.
type OnEvent string

const (
	// Count lets a refused bout stand as it comes out.
	Count OnEvent = "count"
	// Flag marks a bout in which another model replied.
	Flag OnEvent = "flag"
	// MakeVoid ends the bout, which is run again.
	MakeVoid OnEvent = "void"
)

func (o *OnEvent) ParseScalar(text string) error {
	switch OnEvent(text) {
	case Count, Flag, MakeVoid:
		*o = OnEvent(text)
		return nil
	}
	return fmt.Errorf("unknown")
}

func (*OnEvent) Expected() string {
	return "void, or to let it stand: count (on_refused), flag (on_other_model)"
}

// DefaultRefusedPause is how long to wait before a refused bout is run again.
const DefaultRefusedPause = 30 * time.Second

// RefusedPauseOf is how long to wait before the n-th rerun of a refused bout,
// counted from 1: twice as long each time, and an hour at most.
func (c *Contest) RefusedPauseOf(n int) time.Duration {
	d := c.RefusedPause.Std()
	if d == 0 {
		d = DefaultRefusedPause
	}
	return min(d<<min(n-1, 20), time.Hour)
}

// checkMeter finds what a contest asks for that cannot be had without a meter
// or a price list.
func (c *Contest) checkMeter(doc *specfile.Document) {
	if c.OnRefused == Flag {
		doc.Add("on_refused", "flag", "count or void")
	}
	if c.OnOtherModel == Count {
		doc.Add("on_other_model", "count", "flag or void")
	}
	currency := c.PriceLists.Currency()
	check := func(d *specfile.Document, spend *ledger.Money) {
		switch {
		case spend == nil:
		case currency == "":
			d.Add("limits.spend", spend.String()+", and no price list", "the contest's key prices, with a price list that knows the models")
		case spend.Currency != currency:
			d.Add("limits.spend", spend.String(), "an amount in "+string(currency)+", the currency of the contest's price lists")
		}
	}
	check(doc, c.File.Limits.Spend)
	c.File.Limits.Validate(doc, "limits")
	if c.File.Limits.Tokens < 0 {
		doc.Add("limits.tokens", fmt.Sprint(c.File.Limits.Tokens), "a number of tokens above 0")
	}
	for _, t := range c.Tasks {
		if spend := t.Limits.Spend; spend != nil && (currency == "" || spend.Currency != currency) && c.File.Limits.Spend == nil {
			doc.Add("tasks", "the task "+string(t.Task)+" with a limit of "+spend.String(), "the key prices, with price lists in "+string(spend.Currency))
		}
	}
}
