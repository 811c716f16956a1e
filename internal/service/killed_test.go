package service_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/verdict"
)

// The service, a supervisor, a tool or a git is killed with -9 at a hundred moments.
// Nothing is lost or counted twice, and nothing is left.
func TestKilledAnywhere(t *testing.T) {
	if os.Getenv("AGONOMETER_LONG") == "" {
		t.Skip("part of make test-long")
	}
	const kills, repeats = 100, 150
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 1))
	mark := fmt.Sprintf("AGONOMETER_KILLED_%d", seed)
	p := newPort(t, fmt.Sprintf("repeats: %d\n", repeats), map[string]string{"good": "sleep 0.1; echo on > lamp.txt; date +%N > when.txt; sleep 0.1"})
	p.files["tools/good.yaml"] += "env: {" + mark + ": \"1\"}\n"
	data := t.TempDir()
	service := startChild(t, data)
	d := begin(t, service.c, p)
	done := map[string]int{}
	for n := 0; n < kills; n++ {
		time.Sleep(time.Duration(20+rng.IntN(400)) * time.Millisecond) // a moment of the run, whichever it is
		kind := []string{"service", "supervisor", "tool", "git"}[rng.IntN(4)]
		if kind == "service" {
			service.kill(t)
			service = startChild(t, data)
			done[kind]++
			continue
		}
		// What is short of life is waited for.
		for hit := false; !hit; time.Sleep(time.Millisecond) {
			if pid := victim(service.cmd.Process.Pid, kind, mark); pid != 0 && syscall.Kill(pid, syscall.SIGKILL) == nil {
				done[kind]++
				hit = true
				continue
			}
			if now, err := service.c.Contest(t.Context(), d.ID); err == nil && now.State == "done" {
				require.FailNow(t, "the contest was over too soon", "after %d of %d", n, kills)
			}
		}
	}
	t.Logf("killed: %v", done)
	d = finishWithin(t, service.c, d, 10*time.Minute)
	assert.Equal(t, "done", d.State)
	assert.Equal(t, repeats, d.Counts.Bouts)
	counted := map[int]int{}
	for _, b := range d.Bouts {
		require.NotNil(t, b.Verdict, "%s has no verdict", b.ID)
		if b.ReplacedBy == "" {
			counted[b.Repeat]++
		}
		if b.Verdict.Outcome == verdict.Void {
			assert.Contains(t, []verdict.Reason{verdict.Interrupted, verdict.HarnessFault, verdict.PrepareFailed}, b.Verdict.Reason, "%+v", b.Verdict)
		}
	}
	for i := 1; i <= repeats; i++ {
		assert.Equal(t, 1, counted[i], "repeat %d", i)
	}
	require.NoError(t, service.cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, service.cmd.Wait())
	last := startChild(t, data)
	scratch, err := os.ReadDir(filepath.Join(data, "scratch"))
	require.NoError(t, err)
	assert.Empty(t, scratch)
	assert.Zero(t, victim(1, "tool", mark), "a process is left")
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	assert.NotContains(t, string(mounts), data)
	last.kill(t)
}

// victim finds a process of a kind below another; 0 where there is none.
func victim(top int, kind, mark string) int {
	parents := map[int]int{}
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		if fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:])); len(fields) > 1 {
			parents[pid], _ = strconv.Atoi(fields[1])
		}
	}
	below := func(pid int) bool {
		for up, n := pid, 0; n < 100 && up != 0; up, n = parents[up], n+1 {
			if parents[up] == top {
				return true
			}
		}
		return false
	}
	for pid := range parents {
		if !below(pid) {
			continue
		}
		line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		environ, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
		args := strings.Split(string(line), "\x00")
		switch {
		case kind == "supervisor" && len(args) > 1 && args[1] == "supervise",
			kind == "git" && filepath.Base(args[0]) == "git",
			kind == "tool" && bytes.Contains(environ, []byte(mark+"=1")):
			return pid
		}
	}
	return 0
}
