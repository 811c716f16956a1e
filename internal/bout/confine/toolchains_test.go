package confine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Programs behind shims and below a home folder work as in the shell that started the
// service; what lies beside them in that home is not shown.
func TestToolchainsWherePeopleHaveThem(t *testing.T) {
	needNamespaces(t)
	home, err := os.MkdirTemp("", "home")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(home) })
	home, err = filepath.EvalSymlinks(home)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(home, 0o755))
	t.Setenv("HOME", home)
	for _, name := range append(append([]string{}, toolHomes...), toolVersions...) {
		t.Setenv(name, "")
	}
	write := func(name, text string) {
		name = filepath.Join(home, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o755))
	}
	link := func(name, to string) {
		require.NoError(t, os.MkdirAll(filepath.Join(home, filepath.Dir(name)), 0o755))
		require.NoError(t, os.Symlink(to, filepath.Join(home, name)))
	}
	// A proxy that asks a variable, or the home folder, where its toolchain is.
	write(".cargo/bin/chart", "#!/bin/sh\nexec \"${RUSTUP_HOME:-$HOME/.rustup}/toolchains/stable/bin/chart\"\n")
	write(".cargo/credentials", "SECRET\n")
	write(".rustup/toolchains/stable/bin/chart", "#!/bin/sh\necho chart-works\n")
	// A shim that starts its manager, which looks for its data.
	write(".asdf/shims/lamp", "#!/bin/sh\nexec "+home+"/.asdf/bin/asdf exec lamp \"$@\"\n")
	write(".asdf/bin/asdf", "#!/bin/sh\nexec \"${ASDF_DATA_DIR:-$HOME/.asdf}/installs/$2/1.0/bin/$2\"\n")
	write(".asdf/installs/lamp/1.0/bin/lamp", "#!/bin/sh\necho lamp-works\n")
	// A link to an installation that needs what lies beside its programs.
	write("apps/quay-1.2/bin/quay", "#!/bin/sh\ncat \"$(dirname \"$(readlink -f \"$0\")\")/../data/quay.txt\"\n")
	write("apps/quay-1.2/data/quay.txt", "quay-works\n")
	link("bin/quay", "../apps/quay-1.2/bin/quay")
	// A script that starts something in another place.
	write("scripts/pilot", "#!/bin/sh\nexec "+home+"/tools/pilot/bin/pilot\n")
	write("tools/pilot/bin/pilot", "#!/bin/sh\ncat "+home+"/tools/pilot/share/pilot.txt\n")
	write("tools/pilot/share/pilot.txt", "pilot-works\n")
	// A store of packages, and a profile of links into it.
	store := ".local/nix/store/"
	a, b := store+strings.Repeat("a", 32)+"-tide-1", store+strings.Repeat("b", 32)+"-moon-2"
	write(b+"/share/moon.txt", "tide-works\n")
	write(a+"/bin/tide", "#!/bin/sh\ncat "+filepath.Join(home, b)+"/share/moon.txt\n")
	link("profile", a)
	// Somebody's work, with a program in it.
	write("work/secret-project/.git/HEAD", "ref: refs/heads/main\n")
	write("work/secret-project/answer.txt", "SECRET\n")
	write("work/secret-project/berth", "#!/bin/sh\necho berth-works; cat "+home+"/work/secret-project/answer.txt 2>/dev/null; true\n")
	link("bin/berth", home+"/work/secret-project/berth")
	write("notes.txt", "SECRET\n")
	t.Setenv("GRADLE_HOME", filepath.Join(home, "gradle"))
	write("gradle/lib/build.txt", "variable-works\n")

	var path []string
	for _, dir := range []string{".cargo/bin", ".asdf/shims", "bin", "scripts", "profile/bin"} {
		path = append(path, filepath.Join(home, dir))
	}
	w := World{Mode: Namespaces, Owner: CurrentOwner(), Path: strings.Join(append(path, "/usr/bin", "/bin"), ":")}
	base := world(t, Namespaces, "")
	w.Workspace, w.Home, w.Tmp, w.Root = base.Binds[0].Source, base.Binds[1].Source, base.Binds[2].Source, base.Root
	spec := w.Spec([]string{"sh", "-c", "chart; lamp; quay; pilot; tide; berth; cat $GRADLE_HOME/lib/build.txt; cat " + home + "/notes.txt " + home + "/.cargo/credentials; touch " + home + "/apps/quay-1.2/x && echo WROTE; true"}, nil)
	_, out := run(t, spec, 0)
	for _, want := range []string{"chart", "lamp", "quay", "pilot", "tide", "berth", "variable"} {
		assert.Contains(t, out, want+"-works")
	}
	for _, never := range []string{"SECRET", "WROTE"} {
		assert.NotContains(t, out, never)
	}
}
