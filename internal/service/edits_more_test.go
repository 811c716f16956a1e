package service_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// What a person sets aside counts no more when a bout is judged again, and survives a
// restart of the service.
func TestWhatWasSetAsideHoldsWhenJudgedAgain(t *testing.T) {
	task := strings.Replace(quayTask, "limits:", "measures:\n  at_most: {leftovers: 1}\nlimits:", 1)
	p := newEdits(t, task, nil)
	data := t.TempDir()
	s, c := start(t, data)
	d := finish(t, c, begin(t, c, p))
	bad := only(t, d, "messy")
	require.Equal(t, verdict.EditsBeyond, bad.Verdict.Reason)
	m, err := c.Measures(t.Context(), bad.ID, 0)
	require.NoError(t, err)
	_, err = c.MarkEdit(t.Context(), bad.ID, finding(t, m, "todo").ID, api.MarkEdit{Mark: "aside", Reason: "the office keeps such lists", By: "ina"})
	require.NoError(t, err)
	assert.Equal(t, verdict.EditsBeyond, show(t, c, bad).Verdict.Reason, "a verdict changes only by judging")

	require.NoError(t, s.Close())
	_, c = start(t, data)
	m, err = c.Measures(t.Context(), bad.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, "the office keeps such lists", finding(t, m, "todo").Reason)
	r, err := c.Rejudge(t.Context(), d.ID, api.RejudgeContest{Bundle: *p.bundle()})
	require.NoError(t, err)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Rejudging == r.ID && e.State == "done" })
	again, err := c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, only(t, again, "messy").Verdict.Outcome, "one leftover is allowed, and one is left")
	m, err = c.Measures(t.Context(), bad.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, 1.0, figures(m)["leftovers"])

	// Taken back, it counts once more.
	m, err = c.MarkEdit(t.Context(), bad.ID, finding(t, m, "todo").ID, api.MarkEdit{})
	require.NoError(t, err)
	assert.Equal(t, 2.0, figures(m)["leftovers"])
	assert.Empty(t, finding(t, m, "todo").Mark)
}

// Each round has its measures; a file that was touched and put back is noise of the last.
func TestMeasuresOfEachRound(t *testing.T) {
	p := newQuay(t, "repair_rounds: 1\n", map[string]string{
		"wanders": "contender: wanders\ntitle: Wanders\nrun: [sh, -c, 'echo \"# note\" >> quay.sh; printf \"# TODO\\n\" >> depth.sh']\nrun_again: [sh, -c, '" + strings.ReplaceAll("git checkout -q quay.sh depth.sh; "+solve, "'", "''") + "']\n",
	})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	b := show(t, c, only(t, d, "wanders"))
	require.Len(t, b.RoundList, 2)
	first, err := c.Measures(t.Context(), b.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, 1, first.Round)
	assert.Equal(t, 1.0, figures(first)["leftovers"])
	assert.Zero(t, figures(first)["noise"]-float64(count(first, "comments")), "nothing was put back yet")
	last, err := c.Measures(t.Context(), b.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, 2, last.Round)
	assert.Zero(t, figures(last)["leftovers"])
	assert.Equal(t, "quay.sh", finding(t, last, "undone").Path)
	_, err = c.Measures(t.Context(), b.ID, 3)
	assert.Error(t, err, "there is no third round")
	assert.Equal(t, figures(last)["noise"], b.Edits["noise"], "the bout shows the last")
}

func count(m api.EditMeasures, kind string) int {
	n := 0
	for _, f := range m.Findings {
		if f.Kind == kind {
			n++
		}
	}
	return n
}

// What checks write beside their output is measured with, and what they do not is said.
func TestChecksWriteCoverageAndFindings(t *testing.T) {
	sarif := func(results string) string {
		return `{"version":"2.1.0","runs":[{"tool":{"driver":{"name":"lintel"}},"results":[` + results + `]}]}`
	}
	one := `{"ruleId":"long","message":{"text":"a long line"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"depth.sh"},"region":{"startLine":1}}}]}`
	task := strings.Replace(quayTask, "    reads: tap\n", `    reads: tap
    coverage: out/lcov.info
  - name: style
    run: |
      mkdir -p out
      printf 'TN:\nSF:depth.sh\nDA:1,3\nDA:2,0\nend_of_record\n' > out/lcov.info
      if grep -q -- '- ' depth.sh; then echo '`+sarif(one)+`' > out/style.sarif; else echo '`+sarif("")+`' > out/style.sarif; fi
    findings: out/style.sarif
`, 1)
	p := newEdits(t, task, nil)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	m, err := c.Measures(t.Context(), only(t, d, "tidy").ID, 0)
	require.NoError(t, err)
	v := figures(m)
	assert.Equal(t, 1.0, v["lint_new"])
	f := finding(t, m, "lint")
	assert.Equal(t, []any{"depth.sh", 1, "long", "a long line"}, []any{f.Path, f.Line, f.Text, f.Why})
	_, there := v["covered_share"]
	assert.False(t, there, "the tests' check wrote none")
	assert.Contains(t, strings.Join(m.Notes, "; "), "check tests did not write the file")
}

func TestComparisonsSayWhatTheyCannotDo(t *testing.T) {
	p := newEdits(t, quayTask, nil)
	s, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	good := only(t, d, "tidy").ID
	other := newPort(t, "", map[string]string{"lamp": "echo on > lamp.txt"})
	e := finish(t, c, begin(t, c, other))
	_, err := c.Compare(t.Context(), []string{good, only(t, e, "lamp").ID}, false)
	assert.ErrorContains(t, err, "task", "results of two tasks are nothing to compare")
	_, err = c.Compare(t.Context(), []string{good, "nonsense"}, false)
	assert.Error(t, err)
	assert.NotEmpty(t, s.URL())
}

// Repeats of one contender, bouts without a change, and measures of two versions next to each other.
func TestOddSetsAreCompared(t *testing.T) {
	p := newEdits(t, strings.Replace(quayTask, "reference_patch: reference.patch\n", "", 1), map[string]string{"gone": "contender: gone\ntitle: Gone\nrun: [no-such-program]\n"})
	p.files["contest.yaml"] = strings.Replace(p.files["contest.yaml"], "repeats: 1", "repeats: 2", 1)
	p.write(t)
	data := t.TempDir()
	s, c := start(t, data)
	d := finish(t, c, begin(t, c, p))
	ids := map[string][]string{}
	for _, b := range d.Bouts {
		if b.ReplacedBy == "" {
			ids[b.Contender] = append(ids[b.Contender], b.ID)
		}
	}
	require.Len(t, ids["tidy"], 2)
	require.NotEmpty(t, ids["gone"])
	compared := func(reference bool, which ...string) (api.Comparison, string, []string) {
		t.Helper()
		out, err := c.Compare(t.Context(), which, reference)
		require.NoError(t, err)
		var names []string
		for _, r := range out.Results {
			names = append(names, r.Name)
		}
		return out, strings.Join(out.Notes, "; "), names
	}
	values := func(out api.Comparison, name string) []*float64 {
		for _, f := range out.Figures {
			if f.Name == name {
				return f.Values
			}
		}
		return nil
	}

	out, notes, names := compared(true, ids["tidy"][0], ids["tidy"][1], ids["messy"][0])
	assert.ElementsMatch(t, []string{"tidy #1", "tidy #2", "messy"}, names)
	assert.Contains(t, notes, "the task has no reference patch")
	require.Len(t, values(out, "leftovers"), 3)
	assert.Equal(t, "all", out.Files[0].By)

	out, notes, names = compared(false, ids["messy"][0], ids["gone"][0], ids["messy"][1])
	assert.Contains(t, names, "gone")
	assert.Contains(t, notes, "there are no edit measures of gone ("+ids["gone"][0]+")")
	assert.NotContains(t, notes, "version")
	got := values(out, "leftovers")
	require.Len(t, got, 3, "what is known is compared all the same")
	assert.Equal(t, 2.0, *got[0])
	assert.Nil(t, got[1])
	assert.Empty(t, out.Results[1].Diff)

	_, err := c.MeasureAgain(t.Context(), ids["gone"][0])
	assert.ErrorContains(t, err, "measure")
	_, err = c.MeasureAgain(t.Context(), "01HZZZZZZZZZZZZZZZZZZZZZZZ")
	assert.Error(t, err)
	_, err = c.Measures(t.Context(), ids["tidy"][0], 7)
	assert.Error(t, err, "there is no seventh round")
	m, err := c.Measures(t.Context(), ids["messy"][0], 1)
	require.NoError(t, err)
	for _, long := range []api.MarkEdit{{Mark: "aside", Reason: strings.Repeat("x", 100_000)}, {Mark: "aside", Reason: "x", By: strings.Repeat("x", 10_000)}} {
		_, err = c.MarkEdit(t.Context(), ids["messy"][0], finding(t, m, "todo").ID, long)
		assert.ErrorContains(t, err, "long")
	}

	require.NoError(t, s.Close())
	records, err := store.Open(data, time.Now)
	require.NoError(t, err)
	b, err := records.Bout(t.Context(), ids["messy"][0])
	require.NoError(t, err)
	j := &b.Judgements[len(b.Judgements)-1]
	old, err := records.Measures(&j.Rounds[0])
	require.NoError(t, err)
	old.Version = 1
	text, err := json.Marshal(old)
	require.NoError(t, err)
	j.Rounds[0].Measures, err = records.Put(text)
	require.NoError(t, err)
	require.NoError(t, records.SetRounds(t.Context(), j))
	require.NoError(t, records.Close())
	_, c = start(t, data)
	out, notes, _ = compared(false, ids["messy"][0], ids["messy"][1])
	assert.Contains(t, notes, "different versions")
	assert.Empty(t, out.Figures)
	assert.NotEmpty(t, out.Files, "the changes are next to each other all the same")
}

// That tests pass is held against the checks that tell of tests, that checks pass against all.
func TestClaimsAreHeldAgainstTheChecksThatTheyNameAndNoOthers(t *testing.T) {
	task := strings.Replace(quayTask, "    reads: tap\n", "    reads: tap\n  - name: style\n    run: test ! -e run.log\n", 1)
	claims := func(said string) string {
		return "contender: NAME\ntitle: A tool\nanswer_file: .closing\nrun: [sh, -c, '" + strings.ReplaceAll(tidy+"; echo x > run.log; echo '"+said+"' > .closing", "'", "''") + "']\n"
	}
	p := newEdits(t, task, map[string]string{"dunlin": strings.Replace(claims("All tests pass."), "NAME", "dunlin", 1), "knot": strings.Replace(claims("All tests and all checks pass."), "NAME", "knot", 1)})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	for name, want := range map[string]float64{"dunlin": 0, "knot": 1} {
		m, err := c.Measures(t.Context(), only(t, d, name).ID, 0)
		require.NoError(t, err)
		assert.Equal(t, want, figures(m)["claims_wrong"], name)
	}
}
