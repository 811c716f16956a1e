package ledger

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/shopspring/decimal"
)

// Range is money that is only known to lie between two amounts, both included.
type Range struct {
	From Money `json:"from"`
	To   Money `json:"to"`
}

// Allowance is what a person read off a subscription before and after a bout: the
// share that was used up, in percent, as it was shown.
type Allowance struct {
	// Before and After are percentages as they stood there, such as "12.3".
	Before string `json:"before"`
	After  string `json:"after"`
	// Of is what the whole allowance is worth.
	Of Money `json:"of"`
}

var readingRE = regexp.MustCompile(`^[0-9]{1,3}(\.[0-9]{1,6})?$`)

// reading is a percentage with its resolution: half of its last digit either way.
func reading(text string) (value, half decimal.Decimal, err error) {
	text = strings.TrimSuffix(strings.TrimSpace(text), "%")
	if !readingRE.MatchString(text) {
		return value, half, fmt.Errorf("%q is no reading; wanted is a percentage as it was shown, such as 12.3", text)
	}
	if value, err = decimal.NewFromString(text); err != nil {
		return value, half, err
	}
	decimals := 0
	if _, after, ok := strings.Cut(text, "."); ok {
		decimals = len(after)
	}
	return value, decimal.New(5, int32(-decimals-1)), nil
}

// Range is what was spent, given that each reading was rounded: from the smallest
// to the largest difference that the readings allow. Exact arithmetic; never below 0.
func (a *Allowance) Range() (Range, error) {
	before, halfBefore, err := reading(a.Before)
	if err != nil {
		return Range{}, err
	}
	after, halfAfter, err := reading(a.After)
	if err != nil {
		return Range{}, err
	}
	hundred := decimal.NewFromInt(100)
	if before.GreaterThan(hundred) || after.GreaterThan(hundred) {
		return Range{}, fmt.Errorf("a reading above 100%%")
	}
	if after.Add(halfAfter).LessThan(before.Sub(halfBefore)) {
		return Range{}, fmt.Errorf("the reading after (%s%%) is below the one before (%s%%): was the allowance renewed in between?", a.After, a.Before)
	}
	half := halfBefore.Add(halfAfter)
	share := func(d decimal.Decimal) Money {
		return Money{a.Of.Amount.Mul(decimal.Max(d, decimal.Zero)).Shift(-2), a.Of.Currency}
	}
	d := after.Sub(before)
	return Range{share(d.Sub(half)), share(d.Add(half))}, nil
}
