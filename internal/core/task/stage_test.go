package task

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// with puts keys into the front matter of a good task.
func with(keys string) []byte {
	return []byte(strings.Replace(good, "checks:", keys+"\nchecks:", 1))
}

const question = "---\ntask: q\ntitle: Q\nkind: question\nrepository: ../r\nstart_commit: v1\nfacts:\n  - {name: a, text: b}\n---\nWhy?\n"

func TestNewKeysAreRefusedWhereTheyAreWrong(t *testing.T) {
	cases := []struct{ name, text, key string }{
		{"kind", string(with("kind: riddle")), "kind"},
		{"protect", string(with("protect: maybe")), "protect"},
		{"network", string(with("network: lots")), "network"},
		{"repair rounds", string(with("repair_rounds: 21")), "repair_rounds"},
		{"never outside", string(with("never: [/etc/x]")), "never[0]"},
		{"a measure that is none", string(with("measures: {off: [beauty]}")), "measures.off[0]"},
		{"a bound of no figure", string(with("measures: {at_most: {beauty: 1}}")), "measures.at_most.beauty"},
		{"a bound below none", string(with("measures: {at_most: {leftovers: -1}}")), "measures.at_most.leftovers"},
		{"a bound that is no number", string(with("measures: {at_most: {leftovers: many}}")), "measures.at_most.leftovers"},
		{"a bound beyond numbers", string(with("measures: {at_most: {leftovers: .nan}}")), "measures.at_most.leftovers"},
		{"coverage outside", strings.Replace(good, "run: make", "run: make, coverage: ../cover.out", 1), "checks[0].coverage"},
		{"findings outside", strings.Replace(good, "run: make", "run: make, findings: /tmp/a.sarif", 1), "checks[0].findings"},
		{"another good change that is not there", string(with("also_good: [nowhere.patch]")), "also_good[0]"},
		{"scope outside", string(with("scope: [/etc/**]")), "scope[0]"},
		{"scope that is no pattern", string(with("scope: ['a[']")), "scope[0]"},
		{"facts of a change", string(with("facts:\n  - {name: a, text: b}")), "facts"},
		{"sealed with nothing", string(with("sealed: {}")), "sealed"},
		{"sealed folder that is not there", string(with("sealed: {folder: nowhere}")), "sealed.folder"},
		{"delete outside", string(with("sealed: {delete: [../a]}")), "sealed.delete[0]"},
		{"delete in .git", string(with("sealed: {delete: [.git/config]}")), "sealed.delete[0]"},
		{"reader", strings.Replace(good, "run: make", "run: make, reads: xml", 1), "checks[0].reads"},
		{"report without junit", strings.Replace(good, "run: make", "run: make, report: a.xml", 1), "checks[0].report"},
		{"report outside", strings.Replace(good, "run: make", "run: make, reads: junit, report: ../a.xml", 1), "checks[0].report"},
		{"number without a place", strings.Replace(good, "run: make", "run: make, reads: number", 1), "checks[0].number"},
		{"number two ways", strings.Replace(good, "run: make", "run: make, number: {pattern: '(x)', pointer: /a}", 1), "checks[0].number"},
		{"number without a group", strings.Replace(good, "run: make", "run: make, number: {pattern: 'x'}", 1), "checks[0].number.pattern"},
		{"number, a pattern that is none", strings.Replace(good, "run: make", "run: make, number: {pattern: '(x'}", 1), "checks[0].number.pattern"},
		{"number, a pointer that is none", strings.Replace(good, "run: make", "run: make, number: {pointer: a}", 1), "checks[0].number.pointer"},
		{"number, a bound that is none", strings.Replace(good, "run: make", "run: make, number: {pointer: /a, at_most: fast}", 1), "checks[0].number.at_most"},
		{"number, never", strings.Replace(good, "run: make", "run: make, number: {pointer: /a, repeat: 0}", 1), "checks[0].number.repeat"},
		{"follow-up twice", string(with("follow_ups:\n  - {name: a, brief: x}\n  - {name: a, brief: y}")), "follow_ups[1].name"},
		{"follow-up without words", string(with("follow_ups:\n  - {name: a, brief: ' '}")), "follow_ups[0].brief"},
		{"no checks", "---\ntask: t\ntitle: T\nrepository: r\nstart_commit: v\n---\nDo.\n", "checks"},
		{"question with checks", strings.Replace(question, "facts:", "checks: [{name: a, run: b}]\nfacts:", 1), "checks"},
		{"question without facts", strings.Replace(question, "facts:\n  - {name: a, text: b}\n", "", 1), "facts"},
		{"fact two ways", strings.Replace(question, "text: b", "text: b, matches: c", 1), "facts[0]"},
		{"fact no way", strings.Replace(question, ", text: b", "", 1), "facts[0]"},
		{"fact, an expression that is none", strings.Replace(question, "text: b", "matches: '('", 1), "facts[0].matches"},
		{"fact, a tolerance of nothing", strings.Replace(question, "text: b", "text: b, within: 1", 1), "facts[0].within"},
		{"deliverable outside", strings.Replace(question, "facts:", "deliverable: ../x\nfacts:", 1), "deliverable"},
		{"reference answer not there", strings.Replace(question, "facts:", "reference_answer: x.md\nfacts:", 1), "reference_answer"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			_, doc := Parse("/c/t.md", "t.md", []byte(c.text), nil)
			var keys []string
			for _, p := range doc.Problems {
				keys = append(keys, p.Key)
				assert.NotEmpty(t, p.Expected)
			}
			assert.Contains(t, keys, c.key)
		})
	}
}

func TestStages(t *testing.T) {
	files := map[string][]byte{"/c/hidden/a/x_test.go": []byte("x"), "/c/hidden/y_test.go": []byte("y"), "/c/elsewhere/z": []byte("z")}
	one, doc := Parse("/c/t.md", "t.md", with("sealed: {folder: hidden, delete: [old_test.go]}\nrepair_rounds: 2\nfollow_ups:\n  - name: louder\n    brief: And louder.\n  - name: own\n    brief: Last.\n    sealed: {delete: [q]}\n    checks: [{name: two, run: x, reads: tap}]\n"), files)
	require.Empty(t, doc.Problems)
	require.Len(t, one.Stages, 3)
	assert.Equal(t, map[string][]byte{"a/x_test.go": []byte("x"), "y_test.go": []byte("y")}, one.Stages[0].Sealed)
	assert.Equal(t, one.Stages[0].Sealed, one.Stages[1].Sealed, "a follow-up that says nothing has the task's")
	assert.Equal(t, one.Stages[0].Checks, one.Stages[1].Checks)
	assert.Empty(t, one.Stages[2].Sealed)
	assert.Equal(t, []string{"q"}, one.Stages[2].Delete)
	assert.Equal(t, ReadsTAP, one.Stages[2].Checks[0].Reads)
	assert.Equal(t, 2, one.RepairRoundsOr(0))
	other, _ := Parse("/c/t.md", "t.md", one.Source, map[string][]byte{"/c/hidden/a/x_test.go": []byte("changed"), "/c/hidden/y_test.go": []byte("y")})
	assert.NotEqual(t, one.Digest("c"), other.Digest("c"), "sealed files belong to the version")
	q, doc := Parse("/c/q.md", "q.md", []byte(question), nil)
	require.Empty(t, doc.Problems)
	assert.Equal(t, Question, q.Kind)
	assert.Len(t, q.Stages, 1)
}

func TestMatchName(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{{"pkg TestA", "pkg TestA", true}, {"pkg TestA", "pkg TestAB", false}, {"pkg *", "pkg TestA/b c", true}, {"*/leap*", "p T/leap years", true}, {"a.c", "abc", false}, {"*", "", true}, {"a*b*c", "a-b-b-c", true}, {"a*b*c", "a-c-b", false}, {"ab*ba", "aba", false}, {"**x", "x", true}, {"(x)?", "(x)?", true}} {
		assert.Equal(t, c.want, MatchName(c.pattern, c.name), c.pattern)
	}
}

func TestBounds(t *testing.T) {
	var b Bound
	require.NoError(t, b.ParseScalar("0.5 x start"))
	assert.Equal(t, Bound{Factor: 0.5, Of: OfStart, Text: "0.5 x start"}, b)
	for _, bad := range []string{"", "x start", "1 x end", "1e5", "NaN", "1 x start x start"} {
		assert.Error(t, new(Bound).ParseScalar(bad), bad)
	}
	text, err := b.MarshalText()
	require.NoError(t, err)
	var again Bound
	require.NoError(t, again.UnmarshalText(text))
	assert.Equal(t, b, again)
}

func FuzzParseTask(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte(question))
	f.Add(with("sealed: {folder: hidden}\nfollow_ups:\n  - {name: a, brief: b, reference_patch: p}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		files, folders := Names("/c/t.md", data)
		bundle := map[string][]byte{}
		for _, name := range append(files, folders...) {
			bundle[name], bundle[name+"/x_test.go"] = data, data
		}
		one, doc := Parse("/c/t.md", "t.md", data, bundle)
		if len(doc.Problems) == 0 && len(one.Stages) == 0 {
			t.Fatal("a task that is right has a stage")
		}
		one.Digest("c")
	})
}
