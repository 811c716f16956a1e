package drive

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/specfile"
)

func TestMain(m *testing.M) {
	confine.MaybeSupervise()
	if len(os.Args) == 3 && os.Args[1] == "peer" {
		peer(os.Args[2])
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func write(t *testing.T, name, text string, mode os.FileMode) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), mode))
}

func TestAHandOver(t *testing.T) {
	dir := t.TempDir()
	for _, d := range []string{"w", "h", "t"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	write(t, filepath.Join(dir, "brief.md"), "the brief", 0o644)
	t.Setenv("DUNLIN_KEY", "tide-1234")
	t.Setenv("DUNLIN_SECRET", "hidden")
	write(t, filepath.Join(dir, "tools", "dunlin"), "#!/bin/sh\nfor a in \"$@\"; do echo \"arg $a\"; done\necho \"in $(cat)\"\nenv | sort\ncat \"$BRIEF\"\npwd\n", 0o755)
	c := &contender.Contender{Path: filepath.Join(dir, "dunlin.yaml")}
	c.Run = []string{"tools/dunlin", "{brief}", "{seed}", "{workspace}", "{other}"}
	c.Stdin = contender.StdinBrief
	c.Env = map[specfile.EnvName]string{"BRIEF": "{brief_file}"}
	c.KeepEnv = []specfile.EnvName{"DUNLIN_KEY", "NOT_SET"}
	w := confine.World{Mode: confine.ProcessGroup, Owner: confine.CurrentOwner(), Path: os.Getenv("PATH"), Workspace: filepath.Join(dir, "w"), Home: filepath.Join(dir, "h"), Tmp: filepath.Join(dir, "t"), Brief: filepath.Join(dir, "brief.md")}
	out := confine.NewOutput(1 << 16)
	res, err := For(c).HandOver(t.Context(), HandOver{Contender: c, Brief: "Light {seed} lamps", Seed: 42, World: w, Limit: time.Minute, Output: out})
	require.NoError(t, err)
	assert.Zero(t, res.ExitCode)
	said := string(out.Bytes())
	for _, want := range []string{"arg Light {seed} lamps\n", "arg 42\n", "arg " + w.Workspace + "\n", "arg {other}\n", "in Light {seed} lamps\n", "DUNLIN_KEY=tide-1234\n", "HOME=" + w.Home + "\n", "TMPDIR=" + w.Tmp + "\n", "the brief", w.Workspace + "\n"} {
		assert.Contains(t, said, want)
	}
	assert.NotContains(t, said, "hidden")
	assert.NotContains(t, said, "NOT_SET")
	assert.Equal(t, []string{"tide-1234"}, Secrets(c))
}

func TestProgram(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	write(t, filepath.Join(dir, "bin", "knot"), "#!/bin/sh\n", 0o755)
	write(t, filepath.Join(dir, "plain"), "text", 0o644)
	find := func(name string) (string, error) {
		c := &contender.Contender{Path: filepath.Join(dir, "c.yaml")}
		c.Run = []string{name}
		return Program(c, filepath.Join(dir, "bin")+":relative")
	}
	for name, want := range map[string]string{"knot": "bin/knot", "bin/knot": "bin/knot", "./bin/knot": "bin/knot", "~/bin/knot": "bin/knot", filepath.Join(dir, "bin/knot"): "bin/knot"} {
		got, err := find(name)
		require.NoError(t, err, name)
		assert.Equal(t, filepath.Join(dir, want), got, name)
	}
	for name, says := range map[string]string{"ruff": "not on the service's PATH", "./ruff": "is not on the service's machine", "./plain": "is not a program", "./bin": "is not a program"} {
		_, err := find(name)
		var missing *MissingError
		require.ErrorAs(t, err, &missing, name)
		assert.Contains(t, err.Error(), says)
	}
}

func TestCarry(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	write(t, filepath.Join(dir, ".config", "knot", "token"), "signed in", 0o600)
	write(t, filepath.Join(dir, ".config", "knot", "sessions", "a", "b"), "memory", 0o600)
	write(t, filepath.Join(dir, ".config", "knot", "history.log"), "memory", 0o600)
	write(t, filepath.Join(dir, "one"), "file", 0o640)
	require.NoError(t, os.Symlink("one", filepath.Join(dir, "link")))
	home := filepath.Join(t.TempDir(), "home")
	write(t, filepath.Join(home, "one"), "older", 0o644)
	write(t, filepath.Join(home, ".config", "other"), "stays", 0o644)
	c := &contender.Contender{Path: filepath.Join(dir, "c.yaml")}
	c.Carry = []contender.Carry{{From: "~/.config/knot", Except: []string{"sessions/**", "*.log"}}, {From: "one"}, {From: "link", To: "deep/er/copy"}}
	require.NoError(t, Carry(c, home, workspace.CopyOptions{}, nil))
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(home, name))
		require.NoError(t, err)
		return string(text)
	}
	assert.Equal(t, "signed in", read(".config/knot/token"))
	assert.Equal(t, "file", read("one"), "what is carried replaces what is there")
	assert.Equal(t, "file", read("deep/er/copy"), "a link is carried as what it points to")
	assert.Equal(t, "stays", read(".config/other"))
	assert.NoFileExists(t, filepath.Join(home, ".config/knot/history.log"))
	assert.NoFileExists(t, filepath.Join(home, ".config/knot/sessions/a/b"))
	st, err := os.Stat(filepath.Join(home, ".config/knot/token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())

	// Placeholders are filled in where that is asked for, in text alone, and the mode stays.
	write(t, filepath.Join(dir, "tool.conf"), "at = {meter_url}/v1\nseed = {seed}\nother = {unknown}\n", 0o600)
	write(t, filepath.Join(dir, "conf.d", "bytes"), "{meter_url}\xff", 0o644)
	write(t, filepath.Join(dir, "conf.d", "sub", "more"), "{meter_url}", 0o644)
	values := map[contender.Placeholder]string{contender.MeterURL: "http://127.0.0.1:7/abc", contender.Seed: "9"}
	c.Carry = []contender.Carry{{From: "tool.conf", Fill: true}, {From: "conf.d", Fill: true}, {From: "tool.conf", To: "as-it-is"}}
	require.NoError(t, Carry(c, home, workspace.CopyOptions{}, values))
	assert.Equal(t, "at = http://127.0.0.1:7/abc/v1\nseed = 9\nother = {unknown}\n", read("tool.conf"))
	assert.Equal(t, "{meter_url}\xff", read("conf.d/bytes"))
	assert.Equal(t, "http://127.0.0.1:7/abc", read("conf.d/sub/more"))
	assert.Contains(t, read("as-it-is"), "{meter_url}")
	st, err = os.Stat(filepath.Join(home, "tool.conf"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	source, err := os.ReadFile(filepath.Join(dir, "tool.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(source), "{meter_url}", "what is carried stays as it is")

	c.Carry = []contender.Carry{{From: "~/nowhere"}}
	var missing *MissingError
	assert.ErrorAs(t, Carry(c, home, workspace.CopyOptions{}, nil), &missing)
}
