package ledger

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadingsAreRanges(t *testing.T) {
	var of Money
	require.NoError(t, of.ParseScalar("20 AVM"))
	for _, c := range []struct{ before, after, from, to string }{
		{"12.3", "14.1", "0.34 AVM", "0.38 AVM"},
		{"12.3%", " 14.1% ", "0.34 AVM", "0.38 AVM"},
		{"12", "14", "0.2 AVM", "0.6 AVM"},
		{"12", "14.1", "0.31 AVM", "0.53 AVM"},
		{"12.3", "12.3", "0 AVM", "0.02 AVM"},
		{"0", "100", "19.8 AVM", "20.2 AVM"},
	} {
		r, err := (&Allowance{c.before, c.after, of}).Range()
		require.NoError(t, err, c)
		assert.Equal(t, []string{c.from, c.to}, []string{r.From.String(), r.To.String()}, c)
	}
	for _, bad := range [][2]string{{"", "1"}, {"x", "1"}, {"1", "1e9"}, {"-1", "1"}, {"14.1", "12.3"}, {"0", "100.1"}, {"1.", "2"}, {"999999", "1"}} {
		_, err := (&Allowance{bad[0], bad[1], of}).Range()
		assert.Error(t, err, bad)
	}
	told := &Told{Allowance: &Allowance{"12.3", "14.1", of}}
	assert.False(t, told.Empty())
	s := told.Sheet(TypedIn, before, Prices{})
	assert.Nil(t, s.Money, "a range stays one")
	assert.Equal(t, "0.38 AVM", s.MoneyRange.To.String())
}

func TestTheLadder(t *testing.T) {
	n := func(v int64) *int64 { return &v }
	told := func(v int64) *Told { return &Told{Tokens: Tokens{Fresh: n(v), Output: n(0)}} }
	all := Others{Protocol: told(3), Reported: told(2), Typed: told(1)}
	l := Best(nil, all, before, Prices{})
	assert.Equal(t, Protocol, l.Source)
	assert.Equal(t, []int64{3, 2, 1}, []int64{*l.Total, *l.Reported.Total, *l.TypedIn.Total})
	assert.Nil(t, l.Protocol)
	l = Best([]Exchange{{Tokens: Tokens{Fresh: n(5), Output: n(1)}}}, Others{Protocol: told(9)}, before, Prices{})
	assert.Equal(t, Metered, l.Source)
	require.NotNil(t, l.Difference, "what is told over the protocol is held against the meter")
	assert.Equal(t, int64(3), *l.Difference)
}
