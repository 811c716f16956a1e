package judge

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/bout/confine"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
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

var limits = task.Limits{Check: specfile.Duration(time.Second), Output: 64 << 10}

func TestChecksRunInOrderUntilOneFails(t *testing.T) {
	checks := []task.Check{{Name: "one", Run: "echo first; touch made"}, {Name: "two", Run: "test -f made && echo key-of-the-port >&2; exit 3"}, {Name: "three", Run: "true"}}
	var started []string
	got, err := Run(t.Context(), world(t), checks, limits, []string{"key-of-the-port"}, func(c task.Check) { started = append(started, string(c.Name)) })
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, started)
	require.Len(t, got, 3)
	assert.Equal(t, verdict.CheckOK, got[0].Outcome)
	assert.Equal(t, "first\n", string(got[0].Log))
	assert.Equal(t, verdict.CheckFail, got[1].Outcome)
	assert.Equal(t, 3, got[1].ExitCode)
	assert.Equal(t, "exit status 3", got[1].Detail)
	assert.NotContains(t, string(got[1].Log), "key-of-the-port")
	assert.Equal(t, verdict.CheckNotRun, got[2].Outcome)
}

func TestACheckThatIsTooSlow(t *testing.T) {
	got, err := Run(t.Context(), world(t), []task.Check{{Name: "slow", Run: "echo begun; sleep 60"}}, limits, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, verdict.CheckTimeOut, got[0].Outcome)
	assert.Equal(t, "begun\n", string(got[0].Log))
}

func TestGoTestEventsAreRead(t *testing.T) {
	script := `echo noise; echo '{"Action":"run","Package":"p","Test":"A"}'; echo '{"Action":"ACTION","Package":"p","Test":"A"}'; echo complaint >&2; exit STATUS`
	cases := []struct {
		name, action, status string
		want                 verdict.CheckOutcome
		detail               string
	}{
		{"passed", "pass", "0", verdict.CheckOK, ""},
		{"failed", "fail", "1", verdict.CheckFail, "1 of 1 tests failed"},
		{"a failed test and a status that hides it", "fail", "0", verdict.CheckFail, "1 of 1 tests failed"},
		{"passed, but the command failed", "pass", "2", verdict.CheckFail, "exit status 2"},
		{"begun and never ended", "output", "0", verdict.CheckFail, "1 of 1 tests failed"},
		{"skipped", "skip", "0", verdict.CheckFail, "no test was seen to run"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			run := strings.NewReplacer("ACTION\"", c.action+"\"", "STATUS", c.status).Replace(script)
			got, err := Run(t.Context(), world(t), []task.Check{{Name: "tests", Run: run, Reads: task.ReadsGoTestJSON}}, limits, nil, nil)
			require.NoError(t, err)
			assert.Equal(t, c.want, got[0].Outcome)
			assert.Contains(t, got[0].Detail, c.detail)
			assert.Contains(t, string(got[0].Log), "complaint", "both streams are in the log")
		})
	}
	got, err := Run(t.Context(), world(t), []task.Check{{Name: "tests", Run: "echo no events here", Reads: task.ReadsGoTestJSON}}, limits, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, verdict.CheckFail, got[0].Outcome)
	assert.Contains(t, got[0].Detail, "does the command pass -json?")
}

func TestDecide(t *testing.T) {
	sum := func(passed, failed, unfinished int) *testlog.Summary {
		return &testlog.Summary{Passed: passed, Failed: failed, Unfinished: unfinished}
	}
	got, why := decide(task.Check{}, confine.Result{ExitCode: -1, Signal: "killed"}, nil, nil)
	assert.Equal(t, verdict.CheckFail, got)
	assert.Equal(t, "ended by a signal: killed", why)
	got, why = decide(task.Check{}, confine.Result{}, sum(3, 0, 0), errors.New("the pipe broke"))
	assert.Equal(t, verdict.CheckFail, got)
	assert.Equal(t, "the pipe broke", why)
	got, _ = decide(task.Check{}, confine.Result{}, sum(3, 0, 0), nil)
	assert.Equal(t, verdict.CheckOK, got)
}

func TestAMissingFolderIsTheHarnessFault(t *testing.T) {
	w := world(t)
	w.Workspace = filepath.Join(w.Workspace, "nowhere")
	_, err := Run(t.Context(), w, []task.Check{{Name: "one", Run: "true"}}, limits, nil, nil)
	assert.ErrorContains(t, err, "check one")
}
