package workspace

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is done to a work tree, the captured tree is the one that git itself
// would have made of it, and the diff leads there.
func TestRandomChangesGiveGitsOwnTree(t *testing.T) {
	f := newFixture(t, "sha1", "")
	for seed := range uint64(25) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			rng := rand.New(rand.NewPCG(seed, 7))
			w := f.make(t, fmt.Sprint("r", seed))
			scramble(t, rng, w.Tree())
			c, again := f.captureAndApply(t, w)
			assert.Equal(t, shownTree(t, w.Tree()), shownTree(t, again))
			index := filepath.Join(t.TempDir(), "index")
			env := []string{"GIT_DIR=" + filepath.Join(w.Dir, "capture.git"), "GIT_WORK_TREE=" + w.Tree(), "GIT_INDEX_FILE=" + index}
			for _, args := range [][]string{{"read-tree", f.p.Tree}, {"add", "--all", "--force"}} {
				_, err := f.git.run(t.Context(), call{dir: w.Tree(), env: env, args: args})
				require.NoError(t, err)
			}
			want, err := f.git.line(t.Context(), call{dir: w.Tree(), env: env, args: []string{"write-tree"}})
			require.NoError(t, err)
			assert.Equal(t, want, c.Tree)
		})
	}
}

// scramble edits, moves, deletes and makes things at random.
func scramble(t *testing.T, rng *rand.Rand, dir string) {
	t.Helper()
	pick := func() string {
		var all []string
		require.NoError(t, filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
			require.NoError(t, err)
			if d.Name() == ".git" {
				return filepath.SkipDir
			}
			if name != dir {
				all = append(all, name)
			}
			return nil
		}))
		if len(all) == 0 {
			return filepath.Join(dir, "only")
		}
		return all[rng.IntN(len(all))]
	}
	names := []string{"a", "b.txt", "src", "old", "z z", "-x", "tab\t", "ü"}
	for range 12 {
		at := pick()
		fresh := filepath.Join(filepath.Dir(at), names[rng.IntN(len(names))])
		switch rng.IntN(7) {
		case 0:
			_ = os.RemoveAll(at)
		case 1:
			_ = os.Rename(at, fresh)
		case 2:
			_ = os.WriteFile(fresh, []byte(strings.Repeat("line\n", rng.IntN(5))), 0o644)
		case 3:
			_ = os.RemoveAll(fresh)
			_ = os.MkdirAll(filepath.Join(fresh, "deep"), 0o755)
			_ = os.WriteFile(filepath.Join(fresh, "deep", "in"), []byte{byte(rng.IntN(256)), 0}, 0o644)
		case 4:
			_ = os.RemoveAll(fresh)
			_ = os.Symlink(names[rng.IntN(len(names))], fresh)
		case 5:
			if st, err := os.Lstat(at); err == nil && st.Mode().IsRegular() {
				_ = os.Chmod(at, st.Mode()^0o111)
			}
		case 6:
			if st, err := os.Lstat(at); err == nil && st.Mode().IsRegular() {
				_ = os.WriteFile(at, []byte(fmt.Sprint(rng.IntN(1000), "\n")), 0)
			}
		}
	}
}

// What is laid over a result lands inside it, whatever links the result holds.
func TestLayStaysInside(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(dir, "outside")
	w := &Workspace{Prepared: &Prepared{Dir: filepath.Join(dir, "prepared")}, Dir: filepath.Join(dir, "w")}
	for _, d := range []string{outside, w.Tree(), w.Prepared.Template()} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	put := func(name, text string) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	put(filepath.Join(outside, "a_test.go"), "untouched")
	put(filepath.Join(w.Prepared.Template(), "deep", "a_test.go"), "of the start")
	require.NoError(t, os.Symlink("a_test.go", filepath.Join(w.Prepared.Template(), "deep", "link")))
	require.NoError(t, os.Symlink(outside, filepath.Join(w.Tree(), "deep"))) // a folder that became a link
	require.NoError(t, os.Symlink(filepath.Join(outside, "a_test.go"), filepath.Join(w.Tree(), "file")))
	put(filepath.Join(w.Tree(), "was-folder"), "a file now")
	require.NoError(t, os.MkdirAll(filepath.Join(w.Tree(), "sealed.sh", "x"), 0o755)) // a file that became a folder
	require.NoError(t, w.Lay(Laid{PutBack: []string{"deep/a_test.go", "deep/link"}, Remove: []string{"gone/a", "was-folder/b"},
		Files: map[string][]byte{"file": []byte("sealed"), "was-folder/in/c": []byte("c"), "sealed.sh": []byte("#!/bin/sh\n")}}))
	read := func(name string) string {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		return string(data)
	}
	assert.Equal(t, "untouched", read(filepath.Join(outside, "a_test.go")))
	assert.Equal(t, "of the start", read(filepath.Join(w.Tree(), "deep", "a_test.go")))
	target, err := os.Readlink(filepath.Join(w.Tree(), "deep", "link"))
	require.NoError(t, err)
	assert.Equal(t, "a_test.go", target)
	assert.Equal(t, "sealed", read(filepath.Join(w.Tree(), "file")))
	assert.Equal(t, "c", read(filepath.Join(w.Tree(), "was-folder", "in", "c")))
	st, err := os.Stat(filepath.Join(w.Tree(), "sealed.sh"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o755, st.Mode().Perm())
	// Taking out through a link takes nothing out there.
	require.NoError(t, os.Remove(filepath.Join(w.Tree(), "deep", "a_test.go")))
	require.NoError(t, os.RemoveAll(filepath.Join(w.Tree(), "deep")))
	require.NoError(t, os.Symlink(outside, filepath.Join(w.Tree(), "deep")))
	require.NoError(t, w.Lay(Laid{Remove: []string{"deep/a_test.go"}}))
	assert.Equal(t, "untouched", read(filepath.Join(outside, "a_test.go")))
	assert.Error(t, w.Lay(Laid{Files: map[string][]byte{"../escape": nil}}))
}
