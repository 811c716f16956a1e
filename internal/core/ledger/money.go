package ledger

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/shopspring/decimal"
)

// Amount is an exact decimal number that is not negative, such as a price.
type Amount struct{ decimal.Decimal }

// AmountPattern is the regular expression of an Amount, MoneyPattern that of Money.
const (
	AmountPattern = `^[0-9]{1,12}(\.[0-9]{1,12})?$`
	MoneyPattern  = `^[0-9]{1,12}(\.[0-9]{1,12})? [A-Z]{3}$`
)

var amountRE = regexp.MustCompile(AmountPattern)

func (a *Amount) ParseScalar(text string) error {
	if !amountRE.MatchString(text) {
		return fmt.Errorf("not an amount")
	}
	d, err := decimal.NewFromString(text)
	*a = Amount{d}
	return err
}

func (*Amount) Expected() string { return "an amount such as 3 or 0.125, with at most 12 decimals" }

// Currency is three capital letters, as in ISO 4217.
type Currency string

// CurrencyPattern is the regular expression of a Currency.
const CurrencyPattern = `^[A-Z]{3}$`

var currencyRE = regexp.MustCompile(CurrencyPattern)

func (c *Currency) ParseScalar(text string) error {
	if !currencyRE.MatchString(text) {
		return fmt.Errorf("not a currency")
	}
	*c = Currency(text)
	return nil
}

func (*Currency) Expected() string { return "a currency in three capital letters, as in ISO 4217" }

// Money is an exact amount of a currency; in YAML and JSON written like "0.25 AVM".
type Money struct {
	Amount   decimal.Decimal
	Currency Currency
}

func (m *Money) ParseScalar(text string) error {
	amount, currency, ok := strings.Cut(strings.TrimSpace(text), " ")
	var a Amount
	if !ok || a.ParseScalar(amount) != nil || m.Currency.ParseScalar(strings.TrimSpace(currency)) != nil {
		return fmt.Errorf("not money")
	}
	m.Amount = a.Decimal
	return nil
}

func (*Money) Expected() string { return "an amount and a currency, such as 0.50 AVM" }

// String is the exact amount with its currency.
func (m Money) String() string { return m.Amount.String() + " " + string(m.Currency) }

// Plus adds money of the same currency.
func (m Money) Plus(o Money) Money { return Money{m.Amount.Add(o.Amount), m.Currency} }

// Per divides, to nine decimals, half away from zero: the one place where money is rounded.
func (m Money) Per(n int) *Money {
	if n <= 0 {
		return nil
	}
	return &Money{m.Amount.DivRound(decimal.NewFromInt(int64(n)), 9), m.Currency}
}

// MarshalText writes the exact amount with its currency.
func (m Money) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (m *Money) UnmarshalText(text []byte) error {
	if err := m.ParseScalar(string(text)); err != nil {
		return fmt.Errorf("%q is no money; wanted is %s", text, m.Expected())
	}
	return nil
}

// cost is the price of n tokens, exactly.
func cost(n int64, perMillion decimal.Decimal) decimal.Decimal {
	return decimal.NewFromInt(n).Mul(perMillion).Mul(decimal.New(1, -6))
}
