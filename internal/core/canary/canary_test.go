package canary

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/testlog"
)

// Canaries are put beside real tests, and the real runners see them fail.
func TestRealRunnersSeeCanariesFail(t *testing.T) {
	for name, c := range map[string]struct {
		files   map[string]string
		run     []string
		format  testlog.Format
		program string
	}{
		"go": {map[string]string{"go.mod": "module averil.example/tide\n\ngo 1.24\n", "a/a.go": "package a\n", "a/a_test.go": "// Remarks.\npackage a_test\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) {}\n"},
			[]string{"go", "test", "-json", "./..."}, testlog.GoTestJSON, "go"},
		"node": {map[string]string{"test/lamp.test.js": "const { test } = require('node:test');\ntest('lamp', () => {});\n"},
			[]string{"node", "--test", "--test-reporter=tap", "test/"}, testlog.TAP, "node"},
		"node, modules": {map[string]string{"lamp.test.mjs": "import test from 'node:test';\ntest('lamp', () => {});\n"},
			[]string{"node", "--test", "--test-reporter=tap"}, testlog.TAP, "node"},
		"shell": {map[string]string{"t/lamp.t": "echo 1..1\necho ok 1 - lamp\n"}, []string{"sh", "-c", "for f in t/*.t; do sh $f; done"}, testlog.TAP, "sh"},
		"unittest": {map[string]string{"test_lamp.py": "import unittest\n\nclass Lamp(unittest.TestCase):\n    def test_lamp(self): pass\n"},
			[]string{"sh", "-c", "python3 -m unittest -v 2>&1 | sed -n 's/^\\(test_[a-z]*\\).*FAIL$/not ok - \\1/p; s/^\\(test_[a-z]*\\).*ok$/ok - \\1/p'"}, testlog.TAP, "python3"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := exec.LookPath(c.program); err != nil {
				t.Skip("no ", c.program)
			}
			dir := t.TempDir()
			var names []string
			write := func(file, text string) {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(file)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o644))
			}
			for file, text := range c.files {
				write(file, text)
				names = append(names, file)
			}
			run := func() testlog.Report {
				cmd := exec.Command(c.run[0], c.run[1:]...)
				cmd.Dir = dir
				cmd.Env = append(os.Environ(), "GOFLAGS=-count=1")
				out, _ := cmd.Output()
				report, err := testlog.Read(c.format, strings.NewReader(string(out)), testlog.Options{})
				require.NoError(t, err, string(out))
				return report
			}
			before := run()
			bird := Beside(names, before.Tests, func(name string) []byte { return []byte(c.files[name]) }, "tidewrack")
			require.NotNil(t, bird)
			assert.False(t, bird.Seen(true, before.Tests, before.Tests, false))
			for name, content := range bird.Files {
				write(name, string(content))
			}
			after := run()
			assert.True(t, bird.Seen(true, after.Tests, before.Tests, true), "%+v", after.Tests)
			assert.Equal(t, before.Summary.Passed, after.Summary.Passed)
		})
	}
}

func TestWhereACanaryStands(t *testing.T) {
	files := []string{"a/a_test.go", "b/b_test.go", "readme.md"}
	read := func(name string) []byte { return []byte("package " + strings.SplitN(name, "/", 2)[0] + "\n") }
	got := Beside(files, []testlog.Test{{Name: "averil.example/tide/b TestB"}}, read, "wrack")
	require.NotNil(t, got)
	assert.Contains(t, string(got.Files["b/wrack_test.go"]), "package b\n")
	assert.Nil(t, Beside([]string{"main.c"}, nil, read, "wrack"))
	assert.Nil(t, Beside(files, nil, func(string) []byte { return nil }, "wrack"))
	assert.True(t, got.Seen(false, nil, nil, true))
	assert.False(t, got.Seen(false, nil, nil, false))
}

// A task's own canary has the word in it, or is seen by what fails only with it.
func TestATasksOwnCanary(t *testing.T) {
	named := Own(map[string][]byte{"test/{word}.tide": []byte("fails {word}\n"), "lists/all": []byte("one\n")}, "wrack")
	assert.Equal(t, map[string][]byte{"test/wrack.tide": []byte("fails wrack\n"), "lists/all": []byte("one\n")}, named.Files)
	failed := func(names ...string) (out []testlog.Test) {
		for _, n := range names {
			out = append(out, testlog.Test{Name: n, Outcome: testlog.Failed})
		}
		return out
	}
	assert.True(t, named.Seen(true, failed("tide Wrack"), nil, true))
	assert.False(t, named.Seen(true, failed("tide other"), nil, true), "another test that fails is not the canary")
	plain := Own(map[string][]byte{"lists/all": []byte("one\n")}, "wrack")
	assert.False(t, plain.Seen(true, failed("a"), failed("a"), true), "it failed before")
	assert.True(t, plain.Seen(true, failed("a", "b"), failed("a"), true))
}

func TestHarmless(t *testing.T) {
	assert.True(t, Harmless([]string{"README.md", "docs/a.png", "LICENSE"}))
	assert.True(t, Harmless(nil))
	assert.False(t, Harmless([]string{"README.md", "go.mod"}))
}
