package bout_test

import (
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"agonometer/demo"
	"agonometer/internal/bout"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/task"
)

func TestMain(m *testing.M) {
	bout.MaybeHelper()
	os.Exit(m.Run())
}

func git(tb testing.TB, dir string, args ...string) {
	tb.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@localhost", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@localhost"}
	out, err := cmd.CombinedOutput()
	require.NoError(tb, err, string(out))
}

func median(d []time.Duration) time.Duration {
	s := slices.Clone(d)
	slices.Sort(s)
	return s[len(s)/2]
}

// BenchmarkHarness is Agonometer's own time per bout on tidebook: everything
// but the contender's and the checks' own time.
func BenchmarkHarness(b *testing.B) {
	dir := b.TempDir()
	program, err := exec.LookPath("git")
	require.NoError(b, err)
	require.NoError(b, demo.Unpack(b.Context(), dir, "/bin/true", "http://127.0.0.1:1/v1", program))
	e, err := bout.NewEngine(b.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	t := &task.Task{File: filepath.Join(dir, "tasks", "x.md"), Brief: "x"}
	t.Repository, t.Prepare = "../repositories/tidebook", "go build ./... && go test ./... > /dev/null"
	t.Checks = []task.Check{{Name: "ok", Run: "true", Reads: task.ReadsExit}}
	t.Stages = []task.Stage{{Brief: "x", Checks: t.Checks}}
	con := &contender.Contender{Path: filepath.Join(dir, "c.yaml")}
	con.Run = []string{"sh", "-c", "echo more >> README.md"}
	commit, err := e.Repositories.ResolveCommit(t.RepositoryAddress(), "v1.0")
	require.NoError(b, err)
	limits := task.Defaults()
	p, err := e.Prepare(b.Context(), t, commit, limits, func(string) {})
	require.NoError(b, err)
	var own, judging []time.Duration
	n := 0
	for b.Loop() {
		n++
		j := bout.Job{ID: fmt.Sprint("bench-", n), Task: t, Commit: commit, Contender: con, Limits: limits}
		began := time.Now()
		p, err = e.Prepare(b.Context(), t, commit, limits, func(string) {})
		require.NoError(b, err)
		session, err := e.Open(b.Context(), j, p)
		require.NoError(b, err)
		w, err := session.HandOver(b.Context(), "x", false, limits.Time.Std(), func() {})
		require.NoError(b, err)
		judged, err := e.Judge(b.Context(), j, p, &t.Stages[0], &outcome.Baseline{}, bout.Result{Diff: w.Captured.Diff, Tree: w.Captured.Tree, Shown: w.Captured.Shown}, nil, func(string) {})
		require.NoError(b, err)
		session.Close()
		own = append(own, time.Since(began)-w.Result.Elapsed-judged.Deciding[0].Elapsed)
		judging = append(judging, time.Duration(judged.OverheadMS)*time.Millisecond)
	}
	b.ReportMetric(float64(median(own).Microseconds())/1000, "own-ms/bout")
	b.ReportMetric(float64(median(judging).Microseconds())/1000, "judging-ms/bout")
	b.ReportMetric(float64(p.HomeBytes)/(1<<20), "home-MiB")
}

// text is a short file, the i-th.
func text(i int) (ending, content string) {
	return "txt", fmt.Sprintf("file %d\nof the harbour office\n%d\n", i, i*i)
}

// large makes a repository of 20,000 files, and its prepared state.
func large(b *testing.B, file func(i int) (ending, content string)) (origin string, g *workspace.Git, p *workspace.Prepared, scratch string) {
	b.Helper()
	origin, scratch = b.TempDir(), b.TempDir()
	for i := range 20_000 {
		ending, content := file(i)
		name := filepath.Join(origin, fmt.Sprintf("d%02d/e%02d/file%05d.%s", i%50, i/50%20, i, ending))
		if i < 1000 {
			require.NoError(b, os.MkdirAll(filepath.Dir(name), 0o755))
		}
		require.NoError(b, os.WriteFile(name, []byte(content), 0o644))
	}
	git(b, origin, "init", "-q", "-b", "main", ".")
	git(b, origin, "add", "-A")
	git(b, origin, "commit", "-qm", "start")
	g, err := workspace.NewGit(filepath.Join(scratch, "git"))
	require.NoError(b, err)
	repos := &workspace.Repositories{Git: g, Mirrors: scratch}
	commit, err := repos.ResolveCommit(origin, "HEAD")
	require.NoError(b, err)
	for _, d := range []string{"starts", "prepared"} {
		require.NoError(b, os.Mkdir(filepath.Join(scratch, d), 0o755))
	}
	start, err := repos.StartRepository(b.Context(), filepath.Join(scratch, "starts"), origin, commit)
	require.NoError(b, err)
	p, err = g.Prepare(b.Context(), filepath.Join(scratch, "prepared"), start, commit, "", nil, nil, workspace.CopyOptions{}, nil)
	require.NoError(b, err)
	return origin, g, p, scratch
}

// BenchmarkWorkspace is the time to make a workspace of 20,000 files beside a
// plain `git clone --local`, one after the other in the same run.
func BenchmarkWorkspace(b *testing.B) {
	origin, _, p, scratch := large(b, text)
	var ours, plain []time.Duration
	n := 0
	for b.Loop() {
		n++
		clone := filepath.Join(scratch, fmt.Sprint("c", n))
		w := filepath.Join(scratch, fmt.Sprint("w", n))
		make := func() {
			began := time.Now()
			_, err := workspace.Copier{}.Make(b.Context(), p, w, workspace.CopyOptions{})
			require.NoError(b, err)
			ours = append(ours, time.Since(began))
		}
		if n%2 == 0 { // in turns, since what comes second meets a busier disk
			make()
		}
		began := time.Now()
		git(b, "/", "clone", "--quiet", "--local", origin, clone)
		plain = append(plain, time.Since(began))
		if n%2 == 1 {
			make()
		}
		require.NoError(b, os.RemoveAll(w))
		require.NoError(b, os.RemoveAll(clone))
	}
	b.ReportMetric(float64(median(ours))/float64(median(plain)), "x-git-clone")
	b.ReportMetric(float64(median(ours).Milliseconds()), "ours-ms")
	b.ReportMetric(float64(median(plain).Milliseconds()), "git-ms")
}

// BenchmarkCapture is the time to capture a change of five files beside
// `git add -A && git diff --cached` in the same workspace.
func BenchmarkCapture(b *testing.B) {
	_, g, p, scratch := large(b, text)
	w, err := workspace.Copier{}.Make(b.Context(), p, filepath.Join(scratch, "w"), workspace.CopyOptions{})
	require.NoError(b, err)
	var ours, plain []time.Duration
	n := 0
	for b.Loop() {
		n++
		for i := range 5 {
			name := filepath.Join(w.Tree(), fmt.Sprintf("d%02d/e00/file%05d.txt", i, i))
			require.NoError(b, os.WriteFile(name, []byte(fmt.Sprintf("changed %d %d\n", n, i)), 0o644))
		}
		began := time.Now()
		c, err := g.Capture(b.Context(), w, workspace.Limits{File: 1 << 20, Total: 1 << 30})
		require.NoError(b, err)
		ours = append(ours, time.Since(began))
		require.True(b, c.Changed())
		began = time.Now()
		git(b, w.Tree(), "add", "-A")
		git(b, w.Tree(), "diff", "--cached", "--binary", "--output="+filepath.Join(scratch, "plain.patch"))
		plain = append(plain, time.Since(began))
		for _, name := range []string{"capture.git", "capture.index"} {
			require.NoError(b, os.RemoveAll(filepath.Join(w.Dir, name)))
		}
	}
	b.ReportMetric(float64(median(ours))/float64(median(plain)), "x-git-add-diff")
	b.ReportMetric(float64(median(ours).Milliseconds()), "ours-ms")
	b.ReportMetric(float64(median(plain).Milliseconds()), "git-ms")
}

// source is a file of about 110 lines of code, the i-th, in one of four languages.
func source(i int) (ending, content string) {
	forms := []struct{ ending, head, function string }{
		{"go", "package e%02d\n\n", "// Lamp%[1]d looks after lamp %[1]d.\nfunc Lamp%[1]d(day int, oil float64) (float64, error) {\n\tif oil < %[2]d {\n\t\treturn 0, fmt.Errorf(\"lamp %[1]d: %%v litres on day %%d\", oil, day)\n\t}\n\tburnt := oil * float64(day) / %[3]d\n\treturn burnt + keep(%[2]d), nil\n}\n\n"},
		{"js", "// Lamps of pier %d.\n\n", "/** Looks after lamp %[1]d. */\nexport function lamp%[1]d(day, oil) {\n  if (oil < %[2]d) {\n    throw new RangeError(`lamp %[1]d: ${oil} litres`);\n  }\n  const burnt = (oil * day) / %[3]d;\n  return burnt + keep(%[2]d);\n}\n\n"},
		{"py", "# Lamps of pier %d.\n\n", "def lamp_%[1]d(day, oil):\n    \"\"\"Looks after lamp %[1]d.\"\"\"\n    if oil < %[2]d:\n        raise ValueError('lamp %[1]d')\n    burnt = oil * day / %[3]d\n    return burnt + keep(%[2]d)\n\n\n"},
		{"c", "// Lamps of pier %d.\n\n", "/* Looks after lamp %[1]d. */\nstatic double lamp_%[1]d(int day, double oil)\n{\n  if (oil < %[2]d)\n    return -1;\n  double burnt = oil * day / %[3]d;\n  return burnt + keep(%[2]d);\n}\n\n"},
	}
	f := forms[i%len(forms)]
	var out strings.Builder
	fmt.Fprintf(&out, f.head, i%20)
	for n := range 12 {
		fmt.Fprintf(&out, f.function, i*12+n, n+i%7, 2+n*i%11)
	}
	return f.ending, out.String()
}

// BenchmarkMeasures is the time of all edit measures but repetition, of a change of 200
// files and 10,000 lines in a repository of 20,000, beside `git diff` of the same two
// trees; the index for repetition, and repetition with it, apart. Memory is what the
// measuring allocates, for this change and for one of a tenth of it.
func BenchmarkMeasures(b *testing.B) {
	origin, g, p, scratch := large(b, source)
	w, err := workspace.Copier{}.Make(b.Context(), p, filepath.Join(scratch, "w"), workspace.CopyOptions{})
	require.NoError(b, err)
	capture := func(files int) workspace.Captured {
		for i := range files {
			ending, content := source(i)
			name := filepath.Join(w.Tree(), fmt.Sprintf("d%02d/e%02d/file%05d.%s", i%50, i/50%20, i, ending))
			lines := strings.SplitAfter(content, "\n")
			for n := 4; n < 54; n += 2 { // 25 lines go, 25 come
				lines[n] = strings.Replace(lines[n], "lamp", "lantern", 1) + ""
				if !strings.Contains(lines[n], "lantern") {
					lines[n] = strings.TrimSuffix(lines[n], "\n") + " \n"
				}
			}
			require.NoError(b, os.WriteFile(name, []byte(strings.Join(lines, "")), 0o644))
		}
		c, err := g.Capture(b.Context(), w, workspace.Limits{File: 1 << 20, Total: 1 << 30})
		require.NoError(b, err)
		for _, name := range []string{"capture.git", "capture.index"} {
			require.NoError(b, os.RemoveAll(filepath.Join(w.Dir, name)))
		}
		return *c
	}
	small, whole := capture(20), capture(200)
	cmd := exec.Command("cp", "-r", w.Tree()+"/.", origin)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	require.NoError(b, os.Rename(filepath.Join(origin, ".git"), filepath.Join(scratch, "kept")))
	require.NoError(b, cmd.Run())
	require.NoError(b, os.RemoveAll(filepath.Join(origin, ".git")))
	require.NoError(b, os.Rename(filepath.Join(scratch, "kept"), filepath.Join(origin, ".git")))
	git(b, origin, "add", "-A")
	git(b, origin, "commit", "-qm", "change")
	git(b, origin, "repack", "-adq")
	measure := func(c workspace.Captured, index *patch.Index) (*patch.Measures, time.Duration, uint64) {
		change, err := g.ReadChange(b.Context(), p, scratch, c.Diff, c.Tree)
		require.NoError(b, err)
		defer change.Close()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		contents, err := g.Contents(b.Context(), p, change)
		require.NoError(b, err)
		in := &patch.Input{Diff: c.Diff, Index: index, IsTest: func(name string) bool { return false }, Read: func(side patch.Side, name string) []byte {
			if side == patch.Before {
				return contents.Before(name)
			}
			return contents.After(name)
		}, Ahead: func(places []patch.Place) {
			var ask []workspace.Asked
			for _, p := range places {
				ask = append(ask, workspace.Asked{Result: p.Side == patch.After, Name: p.Path})
			}
			contents.Ahead(ask)
		}}
		if index == nil {
			in.Off = []string{"repetition"}
		}
		m, err := patch.MeasureEdits(in)
		require.NoError(b, err)
		require.NoError(b, contents.Close())
		took := time.Since(began)
		runtime.ReadMemStats(&after)
		return m, took, after.TotalAlloc - before.TotalAlloc
	}
	change, err := g.ReadChange(b.Context(), p, scratch, whole.Diff, whole.Tree)
	require.NoError(b, err)
	defer change.Close()
	contents, err := g.Contents(b.Context(), p, change)
	require.NoError(b, err)
	began := time.Now()
	index := patch.NewIndex()
	files, err := g.Files(p)
	require.NoError(b, err)
	var ask []workspace.Asked
	for _, name := range files {
		ask = append(ask, workspace.Asked{Name: name})
	}
	contents.Ahead(ask)
	for _, name := range files {
		index.Add(name, contents.Before(name))
	}
	indexed := time.Since(began)
	require.NoError(b, contents.Close())
	_, _, least := measure(small, nil)
	m, _, _ := measure(whole, nil)
	count, _ := m.Figure("files")
	added, _ := m.Figure("lines_added")
	removed, _ := m.Figure("lines_removed")
	require.EqualValues(b, 200, count)
	require.InDelta(b, 10_000, added+removed, 500)
	var ours, plain, repeated []time.Duration
	var most uint64
	for len(plain) < 15 || b.Loop() { // medians of so few as fit into the usual second say little
		began := time.Now()
		git(b, origin, "diff", "--binary", "--full-index", "-M", "--output="+filepath.Join(scratch, "plain.patch"), "HEAD~1", "HEAD")
		plain = append(plain, time.Since(began))
		_, took, bytes := measure(whole, nil)
		ours, most = append(ours, took), bytes
		_, took, _ = measure(whole, index)
		repeated = append(repeated, took)
	}
	b.ReportMetric(float64(median(ours))/float64(median(plain)), "x-git-diff")
	b.ReportMetric(float64(median(ours).Microseconds())/1000, "ours-ms")
	b.ReportMetric(float64(median(plain).Microseconds())/1000, "git-ms")
	b.ReportMetric(float64(median(repeated).Microseconds())/1000, "with-repetition-ms")
	b.ReportMetric(float64(indexed.Milliseconds()), "index-ms")
	b.ReportMetric(float64(most)/float64(least), "x-memory-for-10x")
	b.ReportMetric(float64(most)/(1<<20), "MiB")
}
