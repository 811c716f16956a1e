package patch

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Patches that people make name the same files, whatever made them.
func TestPrefixed(t *testing.T) {
	const hunk = "@@ -1 +1 @@\n-a\n+b\n"
	for name, c := range map[string]struct{ diff, want string }{
		"of git":                   {"diff --git a/src/log.js b/src/log.js\nindex 1..2 100644\n--- a/src/log.js\n+++ b/src/log.js\n" + hunk, "src/log.js changed"},
		"of git, other prefixes":   {"diff --git i/src/log.js w/src/log.js\nindex 1..2 100644\n--- i/src/log.js\n+++ w/src/log.js\n" + hunk, "src/log.js changed"},
		"of git, without prefixes": {"diff --git src/log.js src/log.js\nindex 1..2 100644\n--- src/log.js\n+++ src/log.js\n" + hunk, "src/log.js changed"},
		"without, new":             {"diff --git src/log.js src/log.js\nnew file mode 100644\nindex 0..2\n--- /dev/null\n+++ src/log.js\n@@ -0,0 +1 @@\n+b\n", "src/log.js added"},
		"without, gone":            {"diff --git src/log.js src/log.js\ndeleted file mode 100644\nindex 2..0\n--- src/log.js\n+++ /dev/null\n@@ -1 +0,0 @@\n-b\n", "src/log.js deleted"},
		"without, a mode":          {"diff --git run.sh run.sh\nold mode 100644\nnew mode 100755\n", "run.sh mode"},
		"without, renamed":         {"diff --git old.js new.js\nsimilarity index 100%\nrename from old.js\nrename to new.js\n", "new.js renamed old.js"},
		"without, quoted":          {"diff --git \"src/caf\\303\\251.js\" \"src/caf\\303\\251.js\"\nindex 1..2 100644\n--- \"src/caf\\303\\251.js\"\n+++ \"src/caf\\303\\251.js\"\n" + hunk, "src/café.js changed"},
		"without, in a folder a":   {"diff --git a/log.js a/log.js\nindex 1..2 100644\n--- a/log.js\n+++ a/log.js\n" + hunk, "a/log.js changed"},
		"of diff, with prefixes":   {"--- a/src/log.js\n+++ b/src/log.js\n" + hunk, "src/log.js changed"},
		"of diff, bare":            {"--- src/log.js\t2031-04-01 10:00:00 +0000\n+++ src/log.js\t2031-04-01 10:01:00 +0000\n" + hunk, "src/log.js changed"},
		"of diff, two folders":     {"diff -ruN old/src/log.js new/src/log.js\n--- old/src/log.js\t2031-04-01 10:00:00\n+++ new/src/log.js\t2031-04-01 10:01:00\n" + hunk, "src/log.js changed"},
		"of diff, new":             {"diff -ruN old/src/log.js new/src/log.js\n--- old/src/log.js\t1970-01-01 00:00:00.000000000 +0000\n+++ new/src/log.js\t2031-04-01 10:01:00\n@@ -0,0 +1 @@\n+b\n", "src/log.js added"},
		"of diff, gone":            {"--- old/src/log.js\t2031-04-01 10:01:00\n+++ new/src/log.js\t1970-01-01 00:00:00.000000000 +0000\n@@ -1 +0,0 @@\n-b\n", "src/log.js deleted"},
		"of diff, from nothing":    {"--- /dev/null\n+++ b/src/log.js\n@@ -0,0 +1 @@\n+b\n", "src/log.js added"},
		"of diff, to nothing":      {"--- a/src/log.js\n+++ /dev/null\n@@ -1 +0,0 @@\n-b\n", "src/log.js deleted"},
		"two, with lines like heads": {"--- a/x.sql\n+++ b/x.sql\n@@ -1,2 +1,2 @@\n--- a/no file\n+++ b/no file\n same\n--- a/y.sql\n+++ b/y.sql\n" + hunk,
			"x.sql changed, y.sql changed"},
	} {
		t.Run(name, func(t *testing.T) {
			files, err := Parse(Prefixed([]byte(c.diff)), 0)
			require.NoError(t, err)
			var got []string
			for _, f := range files {
				got = append(got, strings.TrimSpace(f.Path+" "+string(f.Status)+" "+f.OldPath))
			}
			assert.Equal(t, c.want, strings.Join(got, ", "))
		})
	}
	for _, odd := range []string{"", "no patch", "--- x\n", "--- \n+++ \n@@ -1 +1 @@\n", "diff --git \n", "@@ -1,99999999999999999999 +1 @@\n+x\n", "--- /dev/null\n+++ /dev/null\n", "--- x.orig\n+++ x\n@@ -1 +1 @@\n", "\x00\xff\n--- \"q\n+++ \"q\n"} {
		assert.NotPanics(t, func() { Prefixed([]byte(odd)) })
	}
}

// What git and diff really print reads the same, and a patch that had its prefixes stays as it is.
func TestPrefixedOfRealDiffs(t *testing.T) {
	dir := t.TempDir()
	sh := func(script string) []byte {
		cmd := exec.Command("sh", "-c", script)
		cmd.Dir = dir
		cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "GIT_CONFIG_NOSYSTEM=1"}
		out, err := cmd.Output()
		if err != nil {
			require.Equal(t, 1, cmd.ProcessState.ExitCode(), "%s: %v", script, err) // they differ
		}
		return out
	}
	sh(`mkdir -p old/src/quay new; printf 'one\ntwo\nthree\n' > old/src/quay/berth.c; printf -- '-- a\n-- b\n' > old/x.sql; echo gone > old/gone.txt; cp -r old/* new/
		sed -i 's/two/2/' new/src/quay/berth.c; printf -- '++ a\n-- b\n' > new/x.sql; rm new/gone.txt; echo new > new/src/fresh.txt`)
	names := func(diff []byte) (out []string) {
		files, err := Parse(Prefixed(diff), 0)
		require.NoError(t, err, string(diff))
		for _, f := range files {
			out = append(out, string(f.Status)+" "+f.Path)
		}
		return out
	}
	want := []string{"deleted gone.txt", "added src/fresh.txt", "changed src/quay/berth.c", "changed x.sql"}
	assert.ElementsMatch(t, want, names(sh(`diff -ruN old new`)))
	sh(`mv old repo; cd repo; git init -q .; git add -A; git -c user.name=a -c user.email=a@localhost commit -qm start; cp -r ../new/* .; rm gone.txt; git add -A`)
	for _, flags := range []string{"", "--no-prefix", "--src-prefix=old/ --dst-prefix=new/", "-U0 --no-prefix"} {
		assert.ElementsMatch(t, want, names(sh(`cd repo; git diff --cached `+flags)), flags)
	}
	own := sh(`cd repo; git diff --cached`)
	assert.Equal(t, string(own), string(Prefixed(own)))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bare.patch"), Prefixed(sh(`cd repo; git diff --cached --no-prefix`)), 0o644))
	sh(`cd repo; git reset -q --hard; git apply ../bare.patch`)
	assert.FileExists(t, filepath.Join(dir, "repo/src/fresh.txt"))
}
