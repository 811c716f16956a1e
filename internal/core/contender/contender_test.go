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
		"no run":               {head, "the key run, which is required"},
		"empty run":            {head + "run: []\n", "found an empty list"},
		"stdin":                {head + "run: [x]\nstdin: text\n", "expected brief or none"},
		"kept and set":         {head + "run: [x]\nenv: {A: b}\nkeep_env: [A]\n", "which env sets too"},
		"TMPDIR":               {head + "run: [x]\nenv: {TMPDIR: b}\n", "every bout sets itself"},
		"reads relative":       {head + "run: [x]\nreads: [lib]\n", "an absolute folder"},
		"reads all":            {head + "run: [x]\nreads: [/]\n", "an absolute folder"},
		"carries everything":   {head + "run: [x]\ncarry: [{from: /}]\n", "a whole home is not carried"},
		"carries to the top":   {head + "run: [x]\ncarry: [{from: x, to: .}]\n", "a path inside the bout's HOME"},
		"carries to a root":    {head + "run: [x]\ncarry: [{from: x, to: /etc}]\n", "a path inside the bout's HOME"},
		"a title of two lines": {"contender: knot\ntitle: \"a\\nb\"\nrun: [x]\n", "one line of text"},
	} {
		_, doc := Parse("/c/k.yaml", "k.yaml", []byte(c.text))
		assert.Contains(t, doc.Problems.Error(), c.want, name)
	}
	one, doc := Parse("/c/k.yaml", "k.yaml", []byte(head+"run: [x]\n"))
	require.Empty(t, doc.Problems)
	assert.Equal(t, StdinNone, one.Stdin)
	assert.Len(t, one.Digest(), 64)
}
