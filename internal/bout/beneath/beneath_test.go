package beneath

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func open(t *testing.T, name string) *Dir {
	t.Helper()
	d, err := Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

// hostile is a tree with links that lead out of it, and what lies out there.
func hostile(t *testing.T) (d *Dir, tree, outside string) {
	t.Helper()
	base := t.TempDir()
	tree, outside = filepath.Join(base, "tree"), filepath.Join(base, "outside")
	for _, dir := range []string{tree, outside, filepath.Join(tree, "in")} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(outside, "answer"), []byte("SEALED"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "in", "own"), []byte("own"), 0o644))
	for name, to := range map[string]string{"folder": outside, "up": "../outside", "file": filepath.Join(outside, "answer"), "own": "in/own", "loop": "loop", "proc": "/proc/self/root"} {
		require.NoError(t, os.Symlink(to, filepath.Join(tree, name)))
	}
	require.NoError(t, unix.Mkfifo(filepath.Join(tree, "pipe"), 0o666))
	return open(t, tree), tree, outside
}

func TestNothingLeadsOut(t *testing.T) {
	d, _, outside := hostile(t)
	for _, name := range []string{"folder/answer", "up/answer", "file", "loop", "proc/etc/passwd", "../outside/answer", "in/../../outside/answer", "/etc/passwd", "pipe", "in", ""} {
		_, err := d.ReadFile(name, 1<<20)
		assert.Error(t, err, name)
		f, err := d.OpenFollowing(name)
		if err == nil {
			f.Close()
		}
		assert.Error(t, err, "following "+name)
		w, err := d.OpenForWrite(name)
		if err == nil {
			w.Close()
		}
		assert.Error(t, err, "writing "+name)
	}
	for _, name := range []string{"folder/new", "up/new", "proc/tmp/new", "../new"} {
		assert.Error(t, d.WriteFile(name, []byte("x"), 0o644, nil), name)
		assert.Error(t, d.Mkdir(name, 0o755), name)
		assert.Error(t, d.Symlink("x", name, nil), name)
		assert.Error(t, d.Chmod(name, 0o777), name)
		assert.Error(t, d.Chown(name, os.Getuid(), os.Getgid()), name)
	}
	assert.NoError(t, d.RemoveAll("folder/answer"), "what cannot be reached is as if it were not there")
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Len(t, left, 1)
	data, err := os.ReadFile(filepath.Join(outside, "answer"))
	require.NoError(t, err)
	assert.Equal(t, "SEALED", string(data))
	// Links inside are followed where that is asked for.
	f, err := d.OpenFollowing("own")
	require.NoError(t, err)
	defer f.Close()
	data, err = io.ReadAll(f)
	require.NoError(t, err)
	assert.Equal(t, "own", string(data))
}

func TestWhatIsInTheWayGoes(t *testing.T) {
	d, tree, outside := hostile(t)
	for _, name := range []string{"folder/a/b", "file/a/b", "pipe/a/b", "loop/a/b"} {
		sub, err := d.MkdirAll(name, 0o755, nil)
		require.NoError(t, err, name)
		require.NoError(t, sub.WriteFile("x", []byte("x"), 0o600, nil))
		sub.Close()
		st, err := os.Lstat(filepath.Join(tree, strings.Split(name, "/")[0]))
		require.NoError(t, err)
		assert.True(t, st.IsDir(), name)
	}
	require.NoError(t, d.WriteFile("up", []byte("plain"), 0o640, nil))
	st, err := os.Lstat(filepath.Join(tree, "up"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), st.Mode())
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

// A folder that is swapped for a link again and again never leads out.
func TestSwappedFolders(t *testing.T) {
	d, tree, outside := hostile(t)
	require.NoError(t, os.Mkdir(filepath.Join(tree, "real"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "real", "answer"), []byte("own"), 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(tree, "link")))
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() { // ends when stop is closed
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			default:
			}
			_ = unix.Renameat2(unix.AT_FDCWD, filepath.Join(tree, "real"), unix.AT_FDCWD, filepath.Join(tree, "link"), unix.RENAME_EXCHANGE)
		}
	}()
	reads := 0
	for deadline := time.Now().Add(500 * time.Millisecond); time.Now().Before(deadline) || reads == 0; {
		for _, name := range []string{"real/answer", "link/answer"} {
			if data, err := d.ReadFile(name, 1<<10); err == nil {
				reads++
				require.Equal(t, "own", string(data))
			}
			if d.Mkdir(strings.TrimSuffix(name, "answer")+"made", 0o755) == nil {
				_ = d.RemoveAll(strings.TrimSuffix(name, "answer") + "made")
			}
		}
		require.NoError(t, d.Walk(func(_ *Dir, _, name string, _ *unix.Stat_t) (bool, error) {
			require.NotContains(t, name, "outside")
			return true, nil
		}))
	}
	close(stop)
	<-ended
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

func TestRemoveTreeOfAnyShape(t *testing.T) {
	base := t.TempDir()
	dir := filepath.Join(base, "tree")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "closed", "inner"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "closed", "inner", "f"), nil, 0o444))
	require.NoError(t, os.Chmod(filepath.Join(dir, "closed", "inner"), 0o500))
	require.NoError(t, os.Chmod(filepath.Join(dir, "closed"), 0))
	outside := filepath.Join(base, "outside")
	require.NoError(t, os.MkdirAll(filepath.Join(outside, "kept"), 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "link")))
	// Deeper than a path can be long.
	d := open(t, dir)
	here, err := d.Sub(".")
	require.NoError(t, err)
	part := strings.Repeat("d", 200)
	for range 120 {
		require.NoError(t, here.Mkdir(part, 0o755))
		next, err := here.Sub(part)
		require.NoError(t, err)
		here.Close()
		here = next
	}
	here.Close()
	require.NoError(t, RemoveTree(dir))
	_, err = os.Lstat(dir)
	assert.True(t, errors.Is(err, fs.ErrNotExist))
	_, err = os.Stat(filepath.Join(outside, "kept"))
	assert.NoError(t, err)
	assert.NoError(t, RemoveTree(dir), "what is not there is no error")
	assert.NoError(t, RemoveTree(filepath.Join(dir, "below", "nothing")))
}

// A folder without permissions is opened, looked at and given them back by its owner.
func TestAFolderWithoutPermissions(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "locked")
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), []byte("x"), 0))
	require.NoError(t, os.Chmod(dir, 0))
	d := open(t, dir)
	st, err := d.Lstat(".")
	require.NoError(t, err)
	assert.Zero(t, st.Mode&0o777)
	require.NoError(t, d.Chmod(".", 0o700))
	data, err := d.ReadFile("f", 10)
	require.NoError(t, err)
	assert.Equal(t, "x", string(data))
	require.NoError(t, os.Chmod(dir, 0))
	entries, err := d.Entries(".")
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}
