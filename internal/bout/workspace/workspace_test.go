package workspace

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/bout/beneath"
)

// sh runs a script as a tool would, in a folder.
func sh(t *testing.T, dir, script string) string {
	t.Helper()
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@localhost", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@localhost"}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

type fixture struct {
	git    *Git
	repos  *Repositories
	origin string
	commit string
	later  string
	dir    string
	p      *Prepared
	// reference is the patch whose manifests prepare is run with.
	reference      []byte
	start, prepare string
}

// newFixture makes an origin with a start commit and a later one, and prepares it.
func newFixture(t *testing.T, format, prepare string) *fixture {
	t.Helper()
	return fixtureOf(t, `git init -q -b main --object-format=`+format+` .
		mkdir src docs
		printf 'one\ntwo\nthree\n' > src/a.txt; printf 'b\n' > src/b.txt; printf 'keep\n' > docs/keep.md
		printf '\000\001binary' > blob.bin; printf '#!/bin/sh\n' > run.sh; ln -s src/a.txt link
		printf '*.log\nbuild/\n' > .gitignore; mkdir old; printf 'x\n' > old/x; printf 'tracked\n' > kept.log; git add -f kept.log
		git add -A; git commit -qm first
		printf 'start\n' >> src/b.txt; git commit -qam start; git tag begin
		printf 'ANSWER\n' > answer.txt; git add -A; git commit -qm later; git branch other; git tag v2`, prepare)
}

// fixtureOf prepares the commit `begin` of an origin that a script makes.
func fixtureOf(t *testing.T, origin, prepare string, reference ...byte) *fixture {
	t.Helper()
	f := &fixture{reference: reference, origin: t.TempDir(), dir: t.TempDir()}
	sh(t, f.origin, origin)
	f.commit, f.later = sh(t, f.origin, "git rev-parse begin"), sh(t, f.origin, "git rev-parse main")
	var err error
	f.git, err = NewGit(filepath.Join(f.dir, "git"))
	require.NoError(t, err)
	f.repos = &Repositories{Git: f.git, Mirrors: f.dir}
	for _, d := range []string{"starts", "prepared", "scratch"} {
		require.NoError(t, os.Mkdir(filepath.Join(f.dir, d), 0o755))
	}
	start, err := f.repos.StartRepository(t.Context(), filepath.Join(f.dir, "starts"), f.origin, f.commit)
	require.NoError(t, err)
	f.start, f.prepare = start, prepare
	subs, err := f.repos.Submodules(t.Context(), filepath.Join(f.dir, "starts"), f.origin, f.commit)
	require.NoError(t, err)
	f.p, err = f.git.Prepare(t.Context(), filepath.Join(f.dir, "prepared"), start, f.commit, prepare, f.reference, subs, CopyOptions{},
		func(ctx context.Context, ws, home, tmp string) (time.Duration, error) {
			cmd := exec.CommandContext(ctx, "sh", "-ec", prepare)
			cmd.Dir = ws
			cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "TMPDIR=" + tmp}
			out, err := cmd.CombinedOutput()
			if err != nil {
				err = fmt.Errorf("%w: %s", err, out)
			}
			return time.Millisecond, err
		})
	require.NoError(t, err)
	return f
}

func (f *fixture) make(t *testing.T, name string) *Workspace {
	t.Helper()
	w, err := Copier{}.Make(t.Context(), f.p, filepath.Join(f.dir, "scratch", name), CopyOptions{})
	require.NoError(t, err)
	return w
}

// apply turns a fresh copy into the result of a diff, as judging does.
func (f *fixture) apply(t *testing.T, w *Workspace, diff []byte, want string) error {
	t.Helper()
	c, err := f.git.ReadChange(t.Context(), f.p, t.TempDir(), diff, want)
	if err != nil {
		return err
	}
	defer c.Close()
	return f.git.Place(t.Context(), w, c)
}

var plenty = Limits{File: 32 << 20, Total: 512 << 20}

// captureAndApply captures a workspace and checks that the diff, laid over a
// fresh copy, gives the same files again.
func (f *fixture) captureAndApply(t *testing.T, w *Workspace) (*Captured, string) {
	t.Helper()
	c, err := f.git.Capture(t.Context(), w, plenty)
	require.NoError(t, err)
	again := f.make(t, filepath.Base(w.Dir)+"-again")
	require.NoError(t, f.apply(t, again, c.Diff, c.Tree))
	return c, again.Tree()
}

// shownTree shows a tree but for .git and what is ignored: names, modes, contents.
func shownTree(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	require.NoError(t, filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		if d.Name() == ".git" {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if d.IsDir() {
			return nil
		}
		rel, _ := filepath.Rel(dir, name)
		if d.Type()&os.ModeSymlink != 0 {
			to, _ := os.Readlink(name)
			fmt.Fprintf(&b, "%q -> %q\n", rel, to)
			return nil
		}
		st, _ := d.Info()
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		fmt.Fprintf(&b, "%q %v %q\n", rel, st.Mode()&0o100 != 0, data)
		return nil
	}))
	return b.String()
}

func TestStartRepositoryHoldsNothingLater(t *testing.T) {
	for _, format := range []string{"sha1", "sha256"} {
		t.Run(format, func(t *testing.T) {
			f := newFixture(t, format, "")
			w := f.make(t, "w")
			assert.Equal(t, f.commit, sh(t, w.Tree(), "git rev-parse HEAD"))
			assert.Equal(t, "start\nfirst", sh(t, w.Tree(), "git log --all --format=%s"))
			assert.Equal(t, "", sh(t, w.Tree(), "git status --porcelain"))
			assert.Equal(t, "", sh(t, w.Tree(), "git remote"))
			blob := sh(t, f.origin, "git rev-parse main:answer.txt")
			for _, id := range []string{f.later, blob} {
				assert.Equal(t, "absent", sh(t, w.Tree(), "git cat-file -e "+id+" 2>/dev/null && echo present || echo absent"))
			}
			assert.Equal(t, "", sh(t, w.Tree(), "grep -rl '"+f.origin+"' .git || true"), "the origin's path stands somewhere")
			assert.NotContains(t, sh(t, w.Tree(), "cat .git/config; ls .git"), "hooks")
			sh(t, w.Tree(), "git fsck --strict 2>&1")
			c, err := f.git.Capture(t.Context(), w, plenty)
			require.NoError(t, err)
			assert.False(t, c.Changed())
		})
	}
}

// Each change is captured, and gives the same files again on a fresh copy.
func TestCaptureTakesEveryKindOfChange(t *testing.T) {
	cases := []struct{ name, do, wants string }{
		{"edit", `echo four >> src/a.txt`, "src/a.txt"},
		{"committed", `echo four >> src/a.txt; git commit -qam work`, "src/a.txt"},
		{"staged", `echo four >> src/a.txt; git add -A`, "src/a.txt"},
		{"untracked", `mkdir new; echo n > new/file`, "new/file"},
		{"renamed", `git mv src/a.txt src/c.txt`, "src/c.txt"},
		{"deleted", `rm src/b.txt`, "src/b.txt"},
		{"folder deleted", `rm -r src`, "src/a.txt"},
		{"binary", `printf '\000\377\001' > blob.bin; printf '\000' > new.bin`, "GIT binary patch"},
		{"mode only", `chmod +x run.sh`, "new mode 100755"},
		{"file to folder", `rm src/b.txt; mkdir src/b.txt; echo deep > src/b.txt/in`, "src/b.txt/in"},
		{"folder to file", `rm -r old; echo file > old`, "deleted file mode"},
		{"folder to link", `rm -r old; ln -s src old`, "120000"},
		{"link to file", `rm link; echo plain > link`, "link"},
		{"link elsewhere", `ln -sf /etc/passwd link`, "/etc/passwd"},
		{"tracked but ignored", `echo more >> kept.log`, "kept.log"},
		{"no newline at the end", `printf 'one' > src/a.txt`, "No newline"},
		{"crlf", `printf 'one\r\ntwo\r\n' > src/a.txt`, "src/a.txt"},
		{"empty file", `: > empty`, "empty"},
		{"odd names", `printf x > "$(printf 'new\nline')"; printf x > "$(printf 'tab\tand\033[31mred')"; printf x > '"quoted"'; printf x > ' lead'; printf x > 'a\b'; printf x > -- '-dash' || printf x > ./-dash; printf x > 'ü'; printf x > :colon`, `new\nline`},
		{"latin-1 name", `printf x > "$(printf 'caf\351')"`, `caf\351`},
		{"git gc", `echo four >> src/a.txt; git add -A; git commit -qm w; git gc -q --prune=now --aggressive`, "src/a.txt"},
		{"git removed", `echo four >> src/a.txt; rm -rf .git`, "src/a.txt"},
		{"git replaced by a file", `echo four >> src/a.txt; rm -rf .git; echo 'gitdir: /etc' > .git`, "src/a.txt"},
		{"git is a link", `echo four >> src/a.txt; rm -rf .git; ln -s /etc .git`, "src/a.txt"},
		{"history rewritten", `echo four >> src/a.txt; git checkout -q --orphan fresh; git add -A; git commit -qm only; git update-ref -d refs/heads/main`, "src/a.txt"},
		{"nested repository", `mkdir inner; cd inner; git init -q; echo in > f; git add f; git commit -qm i`, "inner/f"},
		{"empty nested repository", `mkdir -p inner/.git; echo in > inner/f`, "inner/f"},
		{"hostile encoding", `echo '* working-tree-encoding=UTF-7-BOGUS' > .gitattributes; echo four >> src/a.txt`, "+four"},
		{"attributes that hide", `echo '* binary -diff' > .gitattributes; echo four >> src/a.txt`, "+four"},
		{"attributes that turn line ends", `echo '* text eol=crlf' > .gitattributes; printf 'l1\nl2\n' > src/a.txt`, "+l1"},
		{"time put back", `touch -r src/a.txt stamp; printf 'ONE\ntwo\nthree\n' > src/a.txt; touch -r stamp src/a.txt; rm stamp`, "+ONE"},
		{"unreadable", `echo s > secret; chmod 000 secret; chmod 000 src/b.txt`, "secret"},
	}
	f := newFixture(t, "sha1", "")
	for i, tc := range cases {
		t.Run(tc.name, func(t *testing.T) {
			w := f.make(t, fmt.Sprint("w", i))
			sh(t, w.Tree(), tc.do)
			c, again := f.captureAndApply(t, w)
			assert.Contains(t, string(c.Diff), tc.wants)
			if tc.name != "unreadable" {
				assert.Equal(t, shownTree(t, w.Tree()), shownTree(t, again))
			}
		})
	}
}

func TestIgnoredFilesAreLeftOutAndCounted(t *testing.T) {
	f := newFixture(t, "sha1", "mkdir build; echo made > build/cache")
	w := f.make(t, "w")
	sh(t, w.Tree(), `echo x > debug.log; mkdir -p build/deep; echo x > build/deep/o; echo 'secrets/' >> .gitignore; mkdir secrets; echo k > secrets/k; echo y > seen.txt
		mkdir sub; echo '!*.log' > sub/.gitignore; echo x > sub/kept.log`)
	c, err := f.git.Capture(t.Context(), w, plenty)
	require.NoError(t, err)
	assert.Equal(t, 3, c.Ignored, "debug.log, build/deep/o, secrets/k; build/cache was there before")
	for _, in := range []string{"seen.txt", ".gitignore", "sub/kept.log"} {
		assert.Contains(t, string(c.Diff), "b/"+in)
	}
	for _, out := range []string{"debug.log", "build/", "secrets/k"} {
		assert.NotContains(t, string(c.Diff), "b/"+out)
	}
}

func TestWhatPrepareMadeIsNotTheContenders(t *testing.T) {
	f := newFixture(t, "sha1", `echo generated > made.txt; mkdir -p vendor/lib; cd vendor/lib; git init -q; echo lib > code; cd ../..; echo warm > "$HOME/cache"; rm -rf .git/config.lock`)
	w := f.make(t, "w")
	assert.FileExists(t, filepath.Join(w.Tree(), "made.txt"))
	assert.FileExists(t, filepath.Join(w.Home(), "cache"))
	c, err := f.git.Capture(t.Context(), w, plenty)
	require.NoError(t, err)
	assert.False(t, c.Changed(), string(c.Diff))
	sh(t, w.Tree(), "echo mine >> made.txt; echo mine >> vendor/lib/code")
	c2 := f.make(t, "w2")
	sh(t, c2.Tree(), "echo mine >> made.txt; echo mine >> vendor/lib/code")
	captured, _ := f.captureAndApply(t, c2)
	assert.Contains(t, string(captured.Diff), "vendor/lib/code")
	assert.Contains(t, string(captured.Diff), " generated\n+mine")
}

// A hostile .git runs nothing at capture.
func TestCaptureRunsNothingOfTheWorkspace(t *testing.T) {
	f := newFixture(t, "sha1", "")
	w := f.make(t, "w")
	proof := filepath.Join(t.TempDir(), "ran")
	evil := filepath.Join(w.Tree(), "evil.sh")
	require.NoError(t, os.WriteFile(evil, []byte("#!/bin/sh\necho ran >> "+proof+"\ncat\n"), 0o755))
	sh(t, w.Tree(), `git config core.fsmonitor '`+evil+`'; git config core.hooksPath .; git config diff.evil.textconv '`+evil+`'; git config diff.external '`+evil+`'
		git config filter.evil.clean '`+evil+`'; git config filter.evil.process '`+evil+`'
		echo '* filter=evil diff=evil' > .gitattributes; mkdir -p .git/hooks; cp evil.sh .git/hooks/post-index-change; cp evil.sh post-index-change; rm -f '`+proof+`'; echo edit >> src/a.txt`)
	_, _ = f.captureAndApply(t, w)
	assert.NoFileExists(t, proof)
}

func TestSpecialFilesAndCaps(t *testing.T) {
	f := newFixture(t, "sha1", "")
	w := f.make(t, "w")
	require.NoError(t, syscall.Mkfifo(filepath.Join(w.Tree(), "pipe"), 0o644))
	sh(t, w.Tree(), `head -c 3000000 /dev/zero > big; echo small > small; mkdir -p `+strings.Repeat("d/", 250))
	c, err := f.git.Capture(t.Context(), w, Limits{File: 1 << 20, Total: 1 << 21})
	require.NoError(t, err)
	assert.Equal(t, []string{"big"}, c.TooLarge)
	assert.Equal(t, 1, c.Special)
	assert.NotZero(t, c.Unreadable)
	assert.Contains(t, string(c.Diff), "b/small")
}

func TestALinkOutIsNeverFollowed(t *testing.T) {
	f := newFixture(t, "sha1", "")
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "a.txt"), []byte("outside\n"), 0o644))
	w := f.make(t, "w")
	sh(t, w.Tree(), `rm -r src; ln -s '`+outside+`' src; echo changed > src/b.txt`)
	c, again := f.captureAndApply(t, w)
	assert.NotContains(t, string(c.Diff), "+outside")
	to, err := os.Readlink(filepath.Join(again, "src"))
	require.NoError(t, err)
	assert.Equal(t, outside, to)
	// A patch that writes through the link is not obeyed.
	evil := "diff --git a/src2 b/src2\nnew file mode 120000\n--- /dev/null\n+++ b/src2\n@@ -0,0 +1 @@\n+" + outside + "\n\\ No newline at end of file\n" +
		"diff --git a/src2/owned b/src2/owned\nnew file mode 100644\n--- /dev/null\n+++ b/src2/owned\n@@ -0,0 +1 @@\n+owned\n"
	again2 := f.make(t, "again2")
	_ = f.apply(t, again2, []byte(evil), "")
	assert.NoFileExists(t, filepath.Join(outside, "owned"))
}

func TestSecretsAreStruckOut(t *testing.T) {
	f := newFixture(t, "sha1", "")
	w := f.make(t, "w")
	sh(t, w.Tree(), `echo 'key = tide-key-123456' > config; echo x > note-tide-key-123456`)
	limits := plenty
	limits.Secrets = []string{"tide-key-123456", "abc"}
	c, err := f.git.Capture(t.Context(), w, limits)
	require.NoError(t, err)
	assert.NotContains(t, string(c.Diff), "tide-key-123456")
	assert.Contains(t, string(c.Diff), "key = ***************")
	assert.Equal(t, 2, c.Struck)
	again := f.make(t, "again")
	require.NoError(t, f.apply(t, again, c.Diff, c.Tree))
}

func TestApplyRefusesWhatDoesNotFit(t *testing.T) {
	f := newFixture(t, "sha1", "")
	w := f.make(t, "w")
	assert.ErrorContains(t, f.apply(t, w, []byte("diff --git a/nope b/nope\n--- a/nope\n+++ b/nope\n@@ -1 +1 @@\n-a\n+b\n"), ""), "does not apply")
	w2 := f.make(t, "w2")
	sh(t, w2.Tree(), "echo four >> src/a.txt")
	c, err := f.git.Capture(t.Context(), w2, plenty)
	require.NoError(t, err)
	assert.ErrorContains(t, f.apply(t, f.make(t, "w3"), c.Diff, strings.Repeat("0", 40)), "capture had")
}

func TestResolveTellsWhatIsMissing(t *testing.T) {
	f := newFixture(t, "sha1", "")
	id, err := f.repos.ResolveCommit(f.origin, "HEAD~1")
	require.NoError(t, err)
	assert.Equal(t, f.commit, id)
	_, err = f.repos.ResolveCommit(f.origin, "no-such-tag")
	assert.ErrorContains(t, err, "no such commit")
	_, err = f.repos.ResolveCommit(filepath.Join(f.origin, "nowhere"), "HEAD")
	assert.ErrorContains(t, err, "no such folder")
	_, err = f.repos.ResolveCommit(filepath.Join(f.origin, "src"), "HEAD")
	assert.ErrorContains(t, err, "only a folder inside")
	_, err = f.repos.ResolveCommit(f.origin, "--exec=touch /tmp/x")
	assert.Error(t, err)
	// Over a URL the repository is mirrored, and gives the same start.
	url := "file://" + f.origin
	id, err = f.repos.ResolveCommit(url, "begin")
	require.NoError(t, err)
	assert.Equal(t, f.commit, id)
	_, err = f.repos.ResolveCommit("file:///no/such/repository", "HEAD")
	assert.ErrorContains(t, err, "cannot be fetched")
}

func TestCopyTreeKeepsModesTimesAndLinks(t *testing.T) {
	from, to := t.TempDir(), filepath.Join(t.TempDir(), "copy")
	sh(t, from, `mkdir -p a/b; echo x > a/b/f; chmod 640 a/b/f; touch -d '2020-01-02 03:04:05' a/b/f; ln -s a/b/f l; mkdir ro; echo y > ro/f; chmod 555 ro; touch -d '2021-01-01' a/b`)
	require.NoError(t, CopyTree(from, to, CopyOptions{}))
	a, err := os.Stat(filepath.Join(from, "a/b/f"))
	require.NoError(t, err)
	b, err := os.Stat(filepath.Join(to, "a/b/f"))
	require.NoError(t, err)
	assert.Equal(t, a.ModTime(), b.ModTime())
	assert.Equal(t, a.Mode(), b.Mode())
	assert.Equal(t, shownTree(t, from), shownTree(t, to))
	require.NoError(t, beneath.RemoveTree(to))
	assert.NoDirExists(t, to)
	assert.True(t, bytes.Equal(Strike([]byte("a tide-key b"), []string{"tide-key"}), []byte("a ******** b")))
}

// Prepare runs with the reference's manifests, so that what it adds is there when it is
// judged; the start's come back, and the reference's are nowhere to be seen.
func TestPrepareFetchesWhatTheReferenceNeeds(t *testing.T) {
	const reference = "diff --git a/go.mod b/go.mod\n--- a/go.mod\n+++ b/go.mod\n@@ -1 +1,2 @@\n module averil.example/port\n+require averil.example/tide v1.0.0\n" +
		"diff --git a/sub/requirements-dev.txt b/sub/requirements-dev.txt\nnew file mode 100644\n--- /dev/null\n+++ b/sub/requirements-dev.txt\n@@ -0,0 +1 @@\n+tide\n" +
		"diff --git a/port.go b/port.go\n--- a/port.go\n+++ b/port.go\n@@ -1 +1 @@\n-package port\n+package port // ANSWER\n"
	f := fixtureOf(t, `git init -q -b main .; echo 'module averil.example/port' > go.mod; echo 'package port' > port.go; git add -A; git commit -qm start; git tag begin`,
		`{ cat go.mod port.go sub/requirements-dev.txt || true; } >> "$HOME/seen"; mkdir -p fetched; echo x > fetched/x`, []byte(reference)...)
	seen, err := os.ReadFile(filepath.Join(f.p.Home(), "seen"))
	require.NoError(t, err)
	assert.Equal(t, "module averil.example/port\npackage port\nmodule averil.example/port\nrequire averil.example/tide v1.0.0\npackage port\ntide\n", string(seen))
	w := f.make(t, "w")
	assert.Equal(t, "?? fetched/", sh(t, w.Tree(), "git status --porcelain"))
	assert.NoFileExists(t, filepath.Join(w.Tree(), "sub", "requirements-dev.txt"))
	c, err := f.git.Capture(t.Context(), w, plenty)
	require.NoError(t, err)
	assert.False(t, c.Changed(), string(c.Diff))
	require.NoError(t, f.apply(t, f.make(t, "judged"), []byte(reference), ""))

	again, err := f.git.Prepare(t.Context(), filepath.Join(f.dir, "prepared"), f.start, f.commit, f.prepare, nil, nil, CopyOptions{}, func(context.Context, string, string, string) (time.Duration, error) { return 0, nil })
	require.NoError(t, err)
	assert.NotEqual(t, f.p.Dir, again.Dir, "another state without the reference")
	for _, odd := range []string{"", "nonsense", "diff --git a/go.mod b/go.mod\n--- a/go.mod\n+++ b/go.mod\n@@ -1 +1 @@\n-not there\n+x\n"} {
		_, err := f.git.Prepare(t.Context(), filepath.Join(f.dir, "prepared"), f.start, f.commit, "true", []byte(odd), nil, CopyOptions{}, func(context.Context, string, string, string) (time.Duration, error) { return 0, nil })
		require.NoError(t, err, odd)
	}
}
