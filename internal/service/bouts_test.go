package service_test

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/verdict"
	"agonometer/internal/service"
)

// Contenders of every kind meet the same task; each gets the verdict that it earned.
func TestVerdicts(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside.txt")
	require.NoError(t, os.WriteFile(outside, []byte("untouched"), 0o666))
	t.Setenv("HARBOUR_KEY", "harbour-key-42")
	t.Setenv("HARBOUR_SECRET", "not-for-tools")
	state := filepath.Join(t.TempDir(), "state")
	require.NoError(t, os.MkdirAll(filepath.Join(state, "sessions"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(state, "signed-in"), []byte("yes"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(state, "sessions", "old"), []byte("memory"), 0o600))

	cases := []struct {
		name, script string
		outcome      verdict.Outcome
		reason       verdict.Reason
		check        string
		logHas       string
		logLacks     string
	}{
		{"good", `echo on > lamp.txt; echo "seen: $(cat /bout/brief.md 2>/dev/null | head -1)"`, verdict.Passed, verdict.ChecksPassed, "", "seen: Write", ""},
		{"idle", "echo nothing to do", verdict.Failed, verdict.NoChange, "", "nothing to do", ""},
		{"crash", "echo oh; exit 3", verdict.Failed, verdict.ToolCrashed, "", "oh", ""},
		{"error-but-right", "echo on > lamp.txt; exit 1", verdict.Passed, verdict.ChecksPassed, "", "", ""},
		{"wrong", "echo dim > lamp.txt", verdict.Failed, verdict.CheckFailed, "lit", "", ""},
		{"breaks-nearby", "echo on > lamp.txt; rm quay.txt", verdict.Failed, verdict.CheckFailed, "quay", "", ""},
		{"ignored-only", "echo x > a.tmp", verdict.Failed, verdict.NoChange, "", "", ""},
		{"commits", "echo on > lamp.txt; git add -A; git commit -qm done; git gc -q", verdict.Passed, verdict.ChecksPassed, "", "", ""},
		{"no-git", "rm -rf .git; echo on > lamp.txt", verdict.Passed, verdict.ChecksPassed, "", "", ""},
		{"daemon", `echo on > lamp.txt; (setsid sh -c 'trap "" TERM; while :; do echo off > lamp.txt; sleep 0.01; done' >/dev/null 2>&1 &) ; echo on > lamp.txt`, "", "", "", "", ""},
		{"spews", "echo on > lamp.txt; echo first; head -c 30000000 /dev/zero | tr '\\0' 'x'; echo; echo last", verdict.Passed, verdict.ChecksPassed, "", "bytes cut", ""},
		{"link-out", "ln -s " + outside + " out; echo changed > out; ln -sf /etc/passwd passwd; echo x >> passwd; echo on > lamp.txt", verdict.Passed, verdict.ChecksPassed, "", "", ""},
		{"snoops", `git log --all --format=%s; env; ls -a "$HOME" "$HOME/state" "$HOME/state/sessions"; cat /bout/../*/later.txt 2>/dev/null; echo on > lamp.txt; echo "$HARBOUR_KEY" > key.txt; true`, verdict.Passed, verdict.ChecksPassed, "", "signed-in", "not-for-tools"},
	}
	tools := map[string]string{}
	for _, c := range cases {
		tools[c.name] = c.script
	}
	tools["snoops"] = "contender: snoops\ntitle: Snoops\nkeep_env: [HARBOUR_KEY]\ncarry:\n  - from: " + state + "\n    except: [\"sessions/**\"]\nrun:\n  - sh\n  - -c\n  - '" + tools["snoops"] + "'\n"
	p := newPort(t, "at_once: 2\nlimits:\n  output: 64KiB\n", tools)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, "done", d.State)
	assert.Equal(t, len(cases), d.Counts.Done)
	for _, tc := range cases {
		t.Run(tc.name, func(t *testing.T) {
			b := only(t, d, tc.name)
			require.NotNil(t, b.Verdict)
			log, err := c.Log(t.Context(), b.ID, "", 0)
			require.NoError(t, err)
			if tc.outcome != "" {
				assert.Equal(t, tc.outcome, b.Verdict.Outcome, "%+v\n%s", b.Verdict, log)
				assert.Equal(t, tc.reason, b.Verdict.Reason)
				assert.Equal(t, tc.check, b.Verdict.Check)
			}
			if tc.logHas != "" {
				assert.Contains(t, string(log), tc.logHas)
			}
			if tc.logLacks != "" {
				assert.NotContains(t, string(log), tc.logLacks)
			}
			require.NotNil(t, b.ElapsedMS)
			assert.Zero(t, b.Rerun)
		})
	}
	note := only(t, d, "error-but-right")
	assert.Equal(t, []string{"the tool ended in error"}, note.Verdict.Notes)
	untouched, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "untouched", string(untouched))

	snoop := only(t, d, "snoops")
	log, err := c.Log(t.Context(), snoop.ID, "", 0)
	require.NoError(t, err)
	assert.NotContains(t, string(log), "later", "no later history")
	assert.NotContains(t, string(log), "old", "what is left out is not carried")
	assert.NotContains(t, string(log), "harbour-key-42")
	diff, err := c.Patch(t.Context(), snoop.ID, 0)
	require.NoError(t, err)
	assert.Contains(t, string(diff), "+**************")
	assert.NotContains(t, string(diff), "harbour-key-42")

	// The judge saw the captured change and nothing of what went on after the tool's end.
	daemon, err := c.Bout(t.Context(), only(t, d, "daemon").ID, true)
	require.NoError(t, err)
	text, err := c.Patch(t.Context(), daemon.ID, 0)
	require.NoError(t, err)
	want := verdict.Failed
	if strings.Contains(string(text), "+on") {
		want = verdict.Passed
	}
	assert.Equal(t, want, daemon.Verdict.Outcome, "the verdict is that of the diff")

	big, err := c.Bout(t.Context(), only(t, d, "spews").ID, false)
	require.NoError(t, err)
	assert.Greater(t, big.LogCut, int64(29_000_000))
	ignored, err := c.Bout(t.Context(), only(t, d, "ignored-only").ID, false)
	require.NoError(t, err)
	assert.Equal(t, 1, ignored.LeftOut.Ignored)

	// Everything was cleared away, and a diff can be applied to the start.
	left, err := filepath.Glob(filepath.Join(filepath.Dir(p.dir), "*", "scratch", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	good, err := c.Patch(t.Context(), only(t, d, "good").ID, 0)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "good.patch"), good, 0o644))
	sh(t, filepath.Join(p.dir, "repo"), "git apply --check ../good.patch")
}

func TestATimeLimitIsAVerdictAndWhatWasReachedIsShown(t *testing.T) {
	p := newPort(t, "at_once: 2\nlimits:\n  time: 1s\n", map[string]string{
		"polite":   `trap 'echo bye; exit 0' TERM; echo on > lamp.txt; while :; do sleep 0.05; done`,
		"too-late": `while :; do sleep 0.05; done`,
	})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	polite := only(t, d, "polite")
	assert.Equal(t, verdict.TimeLimit, polite.Verdict.Reason)
	assert.Equal(t, "what it had reached passes every check", polite.Verdict.Detail)
	assert.True(t, polite.TimedOut)
	log, err := c.Log(t.Context(), polite.ID, "", 0)
	require.NoError(t, err)
	assert.Contains(t, string(log), "bye")
	assert.Equal(t, "nothing was changed until then", only(t, d, "too-late").Verdict.Detail)
	assert.NotZero(t, polite.Beside)
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "ran beside others")
}

func TestFaultsAreRunTwiceAgainAndThenStayVoid(t *testing.T) {
	p := newPort(t, "", map[string]string{"absent": "contender: absent\ntitle: Absent\nrun: [no-such-tool-anywhere]\n"})
	_, c := start(t, t.TempDir())
	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(plan.Remarks, "\n"), "no-such-tool-anywhere is not on the service's PATH")
	d := finish(t, c, begin(t, c, p))
	require.Len(t, d.Bouts, 3)
	for i, b := range d.Bouts {
		assert.Equal(t, i, b.Rerun)
		assert.Equal(t, verdict.CannotStart, b.Verdict.Reason)
		assert.Equal(t, i == 2, b.ReplacedBy == "")
		assert.Nil(t, b.ElapsedMS, "what was not measured is absent")
	}
	assert.Equal(t, 1, d.Counts.Bouts)
	assert.Equal(t, 1, d.Counts.Void)
	assert.Nil(t, d.Standings.Rows[0].SuccessShare)
	assert.Equal(t, 1, d.Standings.Rows[0].Void)
}

func TestPrepareRunsOnceAndItsFailureIsNobodysFault(t *testing.T) {
	p := newPort(t, "repeats: 2\n", map[string]string{"good": `cat "$HOME/warm" && cat made.txt && echo on > lamp.txt`})
	counter := filepath.Join(t.TempDir(), "count")
	require.NoError(t, os.WriteFile(counter, nil, 0o666))
	p.files["lamp.md"] = strings.Replace(portTask, "checks:", "prepare: echo warmth > \"$HOME/warm\"; date +%N > made.txt\nchecks:", 1)
	p.write(t)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	require.Len(t, d.Bouts, 2)
	var made []string
	for _, b := range d.Bouts {
		assert.Equal(t, verdict.Passed, b.Verdict.Outcome)
		log, err := c.Log(t.Context(), b.ID, "", 0)
		require.NoError(t, err)
		made = append(made, string(log))
		assert.NotContains(t, mustPatch(t, c, b.ID), "made.txt", "what prepare made is not the contender's")
	}
	assert.Equal(t, made[0], made[1], "prepare ran once")

	p.files["lamp.md"] = strings.Replace(portTask, "checks:", "prepare: echo no network; exit 4\nchecks:", 1)
	d = finish(t, c, begin(t, c, p))
	last := d.Bouts[len(d.Bouts)-1]
	assert.Equal(t, verdict.PrepareFailed, last.Verdict.Reason)
	assert.Contains(t, last.Verdict.Detail, "no network")
}

func TestStoppingABoutAndAContest(t *testing.T) {
	p := newPort(t, "repeats: 3\n", map[string]string{"slow": "while :; do sleep 0.05; done"})
	_, c := start(t, t.TempDir())
	d := begin(t, c, p)
	first := until(t, c, d, func(e api.FeedEvent) bool { return e.State == "working" })
	require.NoError(t, c.StopBout(t.Context(), first.BoutID))
	until(t, c, d, func(e api.FeedEvent) bool { return e.State == "working" && e.BoutID != first.BoutID })
	b, err := c.Bout(t.Context(), first.BoutID, false)
	require.NoError(t, err)
	assert.Equal(t, verdict.StoppedByPerson, b.Verdict.Reason)
	assert.Empty(t, b.ReplacedBy, "what a person stopped is not run again")
	require.NoError(t, c.StopContest(t.Context(), d.ID))
	d = finish(t, c, d)
	assert.Equal(t, "stopped", d.State)
	assert.Equal(t, 3, d.Counts.Void)
	assert.ErrorContains(t, c.StopContest(t.Context(), d.ID), "has ended already")
	assert.ErrorContains(t, c.StopBout(t.Context(), first.BoutID), "has ended already")
}

func TestContestsRunOneAfterTheOther(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "sleep 0.2; echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	first := begin(t, c, p)
	second := begin(t, c, p)
	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.NotZero(t, plan.ContestsAt)
	second = finish(t, c, second)
	first = finish(t, c, first)
	assert.False(t, second.StartedAt.Before(first.EndedAt.Time))
	assert.Equal(t, int64(1), first.Seed)
	assert.False(t, first.SeedDrawn)
}

func mustPatch(t *testing.T, c *client.Client, id string) string {
	t.Helper()
	text, err := c.Patch(t.Context(), id, 0)
	require.NoError(t, err)
	return string(text)
}

// A contender that is about to lose cannot make its bout void instead: neither
// with names that git or a diff parser refuses, nor by ending its supervisor.
func TestALosingBoutCannotBeMadeVoid(t *testing.T) {
	p := newPort(t, "at_once: 2\n", map[string]string{
		"git-in-capitals": `echo dim > lamp.txt; mkdir .GIT .Git; echo x > .GIT/x; echo y > .Git/y`,
		"modules-link":    `echo dim > lamp.txt; ln -s lamp.txt .gitmodules; ln -s lamp.txt .GitModules`,
		"ambiguous-names": `echo dim > lamp.txt; mkdir -p 'x b'; : > 'x b/y b'; : > ' b'; printf '\000' > 'a b/' 2>/dev/null; printf '\000' > 'q" b'; chmod +x quay.txt`,
		"ignore-rules":    `echo dim > lamp.txt; printf '[\\\n!\n/\n[[:x:]]\n\\' > .gitignore; mkdir d; echo x > d/.gitignore; echo y > 'd/ z'`,
		"ends-init":       `echo dim > lamp.txt; for s in QUIT ABRT SEGV TERM KILL STOP; do kill -$s 1 2>/dev/null; done; true`,
	})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	for _, b := range d.Bouts {
		assert.Zero(t, b.Rerun, b.Contender)
		assert.Equal(t, verdict.CheckFailed, b.Verdict.Reason, "%s: %+v", b.Contender, b.Verdict)
	}
}

// Without namespaces bouts run all the same, and are flagged wherever they are shown.
func TestUnconfinedBoutsAreFlagged(t *testing.T) {
	p := newPort(t, "", map[string]string{
		"good":  "pwd; echo on > lamp.txt; (setsid sleep 300 >/dev/null 2>&1 &)",
		"wrong": "echo dim > lamp.txt",
	})
	s, err := service.Start(service.Options{Data: t.TempDir(), Listen: "127.0.0.1:0", Unconfined: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	c, err := client.New(s.URL(), s.Token())
	require.NoError(t, err)
	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.False(t, plan.Confined)
	assert.Contains(t, strings.Join(plan.Remarks, "\n"), "unconfined")
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Passed, only(t, d, "good").Verdict.Outcome)
	assert.Equal(t, verdict.CheckFailed, only(t, d, "wrong").Verdict.Reason)
	for _, b := range d.Bouts {
		assert.True(t, b.Unconfined)
		detail, err := c.Bout(t.Context(), b.ID, false)
		require.NoError(t, err)
		assert.NotEmpty(t, detail.ConfinementWhy)
	}
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "2 bouts ran unconfined")
	assert.Equal(t, 1, d.Standings.Rows[0].Unconfined)
	report, err := c.Doctor(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "warning", report.Findings[1].Level)
}

func TestWorkspacesCanBeKeptAndArePruned(t *testing.T) {
	p := newPort(t, "", map[string]string{"good": "echo on > lamp.txt"})
	data := t.TempDir()
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", KeepWorkspaces: true, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	c, err := client.New(s.URL(), s.Token())
	require.NoError(t, err)
	d := finish(t, c, begin(t, c, p))
	b, err := c.Bout(t.Context(), d.Bouts[0].ID, false)
	require.NoError(t, err)
	lamp, err := os.ReadFile(filepath.Join(b.Kept, "workspace", "lamp.txt"))
	require.NoError(t, err)
	assert.Equal(t, "on\n", string(lamp))
	require.NoError(t, s.Close())
	_, c = start(t, data)
	assert.DirExists(t, b.Kept, "a service that starts leaves them")
	_, err = c.Prune(t.Context())
	require.NoError(t, err)
	assert.NoDirExists(t, b.Kept)
}

// A bout that is stopped at the moment at which it begins has one end: it is not worked on
// after it was declared void.
func TestBoutsThatAreStoppedAsTheyBegin(t *testing.T) {
	p := newPort(t, "", map[string]string{"lights": "echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	ends := map[verdict.Outcome]int{}
	for i := range 40 {
		d := begin(t, c, p)
		for range i % 8 { // a little later each time
			_, err := c.Contest(t.Context(), d.ID)
			require.NoError(t, err)
		}
		stopped := c.StopBout(t.Context(), d.Bouts[0].ID)
		if stopped == nil && i%3 == 0 {
			_ = c.StopBout(t.Context(), d.Bouts[0].ID) // twice makes no difference
		}
		b := show(t, c, finish(t, c, d).Bouts[0])
		require.Len(t, b.Judgements, 1, "%d: %v, %+v", i, stopped, b.Judgements)
		ends[b.Verdict.Outcome]++
		if stopped != nil {
			assert.Equal(t, verdict.Passed, b.Verdict.Outcome, "it had ended already")
		}
	}
	t.Log(ends)
}

// The same of a contest: none of its bouts is worked on after it was stopped.
func TestContestsThatAreStoppedAsTheyBegin(t *testing.T) {
	p := newPort(t, "repeats: 3\nat_once: 2\n", map[string]string{"lights": "echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	states := map[string]int{}
	for i := range 30 {
		d := begin(t, c, p)
		for range i % 6 {
			_, err := c.Contest(t.Context(), d.ID)
			require.NoError(t, err)
		}
		stopped := c.StopContest(t.Context(), d.ID)
		if stopped == nil && i%3 == 0 {
			_ = c.StopContest(t.Context(), d.ID)
		}
		d = finish(t, c, d)
		states[d.State]++
		for _, one := range d.Bouts {
			b := show(t, c, one)
			require.Len(t, b.Judgements, 1, "%d: %v, %+v", i, stopped, b.Judgements)
			if d.State == "done" {
				assert.Equal(t, verdict.Passed, b.Verdict.Outcome, "nothing was left to stop")
			}
		}
	}
	t.Log(states)
}
