package plain

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsHidden(t *testing.T) {
	for _, r := range []rune{0, 0x1b, 0x7f, 0x80, 0x9b, 0x9f, 0xad, 0x34f, 0x61c, 0x180e, 0x200b, 0x200c, 0x200d, 0x200e, 0x200f, 0x2028, 0x2029, 0x202a, 0x202e, 0x2060, 0x2066, 0x2069, 0x206f, 0x3164, 0xfe0f, 0xfeff, 0xffa0, 0xfffb, 0xe0001, 0xe0041, 0xe007f, 0xe01ef} {
		assert.True(t, Hidden(r), "%U", r)
	}
	for _, r := range "\n\taZü港 –✓\ufffd" {
		assert.False(t, Hidden(r), "%U", r)
	}
	in := map[rune]bool{}
	last := rune(-2)
	for _, x := range Ranges() {
		assert.Greater(t, x[0], last+1, "in order, and joined")
		last = x[1]
		for r := x[0]; r <= x[1]; r++ {
			in[r] = true
		}
	}
	for r := rune(0); r <= 0x10ffff; r++ {
		if Hidden(r) != in[r] {
			t.Fatalf("%U: %v and %v", r, Hidden(r), in[r])
		}
	}
}

func TestShown(t *testing.T) {
	for in, want := range map[string]string{
		"plain ü 港": "plain ü 港", "\x1b[31m": "␛[31m", "a\x00b\x7f\r": "a␀b␡␍", "\u202etxt": `\u202etxt`, "bad \xff": `bad \xff`, "tab\tline\n": "tab\tline\n",
		"\u009b31m": `\u009b31m`, "a\u2028b": `a\u2028b`, "tag\U000e0041": `tag\u{e0041}`, "\u061c": `\u061c`,
	} {
		assert.Equal(t, want, Visible(in))
	}
	text := "{\"a\":\"x\u202e\U000e0041\u009b\u200b\"}"
	shown := JSON(text)
	assert.Equal(t, `{"a":"x\u202e\udb40\udc41\u009b\u200b"}`, shown)
	var a, b any
	require.NoError(t, json.Unmarshal([]byte(text), &a))
	require.NoError(t, json.Unmarshal([]byte(shown), &b))
	assert.Equal(t, a, b)
	for in, want := range map[string]string{"=1+1": "'=1+1", "+cmd": "'+cmd", "-3": "-3", "-3 tests": "'-3 tests", "@x": "'@x", "\t=1": "'\t=1", "1.5": "1.5", "a=b": "a=b", "": "", "-": "'-"} {
		assert.Equal(t, want, Cell(in), in)
	}
	assert.Equal(t, `&lt;script&gt;\[a\](b) \*x\* \`+"`", Markdown("<script>[a](b) *x* `"))
}
