package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/verdict"
)

// A task names what its checks need beside the service's PATH; doctor finds out what works
// for the service and not in a bout, and says the line to add.
func TestTasksReadToolchains(t *testing.T) {
	dir, err := os.MkdirTemp("", "toolchain")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	for name, text := range map[string]string{"path/depth-gauge": "#!/bin/sh\ncat \"" + dir + "\"/charts/depth\n", "charts/depth": "7\n"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	}
	t.Setenv("PATH", filepath.Join(dir, "path")+":"+os.Getenv("PATH"))
	p := newQuay(t, "", map[string]string{"solves": solve})
	s, c := start(t, t.TempDir())
	if mode, why := s.Capability(); mode != "namespaces" {
		t.Skip("this machine allows no namespaces: ", why)
	}
	gauge := func(reads string) (api.Finding, api.Bout) {
		p.files["quay.md"] = strings.Replace(quayTask, "run: sh -n depth.sh", "run: depth-gauge && test \"$(depth-gauge)\" = 7", 1)
		p.files["quay.md"] = strings.Replace(p.files["quay.md"], "scope:", reads+"scope:", 1)
		d := finish(t, c, begin(t, c, p))
		report, err := c.Doctor(t.Context())
		require.NoError(t, err)
		for _, f := range report.Findings {
			if f.What == "depth-gauge" {
				return f, only(t, d, "solves")
			}
		}
		t.Fatal("doctor does not speak of the program")
		return api.Finding{}, api.Bout{}
	}
	found, b := gauge("")
	assert.Equal(t, "missing", found.Level, "%+v", found)
	assert.Contains(t, found.Detail, "in a bout it does not work")
	assert.Contains(t, found.Remedy, "reads: [")
	assert.NotEqual(t, verdict.Passed, b.Verdict.Outcome)
	found, b = gauge("reads: [" + dir + "/charts]\n")
	assert.Equal(t, "ok", found.Level, "%+v", found)
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome, "%+v", b.Verdict)
	one, err := c.Task(t.Context(), "quay")
	require.NoError(t, err)
	assert.Equal(t, []string{dir + "/charts"}, one.Reads)
}
