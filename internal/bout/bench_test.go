package bout_test

import (
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"agonometer/demo"
	"agonometer/internal/bout"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/task"
)

func TestMain(m *testing.M) {
	confine.MaybeSupervise()
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

// large makes a repository of 20,000 files, and its prepared state.
func large(b *testing.B) (origin string, g *workspace.Git, p *workspace.Prepared, scratch string) {
	b.Helper()
	origin, scratch = b.TempDir(), b.TempDir()
	for i := range 20_000 {
		name := filepath.Join(origin, fmt.Sprintf("d%02d/e%02d/file%05d.txt", i%50, i/50%20, i))
		if i < 1000 {
			require.NoError(b, os.MkdirAll(filepath.Dir(name), 0o755))
		}
		require.NoError(b, os.WriteFile(name, []byte(fmt.Sprintf("file %d\nof the harbour office\n%d\n", i, i*i)), 0o644))
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
	p, err = g.Prepare(b.Context(), filepath.Join(scratch, "prepared"), start, commit, "", workspace.CopyOptions{}, nil)
	require.NoError(b, err)
	return origin, g, p, scratch
}

// BenchmarkWorkspace is the time to make a workspace of 20,000 files beside a
// plain `git clone --local`, one after the other in the same run.
func BenchmarkWorkspace(b *testing.B) {
	origin, _, p, scratch := large(b)
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
	_, g, p, scratch := large(b)
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
