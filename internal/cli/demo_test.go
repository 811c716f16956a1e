package cli

import (
	"encoding/json"
	"log/slog"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/service"
)

// The whole demo, and what `serve` and the lists give afterwards. It takes a
// minute or two, so it runs in `make test-long`.
func TestDemoOnce(t *testing.T) {
	if os.Getenv("AGONOMETER_LONG") == "" {
		t.Skip("part of make test-long")
	}
	data := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "demo", "--once", "--data", data, "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "AGONOMETER_TEST_CLIENT=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "24/24")

	t.Setenv("AGONOMETER_DATA", data)
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer s.Close()
	var contests []api.Contest
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "list", "--format", "json")), &contests))
	require.Len(t, contests, 1)
	assert.Equal(t, "done", contests[0].State)
	var bouts []api.Bout
	require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "list", "--format", "json")), &bouts))
	assert.Len(t, bouts, 24)
	passed := map[string]int{}
	late := 0
	for _, b := range bouts {
		if b.Verdict.Outcome == "passed" {
			passed[b.Contender]++
		}
		if b.TimedOut {
			late++
		}
	}
	// Each stand-in has its character.
	assert.Equal(t, 8, passed["turnstone"])
	assert.Equal(t, 8, passed["whimbrel"])
	assert.Equal(t, 3, passed["sanderling"])
	assert.Equal(t, 1, late)
}
