package contender

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestExpand(t *testing.T) {
	values := map[Placeholder]string{Brief: "say {seed} and {workspace}", Seed: "7", Workspace: "/w"}
	for in, want := range map[string]string{
		"{brief}":              "say {seed} and {workspace}", // what a brief holds is not expanded again
		"--seed={seed}":        "--seed=7",
		"{seed}{seed}":         "77",
		"awk '{print}'":        "awk '{print}'",
		"{brief_file}":         "{brief_file}", // no value was given
		`{"json": {"seed":1}}`: `{"json": {"seed":1}}`,
		"{{seed}}":             "{7}",
	} {
		assert.Equal(t, want, Expand(in, values), in)
	}
}

func TestCarryTargets(t *testing.T) {
	for _, c := range []struct {
		carry Carry
		want  string
	}{
		{Carry{From: "~/.config/knot"}, ".config/knot"},
		{Carry{From: "/srv/state/knot"}, "knot"},
		{Carry{From: "fix.patch"}, "fix.patch"},
		{Carry{From: "~/x", To: "./deep//er/"}, "deep/er"},
	} {
		assert.Equal(t, c.want, c.carry.Target())
	}
}

func TestParseMistakes(t *testing.T) {
	const head = "contender: knot\ntitle: Knot\n"
	for name, c := range map[string]struct{ text, want string }{
		"no run":                         {head, "the key run, which is required"},
		"empty run":                      {head + "run: []\n", "found an empty list"},
		"stdin":                          {head + "run: [x]\nstdin: text\n", "expected brief or none"},
		"kept and set":                   {head + "run: [x]\nenv: {A: b}\nkeep_env: [A]\n", "which env sets too"},
		"TMPDIR":                         {head + "run: [x]\nenv: {TMPDIR: b}\n", "every bout sets itself"},
		"reads relative":                 {head + "run: [x]\nreads: [lib]\n", "an absolute folder"},
		"reads all":                      {head + "run: [x]\nreads: [/]\n", "an absolute folder"},
		"carries everything":             {head + "run: [x]\ncarry: [{from: /}]\n", "a whole home is not carried"},
		"carries to the top":             {head + "run: [x]\ncarry: [{from: x, to: .}]\n", "a path inside the bout's HOME"},
		"carries to a root":              {head + "run: [x]\ncarry: [{from: x, to: /etc}]\n", "a path inside the bout's HOME"},
		"a meter that nobody is told of": {head + "run: [x]\nmeter: {upstream: 'http://m'}\n", "how the tool is told to go through the meter"},
		"told of no meter":               {head + "run: [x, '{meter_url}']\n", "the key meter with the model service's address"},
		"fills in without a meter":       {head + "run: [x]\ncarry: [{from: y, fill: true}]\n", "whose address is filled in"},
		"meter-only without a meter":     {head + "run: [x]\nnetwork: meter-only\n", "the key meter with the model service's address"},
		"an upstream that is none":       {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'models.example'}\n", "an http or https address"},
		"an upstream with a query":       {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'http://m/?a=b'}\n", "an http or https address"},
		"a shape that is none":           {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'http://m', shape: round}\n", "one of prompt-completion"},
		"a shape and a reader":           {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'http://m', shape: eval-count, reader: {body: {input: [/a]}}}\n", "one of the two"},
		"a reader without places":        {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'http://m', reader: {name: own}}\n", "at least input or output"},
		"a pointer that is none":         {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'http://m', reader: {body: {input: [usage]}}}\n", "a JSON Pointer (RFC 6901)"},
		"a pace without a bound":         {head + "run: [x, '{meter_url}']\nmeter: {upstream: 'http://m', pace: {}}\n", "requests_per_minute or tokens_per_minute"},
		"expects a broken pattern":       {head + "run: [x]\nexpects: {models: [{model: '['}]}\n", "a glob pattern"},
		"expects more than all":          {head + "run: [x]\nexpects: {models: [{model: a, at_most: 120%}]}\n", "a share from 0% to 100%"},
		"reports nothing":                {head + "run: [x]\nreports: {model: [/m]}\n", "input, output or money"},
		"money of no currency":           {head + "run: [x]\nreports: {money: [/m]}\n", "the key currency"},
		"a title of two lines":           {"contender: knot\ntitle: \"a\\nb\"\nrun: [x]\n", "one line of text"},
	} {
		_, doc := Parse("/c/k.yaml", "k.yaml", []byte(c.text))
		assert.Contains(t, doc.Problems.Error(), c.want, name)
	}
	one, doc := Parse("/c/k.yaml", "k.yaml", []byte(head+"run: [x]\n"))
	require.Empty(t, doc.Problems)
	assert.Equal(t, StdinNone, one.Stdin)
	assert.Len(t, one.Digest(), 64)
}
