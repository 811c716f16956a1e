package cli

import (
	"bufio"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var fence = regexp.MustCompile("(?ms)^```(\\w+)([^\n]*)\n(.*?)^```")

// docs/first-contest.md is followed as a reader would: its files are written,
// its commands are typed.
func TestFirstContest(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "first-contest.md"))
	require.NoError(t, err)
	dir := t.TempDir()
	bin := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	// `agonometer` on the PATH is this test program, which is the client when it is told so.
	require.NoError(t, os.WriteFile(filepath.Join(bin, "agonometer"), []byte("#!/bin/sh\nAGONOMETER_TEST_CLIENT=1 exec "+self+" \"$@\"\n"), 0o755))
	env := []string{"PATH=" + bin + ":" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "AGONOMETER_DATA=" + t.TempDir(), "AGONOMETER_TEST_CLIENT=1",
		"GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@localhost", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@localhost"}
	var all strings.Builder
	for _, m := range fence.FindAllStringSubmatch(string(text), -1) {
		lang, info, body := m[1], strings.TrimSpace(m[2]), m[3]
		switch {
		case strings.HasPrefix(info, "file="):
			name := filepath.Join(dir, strings.TrimPrefix(info, "file="))
			require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
			require.NoError(t, os.WriteFile(name, []byte(body), 0o644))
		case lang == "sh" && info == "background":
			args := strings.Fields(body)
			cmd := exec.Command(self, append(args[1:], "--listen", "127.0.0.1:0")...)
			cmd.Dir, cmd.Env = dir, env
			out, err := cmd.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
			line, err := bufio.NewReader(out).ReadString('\n')
			require.NoError(t, err)
			require.Contains(t, line, "Agonometer serves at")
		case lang == "sh":
			cmd := exec.Command("sh", "-ec", body)
			cmd.Dir, cmd.Env = dir, env
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			require.NoError(t, cmd.Run(), "%s\n%s", body, out.String())
			all.WriteString(out.String())
		}
	}
	said := all.String()
	assert.Contains(t, said, "1 file: nothing is wrong.")
	assert.Regexp(t, `patch +2 of 2 +100% +100% +0`, said)
	assert.Regexp(t, `eager +0 of 2 +0% +0% +0`, said)
	assert.Contains(t, said, "failed, check-failed (old-basin)")
	assert.Contains(t, said, "reaches the one goal and keeps the one guard")
	assert.Contains(t, said, "proved: 1 goal, 1 guard")
	assert.Contains(t, said, "4 bouts were judged more than once")
}
