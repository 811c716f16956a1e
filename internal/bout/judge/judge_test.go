package judge

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/bout/confine"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
)

func TestMain(m *testing.M) {
	confine.MaybeSupervise()
	os.Exit(m.Run())
}

// world is a plain world: what is tried here does not need namespaces.
func world(t *testing.T) confine.World {
	t.Helper()
	dir := t.TempDir()
	w := confine.World{Mode: confine.ProcessGroup, Owner: confine.CurrentOwner(), Path: os.Getenv("PATH"), Workspace: filepath.Join(dir, "w"), Home: filepath.Join(dir, "h"), Tmp: filepath.Join(dir, "t")}
	for _, d := range []string{w.Workspace, w.Home, w.Tmp} {
		require.NoError(t, os.Mkdir(d, 0o755))
	}
	return w
}

// copies makes one copy, always the same.
func copies(t *testing.T) func(task.Check) (Copy, error) {
	w := world(t)
	return func(task.Check) (Copy, error) { return Copy{World: w, Tree: w.Workspace}, nil }
}

var limits = task.Limits{Check: specfile.Duration(time.Second), Output: 64 << 10}

func TestChecksRunInOrderUntilOneEndsThem(t *testing.T) {
	checks := []task.Check{{Name: "one", Reads: task.ReadsExit, Run: "echo first; touch made"}, {Name: "two", Reads: task.ReadsExit, Run: "test -f made && echo key-of-the-port >&2; exit 3"}, {Name: "three", Run: "true"}}
	var started []string
	got, err := Run(t.Context(), copies(t), checks, Options{Limits: limits, Secrets: []string{"key-of-the-port"}, Started: func(c task.Check) { started = append(started, string(c.Name)) },
		Ends: func(r *outcome.CheckRun) bool { return r.ExitCode != 0 }})
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, started)
	require.Len(t, got, 3)
	assert.True(t, got[0].Run.OK())
	assert.Equal(t, "first\n", string(got[0].Log))
	assert.False(t, got[1].Run.OK())
	assert.Equal(t, 3, got[1].Run.ExitCode)
	assert.NotContains(t, string(got[1].Log), "key-of-the-port")
	assert.False(t, got[2].Run.Ran)
}

func TestASealedCheckGetsACopyOfItsOwn(t *testing.T) {
	made := 0
	fresh := func(task.Check) (Copy, error) { made++; w := world(t); return Copy{World: w, Tree: w.Workspace}, nil }
	checks := []task.Check{{Name: "one", Run: "touch spoilt"}, {Name: "two", Run: "test ! -e spoilt", Sealed: true}, {Name: "three", Run: "test -e spoilt"}}
	got, err := Run(t.Context(), fresh, checks, Options{Limits: limits})
	require.NoError(t, err)
	assert.Equal(t, 2, made)
	for _, r := range got {
		assert.Zero(t, r.Run.ExitCode, r.Check.Name)
	}
}

func TestACheckThatIsTooSlow(t *testing.T) {
	got, err := Run(t.Context(), copies(t), []task.Check{{Name: "slow", Run: "echo begun; sleep 60"}}, Options{Limits: limits})
	require.NoError(t, err)
	assert.True(t, got[0].Run.TimedOut)
	assert.Equal(t, "begun\n", string(got[0].Log))
}

func TestGoTestEventsAreRead(t *testing.T) {
	script := `echo noise; echo '{"Action":"run","Package":"p","Test":"A"}'; echo '{"Action":"ACTION","Package":"p","Test":"A"}'; echo complaint >&2; exit STATUS`
	for action, want := range map[string]testlog.Outcome{"pass": testlog.Passed, "fail": testlog.Failed, "output": testlog.Failed, "skip": testlog.Skipped} {
		run := strings.NewReplacer("ACTION\"", action+"\"", "STATUS", "2").Replace(script)
		got, err := Run(t.Context(), copies(t), []task.Check{{Name: "tests", Run: run, Reads: task.ReadsGoTestJSON}}, Options{Limits: limits})
		require.NoError(t, err)
		require.Len(t, got[0].Run.Tests, 1)
		assert.Equal(t, want, got[0].Run.Tests[0].Outcome)
		assert.Equal(t, 2, got[0].Run.ExitCode)
		assert.Contains(t, string(got[0].Log), "complaint", "both streams are in the log")
	}
	got, err := Run(t.Context(), copies(t), []task.Check{{Name: "tests", Run: "echo no events here", Reads: task.ReadsGoTestJSON}}, Options{Limits: limits})
	require.NoError(t, err)
	assert.False(t, got[0].Run.OK())
	assert.Contains(t, got[0].Run.Trouble, "does the command pass -json?")
}

func TestReportsAreReadFromFiles(t *testing.T) {
	report := `<testsuite name="port"><testcase name="NAME"/></testsuite>`
	put := func(name, test string) string {
		return "mkdir -p out; cat > out/" + name + " <<'X'\n" + strings.Replace(report, "NAME", test, 1) + "\nX\n"
	}
	check := task.Check{Name: "tests", Reads: task.ReadsJUnit, Report: "out/*.xml", Run: put("a.xml", "lamp") + put("b.xml", "buoy")}
	fresh := copies(t)
	where, err := fresh(task.Check{})
	require.NoError(t, err)
	// What lies there before, perhaps from the contender, is not read, nor is what a link points at.
	require.NoError(t, os.Mkdir(filepath.Join(where.Tree, "out"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(where.Tree, "out", "forged.xml"), []byte(strings.Replace(report, "NAME", "forged", 1)), 0o644))
	got, err := Run(t.Context(), fresh, []task.Check{check}, Options{Limits: limits})
	require.NoError(t, err)
	var names []string
	for _, one := range got[0].Run.Tests {
		names = append(names, one.Name)
	}
	assert.Equal(t, []string{"port buoy", "port lamp"}, names)
	assert.True(t, got[0].Run.OK())

	outside := filepath.Join(t.TempDir(), "outside.xml")
	require.NoError(t, os.WriteFile(outside, []byte(report), 0o644))
	got, err = Run(t.Context(), fresh, []task.Check{{Name: "tests", Reads: task.ReadsJUnit, Report: "out/*.xml", Run: "ln -s " + outside + " out/link.xml; mkfifo out/pipe.xml"}}, Options{Limits: limits})
	require.NoError(t, err)
	assert.False(t, got[0].Run.OK())
	assert.Contains(t, got[0].Run.Trouble, "no report")
	assert.FileExists(t, outside)
}

func TestFiguresAreTakenAsOftenAsAsked(t *testing.T) {
	three := 3
	n := &task.Number{Pattern: `took ([0-9.]+) ms`, Repeat: &three}
	got, err := Run(t.Context(), copies(t), []task.Check{{Name: "speed", Reads: task.ReadsNumber, Number: n, Run: `echo x >> runs; echo "took $(wc -l < runs).5 ms"; echo "took 99 ms" >&2`}}, Options{Limits: limits})
	require.NoError(t, err)
	assert.Equal(t, []float64{1.5, 2.5, 3.5}, got[0].Run.Values)
	assert.Equal(t, 6, strings.Count(string(got[0].Log), "took"))
	got, err = Run(t.Context(), copies(t), []task.Check{{Name: "speed", Reads: task.ReadsNumber, Number: n, Run: `echo x >> runs; test "$(wc -l < runs)" -lt 2 && echo "took 1 ms"`}}, Options{Limits: limits})
	require.NoError(t, err)
	assert.Empty(t, got[0].Run.Values, "one run of three failed: there is no figure")
	assert.Contains(t, got[0].Run.Trouble, "run 2 of 3")
}

// What a check writes about executed lines, or found by linters, is read from a plain
// file of the run itself: not from one that lay there, a link, a pipe or a folder.
func TestFilesThatChecksWriteBeside(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("secret"), 0o644))
	for name, c := range map[string]struct{ run, want string }{
		"written":      {"echo mode: set > cover.out", "mode: set\n"},
		"nothing":      {"true", ""},
		"a link":       {"ln -s " + outside + " cover.out", ""},
		"a pipe":       {"mkfifo cover.out", ""},
		"a folder":     {"mkdir cover.out", ""},
		"a loop":       {"ln -s cover.out cover.out", ""},
		"far too long": {"truncate -s 40M cover.out", ""},
	} {
		t.Run(name, func(t *testing.T) {
			fresh := copies(t)
			where, err := fresh(task.Check{})
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(where.Tree, "cover.out"), []byte("forged"), 0o644))
			got, err := Run(t.Context(), fresh, []task.Check{{Name: "tests", Reads: task.ReadsExit, Run: c.run, Coverage: "cover.out"}}, Options{Limits: limits})
			require.NoError(t, err)
			assert.Equal(t, c.want, string(got[0].Coverage))
			assert.True(t, got[0].Run.OK(), "what it writes beside decides nothing")
		})
	}
	kept, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(kept))
}
