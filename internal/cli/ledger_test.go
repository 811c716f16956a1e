package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
)

func TestFiguresOfUse(t *testing.T) {
	n := func(v int64) *int64 { return &v }
	assert.Equal(t, "not counted", tokensCell(nil, false).shown)
	assert.Equal(t, "at least 1,234", tokensCell(n(1234), true).shown)
	assert.Equal(t, "1234", tokensCell(n(1234), true).plain, "programs get the bare number")
	for exact, want := range map[string]string{"0 AVM": "0.00 AVM", "0.000003 AVM": "0.000003000 AVM", "0.138156 AVM": "0.1382 AVM", "12.3456 AVM": "12.35 AVM", "1234 AVM": "1234.00 AVM"} {
		m := &ledger.Money{}
		require.NoError(t, m.ParseScalar(exact))
		assert.Equal(t, want, moneyCell(m, false).shown)
		assert.Equal(t, exact, moneyCell(m, false).plain, "programs get the exact sum")
	}
	assert.Equal(t, absent, moneyCell(nil, true).shown)
	assert.Equal(t, []string{"+1,000", "-1,000", "0"}, []string{signed(1000), signed(-1000), signed(0)})
	assert.Contains(t, usedWords(api.Used{Source: "unknown"}), "not known")
	assert.Equal(t, "7 tokens (reported)", usedWords(api.Used{Source: "reported", Tokens: n(7)}))

	got, err := typedTokens("fresh=12, output=3")
	require.NoError(t, err)
	assert.Equal(t, int64(15), *got.Total())
	for _, bad := range []string{"", "fresh", "fresh=-1", "total=4", "fresh=1;output=2", "fresh=1e9"} {
		_, err := typedTokens(bad)
		assert.ErrorContains(t, err, "expected kinds with counts", bad)
	}
}

func TestDrawnTimeline(t *testing.T) {
	const s = 1_000_000
	lines := drawTimeline([]timeline.Event{
		{Kind: timeline.Exchange, At: 0, Until: 32 * s}, {Kind: timeline.Edit, At: 48 * s, Until: 48 * s}, {Kind: timeline.Check, At: 56 * s, Until: 64 * s},
		{Kind: timeline.Busy, At: 10 * s, Until: 10*s + s/4},
	}, false)
	require.Len(t, lines, 5, "lanes in which nothing happened are left out")
	assert.True(t, strings.HasSuffix(lines[0], "1 min 04 s"))
	assert.Equal(t, strings.Repeat("█", 32)+strings.Repeat(" ", 32)+" model", strings.Replace(lines[1], "·", " ", 1))
	assert.Equal(t, 48, len([]rune(lines[2][:strings.Index(lines[2], "·")])))
	assert.Contains(t, lines[3], "▌", "a quarter of a column's time is thin")
	assert.True(t, strings.HasSuffix(lines[4], strings.Repeat("█", 8)+" checks"))
	assert.Nil(t, drawTimeline(nil, true))
	for _, hostile := range [][]timeline.Event{{{Kind: timeline.Edit, At: 1, Until: 1}}, {{Kind: timeline.Exchange, At: 0, Until: 3 << 59}}} {
		assert.NotPanics(t, func() { drawTimeline(hostile, true) })
	}
}
