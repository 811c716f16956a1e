package contest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/specfile"
)

const (
	worded = "---\ntask: w\ntitle: W\nrepository: r\nstart_commit: main\nchecks: [{name: a, run: x}]\n---\n## wording: long\nPlease.\n## wording: short\nDo.\n"
	byHand = "contender: ruff\ntitle: R\ndrive: hand\n"
)

func loadWords(t *testing.T, more string, files map[string]string) (*Contest, error) {
	t.Helper()
	b := &specfile.Bundle{Main: "/c/c.yaml", Files: map[string][]byte{"/c/c.yaml": []byte("contest: c\ntasks: [\"*.md\"]\ncontenders: [\"t/*.yaml\"]\n" + more)}}
	for name, text := range files {
		b.Files["/c/"+name] = []byte(text)
	}
	return Load(b, nil)
}

func TestWhichWordingsAreUsed(t *testing.T) {
	plain := "---\ntask: p\ntitle: P\nrepository: r\nstart_commit: main\nchecks: [{name: a, run: x}]\n---\nJust so.\n"
	files := map[string]string{"p.md": plain, "w.md": worded, "t/r.yaml": byHand, "t/x.yaml": "contender: x\ntitle: X\nrun: [x]\n"}
	for _, c := range []struct {
		more  string
		items []Item
	}{
		{"", []Item{{"p", "", false}, {"w", "long", false}}},
		{"wordings: [all]\n", []Item{{"p", "", false}, {"w", "long", false}, {"w", "short", true}}},
		{"wordings: [short]\n", []Item{{"p", "", false}, {"w", "short", true}}},
	} {
		loaded, err := loadWords(t, c.more, files)
		require.NoError(t, err)
		assert.Equal(t, c.items, loaded.Items(), c.more)
		assert.Equal(t, 2*len(c.items), loaded.Bouts())
	}
	for more, says := range map[string]string{"wordings: [none]\n": "which no task has", "wordings: [all, short]\n": "all alone", "hourly_rate: 3\n": "an amount and a currency"} {
		_, err := loadWords(t, more, files)
		require.ErrorContains(t, err, says)
	}
	// The first wording's seeds are those of the task without any others.
	first, further := BoutSeed(1, Slot{Task: "w", Wording: "long", Contender: "x", Repeat: 1}), BoutSeed(1, Slot{Task: "w", Wording: "short", Further: true, Contender: "x", Repeat: 1})
	assert.Equal(t, BoutSeed(1, Slot{Task: "w", Contender: "x", Repeat: 1}), first)
	assert.NotEqual(t, first, further)
}

func TestTypingNeedsAPerson(t *testing.T) {
	typing := "---\ntask: y\ntitle: Y\nkind: typing\nrepository: r\nstart_commit: main\nchecks: [{name: a, run: x}]\n---\nType it.\n"
	_, err := loadWords(t, "", map[string]string{"y.md": typing, "t/r.yaml": byHand})
	require.NoError(t, err)
	_, err = loadWords(t, "", map[string]string{"y.md": typing, "t/r.yaml": byHand, "t/x.yaml": "contender: x\ntitle: X\nrun: [x]\n"})
	require.ErrorContains(t, err, "kind typing with x")
	_, err = loadWords(t, "", map[string]string{"w.md": worded, "t/x.yaml": "contender: x\ntitle: X\nrun: [x]\nguidance: {as: A.md}\n"})
	require.ErrorContains(t, err, "no text")
}

func TestDifferences(t *testing.T) {
	all := []GuidedContender{}
	for _, text := range []string{"contender: a\ntitle: A\nrun: [x]\n", "contender: b\ntitle: B\ndrive: acp\nrun: [x]\npermissions: [{kind: edit, answer: refuse}]\neffort: high\n", byHand} {
		c, doc := contender.Parse("/x.yaml", "x.yaml", []byte(text))
		require.Empty(t, doc.Problems)
		all = append(all, GuidedContender{Contender: c, Text: "Be brief"})
	}
	all[2].Text = "Be brief\n"
	got := map[string]Setting{}
	for _, s := range Differences(all) {
		got[s.Name] = s
		assert.Len(t, s.Values, 3, s.Name)
	}
	assert.Equal(t, map[string]string{"a": "no: nobody answers", "b": "yes: answered by rule, some refused", "ruff": "yes: a person answers"}, got["may ask"].Values)
	assert.True(t, got["effort"].Differs)
	assert.False(t, got["guidance"].Differs, "the same words are the same guidance")
	assert.False(t, got["first use"].Differs)
	assert.Contains(t, got["guidance"].Values["a"], "2 words")
}
