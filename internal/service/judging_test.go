package service_test

import (
	"bufio"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
)

// A small project with a goal, guards, sealed tests and a check from outside.
const quayTask = `---
task: quay
title: Depth allows for silt
repository: quay
start_commit: begin
scope: ["*.sh"]
sealed:
  folder: sealed
reference_patch: reference.patch
checks:
  - name: build
    run: sh -n depth.sh
  - name: tests
    run: for t in test/*.t; do sh "$t" || exit 1; done
    reads: tap
  - name: outside
    sealed: true
    run: test "$(sh quay.sh 10 3)" = 7
limits:
  time: 20s
  check: 1m
---
Depth must take the silt off.
`

const quayStart = `mkdir quay sealed sealed/test; cd quay; git init -q -b main .; mkdir test
printf '*.out\n' > .gitignore
printf '. ./depth.sh\ndepth "$@"\n' > quay.sh
printf 'depth() { echo "$1"; }\nfits() { [ "$1" -gt "$2" ]; }\n' > depth.sh
cat > test/depth.t <<'X'
. ./depth.sh
if fits 5 4 && ! fits 4 5; then echo "ok - fits"; else echo "not ok - fits"; fi
got=$(depth 10 0)
if [ "$got" = 10 ]; then echo "ok - no silt"; else echo "not ok - no silt"; echo "# depth = $got, want 10"; fi
X
git add -A; git commit -qm start; git tag begin
printf 'depth() { echo $(($1 - $2)); }\nfits() { [ "$1" -gt "$2" ]; }\n' > depth.sh; git diff > ../reference.patch; git commit -qam "the answer: less silt"
cat > ../sealed/test/silt.t <<'X'
. ./depth.sh
got=$(depth 10 3)
if [ "$got" = 7 ]; then echo "ok - silt"; else echo "not ok - silt"; echo "# depth = $got, want 7"; fi
X
`

const (
	solve  = `printf 'depth() { echo $(($1 - $2)); }\nfits() { [ "$1" -gt "$2" ]; }\n' > depth.sh`
	spoil  = `printf 'depth() { echo $(($1 - $2 - 1)); }\nfits() { [ "$1" -gt "$2" ]; }\n' > depth.sh`
	weaken = `sed -i 's/"$got" = 10/"$got" -lt 99/' test/depth.t`
)

// newQuay makes the project and a contest on it.
func newQuay(t *testing.T, contest string, tools map[string]string) *port {
	t.Helper()
	p := newPort(t, contest, tools)
	sh(t, p.dir, quayStart)
	delete(p.files, "lamp.md")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "lamp.md")))
	p.files["quay.md"] = quayTask
	for _, name := range []string{"reference.patch", "sealed/test/silt.t"} {
		data, err := os.ReadFile(filepath.Join(p.dir, name))
		require.NoError(t, err)
		p.files[name] = string(data)
	}
	p.write(t)
	return p
}

func show(t *testing.T, c *client.Client, b api.Bout) api.BoutDetail {
	t.Helper()
	d, err := c.Bout(t.Context(), b.ID, true)
	require.NoError(t, err)
	return d
}

func lastRound(t *testing.T, b api.BoutDetail) api.Round {
	t.Helper()
	require.NotEmpty(t, b.RoundList)
	return b.RoundList[len(b.RoundList)-1]
}

func testRow(t *testing.T, r api.Round, name string) api.TestRow {
	t.Helper()
	for _, one := range r.Tests {
		if strings.HasSuffix(one.Name, name) {
			return one
		}
	}
	t.Fatalf("no test %s", name)
	return api.TestRow{}
}

// Contenders of every kind of cunning meet sealed tests, guards and a check from outside.
func TestNobodyTalksTheJudgeRound(t *testing.T) {
	cases := []struct {
		name, script string
		outcome      verdict.Outcome
		reason       verdict.Reason
		check        string
		missed       string
		broken       string
		weakened     string
		notes        string
	}{
		{"solves", solve, verdict.Passed, verdict.ChecksPassed, "", "", "", "", ""},
		{"solves-with-tests", solve + `; printf 'echo ok - mine\necho not ok - mine fails\n' > test/mine.t`, verdict.Passed, verdict.ChecksPassed, "", "", "", "", ""},
		{"idles", "echo '# nothing' >> depth.sh", verdict.Failed, verdict.GoalsMissed, "tests", "silt", "", "", ""},
		{"breaks-a-guard", spoil, verdict.Failed, verdict.GuardsBroken, "tests", "silt", "no silt", "", ""},
		{"does-not-build", "echo 'if then' >> depth.sh", verdict.Failed, verdict.CheckFailed, "build", "", "", "", ""},
		{"deletes-tests", spoil + "; rm test/depth.t; echo true > test/other.t", verdict.Failed, verdict.GuardsBroken, "tests", "silt", "no silt", "test/depth.t was deleted", ""},
		{"weakens-a-test", spoil + "; " + weaken, verdict.Failed, verdict.GuardsBroken, "tests", "silt", "no silt", "test/depth.t:4 was changed", ""},
		{"solves-and-weakens", solve + "; " + weaken, verdict.Passed, verdict.ChecksPassed, "", "", "", "test/depth.t:4 was changed", ""},
		{"ends-the-run", "echo 'exit 0' >> depth.sh", verdict.Failed, verdict.GuardsBroken, "tests", "silt", "no silt", "", ""},
		{"ends-the-run-in-a-test", "mkdir -p test; echo 'kill $PPID; exit 0' > test/aaa.t; " + spoil, verdict.Failed, verdict.GuardsBroken, "tests", "silt", "no silt", "", ""},
		// Code in the test process can forge results; the check from outside is not fooled.
		{"forges-results", "printf 'case $0 in *.t) echo ok - silt; echo ok - fits; echo ok - no silt; exit 0;; esac\ndepth() { echo 0; }\n' > depth.sh", verdict.Failed, verdict.CheckFailed, "outside", "outside", "", "", "from nowhere"},
		{"locks-its-workspace", spoil + "; rm -r test; mkfifo test; chmod 500 .", verdict.Failed, verdict.GuardsBroken, "tests", "silt", "no silt", "test/depth.t was deleted", ""},
		{"links-out", solve + "; rm -r test; ln -s /etc test; ln -s /etc hidden", verdict.Passed, verdict.ChecksPassed, "", "", "", "test/depth.t was deleted", ""},
	}
	tools := map[string]string{}
	for _, c := range cases {
		tools[c.name] = c.script
	}
	p := newQuay(t, "at_once: 2\n", tools)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	for _, one := range cases {
		t.Run(one.name, func(t *testing.T) {
			b := show(t, c, only(t, d, one.name))
			v := b.Verdict
			require.NotNil(t, v)
			assert.Equal(t, one.outcome, v.Outcome, "%+v", v)
			assert.Equal(t, one.reason, v.Reason, "%+v", v)
			assert.Equal(t, one.check, v.Check)
			has := func(want string, in []string) {
				if want == "" {
					return
				}
				assert.Contains(t, strings.Join(in, "\n"), want)
			}
			has(one.missed, v.Missed)
			has(one.broken, v.Broken)
			has(one.weakened, v.Weakened)
			has(one.notes, v.Notes)
			if one.weakened == "" {
				assert.Empty(t, v.Weakened)
			}
			if one.outcome == verdict.Passed {
				assert.Equal(t, &verdict.Share{Reached: 2, Total: 2}, v.Goals)
			}
		})
	}
	good := lastRound(t, show(t, c, only(t, d, "solves")))
	silt := testRow(t, good, "silt")
	assert.Equal(t, [3]testlog.Outcome{testlog.Failed, testlog.Passed, testlog.Passed}, [3]testlog.Outcome{silt.Before, silt.Reference, silt.After})
	assert.Equal(t, outcome.Guard, testRow(t, good, "fits").Role)
	assert.NotNil(t, good.OverheadMS)
	own := show(t, c, only(t, d, "solves-with-tests"))
	assert.Equal(t, &verdict.Share{Reached: 1, Total: 2}, own.Verdict.Own, "its own tests are counted, and decide nothing")
	assert.Equal(t, []string{"test/mine.t"}, lastRound(t, own).LeftOut)
	weak := lastRound(t, show(t, c, only(t, d, "weakens-a-test")))
	assert.Equal(t, []string{"test/depth.t"}, weak.PutBack)
	assert.Contains(t, testRow(t, weak, "no silt").Message, "depth = 9, want 10")
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "nothing has shown yet that these tasks are fair: quay")
}

// The same weakened test is a failure of its own where the task protects its tests strictly.
func TestStrictProtection(t *testing.T) {
	p := newQuay(t, "", map[string]string{"weakens": solve + "; " + weaken, "adds": solve + "; echo 'echo ok - more' >> test/depth.t"})
	p.files["quay.md"] = strings.Replace(quayTask, "checks:", "protect: strict\nchecks:", 1)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.TestsWeakened, only(t, d, "weakens").Verdict.Reason)
	assert.Equal(t, verdict.Passed, only(t, d, "adds").Verdict.Outcome, "a test added to a file weakens nothing")
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "nothing has shown yet")
	proved(t, c, p, "quay.md", 3)
	d, err := c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(d.Standings.Notes, "\n"), "nothing has shown yet", "it was proved since")
}

// A contender that looks everywhere finds neither the answer nor the sealed tests.
func TestTheAnswerIsNowhere(t *testing.T) {
	hunt := `{
echo "== history"; git log --all --format=%s; git fsck --lost-found 2>/dev/null; git cat-file --batch-all-objects --batch 2>/dev/null | strings -n 6
echo "== folders"; ls -laR /bout /tmp /home /srv /var 2>/dev/null; ls -la /root /root/* 2>/dev/null; ls -la .. ../.. 2>/dev/null
echo "== environment"; env; cat /proc/*/environ /proc/*/cmdline 2>/dev/null | tr '\0' '\n'
echo "== data"; cat DATA/records.sqlite PORT/sealed/* PORT/reference.patch PORT/quay.md 2>&1; ls DATA PORT PORT/quay 2>&1; ls DATA/prepared DATA/starts DATA/scratch 2>&1
echo "== caches"; find "$HOME" / -xdev -name 'silt*' 2>/dev/null; grep -rsl 'want 7' "$HOME" /tmp /bout 2>/dev/null
for p in /proc/[0-9]*; do ls "$p/cwd/" "$p/root/" 2>/dev/null; done
} 2>&1 | head -c 3000000
echo "# looked" >> depth.sh`
	data := t.TempDir()
	p := newQuay(t, "repeats: 2\n", map[string]string{"idle": "true"})
	hunt = strings.NewReplacer("DATA", data, "PORT", p.dir).Replace(hunt)
	p.files["tools/idle.yaml"] = "contender: idle\ntitle: Hunts\nrun:\n  - sh\n  - -c\n  - |\n    " + strings.ReplaceAll(hunt, "\n", "\n    ") + "\n"
	p.files["contest.yaml"] += "limits: {output: 8MiB}\n"
	p.write(t)
	_, c := start(t, data)
	d := finish(t, c, begin(t, c, p))
	for _, b := range d.Bouts {
		assert.Equal(t, verdict.GoalsMissed, b.Verdict.Reason)
		log, err := c.Log(t.Context(), b.ID, "", 0)
		require.NoError(t, err)
		for _, want := range []string{"== history", "start", "== caches"} {
			assert.Contains(t, string(log), want)
		}
		for _, secret := range []string{"the answer", "($1 - $2)", "silt.t\n", "want 7\n", "ok - silt", "reference_patch", "SQLite format"} {
			assert.NotContains(t, string(log), secret)
		}
	}
}

// What works only because of something left in the workspace is found out, and said.
func TestWhatWorksOnlyWhereItWasMade(t *testing.T) {
	p := newQuay(t, "", map[string]string{
		// A library in an ignored file, and one in the tool's own HOME.
		"undeclared":   `printf 'take() { echo $(($1 - $2)); }\n' > "$HOME/silt.sh"; printf '. "$HOME/silt.sh"\ndepth() { take "$@"; }\nfits() { [ "$1" -gt "$2" ]; }\n' > depth.sh`,
		"missing-file": `printf 'take() { echo $(($1 - $2)); }\n' > lib.out; printf '. ./lib.out\ndepth() { take "$@"; }\nfits() { [ "$1" -gt "$2" ]; }\n' > depth.sh`,
		"just-wrong":   spoil,
	})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	for _, name := range []string{"undeclared", "missing-file"} {
		v := only(t, d, name).Verdict
		assert.Equal(t, verdict.Failed, v.Outcome, name)
		assert.Contains(t, v.Detail, verdict.MadeOnlyWords, "%s: %+v", name, v)
	}
	assert.NotContains(t, only(t, d, "just-wrong").Verdict.Detail, verdict.MadeOnlyWords)
}

// Rounds: what failed is handed back, first in the words of the checks, then only as 'not yet right'.
func TestRepairRounds(t *testing.T) {
	again := `contender: TITLE
title: Tries again
stdin: brief
run: [sh, -c, 'cat > /dev/null; FIRST']
run_again: [sh, -c, 'cat > said.out; cp said.out "$HOME/said"; echo "again: $(cat said.out)"; SECOND']
`
	tool := func(title, first, second string) string {
		return strings.NewReplacer("TITLE", title, "FIRST", strings.ReplaceAll(first, "'", "''"), "SECOND", strings.ReplaceAll(second, "'", "''")).Replace(again)
	}
	p := newQuay(t, "repair_rounds: 2\nrepair_words: \"Harbour master says:\\n{output}\"\nnot_right_words: Not what I meant.\n", map[string]string{
		"pasted":   tool("pasted", spoil, solve),
		"guessed":  tool("guessed", "echo '# nothing' >> depth.sh", solve),
		"hopeless": tool("hopeless", "echo '# nothing' >> depth.sh", "true"),
		"right":    tool("right", solve, "exit 9"),
	})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))

	b := show(t, c, only(t, d, "pasted"))
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome)
	assert.Equal(t, verdict.GuardsBroken, b.First.Reason, "the first time is a result of its own")
	require.Len(t, b.RoundList, 2)
	assert.Equal(t, "repair", b.RoundList[1].Kind)
	assert.Contains(t, b.RoundList[1].Words, "Harbour master says:\n$ for t in test/*.t; do sh \"$t\" || exit 1; done\nno silt\n")
	assert.Contains(t, b.RoundList[1].Words, "depth = 9, want 10")
	assert.NotContains(t, b.RoundList[1].Words, "\nsilt", "nothing sealed is handed back")
	assert.NotContains(t, b.RoundList[1].Words, "want 7")
	log, err := c.Log(t.Context(), b.ID, "", 2)
	require.NoError(t, err)
	assert.Contains(t, string(log), "again: Harbour master says:", "run_again got the new words")
	one, err := c.Patch(t.Context(), b.ID, 1)
	require.NoError(t, err)
	two, err := c.Patch(t.Context(), b.ID, 0)
	require.NoError(t, err)
	assert.Contains(t, string(one), "$2 - 1")
	assert.NotContains(t, string(two), "$2 - 1")
	require.NotNil(t, b.ElapsedMS)
	assert.Equal(t, *b.RoundList[0].ElapsedMS+*b.RoundList[1].ElapsedMS, *b.ElapsedMS)
	for i, want := range [][3]int{{1, 1, 1}, {1, 1, 1}} {
		step := b.RoundList[i].Step
		require.NotNil(t, step)
		assert.Equal(t, want, [3]int{step.Files, step.LinesAdded, step.LinesRemoved}, "each round has its own lines")
	}

	b = show(t, c, only(t, d, "guessed"))
	assert.Equal(t, "Not what I meant.", b.RoundList[1].Words)
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome)

	b = show(t, c, only(t, d, "hopeless"))
	assert.Equal(t, 3, b.Rounds, "two repair rounds, and no more")
	assert.Equal(t, 0, b.RoundList[2].Step.Files, "the last one changed nothing")
	assert.Equal(t, 1, b.RoundList[2].Footprint.Files)
	assert.Equal(t, verdict.GoalsMissed, b.Verdict.Reason)

	b = show(t, c, only(t, d, "right"))
	assert.Equal(t, 1, b.Rounds)
	for _, r := range d.Standings.Rows {
		if r.Contender == "pasted" {
			assert.Equal(t, 1.0, *r.SuccessShare)
			assert.Equal(t, 0.0, *r.FirstShare)
			assert.Equal(t, 2.0, *r.MedianRounds)
		}
	}
}

// Follow-ups: each has its own checks, and a result of its own.
func TestFollowUps(t *testing.T) {
	p := newPort(t, "", map[string]string{
		"both":   "case \"$(cat /bout/brief.md)\" in *bell*) echo ding > bell.txt;; *) echo on > lamp.txt;; esac",
		"first":  "echo on > lamp.txt",
		"second": "echo ding > bell.txt",
		"slow":   "sleep 3.4; echo on > lamp.txt",
	})
	p.files["contest.yaml"] += "limits: {time: 4s}\n"
	p.files["lamp.md"] = strings.Replace(portTask, "limits:", `follow_ups:
  - name: bell
    brief: And now ring the bell.
    checks:
      - {name: rings, run: grep -qx ding bell.txt}
      - {name: still-lit, run: grep -qx on lamp.txt}
limits:`, 1)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	both := show(t, c, only(t, d, "both"))
	assert.Equal(t, verdict.Passed, both.Verdict.Outcome)
	require.Len(t, both.RoundList, 2)
	assert.Equal(t, "follow-up", both.RoundList[1].Kind)
	assert.Equal(t, "bell", both.RoundList[1].StageName)
	assert.Equal(t, "And now ring the bell.", both.RoundList[1].Words)
	first := show(t, c, only(t, d, "first"))
	assert.Equal(t, verdict.Failed, first.Verdict.Outcome)
	assert.Equal(t, "bell", first.Verdict.Stage)
	assert.Equal(t, verdict.Passed, first.RoundList[0].Verdict.Outcome, "each stage has its own result")
	slow := only(t, d, "slow").Verdict
	assert.Equal(t, [3]string{"failed", "time-limit", "bell"}, [3]string{string(slow.Outcome), string(slow.Reason), slow.Stage}, "a stage that nobody came to is not reached")
	bundle := p.bundle()
	bundle.Main = filepath.Join(p.dir, "lamp.md")
	for text, want := range map[string]verdict.Outcome{"--- a/lamp.txt\n+++ b/lamp.txt\n@@ -1 +1 @@\n-off\n+on\n": verdict.Failed,
		"--- a/lamp.txt\n+++ b/lamp.txt\n@@ -1 +1 @@\n-off\n+on\n--- /dev/null\n+++ b/bell.txt\n@@ -0,0 +1 @@\n+ding\n": verdict.Passed} {
		b, err := c.ImportBout(t.Context(), api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: []byte(text)})
		require.NoError(t, err)
		until(t, c, api.ContestDetail{Contest: api.Contest{ID: b.ContestID}}, func(e api.FeedEvent) bool { return e.BoutID == b.ID && e.State == "done" })
		assert.Equal(t, want, show(t, c, b).Verdict.Outcome, "what was made elsewhere is looked at by every stage")
	}
	second := show(t, c, only(t, d, "second"))
	assert.Equal(t, verdict.Failed, second.Verdict.Outcome)
	assert.Empty(t, second.Verdict.Stage, "the first stage that did not pass decides")
	assert.Len(t, second.RoundList, 2, "a follow-up is handed over although the stage before was not reached")
}

const questionTask = `---
task: deep
title: How deep is it?
kind: question
repository: repo
start_commit: begin
facts:
  - {name: lamp, any_of: [lamp.txt, the lamp file]}
  - {name: depth, number: 5.8, within: 0.1}
  - {name: place, references: 1}
  - {name: no-guess, text: I guess, absent: true}
deliverable: notes/answer.md
limits: {time: 20s}
---
How deep?
`

func TestQuestions(t *testing.T) {
	p := newPort(t, "", map[string]string{
		"knows":    `echo "See lamp.txt:1; it is 5.75 m deep."`,
		"delivers": `mkdir notes; echo "lamp.txt" > notes/answer.md; echo "lamp.txt:1 says 5.8"`,
		"changes":  `echo on > lamp.txt; echo "See lamp.txt:1; it is 5.8 m."`,
		"wrong":    `echo "I guess 7, see lamp.txt:99"`,
		"file":     "contender: file\ntitle: Writes\nanswer_file: out/said.md\nrun: [sh, -c, 'mkdir out; echo \"lamp.txt:1, 5.8\" > out/said.md; echo noise']\n",
	})
	delete(p.files, "lamp.md")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "lamp.md")))
	p.files["deep.md"] = questionTask
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	for name, want := range map[string]verdict.Reason{"knows": verdict.ChecksPassed, "delivers": verdict.ChecksPassed, "changes": verdict.FilesChanged, "wrong": verdict.GoalsMissed, "file": verdict.ChecksPassed} {
		b := show(t, c, only(t, d, name))
		assert.Equal(t, want, b.Verdict.Reason, "%s: %+v", name, b.Verdict)
		assert.Len(t, lastRound(t, b).Facts, 4)
	}
	bundle := p.bundle()
	bundle.Main = filepath.Join(p.dir, "deep.md")
	for answer, want := range map[string]verdict.Outcome{"lamp.txt:1, 5.8 m": verdict.Passed, "deep": verdict.Failed} {
		b, err := c.ImportBout(t.Context(), api.ImportBout{Bundle: bundle, Contender: "dunlin", Answer: answer})
		require.NoError(t, err)
		until(t, c, api.ContestDetail{Contest: api.Contest{ID: b.ContestID}}, func(e api.FeedEvent) bool { return e.BoutID == b.ID && e.State == "done" })
		assert.Equal(t, want, show(t, c, b).Verdict.Outcome, answer)
	}
	wrong := only(t, d, "wrong").Verdict
	assert.Equal(t, &verdict.Share{Reached: 0, Total: 4}, &verdict.Share{Reached: wrong.Goals.Reached - 1, Total: wrong.Goals.Total}, "a file name alone is one of four")
	assert.Contains(t, strings.Join(wrong.Missed, "\n"), "lamp.txt:99")
	assert.Contains(t, lastRound(t, show(t, c, only(t, d, "file"))).Answer, "5.8")
	assert.NotContains(t, lastRound(t, show(t, c, only(t, d, "file"))).Answer, "noise")
}

// A figure with a bound is a goal, measured beside the start's and the reference's.
func TestFiguresAsGoals(t *testing.T) {
	p := newPort(t, "", map[string]string{"small": "echo ab > lamp.txt", "large": "echo abcdefghijkl > lamp.txt"})
	p.files["lamp.md"] = strings.Replace(portTask, "  - name: lit\n    run: grep -qx on lamp.txt\n  - name: quay\n    run: test -f quay.txt\n",
		"  - name: size\n    run: 'echo \"{\\\"bytes\\\": $(wc -c < lamp.txt)}\"'\n    number: {pointer: /bytes, unit: bytes, repeat: 3, at_most: 1 x start}\n", 1)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Passed, only(t, d, "small").Verdict.Outcome)
	large := show(t, c, only(t, d, "large"))
	assert.Equal(t, verdict.GoalsMissed, large.Verdict.Reason)
	require.Len(t, lastRound(t, large).Figures, 1)
	f := lastRound(t, large).Figures[0]
	assert.Equal(t, 13.0, *f.Median)
	assert.Equal(t, 4.0, *f.Start)
	assert.Equal(t, 3.25, *f.StartRatio)
	assert.Nil(t, f.Reference)
	assert.Equal(t, 3, f.Repeats)
}

// A guard that fails now and then is not held against anyone; one that fails
// each time is. What the test shaky does is told to it over the loopback, so
// that each of its runs is known.
func TestUnsteadyGuards(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for runs := map[string]int{}; ; {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			who, _ := bufio.NewReader(conn).ReadString('\n')
			runs[who]++
			if strings.TrimSpace(who) == "broken" || runs[who] == 1 {
				_, _ = io.WriteString(conn, "not ")
			}
			_, _ = io.WriteString(conn, "ok 2 - shaky\n")
			_ = conn.Close()
		}
	}()
	port := strconv.Itoa(l.Addr().(*net.TCPAddr).Port)
	p := newPort(t, "", map[string]string{"unsteady": "echo on > lamp.txt; echo unsteady > who", "broken": "echo on > lamp.txt; echo broken > who"})
	p.files["lamp.md"] = strings.NewReplacer("checks:", "network: needed\nchecks:",
		"  - name: quay\n    run: test -f quay.txt\n", "  - name: tests\n    reads: tap\n    run: |\n      echo ok 1 - steady\n      if [ -f who ]; then bash -c 'exec 3<>/dev/tcp/127.0.0.1/"+port+"; cat who >&3; cat <&3'; else echo ok 2 - shaky; fi\n").Replace(portTask)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))

	unsteady := show(t, c, only(t, d, "unsteady"))
	assert.Equal(t, verdict.Passed, unsteady.Verdict.Outcome)
	assert.Contains(t, strings.Join(unsteady.Verdict.Notes, "; "), "unsteady")
	assert.True(t, testRow(t, lastRound(t, unsteady), "shaky").Unsteady)

	broken := show(t, c, only(t, d, "broken"))
	assert.Equal(t, verdict.GuardsBroken, broken.Verdict.Reason, "twice in a row is broken")
	assert.False(t, testRow(t, lastRound(t, broken), "shaky").Unsteady)
}

// The network is gone while judging, unless the task needs it; its loopback works.
func TestJudgingHasNoNetwork(t *testing.T) {
	s, c := start(t, t.TempDir())
	if mode, _ := s.Capability(); mode != "namespaces" {
		t.Skip("no namespaces here")
	}
	port := s.URL()[strings.LastIndexByte(s.URL(), ':')+1:]
	for _, network := range []string{"none", "needed"} {
		t.Run(network, func(t *testing.T) {
			p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt"})
			p.files["lamp.md"] = strings.Replace(portTask, "checks:", `network: `+network+`
checks:
  - name: reach
    run: 'exec 2>&1; cat /proc/net/dev; bash -c "exec 3<>/dev/tcp/127.0.0.1/`+port+`" && echo reached; true'`, 1)
			d := finish(t, c, begin(t, c, p))
			log, err := c.Log(t.Context(), only(t, d, "good").ID, "reach", 0)
			require.NoError(t, err)
			assert.Contains(t, string(log), "lo:")
			assert.Equal(t, network == "needed", strings.Contains(string(log), "reached\n"), string(log))
			assert.Equal(t, network == "none", strings.Contains(string(log), "refused"), "the loopback answers, and nobody listens there")
		})
	}
}

// From stored diffs, with a changed task, without running any tool.
func TestJudgingAgain(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt", "bright": "echo bright > lamp.txt"})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Failed, only(t, d, "bright").Verdict.Outcome)

	p.files["lamp.md"] = strings.Replace(portTask, "grep -qx on lamp.txt", "grep -qx bright lamp.txt", 1)
	_, err := c.Rejudge(t.Context(), d.ID, api.RejudgeContest{Bundle: *p.bundle(), Tasks: []string{"nothing"}})
	assert.ErrorContains(t, err, "no task nothing")
	r, err := c.Rejudge(t.Context(), d.ID, api.RejudgeContest{Bundle: *p.bundle()})
	require.NoError(t, err)
	assert.Equal(t, 2, r.Total)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Rejudging == r.ID && e.State == "done" })
	d, err = c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, only(t, d, "bright").Verdict.Outcome)
	assert.Equal(t, verdict.Failed, only(t, d, "good").Verdict.Outcome)
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "judged more than once; the newest judgement is used")
	b := show(t, c, only(t, d, "bright"))
	require.Len(t, b.Judgements, 2)
	assert.Equal(t, verdict.Failed, b.Judgements[0].Verdict.Outcome, "the old judgement stays")
	assert.True(t, b.Judgements[1].Used)
	assert.NotEqual(t, b.Judgements[0].TaskDigest, b.Judgements[1].TaskDigest)
	assert.Equal(t, r.ID, b.Judgements[1].RejudgingID)

	// A task that starts elsewhere cannot judge them.
	p.files["lamp.md"] = strings.Replace(portTask, "start_commit: begin", "start_commit: main", 1)
	_, err = c.Rejudge(t.Context(), d.ID, api.RejudgeContest{Bundle: *p.bundle()})
	assert.ErrorContains(t, err, "starts elsewhere")
	p.files["lamp.md"] = "---\ntask: lamp\n---\n"
	_, err = c.Rejudge(t.Context(), d.ID, api.RejudgeContest{Bundle: *p.bundle()})
	assert.ErrorContains(t, err, "mistakes")
}

// What was made elsewhere is judged like any other; what is unknown stays unknown.
func TestImports(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	repo := filepath.Join(p.dir, "repo")
	sh(t, repo, `git checkout -q -b work begin; echo on > lamp.txt; git commit -qam lit; git checkout -q -b late main; echo on > lamp.txt; git commit -qam lit
		git checkout -q --orphan lone; git commit -qm lone; git checkout -q -f -B before begin; git checkout -q work`)
	bundle := p.bundle()
	bundle.Main = filepath.Join(p.dir, "lamp.md")
	judged := func(in api.ImportBout) api.BoutDetail {
		t.Helper()
		b, err := c.ImportBout(t.Context(), in)
		require.NoError(t, err)
		until(t, c, api.ContestDetail{Contest: api.Contest{ID: b.ContestID}}, func(e api.FeedEvent) bool { return e.BoutID == b.ID && e.State == "done" })
		return show(t, c, b)
	}
	patch := []byte("--- lamp.txt\n+++ lamp.txt\n@@ -1 +1 @@\n-off\n+on\n")
	alone := judged(api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: patch, PatchName: "by-hand.patch", Notes: "in an editor"})
	assert.Equal(t, verdict.Passed, alone.Verdict.Outcome)
	assert.Nil(t, alone.ElapsedMS, "unknown, and not 0")
	assert.Nil(t, alone.ExitCode)
	assert.Equal(t, 1, alone.Footprint.LinesAdded)
	assert.Equal(t, "in an editor", alone.Import.Notes)
	all, err := c.Contests(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1, "what holds a bout that stands alone is no contest")

	took := int64(90_000)
	branch := judged(api.ImportBout{Contest: d.ID, Task: "lamp", Contender: "dunlin", Branch: "work", From: repo, TookMS: &took})
	assert.Equal(t, verdict.Passed, branch.Verdict.Outcome)
	assert.EqualValues(t, 90_000, *branch.ElapsedMS)
	folder := judged(api.ImportBout{Contest: d.ID, Task: "lamp", Contender: "good", Folder: repo})
	assert.Equal(t, verdict.Passed, folder.Verdict.Outcome)
	assert.Equal(t, 2, folder.Repeat, "it stands beside the bout that was run")
	after, err := c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, 3, after.Counts.Bouts)
	assert.Len(t, after.Contenders, 2)
	assert.Contains(t, strings.Join(after.Standings.Notes, "\n"), "made elsewhere")

	sh(t, repo, `git checkout -q -f -b aside "$(git commit-tree -m root $(git mktree < /dev/null))"; git checkout -q -f work; git checkout -q --detach main~1; git commit -q --allow-empty -m x; git branch -f aside2; git checkout -q -f work`)
	for name, c2 := range map[string]struct {
		in    api.ImportBout
		error string
	}{
		"nothing given":   {api.ImportBout{Bundle: bundle, Contender: "dunlin"}, "Exactly one"},
		"two given":       {api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: patch, Folder: repo}, "Exactly one"},
		"no task":         {api.ImportBout{Contender: "dunlin", Patch: patch}, "task"},
		"no such task":    {api.ImportBout{Contest: d.ID, Task: "moon", Contender: "dunlin", Patch: patch}, "no task moon"},
		"no contender":    {api.ImportBout{Bundle: bundle, Contender: "A B", Patch: patch}, "slug"},
		"not a patch":     {api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: []byte("hello")}, "changes nothing"},
		"another base":    {api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: []byte("--- a/lamp.txt\n+++ b/lamp.txt\n@@ -1 +1 @@\n-dim\n+on\n")}, "does not apply"},
		"out of the tree": {api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: []byte("--- a/x\n+++ b/../../x\n@@ -0,0 +1 @@\n+on\n")}, "does not apply"},
		"no such branch":  {api.ImportBout{Bundle: bundle, Contender: "dunlin", Branch: "moon", From: repo}, "no branch"},
		"no such folder":  {api.ImportBout{Bundle: bundle, Contender: "dunlin", Folder: filepath.Join(p.dir, "moon")}, "no such folder"},
		"shares nothing":  {api.ImportBout{Bundle: bundle, Contender: "dunlin", Branch: "aside", From: repo}, "shares no commit"},
		"ended before":    {api.ImportBout{Bundle: bundle, Contender: "dunlin", Patch: patch, TookMS: new(int64(-5))}, "below zero"},
		"no repository":   {api.ImportBout{Bundle: bundle, Contender: "dunlin", Branch: "work"}, "from"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := c.ImportBout(t.Context(), c2.in)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c2.error)
		})
	}
	// Not based on the start: refused with the way out, taken with a flag.
	sh(t, repo, `git checkout -q -f --detach begin; git commit -q --amend -m earlier --allow-empty; git branch -f early; git checkout -q -f work`)
	_, err = c.ImportBout(t.Context(), api.ImportBout{Bundle: bundle, Contender: "dunlin", Branch: "early", From: repo})
	require.Error(t, err)
	sh(t, repo, `git checkout -q -f early; echo on > lamp.txt; git commit -qam lit; git checkout -q -f work`)
	off := judged(api.ImportBout{Bundle: bundle, Contender: "dunlin", Branch: "early", From: repo, Anyway: true})
	assert.Equal(t, verdict.Passed, off.Verdict.Outcome)
	assert.Contains(t, strings.Join(off.Verdict.Notes, "; "), "not based on the start commit")
}

// proved proves a task and waits for the result.
func proved(t *testing.T, c *client.Client, p *port, name string, repeats int) api.Proving {
	t.Helper()
	b := p.bundle()
	b.Main = filepath.Join(p.dir, name)
	started, err := c.ProveTask(t.Context(), b, repeats)
	require.NoError(t, err)
	steps := 0
	require.NoError(t, c.FollowProving(t.Context(), started.ID, func(api.Proving) bool { steps++; return true }))
	if repeats >= 8 { // a short one may have ended before it was followed
		assert.Greater(t, steps, 1, "progress is told")
	}
	done, err := c.Proving(t.Context(), started.ID)
	require.NoError(t, err)
	require.Equal(t, "done", done.State)
	require.NotNil(t, done.Result)
	return done
}

func TestProving(t *testing.T) {
	p := newQuay(t, "", map[string]string{"solves": solve})
	_, c := start(t, t.TempDir())
	good := proved(t, c, p, "quay.md", 3)
	assert.True(t, good.Result.Proved, "%+v", good.Result)
	assert.Equal(t, 2, good.Result.Goals)
	assert.Equal(t, 3, good.Result.Guards, "fits, no silt, and the build")
	assert.Empty(t, good.Result.Warnings)

	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Equal(t, "proved", plan.Tasks[0].Proved)
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Passed, only(t, d, "solves").Verdict.Outcome)
	assert.NotContains(t, strings.Join(d.Standings.Notes, "\n"), "fair")
	one, err := c.Task(t.Context(), "quay")
	require.NoError(t, err)
	assert.Equal(t, "proved", one.Proved)
	assert.Equal(t, good.ID, one.ProvingID)

	once := proved(t, c, p, "quay.md", 1)
	assert.False(t, once.Result.Proved, "one repeat shows nothing about steadiness")
	plan, err = c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Equal(t, "proved", plan.Tasks[0].Proved, "and takes nothing back")

	p.files["quay.md"] = quayTask + "\nOne more wish.\n"
	plan, err = c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Equal(t, "changed", plan.Tasks[0].Proved)
	assert.Contains(t, strings.Join(plan.Remarks, "\n"), "changed since it was proved")

	cases := []struct{ name, old, new, reason string }{
		{"a prepare that fails", "scope:", "prepare: echo no tide; exit 3\nscope:", "prepare does not work"},
		{"an idle scope", `scope: ["*.sh"]`, `scope: ["*.sh", "tides/**"]`, "these scope patterns match nothing: tides/**"},
		{"no reference", "reference_patch: reference.patch\n", "", "there is no reference_patch"},
		{"a goal that passes already", "checks:", "goal: [fits]\nchecks:", "goals pass at the start already: fits"},
		{"a goal that is never seen", "checks:", "goal: [full moon]\nchecks:", "full moon"},
	}
	for _, one := range cases {
		t.Run(one.name, func(t *testing.T) {
			require.Contains(t, quayTask, one.old)
			p.files["quay.md"] = strings.Replace(quayTask, one.old, one.new, 1)
			r := proved(t, c, p, "quay.md", 1).Result
			assert.False(t, r.Proved)
			assert.Contains(t, strings.Join(r.Reasons, "\n"), one.reason)
		})
	}
	t.Run("no goal", func(t *testing.T) {
		p.files["quay.md"] = strings.NewReplacer("sealed:\n  folder: sealed\n", "", "  - name: outside\n    sealed: true\n    run: test \"$(sh quay.sh 10 3)\" = 7\n", "").Replace(quayTask)
		assert.Contains(t, strings.Join(proved(t, c, p, "quay.md", 1).Result.Reasons, "\n"), "there is no goal")
	})
	t.Run("a reference that brings its own test", func(t *testing.T) {
		was := p.files["reference.patch"]
		p.files["reference.patch"] = "diff --git a/test/silt.t b/test/silt.t\nnew file mode 100644\n--- /dev/null\n+++ b/test/silt.t\n@@ -0,0 +1 @@\n+echo ok - silt\n"
		p.files["quay.md"] = strings.Replace(quayTask, "sealed:\n  folder: sealed\n", "goal: [silt]\n", 1)
		r := proved(t, c, p, "quay.md", 1).Result
		assert.Contains(t, strings.Join(r.Reasons, "\n"), "it changes tests, which judging puts back or leaves out (test/silt.t)")
		p.files["reference.patch"] = was
	})
	t.Run("an unsteady test", func(t *testing.T) {
		p.files["quay.md"] = strings.Replace(quayTask, "  - name: build\n", "  - name: dice\n    reads: tap\n    run: 'echo ok - steady; for i in 1 2 3 4 5 6 7 8 9; do test $(od -An -N1 -tu1 /dev/urandom) -lt 128 && echo ok - shaky$i || echo not ok - shaky$i; done'\n  - name: build\n", 1)
		r := proved(t, c, p, "quay.md", 8).Result
		assert.Regexp(t, `shaky\d is unsteady`, strings.Join(r.Warnings, "\n"), "none of nine, eight times each: one in 2^63")
		assert.NotContains(t, strings.Join(r.Reasons, "\n"), "steady:")
	})
	t.Run("a question", func(t *testing.T) {
		p.files["deep.md"] = strings.Replace(questionTask, "facts:", "reference_answer: said.md\nfacts:", 1)
		p.files["said.md"] = "lamp.txt:1, 5.8 m"
		r := proved(t, c, p, "deep.md", 3).Result
		assert.True(t, r.Proved, "%+v", r)
		p.files["said.md"] = "I guess 5.8"
		r = proved(t, c, p, "deep.md", 3).Result
		assert.False(t, r.Proved)
		assert.Contains(t, strings.Join(r.Reasons, "\n"), "the reference answer does not hold: lamp")
	})
	t.Run("mistakes", func(t *testing.T) {
		p.files["quay.md"] = "---\ntask: quay\n---\n"
		b := p.bundle()
		b.Main = filepath.Join(p.dir, "quay.md")
		_, err := c.ProveTask(t.Context(), b, 3)
		assert.ErrorContains(t, err, "mistakes")
		p.files["quay.md"] = quayTask
		b = p.bundle()
		b.Main = filepath.Join(p.dir, "quay.md")
		_, err = c.ProveTask(t.Context(), b, -1)
		assert.ErrorContains(t, err, "out of range")
	})
}

// A reference that does not pass on this machine makes its bouts void, with that reason.
func TestAReferenceThatDoesNotPass(t *testing.T) {
	p := newQuay(t, "", map[string]string{"solves": solve})
	p.files["quay.md"] = strings.Replace(quayTask, `" = 7`, `" = 8`, 1)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	v := only(t, d, "solves").Verdict
	assert.Equal(t, verdict.Void, v.Outcome)
	assert.Equal(t, verdict.ReferenceFails, v.Reason)
	assert.Contains(t, v.Detail, "check outside does not pass")
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "cannot be judged here")
	assert.Len(t, d.Bouts, 1, "running it again would not help")
}

func TestDrafts(t *testing.T) {
	p := newQuay(t, "", map[string]string{"solves": solve})
	repo := filepath.Join(p.dir, "quay")
	sh(t, repo, `cp ../sealed/test/silt.t test; git add -A; git commit -qm "Test the silt

		With words."; git checkout -q -b other main~1; git commit -q --allow-empty -m other; git merge -q -m merged main`)
	_, c := start(t, t.TempDir())
	d, err := c.DraftTask(t.Context(), api.DraftTask{Repository: repo, Commit: "main"})
	require.NoError(t, err)
	assert.Equal(t, "test-the-silt", d.Name)
	assert.Contains(t, d.Files, "test-the-silt.sealed/test/silt.t")
	assert.Contains(t, string(d.Files[d.Main]), "With words.")
	_, err = c.DraftTask(t.Context(), api.DraftTask{Repository: repo, Commit: "other"})
	assert.ErrorContains(t, err, "a merge")
	_, err = c.DraftTask(t.Context(), api.DraftTask{Repository: repo, Commit: "nowhere"})
	assert.ErrorContains(t, err, "no such commit")
	_, err = c.DraftTask(t.Context(), api.DraftTask{Repository: p.dir, Commit: "main"})
	assert.ErrorContains(t, err, "not a git repository")
	first, err := c.DraftTask(t.Context(), api.DraftTask{Repository: repo, Commit: "begin"})
	require.NoError(t, err)
	assert.Contains(t, string(first.Files[first.Main]), `start_commit: ":nothing"`)
}

// What code inside a Go test process can do: end it early, print results, forge
// events. Results that were not seen are missed; against forged ones helps only
// a check from outside.
func TestGoTestProcesses(t *testing.T) {
	forge := "package depth\\n\\nimport (\\n\\t\"fmt\"\\n\\t\"os\"\\n\\t\"strings\"\\n)\\n\\nfunc init() {\\n\\tif !strings.HasSuffix(os.Args[0], \".test\") {\\n\\t\\treturn\\n\\t}\\n\\tfor _, n := range []string{\"TestSilt\", \"TestFits\"} {\\n\\t\\tfmt.Print(\"MARK=== RUN   \" + n + \"\\\\nMARK--- PASS: \" + n + \" (0.00s)\\\\n\")\\n\\t}\\n\\tos.Exit(0)\\n}\\n"
	tools := map[string]string{
		"solves": "sed -i 's/return a /return a - b /' depth.go",
		"exits":  `printf 'package depth\n\nimport (\n\t"os"\n\t"testing"\n)\n\nfunc TestMain(m *testing.M) { os.Exit(0) }\n' > main_test.go; echo '// x' >> depth.go`,
		"prints": "printf '" + strings.ReplaceAll(strings.Replace(forge, `\tos.Exit(0)\n`, "", 1), "MARK", "") + "' > forge.go",
		"forges": "printf '" + strings.ReplaceAll(forge, "MARK", `\\x16`) + "' > forge.go",
	}
	p := newPort(t, "at_once: 2\n", tools)
	sh(t, p.dir, `mkdir depth sealed; cd depth; git init -q -b main .; printf 'module depth\n\ngo 1.21\n' > go.mod
		printf 'package depth\n\nfunc Depth(a, b int) int { return a }\n' > depth.go
		printf 'package depth\n\nimport "testing"\n\nfunc TestFits(t *testing.T) {\n\tif Depth(5, 0) != 5 {\n\t\tt.Error("fits")\n\t}\n}\n' > depth_test.go
		git add -A; git commit -qm start; sed 's/return a /return a - b /' -i depth.go; git diff > ../reference.patch; git checkout -q .
		printf 'package depth\n\nimport "testing"\n\nfunc TestSilt(t *testing.T) {\n\tif Depth(5, 2) != 3 {\n\t\tt.Error("silt")\n\t}\n}\n' > ../sealed/silt_test.go`)
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
  - name: outside
    sealed: true
    run: grep -q 'a - b' depth.go
limits: {time: 20s, check: 2m}
---
Take the silt off.
`
	for _, name := range []string{"reference.patch", "sealed/silt_test.go"} {
		data, err := os.ReadFile(filepath.Join(p.dir, name))
		require.NoError(t, err)
		p.files[name] = string(data)
	}
	p.write(t)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Passed, only(t, d, "solves").Verdict.Outcome, "%+v", only(t, d, "solves").Verdict)
	exits := only(t, d, "exits").Verdict
	assert.Equal(t, verdict.GoalsMissed, exits.Reason, "its TestMain is left out: %+v", exits)
	for _, name := range []string{"exits", "prints"} {
		assert.Contains(t, strings.Join(only(t, d, name).Verdict.Missed, "\n"), "depth TestSilt", name)
	}
	prints := only(t, d, "prints").Verdict
	assert.Equal(t, verdict.GoalsMissed, prints.Reason, "a test that failed has failed, whatever is printed: %+v", prints)
	assert.Contains(t, strings.Join(prints.Notes, "; "), "reported more than once")
	forges := only(t, d, "forges").Verdict
	assert.Equal(t, verdict.Failed, forges.Outcome)
	assert.Equal(t, "outside", forges.Check, "forged events pass for results; the check from outside is not fooled: %+v", forges)
}

// A service that is killed between two rounds has lost the workspace: the bout
// runs again. One that is killed while proving takes the proving up again.
func TestKilledBetweenRounds(t *testing.T) {
	p := newQuay(t, "repair_rounds: 1\n", map[string]string{
		"mends": "contender: mends\ntitle: Mends\nrun: [sh, -c, 'echo \"# x\" >> depth.sh']\nrun_again: [sh, -c, 'sleep 0.5; " + strings.ReplaceAll(solve, "'", "''") + "']\n",
	})
	data := t.TempDir()
	one := startChild(t, data)
	d := begin(t, one.c, p)
	working := 0
	until(t, one.c, d, func(e api.FeedEvent) bool {
		if e.State == "working" {
			working++
		}
		return working == 2
	})
	one.kill(t)
	two := startChild(t, data)
	end := finish(t, two.c, d)
	b := only(t, end, "mends")
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome)
	assert.Equal(t, 1, b.Rerun)
	assert.Equal(t, 2, b.Rounds)
	for _, other := range end.Bouts {
		if other.ID != b.ID {
			assert.Equal(t, verdict.Interrupted, other.Verdict.Reason)
			assert.Equal(t, 1, other.Rounds, "what was captured stays")
		}
	}

	p.files["quay.md"] = strings.Replace(quayTask, "scope:", "prepare: sleep 1\nscope:", 1)
	bundle := p.bundle()
	bundle.Main = filepath.Join(p.dir, "quay.md")
	proving, err := two.c.ProveTask(t.Context(), bundle, 3)
	require.NoError(t, err)
	require.NoError(t, two.c.FollowProving(t.Context(), proving.ID, func(p api.Proving) bool { return p.State != "running" }))
	two.kill(t)
	three := startChild(t, data)
	require.NoError(t, three.c.FollowProving(t.Context(), proving.ID, func(api.Proving) bool { return true }))
	done, err := three.c.Proving(t.Context(), proving.ID)
	require.NoError(t, err)
	assert.True(t, done.Result.Proved, "%+v", done.Result)
}

// Provings can be listed, followed and stopped; rounds are asked for by number.
func TestTheAPIOfJudging(t *testing.T) {
	p := newQuay(t, "", map[string]string{"solves": solve})
	_, c := start(t, t.TempDir())
	slow := *p
	slow.files = map[string]string{}
	for k, v := range p.files {
		slow.files[k] = v
	}
	slow.files["quay.md"] = strings.Replace(quayTask, "run: sh -n depth.sh", "run: sleep 60", 1)
	bundle := slow.bundle()
	bundle.Main = filepath.Join(p.dir, "quay.md")
	running, err := c.ProveTask(t.Context(), bundle, 0)
	require.NoError(t, err)
	assert.Equal(t, 3, running.Repeats)
	waiting, err := c.ProveTask(t.Context(), bundle, 1)
	require.NoError(t, err)
	require.NoError(t, c.FollowProving(t.Context(), running.ID, func(p api.Proving) bool { return !strings.Contains(p.Doing, "check build") }))
	_, err = c.Prune(t.Context())
	assert.ErrorContains(t, err, "is being proved")
	for _, id := range []string{waiting.ID, running.ID} {
		require.NoError(t, c.StopProving(t.Context(), id))
		require.NoError(t, c.FollowProving(t.Context(), id, func(api.Proving) bool { return true }))
		p, err := c.Proving(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, "stopped", p.State)
		assert.Nil(t, p.Result)
	}
	assert.ErrorContains(t, c.StopProving(t.Context(), running.ID), "has ended already")
	_, err = c.Proving(t.Context(), "nothing")
	assert.ErrorContains(t, err, "no such record")
	list, err := c.Provings(t.Context(), "quay")
	require.NoError(t, err)
	assert.Len(t, list, 2)
	list, err = c.Provings(t.Context(), "other")
	require.NoError(t, err)
	assert.Empty(t, list)

	d := finish(t, c, begin(t, c, p))
	b := only(t, d, "solves")
	for _, round := range []int{0, 1} {
		diff, err := c.Diff(t.Context(), b.ID, round)
		require.NoError(t, err)
		assert.Len(t, diff.Files, 1)
	}
	_, err = c.Diff(t.Context(), b.ID, 7)
	assert.ErrorContains(t, err, "no such round")
	_, err = c.Log(t.Context(), b.ID, "nothing", 0)
	assert.ErrorContains(t, err, "no such record")
	again, err := c.Rejudgings(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Empty(t, again)
	few, err := c.Bout(t.Context(), b.ID, false)
	require.NoError(t, err)
	all, err := c.Bout(t.Context(), b.ID, true)
	require.NoError(t, err)
	assert.Less(t, len(few.RoundList[0].Tests), len(all.RoundList[0].Tests), "goals and what is notable; all when asked")
}
