package specfile

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type inner struct {
	Name Slug   `yaml:"name" spec:"required"`
	Run  string `yaml:"run"`
}

type sample struct {
	Task   Slug               `yaml:"task" spec:"required"`
	Commit string             `yaml:"commit"`
	Count  int                `yaml:"count"`
	On     bool               `yaml:"on"`
	Time   Duration           `yaml:"time"`
	Size   Size               `yaml:"size"`
	Seed   *Seed              `yaml:"seed"`
	Words  []string           `yaml:"words"`
	Checks []inner            `yaml:"checks"`
	Env    map[EnvName]string `yaml:"env"`
}

func TestDecodeReadsScalarsByTheirText(t *testing.T) {
	var s sample
	doc := DecodeYAML("f.yaml", []byte("task: a-b\ncommit: 0123456\ncount: 3\non: true\ntime: 1m30s\nsize: 4MiB\nseed: 9007199254740991\nwords: [yes, null, 1e3]\nenv: {PORT_KEY: no}\n"), &s)
	require.Empty(t, doc.Problems)
	assert.Equal(t, Slug("a-b"), s.Task)
	assert.Equal(t, "0123456", s.Commit, "a commit id is not a number")
	assert.Equal(t, 90*time.Second, s.Time.Std())
	assert.Equal(t, Size(4<<20), s.Size)
	assert.Equal(t, Seed(MaxSeed), *s.Seed)
	assert.Equal(t, []string{"yes", "null", "1e3"}, s.Words)
	assert.Equal(t, map[EnvName]string{"PORT_KEY": "no"}, s.Env)
}

// Every mistake is told with its line, its key, what was found and what was expected.
func TestDecodeTellsEveryMistake(t *testing.T) {
	cases := []struct{ name, text, want string }{
		{"unknown key", "task: a\ncolour: red\n", `f.yaml:2: colour: found an unknown key, expected one of the keys`},
		{"misspelt key", "tsak: a\ntask: a\n", `f.yaml:1: tsak: found an unknown key, expected "task", perhaps`},
		{"missing key", "count: 1\n", "f.yaml:1: task: found no such key, expected the key task, which is required"},
		{"twice", "task: a\ncount: 1\ncount: 2\n", "f.yaml:3: count: found the key a second time"},
		{"slug", "task: A_b\n", `f.yaml:1: task: found "A_b", expected a slug`},
		{"number", "task: a\ncount: many\n", `f.yaml:2: count: found "many", expected a whole number`},
		{"list for text", "task: a\ncommit: [x]\n", "f.yaml:2: commit: found a list, expected text"},
		{"text for list", "task: a\nwords: x\n", `f.yaml:2: words: found "x", expected a list`},
		{"nothing for text", "task: a\ncommit:\n", "f.yaml:2: commit: found nothing, expected text"},
		{"bool", "task: a\non: yes\n", `f.yaml:2: on: found "yes", expected true or false`},
		{"duration", "task: a\ntime: 10\n", `f.yaml:2: time: found "10", expected a duration`},
		{"zero duration", "task: a\ntime: 0s\n", "expected a duration above zero"},
		{"size", "task: a\nsize: 4MB\n", `f.yaml:2: size: found "4MB", expected a size`},
		{"seed too large", "task: a\nseed: 9007199254740992\n", "expected a whole number from 0 to"},
		{"negative seed", "task: a\nseed: -1\n", "expected a whole number from 0 to"},
		{"in a list", "task: a\nchecks:\n  - name: x\n  - run: y\n", "f.yaml:4: checks[1].name: found no such key"},
		{"environment", "task: a\nenv: {2x: y}\n", "expected the name of an environment variable"},
		{"alias", "task: &t a\ncommit: *t\n", "found a YAML anchor or alias"},
		{"broken", "task: [a\n", "found YAML that cannot be read"},
		{"tab", "task:\n\t- a\n", "found YAML that cannot be read"},
		{"empty", "", "f.yaml:1: found an empty file"},
		{"list on top", "- a\n", "found a list, expected a mapping with the keys task"},
		{"two documents", "task: a\n---\ntask: b\n", "found a second YAML document"},
		{"not UTF-8", "task: \xff\n", "found bytes that are not UTF-8"},
		{"NUL", "task: a\ncommit: \"a\\0b\"\n", "found text with a NUL character"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			var s sample
			doc := DecodeYAML("f.yaml", []byte(c.text), &s)
			assert.Contains(t, doc.Problems.Error(), c.want)
		})
	}
}

func TestDecodeTellsAllAtOnce(t *testing.T) {
	var s sample
	doc := DecodeYAML("f.yaml", []byte("task: A\ncount: x\ntime: soon\ncolour: red\n"), &s)
	assert.Len(t, doc.Problems, 4)
}

func TestDecodeBoundsItsInput(t *testing.T) {
	var s sample
	assert.Contains(t, DecodeYAML("f", []byte(strings.Repeat("x", MaxFile+1)), &s).Problems.Error(), "at most")
	deep := strings.Repeat("[", 20000)
	assert.NotEmpty(t, DecodeYAML("f", []byte("words: "+deep), &s).Problems)
	bomb := "a: &a [x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\ntask: *c\n"
	assert.NotEmpty(t, DecodeYAML("f", []byte(bomb), &s).Problems)
}

func TestFrontMatter(t *testing.T) {
	var s sample
	doc, brief := DecodeFrontMatter("t.md", []byte("---\r\ntask: a\r\n---\r\nThe brief.\r\n\r\n---\r\nmore\r\n"), &s)
	require.Empty(t, doc.Problems)
	assert.Equal(t, "The brief.\n\n---\nmore\n", brief)
	_, _ = DecodeFrontMatter("t.md", []byte("---\ntask: a\ncount: x\n---\nb"), &s)
	doc, _ = DecodeFrontMatter("t.md", []byte("---\ntask: a\ncount: x\n---\nb"), &s)
	assert.Contains(t, doc.Problems.Error(), "t.md:3: count", "lines count from the top of the file")
	doc, _ = DecodeFrontMatter("t.md", []byte("# A title\n"), &s)
	assert.Contains(t, doc.Problems.Error(), "expected YAML front matter")
	doc, _ = DecodeFrontMatter("t.md", []byte("---\ntask: a\n"), &s)
	assert.Contains(t, doc.Problems.Error(), "front matter that never ends")
}

func TestQuoteShortensAndEscapes(t *testing.T) {
	assert.Equal(t, `"\x1b[31m"`, Quote("\x1b[31m"))
	assert.LessOrEqual(t, len(Quote(strings.Repeat("ü", 500))), 70)
}

func TestResolveAndShort(t *testing.T) {
	assert.Equal(t, "/a/c/x", Resolve("/a/b/f.yaml", "../c/x"))
	assert.Equal(t, "/x", Resolve("/a/b/f.yaml", "/x"))
	b := Bundle{Main: "/a/b/contest.yaml"}
	assert.Equal(t, "tasks/t.md", b.Short("/a/b/tasks/t.md"))
	assert.Equal(t, "/a/c.md", b.Short("/a/c.md"))
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{"task: a\n", "task: [", "a: &x\n  b: *x", "checks:\n- name: x\n  run: |\n    y\n", "? [a]\n: b\n", "\xff", "task: !!binary aGk=\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var s sample
		doc := DecodeYAML("f", data, &s)
		_ = doc.Problems.Error()
		var again sample
		second, _ := DecodeFrontMatter("f", append([]byte("---\n"), data...), &again)
		_ = second.Problems.Error()
	})
}
