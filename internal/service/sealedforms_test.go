package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/verdict"
)

// Most real fixes add rows to tests that exist. Such a test is a goal; guards are what
// passes at the start in the form that decides, and where the sealed tests do not build,
// what the start's own tests say.
func TestChangedTestsAreGoals(t *testing.T) {
	deep := `printf 'package depth\n\nfunc Deep(a int) bool { return a > 9 }\n' > deep.go`
	p := newPort(t, "at_once: 2\n", map[string]string{
		"solves": `sed -i 's/return a /return a - b /' depth.go; sed -i 's/north/north quay/' lamp/lamp.go; ` + deep,
		"half":   `sed -i 's/return a /return a - b /' depth.go; sed -i 's/north/north quay/' lamp/lamp.go`,
		"shape":  `sed -i 's/north/north quay/' lamp/lamp.go; ` + deep,
		"breaks": `sed -i 's/return a /return 0 /' depth.go; sed -i 's/north/north quay/' lamp/lamp.go`,
		"quay":   `sed -i 's/return a /return a - b /' depth.go; ` + deep,
	})
	sh(t, p.dir, `mkdir -p depth/lamp sealed/lamp; cd depth; git init -q -b main .; printf 'module averil.example/depth\n\ngo 1.21\n' > go.mod
		printf 'package depth\n\nfunc Depth(a, b int) int { return a }\n' > depth.go
		printf 'package depth\n\nimport "testing"\n\nfunc TestFits(t *testing.T) {\n\tif Depth(5, 0) != 5 {\n\t\tt.Error("fits")\n\t}\n}\n\nfunc TestRows(t *testing.T) {\n\tfor _, r := range [][3]int{{5, 0, 5}} {\n\t\tif Depth(r[0], r[1]) != r[2] {\n\t\t\tt.Error(r)\n\t\t}\n\t}\n}\n' > depth_test.go
		printf 'package lamp\n\nfunc Name() string { return "north" }\n' > lamp/lamp.go
		printf 'package lamp\n\nimport "testing"\n\nfunc TestName(t *testing.T) {\n\tif Name() == "" {\n\t\tt.Error("name")\n\t}\n}\n\nfunc TestKept(t *testing.T) {}\n' > lamp/lamp_test.go
		git add -A; git commit -qm start
		sed 's/{{5, 0, 5}}/{{5, 0, 5}, {5, 2, 3}}/' depth_test.go > ../sealed/depth_test.go
		printf '\nfunc TestDeep(t *testing.T) {\n\tif !Deep(10) {\n\t\tt.Error("deep")\n\t}\n}\n' >> ../sealed/depth_test.go
		sed 's/Name() == ""/Name() != "north quay"/' lamp/lamp_test.go > ../sealed/lamp/lamp_test.go
		sed 's/return a /return a - b /' -i depth.go; sed -i 's/north/north quay/' lamp/lamp.go; `+deep+`; git add -A; git diff --cached > ../reference.patch; git reset -q --hard`)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "lamp.md")))
	delete(p.files, "lamp.md")
	p.files["depth.md"] = `---
task: depth
title: Depth allows for silt
repository: depth
start_commit: main
prepare: go test -count=1 ./...
sealed: {folder: sealed}
reference_patch: reference.patch
checks:
  - name: tests
    run: go test -json ./...
    reads: go-test-json
limits: {time: 20s, check: 2m}
---
Take the silt off.
`
	for _, name := range []string{"reference.patch", "sealed/depth_test.go", "sealed/lamp/lamp_test.go"} {
		data, err := os.ReadFile(filepath.Join(p.dir, name))
		require.NoError(t, err)
		p.files[name] = string(data)
	}
	p.write(t)
	_, c := start(t, t.TempDir())
	proving := proved(t, c, p, "depth.md", 1)
	assert.Equal(t, 3, proving.Result.Goals, "TestDeep, TestRows and TestName: %+v", proving.Result)
	assert.Equal(t, 2, proving.Result.Guards, "TestFits and TestKept")
	assert.Empty(t, proving.Result.Reasons)
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Passed, only(t, d, "solves").Verdict.Outcome, "%+v", only(t, d, "solves").Verdict)

	half := only(t, d, "half").Verdict
	assert.Equal(t, verdict.GoalsMissed, half.Reason, "%+v", half)
	assert.Contains(t, half.Detail, "the sealed tests do not build")
	assert.Empty(t, half.Broken)
	assert.ElementsMatch(t, []string{"averil.example/depth TestDeep", "averil.example/depth TestRows"}, half.Missed)
	round := lastRound(t, show(t, c, only(t, d, "half")))
	assert.Equal(t, outcome.Guard, testRow(t, round, "averil.example/depth TestFits").Role)
	ways := map[string]bool{}
	for _, check := range round.Checks {
		ways[check.Way] = true
	}
	assert.True(t, ways["own-tests"], "the run that says so is shown")

	shape := only(t, d, "shape").Verdict
	assert.Equal(t, verdict.GoalsMissed, shape.Reason, "%+v", shape)
	assert.Equal(t, []string{"averil.example/depth TestRows"}, shape.Missed)
	breaks := only(t, d, "breaks").Verdict
	assert.Equal(t, verdict.GuardsBroken, breaks.Reason, "%+v", breaks)
	assert.Equal(t, []string{"averil.example/depth TestFits"}, breaks.Broken)
	quay := only(t, d, "quay").Verdict
	assert.Equal(t, []string{"averil.example/depth/lamp TestName"}, quay.Missed)
	assert.Empty(t, quay.Broken)
}

// A check that names a program which is not there says nothing of any result: so says
// proving, and bouts are void. What failed is shown with what it printed.
func TestChecksThatCannotRun(t *testing.T) {
	p := newQuay(t, "", map[string]string{"solves": solve})
	p.files["quay.md"] = strings.Replace(quayTask, "run: sh -n depth.sh", "run: no-such-runner --all", 1)
	p.write(t)
	_, c := start(t, t.TempDir())
	result := proved(t, c, p, "quay.md", 1).Result
	require.NotEmpty(t, result.Reasons)
	assert.Contains(t, result.Reasons[0], "check build cannot run: no such program (")
	assert.Contains(t, result.Reasons[0], "no-such-runner")
	assert.NotContains(t, strings.Join(result.Reasons, "; "), "goal")
	d := finish(t, c, begin(t, c, p))
	v := only(t, d, "solves").Verdict
	assert.Equal(t, verdict.CheckCannotRun, v.Reason, "%+v", v)
	assert.Contains(t, v.Detail, "no-such-runner")

	// Without a reference too; and a program that the reference brings is what is wanted.
	p.files["quay.md"] = strings.NewReplacer("run: sh -n depth.sh", "run: no-such-runner --all", "reference_patch: reference.patch\n", "").Replace(quayTask)
	assert.Contains(t, proved(t, c, p, "quay.md", 1).Result.Reasons[0], "cannot run: no such program")
	sh(t, p.dir, `cd quay; git checkout -q begin; printf '#!/bin/sh\nexit 0\n' > depth-new; chmod +x depth-new; sed -i 's/echo "$1"/echo $(($1 - $2))/' depth.sh; git add -A; git diff --cached > ../reference.patch; git reset -q --hard`)
	patch, err := os.ReadFile(filepath.Join(p.dir, "reference.patch"))
	require.NoError(t, err)
	p.files["reference.patch"] = string(patch)
	p.files["quay.md"] = strings.Replace(quayTask, "run: sh -n depth.sh", "run: ./depth-new", 1)
	brought := proved(t, c, p, "quay.md", 3).Result
	assert.True(t, brought.Proved, "%+v", brought)

	p.files["quay.md"] = strings.Replace(quayTask, "scope:", "prepare: \"for i in 1 2 3; do echo reading chart $i; done; echo no tide >&2; exit 3\"\nscope:", 1)
	proving := proved(t, c, p, "quay.md", 1)
	var prepare api.ProvingStep
	for _, s := range proving.Result.Steps {
		if s.What == "prepare" {
			prepare = s
		}
	}
	assert.Contains(t, prepare.Words, "exit status 3: no tide")
	assert.Equal(t, "reading chart 1\nreading chart 2\nreading chart 3\nno tide", prepare.Output)
	log, err := c.ProvingLog(t.Context(), proving.ID, "prepare")
	require.NoError(t, err)
	assert.Equal(t, "reading chart 1\nreading chart 2\nreading chart 3\nno tide\n", string(log))

	p.files["quay.md"] = strings.Replace(quayTask, "run: sh -n depth.sh", "run: echo the build says why; false", 1)
	failing := proved(t, c, p, "quay.md", 1)
	last := failing.Result.Steps[len(failing.Result.Steps)-1]
	for _, s := range failing.Result.Steps {
		if s.What == "reference" {
			last = s
		}
	}
	assert.Equal(t, "the build says why", last.Output)
}

// What a contender left on another branch, or in a work tree of its own, is no part of its
// change; the verdict says that it is there.
func TestWorkThatWasLeftElsewhere(t *testing.T) {
	p := newPort(t, "", map[string]string{
		"branch":   "git checkout -q -b side; echo on > lamp.txt; git commit -qam lit; git checkout -q main",
		"worktree": "git worktree add -q wt -b other; echo on > wt/lamp.txt; echo '# x' >> lamp.txt",
		"good":     "git checkout -q -b work; echo on > lamp.txt; git commit -qam lit; git pack-refs --all",
		"links":    "rm -rf .git/refs .git/worktrees; ln -s /etc .git/refs; mkdir -p .git/worktrees/x; ln -s /etc/passwd .git/worktrees/x/gitdir; ln -sf /etc/passwd .git/packed-refs; echo on > lamp.txt",
	})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	notes := func(name string) string { return strings.Join(only(t, d, name).Verdict.Notes, "\n") }
	assert.Equal(t, verdict.NoChange, only(t, d, "branch").Verdict.Reason)
	assert.Contains(t, notes("branch"), "commits on the branch side, which is not checked out")
	assert.Contains(t, notes("worktree"), "a work tree of its own at ")
	assert.Equal(t, verdict.Passed, only(t, d, "good").Verdict.Outcome)
	assert.NotContains(t, notes("good"), "elsewhere")
	assert.NotContains(t, notes("links"), "root:")
}

// A branch that was made from a later commit than the start brings the work of others; what
// lies between is said.
func TestABranchFromALaterCommit(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	repo := filepath.Join(p.dir, "repo")
	sh(t, repo, `git checkout -q -b own begin; echo on > lamp.txt; git commit -qam 'The lamp is lit'
		git checkout -q -B trunk begin; echo a > buoy.txt; git add -A; git commit -qm 'A buoy is laid'; echo b > pilot.txt; git add -A; git commit -qm 'A pilot is hired'
		git checkout -q -b late; echo on > lamp.txt; git commit -qam lit; git tag mine`)
	bundle := p.bundle()
	bundle.Main = filepath.Join(p.dir, "lamp.md")
	notes := func(branch string) string {
		b, err := c.ImportBout(t.Context(), api.ImportBout{Bundle: bundle, Contender: "dunlin", Branch: branch, From: repo})
		require.NoError(t, err)
		until(t, c, api.ContestDetail{Contest: api.Contest{ID: b.ContestID}}, func(e api.FeedEvent) bool { return e.BoutID == b.ID && e.State == "done" })
		got := show(t, c, b)
		assert.Equal(t, verdict.Passed, got.Verdict.Outcome)
		return strings.Join(got.Verdict.Notes, "\n")
	}
	assert.NotContains(t, notes("own"), "later commit")
	late := notes("late")
	assert.Contains(t, late, "made from a later commit: between the start and its own work lie 2 commits")
	assert.Contains(t, late, "A pilot is hired")
	assert.Contains(t, late, "A buoy is laid")
}
