package service_test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/verdict"
	"agonometer/internal/store"
)

// child is a service in a process of its own, which can be killed.
type child struct {
	cmd *exec.Cmd
	c   *client.Client
}

func startChild(t *testing.T, data string) *child {
	t.Helper()
	cmd := exec.Command("/proc/self/exe")
	cmd.Env = append(os.Environ(), "AGONOMETER_TEST_SERVICE="+data)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "up\n", line)
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(data, name))
		require.NoError(t, err)
		return strings.TrimSpace(string(text))
	}
	c, err := client.New(read("address"), read("token"))
	require.NoError(t, err)
	return &child{cmd, c}
}

func (ch *child) kill(t *testing.T) {
	t.Helper()
	require.NoError(t, ch.cmd.Process.Signal(syscall.SIGKILL))
	_ = ch.cmd.Wait()
}

// At each of these points the service is killed with -9, and the next one goes on.
func TestKilledServicesGoOn(t *testing.T) {
	points := []struct {
		name  string
		at    func(e api.FeedEvent) bool
		again bool // whether the bout at that point runs again
	}{
		{"before anything", func(e api.FeedEvent) bool { return e.Kind == "contest" && e.State == "waiting" }, false},
		{"while preparing", func(e api.FeedEvent) bool { return e.State == "preparing" }, true},
		{"while working", func(e api.FeedEvent) bool { return e.State == "working" }, true},
		{"while judging", func(e api.FeedEvent) bool { return e.State == "judging" }, false},
		{"between bouts", func(e api.FeedEvent) bool { return e.Kind == "bout" && e.State == "done" }, false},
	}
	for _, point := range points {
		t.Run(point.name, func(t *testing.T) {
			p := newPort(t, "repeats: 3\n", map[string]string{"good": "sleep 0.3; echo on > lamp.txt; date +%N > when.txt"})
			p.files["lamp.md"] = strings.Replace(portTask, "run: grep -qx on lamp.txt", "run: sleep 0.3; grep -qx on lamp.txt", 1)
			data := t.TempDir()
			one := startChild(t, data)
			d := begin(t, one.c, p)
			seen := until(t, one.c, d, point.at)
			one.kill(t)
			two := startChild(t, data)
			end := finish(t, two.c, d)
			assert.Equal(t, "done", end.State)
			assert.Equal(t, 3, end.Counts.Bouts, "nothing is counted twice")
			assert.Equal(t, 3, end.Counts.Passed)
			row := end.Standings.Rows[0]
			assert.Equal(t, 3, row.Passed)
			assert.Zero(t, row.Void)
			interrupted := 0
			for _, b := range end.Bouts {
				if b.Verdict.Reason == verdict.Interrupted {
					interrupted++
					assert.NotEmpty(t, b.ReplacedBy, "the interrupted bout is kept beside its rerun")
				}
			}
			if point.again {
				assert.Equal(t, 1, interrupted)
			}
			assert.LessOrEqual(t, interrupted, 1)
			if seen.BoutID != "" {
				b, err := two.c.Bout(t.Context(), seen.BoutID, false)
				require.NoError(t, err)
				if point.name == "while judging" || point.name == "between bouts" {
					assert.Equal(t, verdict.Passed, b.Verdict.Outcome, "what was captured is judged, without running the tool again")
					assert.Empty(t, b.ReplacedBy)
					assert.Len(t, b.Judgements, 1)
				}
			}
		})
	}
}

// A stop that a person asked for is not forgotten by a service that is killed.
func TestAKilledServiceStaysStopped(t *testing.T) {
	p := newPort(t, "repeats: 2\n", map[string]string{"slow": "trap '' TERM; while :; do sleep 0.05; done"})
	data := t.TempDir()
	one := startChild(t, data)
	d := begin(t, one.c, p)
	until(t, one.c, d, func(e api.FeedEvent) bool { return e.State == "working" })
	require.NoError(t, one.c.StopContest(t.Context(), d.ID))
	one.kill(t)
	two := startChild(t, data)
	end := finish(t, two.c, d)
	assert.Equal(t, "stopped", end.State)
	assert.Equal(t, 2, end.Counts.Void)
	assert.Zero(t, end.Counts.Waiting)
}

func TestACleanStopGoesOnToo(t *testing.T) {
	p := newPort(t, "repeats: 2\n", map[string]string{"good": "sleep 0.3; echo on > lamp.txt"})
	data := t.TempDir()
	one := startChild(t, data)
	d := begin(t, one.c, p)
	until(t, one.c, d, func(e api.FeedEvent) bool { return e.State == "working" })
	require.NoError(t, one.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, one.cmd.Wait(), "SIGTERM ends the service with status 0")
	assert.NoFileExists(t, filepath.Join(data, "address"))
	two := startChild(t, data)
	end := finish(t, two.c, d)
	assert.Equal(t, 2, end.Counts.Passed)
}

func TestADataFolderHasOneService(t *testing.T) {
	data := t.TempDir()
	start(t, data)
	_, err := store.Open(data, nil)
	var locked *store.LockedError
	require.ErrorAs(t, err, &locked)
	assert.Contains(t, err.Error(), "in use by another service")
}
