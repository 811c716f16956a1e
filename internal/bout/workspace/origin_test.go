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

// A linked work tree and a submodule that is checked out are repositories.
func TestWorkTreesAndSubmodulesAreRepositories(t *testing.T) {
	f := newFixture(t, "sha1", "")
	linked, super := filepath.Join(t.TempDir(), "linked"), t.TempDir()
	sh(t, f.origin, "git worktree add -q -b side "+linked+" begin; cd "+linked+"; echo side > side.txt; git add -A; git commit -qm side")
	sh(t, super, "git init -q -b main .; git -c protocol.file.allow=always submodule add -q "+f.origin+" lib; git commit -qm super; cd lib; git checkout -q begin")
	for address, head := range map[string]string{linked: sh(t, linked, "git rev-parse HEAD"), filepath.Join(super, "lib"): f.commit} {
		commit, err := f.repos.Resolve(t.Context(), address, "HEAD")
		require.NoError(t, err)
		assert.Equal(t, head, commit, "its own HEAD")
		start, err := f.repos.StartRepository(t.Context(), filepath.Join(f.dir, "starts"), address, commit)
		require.NoError(t, err)
		assert.Equal(t, commit, sh(t, start, "git rev-parse main"))
		require.NoError(t, os.MkdirAll(filepath.Join(address, "inside"), 0o755))
		_, err = f.repos.Resolve(t.Context(), filepath.Join(address, "inside"), "HEAD")
		assert.ErrorContains(t, err, "only a folder inside "+address)
	}
}
