package workspace

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Submodules arrive as a recursive clone gives them, with nothing later than the start; what
// cannot be reached is said.
func TestSubmodulesArrive(t *testing.T) {
	base := t.TempDir()
	sh(t, base, `git config --global protocol.file.allow always
		git init -q -b main inner; cd inner; echo inner > i.txt; git add -A; git commit -qm inner; cd ..
		git init -q -b main lib; cd lib; echo lib > l.txt; git submodule add -q ../inner deep; git add -A; git commit -qm lib; echo LATER > later.txt; git add -A; git commit -qm later; cd ..
		git init -q -b main other; cd other; echo other > o.txt; git add -A; git commit -qm other; cd ..`)
	lib := sh(t, base, "git -C lib rev-parse main~1")
	f := fixtureOf(t, `git config --global protocol.file.allow always; git init -q -b main .; echo super > s.txt
		git submodule add -q `+base+`/lib libs/lib; git -C libs/lib checkout -q `+lib+`; git submodule add -q --name named `+base+`/other other
		id=$(git -C other rev-parse HEAD)
		for s in far:https://127.0.0.1:1/none.git run:'ext::sh -c true' gone:../nowhere; do
			git config -f .gitmodules submodule.${s%%:*}.path ${s%%:*}; git config -f .gitmodules submodule.${s%%:*}.url "${s#*:}"; git update-index --add --cacheinfo 160000,$id,${s%%:*}; done
		git update-index --add --cacheinfo 160000,$id,unsaid
		git add -A -- s.txt .gitmodules libs other; git commit -qm start; git tag begin; rm -rf .git/modules/named other`, "")
	w := f.make(t, "w")
	for name, want := range map[string]string{"s.txt": "super", "libs/lib/l.txt": "lib", "other/o.txt": "other"} {
		got, err := os.ReadFile(filepath.Join(w.Tree(), name))
		require.NoError(t, err)
		assert.Equal(t, want+"\n", string(got))
	}
	assert.NoFileExists(t, filepath.Join(w.Tree(), "libs/lib/later.txt"))
	status := sh(t, w.Tree(), "git submodule status libs/lib other")
	assert.Contains(t, " "+status, " "+lib+" libs/lib")
	assert.Empty(t, sh(t, w.Tree(), "git diff-files --ignore-submodules=none -- libs other s.txt; git -C libs/lib diff-files"))
	_, err := os.Stat(filepath.Join(w.Tree(), "libs/lib/deep/i.txt"))
	require.NoError(t, err, "submodules of submodules too")
	assert.Equal(t, "no", sh(t, w.Tree(), "git -C libs/lib cat-file -e "+sh(t, base, "git -C lib rev-parse main")+" 2>/dev/null && echo yes || echo no"), "nothing later")
	assert.Empty(t, sh(t, w.Tree(), "grep -rsl '"+f.dir+"' .git || true"), "nothing names where it was packed")

	why := map[string]string{}
	for _, s := range f.p.EmptySubmodules {
		why[s.Path] = s.Why
	}
	assert.Len(t, why, 4)
	assert.Contains(t, why["far"], "cannot be fetched")
	assert.Contains(t, why["run"], "which is not run")
	assert.Contains(t, why["gone"], "there is no ")
	assert.Contains(t, why["unsaid"], ".gitmodules does not say")

	c, err := f.git.Capture(t.Context(), w, plenty)
	require.NoError(t, err)
	assert.False(t, c.Changed(), string(c.Diff))
	assert.Zero(t, c.InSubmodules+c.NestedGit)
	sh(t, w.Tree(), "echo mine >> libs/lib/l.txt; echo new > other/new.txt; echo more >> s.txt")
	c, again := f.captureAndApply(t, w)
	assert.Equal(t, 2, c.InSubmodules)
	assert.NotContains(t, string(c.Diff), "libs/lib")
	got, err := os.ReadFile(filepath.Join(again, "libs/lib/l.txt"))
	require.NoError(t, err)
	assert.Equal(t, "lib\n", string(got), "judging copies have them as they were")
}

func TestAddressesOfSubmodules(t *testing.T) {
	for of, want := range map[string]string{"https://averil.example/a.git": "https://averil.example/a.git", "git@averil.example:port/a.git": "git@averil.example:port/a.git", "/srv/a": "/srv/a", "file:///srv/a": "/srv/a"} {
		got, err := allowedAddress(of)
		require.NoError(t, err, of)
		assert.Equal(t, want, got)
	}
	for _, of := range []string{"ext::sh -c id", "fd::3", "weird://x", "relative/path", "", "transport::https://x"} {
		_, err := allowedAddress(of)
		assert.Error(t, err, of)
	}
	f := newFixture(t, "sha1", "")
	at, err := f.repos.submoduleAddress(t.Context(), f.origin, filepath.Join(f.origin, ".git"), "../lib")
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(filepath.Dir(f.origin), "lib"), at)
	for remote, want := range map[string]string{"https://averil.example/port/super.git": "https://averil.example/port/lib.git", "git@averil.example:port/super.git": "git@averil.example:port/lib.git"} {
		sh(t, f.origin, "git config remote.origin.url "+remote)
		at, err := f.repos.submoduleAddress(t.Context(), f.origin, filepath.Join(f.origin, ".git"), "../lib.git")
		require.NoError(t, err)
		assert.Equal(t, want, at)
	}
}
