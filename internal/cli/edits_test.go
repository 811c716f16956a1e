package cli

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
)

func TestEditMeasuresOnTheCommandLine(t *testing.T) {
	_, contest := setUp(t)
	var bouts []api.Bout
	require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "list", "--contest", contest.Name, "--format", "json")), &bouts))
	var ids []string
	for _, b := range bouts {
		if b.Footprint != nil && b.Footprint.Files > 0 {
			ids = append(ids, b.ID)
		}
	}
	require.NotEmpty(t, ids)
	out := must(t, "bout", "measures", ids[0])
	for _, want := range []string{"footprint", "leftovers", "found 0", "docs", "touched yes"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "misses")
	assert.Contains(t, must(t, "bout", "measures", ids[0], "--misses"), "            misses copies with lines put in between")
	assert.Contains(t, must(t, "bout", "show", ids[0]), "bout measures")
	var m api.EditMeasures
	require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "measures", ids[0], "--format", "json")), &m))
	assert.Equal(t, ids[0], m.BoutID)
	assert.Equal(t, m.Current, m.Version)
	lines := strings.Split(strings.TrimSpace(must(t, "bout", "measures", ids[0], "--format", "csv")), "\n")
	assert.Len(t, lines, 1+len(m.Figures))
	assert.Contains(t, must(t, "bout", "measures", ids[0], "--again"), "footprint")

	code, out, said := run(t, "contest", "remeasure", contest.Name)
	assert.Zero(t, code)
	assert.Contains(t, out, "Contender", "the standings as they are then")
	assert.Contains(t, said, "1 of ")
	code, _, said = run(t, "contest", "remeasure", "nowhere")
	assert.NotZero(t, code)
	assert.NotEmpty(t, said)

	// Where a figure comes from, with the lines.
	shown := must(t, "bout", "measures", ids[0], "--where", "lines_added")
	assert.Regexp(t, `^lines_added: \d+ \(lines added\)\n\S+:\d+`, shown)
	assert.Regexp(t, `(?m)^\+\S`, shown)
	assert.NotRegexp(t, `(?m)^-`, shown, "what was removed is another figure")
	var f api.EditFigure
	require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "measures", ids[0], "--where", "lines_added", "--format", "json")), &f))
	require.NotEmpty(t, f.Where)
	assert.Equal(t, "lines_added", f.Name)
	assert.Contains(t, must(t, "bout", "measures", ids[0], "--where", "lines_added", "--format", "csv"), "after,"+f.Where[0].Path+",")
	assert.Contains(t, must(t, "bout", "measures", ids[0], "--where", "losses"), "There are no places to show.")
	code, _, errs := run(t, "bout", "measures", ids[0], "--where", "beauty")
	assert.NotZero(t, code)
	assert.Contains(t, errs, `there is no figure "beauty"; there are files`)

	code, _, errs = run(t, "bout", "finding", ids[0], "0123456789ab", "aside")
	assert.NotZero(t, code)
	assert.NotEmpty(t, errs)
	code, _, errs = run(t, "bout", "finding", ids[0], "0123456789ab", "splendid", "--because", "x")
	assert.NotZero(t, code)
	assert.NotEmpty(t, errs)

	standings := must(t, "contest", "standings", contest.Name, "--columns", "edits")
	assert.Contains(t, standings, "Leftovers")
	standings = must(t, "contest", "standings", contest.Name, "--columns", "noise,files")
	assert.Contains(t, standings, "Noise")
	assert.NotContains(t, standings, "Leftovers")
	code, _, errs = run(t, "contest", "standings", contest.Name, "--columns", "beauty")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "beauty")

	if len(ids) > 1 {
		out = must(t, "bout", "compare", ids[0], ids[1], "--diff")
		assert.Contains(t, out, "Files")
		var c api.Comparison
		require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "compare", ids[0], ids[1], "--format", "json")), &c))
		assert.Len(t, c.Results, 2)
		code, _, errs = run(t, "bout", "diff", ids[0], ids[1])
		assert.NotZero(t, code)
		assert.Contains(t, errs, "bout compare")
	}
	code, _, errs = run(t, "bout", "compare", ids[0], ids[0])
	assert.NotZero(t, code)
	assert.NotEmpty(t, errs)
}

// Measuring would disturb the times of bouts that run.
func TestNothingIsMeasuredAnewBesideAContest(t *testing.T) {
	dir, contest := setUp(t)
	write(t, dir, map[string]string{
		"slow.yaml": "contender: slow\ntitle: Slow\nrun: [sleep, \"600\"]\n",
		"long.yaml": "contest: tide\ntasks: [t.md]\ncontenders: [slow.yaml]\n",
	})
	must(t, "contest", "start", filepath.Join(dir, "long.yaml"), "--yes")
	code, out, said := run(t, "contest", "remeasure", contest.Name)
	assert.NotZero(t, code)
	assert.Empty(t, out)
	assert.Regexp(t, `the contest tide is (running|waiting), and measuring beside it would disturb its times: wait until it has ended \(agonometer contest watch \S+\)`, said)
	must(t, "contest", "stop", "tide")
	must(t, "contest", "watch", "tide")
	assert.Contains(t, must(t, "contest", "remeasure", contest.Name), "Contender")
}
