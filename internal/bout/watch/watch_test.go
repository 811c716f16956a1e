package watch

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/timeline"
)

type sink struct {
	mu  sync.Mutex
	all []timeline.Event
}

func (s *sink) take(e []timeline.Event) { s.mu.Lock(); s.all = append(s.all, e...); s.mu.Unlock() }

func (s *sink) texts(k timeline.Kind) (out []string) {
	for _, e := range s.all {
		if e.Kind == k {
			t := e.Text
			if e.First {
				t += "*"
			}
			out = append(out, t)
		}
	}
	return out
}

// tree is a workspace with a few files, something installed, and a .git.
func tree(t *testing.T) string {
	dir := t.TempDir()
	for _, name := range []string{"tides.go", "berths/list.go", ".git/HEAD", "node_modules/lamp/index.js"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("x\n"), 0o644))
	}
	return dir
}

// work runs a shell script as the contender in one round.
func work(t *testing.T, w *Watch, dir, script string, round int) {
	cmd := exec.Command("sh", "-c", script)
	cmd.Dir = dir
	cmd.Stdout = w.Output()
	w.Begin(round, time.Now())
	require.NoError(t, cmd.Start())
	w.Run(cmd.Process.Pid)
	require.NoError(t, cmd.Wait())
	w.EndRound(time.Now())
}

func TestEditsAreSeen(t *testing.T) {
	for _, scan := range []bool{false, true} {
		t.Run(fmt.Sprintf("scan=%v", scan), func(t *testing.T) {
			dir, s := tree(t), &sink{}
			w := New(Options{Tree: dir, Start: []string{"tides.go", "berths/list.go"}, Sink: s.take, Scan: scan})
			work(t, w, dir, "echo more >> tides.go; mkdir -p new/deep; echo a > new/deep/a.go; echo b > build.log; echo x >> .git/HEAD; echo y > node_modules/lamp/index.js; touch -d '2031-01-01' berths", 1)
			w.Changed([]string{"tides.go", "new/deep/a.go"})
			work(t, w, dir, "rm berths/list.go; sleep 0.2; echo again >> tides.go", 2)
			w.Changed([]string{"tides.go", "new/deep/a.go", "berths/list.go"})
			w.Close()
			assert.ElementsMatch(t, []string{"tides.go*", "new/deep/a.go*", "berths/list.go*", "tides.go"}, s.texts(timeline.Edit), "what git ignores, what was installed and .git are no edits")
			sum := timeline.Summarise(s.all)
			assert.Equal(t, 3, sum.Files)
			assert.Equal(t, sum.Elapsed, sum.Parts.Whole())
			assert.Len(t, s.texts(timeline.Round), 2)
			assert.Equal(t, scan, w.Scanned())
		})
	}
}

// A burst of edits and of output is one event each; a flood of files is cut, and that is said.
func TestFloodsAreCut(t *testing.T) {
	dir, s := tree(t), &sink{}
	w := New(Options{Tree: dir, Start: []string{"tides.go"}, Sink: s.take})
	work(t, w, dir, "for i in 1 2 3 4 5 6 7 8 9; do echo $i >> tides.go; echo line $i; done; mkdir f; i=0; while [ $i -lt 21000 ]; do echo > f/$i; i=$((i+1)); done", 1)
	var names []string
	for i := range 21000 {
		names = append(names, fmt.Sprintf("f/%d", i))
	}
	w.Changed(append(names, "tides.go"))
	w.Close()
	assert.Equal(t, maxEvents, len(s.texts(timeline.Edit)))
	assert.Equal(t, []string{"edit"}, s.texts(timeline.Cut), "and that is said")
	var printed int64
	for _, e := range s.all {
		if e.Kind == timeline.Output {
			printed += e.Count
		}
	}
	assert.Equal(t, int64(9*len("line 1\n")), printed)
}

func TestWorkOfTheProcessesIsSeen(t *testing.T) {
	dir, s := tree(t), &sink{}
	w := New(Options{Tree: dir, Sink: s.take})
	// The work is done by a grandchild, which is gone at the end.
	work(t, w, dir, "sh -c 'i=0; while [ $i -lt 1500000 ]; do i=$((i+1)); done' & wait", 1)
	w.Changed(nil)
	w.Close()
	sum := timeline.Summarise(s.all)
	assert.Greater(t, sum.Parts.Own, sum.Elapsed/3, "%+v", sum)
	m := w.Machine()
	assert.Positive(t, m.CPUs)
	if m.Waiting != nil {
		assert.LessOrEqual(t, *m.Waiting, 1.0)
	}
}

// On a busy machine the service hears late that a tool runs. What the tool did
// until then is on the timeline all the same, at its own time.
func TestWhatCameBeforeTheStartWasKnown(t *testing.T) {
	s := &sink{}
	w := New(Options{Tree: tree(t), Sink: s.take})
	handed := time.Now()
	at := func(ms int) time.Time { return handed.Add(time.Duration(ms) * time.Millisecond) }
	exchange := func(n, from, until int) {
		w.Add(timeline.Event{Kind: timeline.Exchange, Number: n, OK: true}, at(from), at(until))
	}
	w.Begin(1, handed)
	exchange(1, 21, 30)
	w.edited("tides.go", true)
	_, err := w.Output().Write([]byte("on"))
	require.NoError(t, err)
	w.Started(at(20))
	exchange(2, 25, 40)
	exchange(3, 10, 41) // no clock is trusted so far that an event is lost
	w.Run(0)
	w.EndRound(at(60))
	w.Changed([]string{"tides.go"})
	w.Close()
	var got []string
	for _, e := range s.all {
		require.NoError(t, e.Valid())
		if e.Kind == timeline.Exchange || e.Kind == timeline.Round {
			got = append(got, fmt.Sprintf("%s %d: %d to %d ms", e.Kind, e.Number, e.At/1000, e.Until/1000))
		}
	}
	assert.Equal(t, []string{"exchange 1: 1 to 10 ms", "exchange 2: 5 to 20 ms", "exchange 3: 0 to 21 ms", "round 0: 0 to 40 ms"}, got)
	assert.Len(t, s.texts(timeline.Edit), 1)
	assert.Len(t, s.texts(timeline.Output), 1)
}

// Quiet for too long is told once; an exchange under way is not quiet.
func TestQuietIsTold(t *testing.T) {
	dir := tree(t)
	told := make(chan struct{}, 9)
	w := New(Options{Tree: dir, Sink: func([]timeline.Event) {}, Quiet: 600 * time.Millisecond, Stop: func() { told <- struct{}{} }})
	cmd := exec.Command("cat")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	w.Begin(1, time.Now())
	w.Open()
	require.NoError(t, cmd.Start())
	w.Run(cmd.Process.Pid)
	timer := time.NewTimer(1200 * time.Millisecond)
	select {
	case <-told:
		t.Fatal("an exchange is not quiet")
	case <-timer.C:
	}
	w.Shut()
	<-told
	in.Close()
	require.NoError(t, cmd.Wait())
	w.EndRound(time.Now())
	w.Changed(nil)
	w.Close()
	assert.Empty(t, told, "once is enough")
}

func TestWatchesRunOut(t *testing.T) {
	dir, s := tree(t), &sink{}
	for i := range maxFolders + 10 {
		require.NoError(t, os.Mkdir(filepath.Join(dir, fmt.Sprintf("d%d", i)), 0o755))
	}
	start := []string{"tides.go"}
	for i := range maxFolders + 10 {
		start = append(start, fmt.Sprintf("d%d/x", i))
	}
	w := New(Options{Tree: dir, Start: start, Sink: s.take})
	work(t, w, dir, "echo more >> tides.go", 1)
	w.Changed(nil)
	w.Close()
	assert.True(t, w.Scanned())
	assert.Equal(t, "tides.go*", strings.Join(s.texts(timeline.Edit), " "))
}

// Where the kernel had to leave something out, what was written is found all the same.
func TestWhatWasMissedIsCaughtUp(t *testing.T) {
	dir := tree(t)
	var told []string
	f := newFiles(dir, []string{"tides.go", "berths/list.go"}, false, func(name string, known bool) { told = append(told, fmt.Sprint(name, known)) })
	f.survey()
	f.since = time.Now()
	require.NoError(t, os.Chtimes(filepath.Join(dir, "berths/list.go"), time.Time{}, f.since.Add(-time.Second)))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "tides.go"), time.Time{}, f.since.Add(time.Second)))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "new"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new/a.go"), nil, 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "new/a.go"), time.Time{}, f.since.Add(time.Second)))
	f.catchUp()
	assert.ElementsMatch(t, []string{"tides.gotrue", "new/a.gofalse"}, told)
}

// A tool that makes more folders than can be watched edits no more files by that.
func TestWatchesThatRunOutMidway(t *testing.T) {
	dir, s := tree(t), &sink{}
	w := New(Options{Tree: dir, Start: []string{"tides.go", "berths/list.go"}, Sink: s.take})
	work(t, w, dir, "echo more >> tides.go; mkdir many; cd many; seq 9000 | xargs mkdir; sleep 1.5; echo y > new.go", 1)
	w.Changed([]string{"tides.go", "many/new.go"})
	w.Close()
	assert.True(t, w.Scanned())
	texts := strings.Join(s.texts(timeline.Edit), " ")
	assert.Contains(t, texts, "tides.go*")
	assert.Contains(t, texts, "many/new.go*")
	assert.NotContains(t, texts, "berths/list.go")
}

// Folders that come, are renamed and go as fast as a program can make them keep nobody
// waiting: a round ends when it ends.
func TestChurningFoldersHoldNobodyUp(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "workspace")
	require.NoError(t, os.Mkdir(tree, 0o755))
	w := New(Options{Tree: tree, Sink: func([]timeline.Event) {}})
	w.Begin(1, time.Now())
	w.Run(0)
	for round := range 150 {
		for i := range 40 {
			require.NoError(t, os.Mkdir(filepath.Join(tree, fmt.Sprintf("d%d", i)), 0o755))
		}
		for i := range 40 {
			require.NoError(t, os.Rename(filepath.Join(tree, fmt.Sprintf("d%d", i)), filepath.Join(tree, fmt.Sprintf("r%d-%d", round, i))))
		}
		for i := range 40 {
			require.NoError(t, os.Remove(filepath.Join(tree, fmt.Sprintf("r%d-%d", round, i))))
		}
	}
	done := make(chan struct{})
	go func() { // ends with the round
		defer close(done)
		w.EndRound(time.Now())
		w.Changed(nil)
		w.Close()
	}()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		t.Fatal("the round does not end")
	}
}
