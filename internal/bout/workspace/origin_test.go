package workspace

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// The start repository is made without a write in the user's repository, also where that
// may only be read and the data folder is on another file system.
func TestTheOriginIsOnlyRead(t *testing.T) {
	f := newFixture(t, "sha1", "")
	list := func() (out []string) {
		require.NoError(t, filepath.WalkDir(f.origin, func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			st, err := d.Info()
			out = append(out, name+" "+st.ModTime().String())
			return err
		}))
		return out
	}
	require.NoError(t, filepath.WalkDir(f.origin, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			err = os.Chmod(name, 0o555)
		}
		return err
	}))
	t.Cleanup(func() {
		_ = filepath.WalkDir(f.origin, func(name string, d fs.DirEntry, err error) error { return os.Chmod(name, 0o755) })
	})
	elsewhere := t.TempDir()
	var here, there unix.Stat_t
	if dir, err := os.MkdirTemp("/dev/shm", "start-"); err == nil {
		t.Cleanup(func() { _ = os.RemoveAll(dir) })
		elsewhere = dir
	}
	require.NoError(t, unix.Stat(f.origin, &here))
	require.NoError(t, unix.Stat(elsewhere, &there))
	t.Logf("another file system: %v", here.Dev != there.Dev)
	before := list()
	start, err := f.repos.StartRepository(t.Context(), elsewhere, f.origin, f.commit)
	require.NoError(t, err)
	assert.DirExists(t, start)
	assert.Equal(t, before, list(), "nothing was written into the origin")
}
