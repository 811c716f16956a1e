package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/verdict"
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
