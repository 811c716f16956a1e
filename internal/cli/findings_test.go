package cli

import (
	"encoding/csv"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
)

const berthsStart = `package berths

import "errors"

// Draught is how deep a vessel lies, in centimetres.
func Draught(load int) (int, error) {
	if load < 0 {
		return 0, errors.New("no load is below zero")
	}
	return 200 + load/3, nil
}

// Clear tells whether a vessel clears the ground.
func Clear(depth, load int) (bool, error) {
	d, err := Draught(load)
	if err != nil {
		return false, err
	}
	return depth-d >= 30, nil
}

// Table rounds the draughts of a day up to fives and leaves out what no berth takes.
func Table(draughts []int) []int {
	out := []int{}
	for _, d := range draughts {
		if d > 900 {
			continue
		}
		if d%5 != 0 {
			d += 5 - d%5
		}
		if len(out) > 0 && out[len(out)-1] == d {
			continue
		}
		out = append(out, d)
	}
	return out
}
`

// berths makes a repository with a task whose reference widens the margin, and three
// contenders: one does as the reference, one leaves things behind, one makes no text.
func berths(t *testing.T, task string) api.ContestDetail {
	t.Helper()
	world(t)
	dir := t.TempDir()
	good := strings.Replace(berthsStart, ">= 30", ">= 50", 1)
	bad := strings.NewReplacer(">= 30", ">= 50", "d, err := Draught(load)\n\tif err != nil {\n\t\treturn false, err\n\t}\n\treturn", "d, _ := Draught(load)\n\t// TODO: negative loads\n\treturn").Replace(berthsStart)
	bad += "\n// Night prints the draughts of a night.\n" + strings.NewReplacer("Table(draughts", "Night(nightly", "range draughts", "range nightly", "900", "700").Replace(berthsStart[strings.Index(berthsStart, "func Table"):])
	project(t, dir, map[string]string{
		"repo/berths.go": berthsStart, "repo/go.mod": "module berths\n\ngo 1.24\n", "repo/README.md": "# Berths\n",
		"good.go": good, "bad.go": bad,
		"berths.md": "---\ntask: margin\ntitle: A wider margin\nrepository: repo\nstart_commit: HEAD\n" + task + "reference_patch: ref.patch\nchecks:\n  - name: margin\n    run: grep -q '>= 50' berths.go\n---\nThe margin becomes 50 cm.\n",
		"ref.patch": "--- a/berths.go\n+++ b/berths.go\n@@ -19,3 +19,3 @@\n \t}\n-\treturn depth-d >= 30, nil\n+\treturn depth-d >= 50, nil\n }\n",
		"tidy.yaml": "contender: tidy\ntitle: Tidy\nreads: [" + dir + "]\nrun: [cp, " + dir + "/good.go, berths.go]\n",
		"messy.yaml": "contender: messy\ntitle: Messy\nreads: [" + dir + "]\nanswer_file: .said\nrun:\n  - sh\n  - -c\n  - |\n    cp " + dir + "/bad.go berths.go; printf 'x\\n' > \"$(printf 'run\\033[31m.log')\"; rm README.md\n" +
			"    echo 'I updated the margin in berths.go and changed go.mod. All checks pass.' > .said\n",
		"odd.yaml": "contender: odd\ntitle: Odd\nrun: [sh, -c, \"sed -i 's/>= 30/>= 50/' berths.go; printf '\\\\000\\\\001' > lamp.bin; mv README.md READ.md\"]\n",
		"c.yaml":   "contest: berths\ntasks: [berths.md]\ncontenders: [tidy.yaml, messy.yaml, odd.yaml]\nseed: 2\n",
	})
	must(t, "contest", "start", filepath.Join(dir, "c.yaml"), "--yes", "--watch")
	var d api.ContestDetail
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "show", "--format", "json")), &d))
	require.Len(t, d.Bouts, 3)
	return d
}

func boutOf(t *testing.T, d api.ContestDetail, contender string) api.Bout {
	t.Helper()
	for _, b := range d.Bouts {
		if b.Contender == contender {
			return b
		}
	}
	t.Fatalf("%s has no bout", contender)
	return api.Bout{}
}

// What was found is printed with its places and words, can be talked of, and is compared.
func TestFindingsOnTheCommandLine(t *testing.T) {
	d := berths(t, "scope: [berths.go]\nmeasures:\n  off: [docs]\n  at_most: {leftovers: 4}\n")
	tidy, messy, odd := boutOf(t, d, "tidy"), boutOf(t, d, "messy"), boutOf(t, d, "odd")

	clean := must(t, "bout", "measures", tidy.ID)
	for _, want := range []string{"found 0 (at most 4)", "likeness 100%", "reference 1.00 x", "information only: another good solution is not a fault", "Left out by the task: docs."} {
		assert.Contains(t, clean, want)
	}
	out := must(t, "bout", "measures", messy.ID)
	for _, want := range []string{
		`(?m)^    \S{12} +error-handler +berths\.go:\d+ \(before\)  if err != nil \{$`,
		`(?m)^    \S{12} +todo +berths\.go:\d+  // TODO: negative loads$`,
		`(?m)^    \S{12} +file +README\.md`,
		`(?m)^    \S{12} +block +berths\.go:\d+-\d+ .*  = berths\.go:\d+-\d+$`,
		`(?m)^    \S{12} +file-not-changed go\.mod[^\n]*\n +I updated the margin in berths\.go and changed go\.mod\.$`,
	} {
		assert.Regexp(t, want, out)
	}
	assert.NotContains(t, out, "\x1b", "a file's name cannot colour anything")
	assert.Contains(t, out, "run␛[31m.log")

	var m api.EditMeasures
	require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "measures", messy.ID, "--format", "json")), &m))
	id := map[string]string{}
	for _, f := range m.Findings {
		id[f.Kind+" "+f.Path] = f.ID
	}
	todo, stray := id["todo berths.go"], id["file README.md"]
	require.NotEmpty(t, todo)
	require.NotEmpty(t, stray)
	figure := func(name string) string {
		t.Helper()
		rows, err := csv.NewReader(strings.NewReader(must(t, "bout", "measures", messy.ID, "--format", "csv"))).ReadAll()
		require.NoError(t, err)
		for _, row := range rows {
			if row[1] == name {
				return row[2] + "/" + row[4]
			}
		}
		return ""
	}
	was := figure("leftovers")
	assert.Contains(t, was, "/4", "with its bound")

	// A false alarm is set aside with a reason, is not counted, and comes back.
	code, _, errs := run(t, "bout", "finding", messy.ID, todo, "aside")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "reason")
	assert.Contains(t, must(t, "bout", "finding", messy.ID, todo, "aside", "--because", "we write\x07 those", "--by", "the berth master"), "[aside: we write␇ those]")
	assert.NotEqual(t, was, figure("leftovers"))
	assert.Contains(t, must(t, "bout", "measures", messy.ID), "TODO: negative loads  [aside: we write␇ those]")
	assert.NotContains(t, must(t, "bout", "finding", messy.ID, todo, "counts"), "aside")
	assert.Equal(t, was, figure("leftovers"))
	assert.Contains(t, must(t, "bout", "finding", messy.ID, stray, "unwanted"), "[unwanted]")
	code, _, errs = run(t, "bout", "finding", messy.ID, todo, "welcome")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "stray")

	// A list of what changed has renames, binaries and deletions.
	stat := must(t, "bout", "diff", odd.ID, "--stat")
	assert.Regexp(t, `(?m)^renamed +README\.md → READ\.md +0 +0$`, stat)
	assert.Regexp(t, `(?m)^added +lamp\.bin .*binary$`, stat)
	assert.Regexp(t, `(?m)^deleted +README\.md +0 +1$`, must(t, "bout", "diff", messy.ID, "--stat"))
	_, terminal := inTerminal(t, 100, "bout", "diff", messy.ID).wait(t)
	assert.Contains(t, terminal, "+\t// TODO: negative loads")
	assert.NotContains(t, terminal, "\x1b", "nothing that a contender wrote reaches a terminal as it is")

	// A figure leads to its lines, whichever side they are on.
	shown := must(t, "bout", "measures", messy.ID, "--where", "lines_removed")
	assert.Regexp(t, `(?m)^-# Berths$`, shown)
	code, _, errs = run(t, "bout", "measures", messy.ID, "--where", "docs_touched")
	assert.NotZero(t, code)
	assert.NotEmpty(t, errs)

	// Side by side, with the reference.
	side := must(t, "bout", "compare", tidy.ID, messy.ID, odd.ID, "--reference")
	assert.Regexp(t, `(?m)^ +tidy +messy +odd +the reference$`, side)
	assert.Regexp(t, `(?m)^leftovers +differs +0 +2 +0 +–$`, side)
	assert.Regexp(t, `(?m)^berths\.go +all `, side)
	assert.Regexp(t, `(?m)^lamp\.bin +one .*added`, side)
	assert.Regexp(t, `(?m)^README\.md .*deleted`, side)
	diffs := must(t, "bout", "compare", tidy.ID, odd.ID, "--diff")
	assert.Contains(t, diffs, "(binary)")
	assert.Contains(t, diffs, "@@ line ")
	one := must(t, "bout", "compare", tidy.ID, messy.ID, "--file", "berths.go")
	assert.Contains(t, one, "-\treturn depth-d >= 30, nil")
	assert.NotContains(t, one, "-# Berths")
	code, _, errs = run(t, "bout", "compare", tidy.ID, messy.ID, "--file", "tides.go")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "none of the results touches tides.go; without --file all files are listed")
	code, _, errs = run(t, "bout", "compare", tidy.ID, "none-such")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "none-such")

	// The medians for programs have a column for those that passed.
	rows, err := csv.NewReader(strings.NewReader(must(t, "contest", "standings", "berths", "--columns", "leftovers,size_to_reference", "--format", "csv"))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"contender", "leftovers", "leftovers_passed", "size_to_reference", "size_to_reference_passed"}, rows[0])
	assert.Len(t, rows, 4)
}

// A bound that a task sets fails a bout that passed its checks.
func TestABoundOnTheCommandLine(t *testing.T) {
	d := berths(t, "measures:\n  off: [claims, repetition]\n  at_most: {losses: 0}\n")
	assert.Equal(t, "passed", string(boutOf(t, d, "tidy").Verdict.Outcome))
	messy := boutOf(t, d, "messy")
	out := must(t, "bout", "show", messy.ID)
	assert.Regexp(t, `(?m)^Verdict +failed: the change is beyond what the task allows$`, out)
	assert.Regexp(t, `(?m)^Detail +losses 1, at most 0$`, out)
	out = must(t, "bout", "measures", messy.ID)
	assert.Contains(t, out, "found 1 (at most 0)")
	assert.Contains(t, out, "Left out by the task: claims, repetition.")
	for _, measure := range []string{"claims", "repetition"} {
		assert.NotRegexp(t, "(?m)^"+measure, out)
	}
	code, _, errs := run(t, "bout", "measures", messy.ID, "--where", "repeated_lines")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "repetition is left out by the task")
}
