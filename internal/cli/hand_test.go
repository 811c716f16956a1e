package cli

import (
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/service"
)

// handWorld is a running service with a task and a contender that is worked by hand.
func handWorld(t *testing.T) (data, taskFile, contenderFile string) {
	t.Helper()
	dir := t.TempDir()
	data = filepath.Join(dir, "data")
	t.Setenv("AGONOMETER_DATA", data)
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	cmd := exec.Command("sh", "-ec", "mkdir repo; cd repo; git init -q -b main .; echo off > lamp.txt; git add -A; git -c user.name=a -c user.email=a@localhost commit -qm start")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	taskFile, contenderFile = filepath.Join(dir, "lamp.md"), filepath.Join(dir, "ruff.yaml")
	require.NoError(t, os.WriteFile(taskFile, []byte("---\ntask: lamp\ntitle: Light it\nrepository: repo\nstart_commit: main\nchecks: [{name: lit, run: grep -qx on lamp.txt}]\n---\nLight the lamp.\n"), 0o644))
	require.NoError(t, os.WriteFile(contenderFile, []byte("contender: ruff\ntitle: Ruff\ndrive: hand\n"), 0o644))
	return data, taskFile, contenderFile
}

func TestHandCommands(t *testing.T) {
	_, task, con := handWorld(t)
	var h api.Hand
	hand := func(args ...string) api.Hand {
		t.Helper()
		h = api.Hand{}
		require.NoError(t, json.Unmarshal([]byte(must(t, append(append([]string{"hand"}, args...), "--format", "json")...)), &h))
		return h
	}
	assert.Contains(t, must(t, "hand", "list"), "agonometer hand start")
	for _, bad := range [][]string{{"start"}, {"start", "--task", task}, {"mark", "x"}, {"discard", "x"}, {"work"}} {
		code, _, _ := run(t, append([]string{"hand"}, bad...)...)
		assert.Equal(t, ExitUsage, code, bad)
	}
	hand("start", "--task", task, "--contender", con, "--worker", "Ines", "--familiarity", "a day")
	id := h.Bout.ID
	short := id[len(id)-6:]
	assert.Contains(t, must(t, "hand", "show", short), "Light the lamp.")
	assert.Contains(t, must(t, "hand", "list"), h.Workspace)
	code, _, errs := run(t, "hand", "finish", short)
	assert.Equal(t, ExitError, code)
	assert.Contains(t, errs, "the clock has not been started yet")

	hand("begin", short)
	require.NoError(t, os.WriteFile(filepath.Join(h.Workspace, "lamp.txt"), []byte("half\n"), 0o644))
	hand("mark", short, "correction", "information", "--words", "It is the red one")
	hand("mark", short, "waiting", "--at", "sign")
	hand("back", short)
	mark := h.Marks[0].ID
	hand("correct", short, mark[len(mark)-6:], "--class", "hint", "--reason", "it was one")
	code, _, errs = run(t, "hand", "mark", short, "note", "--at", "soon")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "90s")
	hand("pause", short)
	hand("resume", short)
	hand("finish", short)
	assert.Equal(t, "offered", h.Bout.Hand.Phase)
	shown := must(t, "hand", "show", short)
	assert.Contains(t, shown, "Say next")
	assert.Contains(t, shown, "[corrected since]")
	hand("begin", short, "--words", "Other words")
	require.NoError(t, os.WriteFile(filepath.Join(h.Workspace, "lamp.txt"), []byte("on\n"), 0o644))
	hand("used", short, "--before", "1.0", "--after", "2.0", "--of", "10 AVM")
	code, _, _ = run(t, "hand", "used", short, "--before", "1.0")
	assert.Equal(t, ExitUsage, code)
	hand("finish", short)
	assert.Equal(t, "over", h.Bout.Hand.Phase)
	bout := must(t, "bout", "show", short)
	for _, want := range []string{"worked by hand", "Ines (used to the tool: a day)", "1 hint", "other words were sent", "Used             0.09000 to 0.1100 AVM (typed-in)", "passed"} {
		assert.Contains(t, bout, want)
	}
	assert.NotContains(t, bout, "Tool ended")

	hand("start", "--task", task, "--contender", con)
	hand("discard", h.Bout.ID, "--reason", "wrong tool")
	assert.Equal(t, "over", h.Bout.Hand.Phase)
	assert.Contains(t, must(t, "bout", "show", h.Bout.ID), "wrong tool")
}

// screen gathers what a terminal shows, and waits for words on it.
type screen struct {
	mu   sync.Mutex
	text strings.Builder
	came chan struct{}
}

func (s *screen) Write(p []byte) (int, error) {
	s.mu.Lock()
	s.text.Write(p)
	s.mu.Unlock()
	select {
	case s.came <- struct{}{}:
	default:
	}
	return len(p), nil
}

func (s *screen) await(t *testing.T, words string) {
	t.Helper()
	limit := time.After(30 * time.Second)
	for {
		s.mu.Lock()
		text := s.text.String()
		s.mu.Unlock()
		if strings.Contains(text, words) {
			return
		}
		select {
		case <-s.came:
		case <-limit:
			t.Fatalf("%q never came; there was:\n%s", words, text)
		}
	}
}

// terminal is the client in a real terminal.
type terminal struct {
	*screen
	tty  *os.File
	cmd  *exec.Cmd
	done chan struct{}
}

// inTerminal starts the client in a terminal of so many columns.
func inTerminal(t *testing.T, columns int, args ...string) *terminal {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	term := &terminal{screen: &screen{came: make(chan struct{}, 1)}, cmd: exec.Command(self, args...), done: make(chan struct{})}
	term.cmd.Env = append(os.Environ(), "AGONOMETER_TEST_CLIENT=1", "TERM=xterm", "NO_COLOR=1")
	term.tty, err = pty.StartWithSize(term.cmd, &pty.Winsize{Cols: uint16(columns), Rows: 40})
	require.NoError(t, err)
	t.Cleanup(func() { _ = term.tty.Close() })
	go func() { // ends with the program
		defer close(term.done)
		buf := make([]byte, 4096)
		for failed := 0; failed < 2; { // the end of a terminal is where it says so twice
			n, err := term.tty.Read(buf)
			if _, _ = term.Write(buf[:n]); n > 0 {
				failed = 0
			}
			if err != nil {
				failed++
			}
		}
	}()
	return term
}

func (term *terminal) press(t *testing.T, keys, then string) {
	t.Helper()
	_, err := term.tty.WriteString(keys)
	require.NoError(t, err)
	term.await(t, then)
}

// wait waits for the program's end, and gives its exit status and all that was shown.
func (term *terminal) wait(t *testing.T) (code int, shown string) {
	t.Helper()
	<-term.done
	err := term.cmd.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return term.cmd.ProcessState.ExitCode(), term.text.String()
}

// A bout at the keyboard: single keys make the marks.
func TestTheKeyboard(t *testing.T) {
	_, task, con := handWorld(t)
	s := inTerminal(t, 120, "hand", "start", "--task", task, "--contender", con, "--worker", "Ines")
	press := func(keys, then string) { t.Helper(); s.press(t, keys, then) }
	s.await(t, "start the clock / pause / go on")
	var hands []api.Hand
	require.NoError(t, json.Unmarshal([]byte(must(t, "hand", "list", "--format", "json")), &hands))
	require.Len(t, hands, 1)
	lamp := filepath.Join(hands[0].Workspace, "lamp.txt")
	press("x", "") // no key of ours
	press(" ", "The clock is running.")
	require.NoError(t, os.WriteFile(lamp, []byte("half\n"), 0o644))
	s.await(t, "1 file, last lamp.txt")
	press("w", "...  waiting")
	press("w", "  waiting")
	press("p", "permission")
	press("c", "e: a bare error")
	press("h", "Its words")
	press("the red one\r", "correction (hint): the red one")
	press("n", "Note:")
	press("\r", "") // nothing: no note
	press("e", "editing")
	press("e", "editing")
	press(" ", "Paused.")
	press(" ", "The clock is running on.")
	press("f", "Say this to the tool")
	s.await(t, "grep -qx on lamp.txt")
	press(" ", "The clock is running.")
	press("q", "hand work")
	code, _ := s.wait(t)
	require.Zero(t, code)

	require.NoError(t, os.WriteFile(lamp, []byte("on\n"), 0o644))
	id := hands[0].Bout.ID
	must(t, "hand", "finish", id)
	out := must(t, "bout", "show", id)
	assert.Contains(t, out, "1 hint, 1 permission, own edits 1 time")
	assert.Contains(t, out, "passed")
}
