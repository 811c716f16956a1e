package testlog

import (
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// real runs go test -json on a package made of the given files.
func real(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		writeFile(t, dir, name, text)
	}
	cmd := exec.Command("go", "test", "-json", "./...")
	cmd.Dir = dir
	out, _ := cmd.Output() // failing tests give a status; what is printed is what counts
	return string(out)
}

const module = "module sample\n\ngo 1.21\n"

func outcomes(tests []Test) map[string]Outcome {
	out := map[string]Outcome{}
	for _, t := range tests {
		out[t.Name] = t.Outcome
	}
	return out
}

func TestReadsWhatTheRunnerReallyPrints(t *testing.T) {
	out := real(t, map[string]string{
		"go.mod": module,
		"a/a_test.go": `package a
import "testing"
func TestGood(t *testing.T) {}
func TestBad(t *testing.T) { t.Error("two metres too low") }
func TestSkipped(t *testing.T) { t.Skip("no gauge") }
func TestSub(t *testing.T) { t.Run("one", func(t *testing.T) {}); t.Run("two", func(t *testing.T) { t.Fail() }) }
`,
		"b/b.go":      "package b\n\nfunc Broken() int { return \"text\" }\n",
		"b/b_test.go": "package b\nimport \"testing\"\nfunc TestNever(t *testing.T) { Broken() }\n",
		"c/c_test.go": "package c\nimport \"testing\"\nfunc TestPanics(t *testing.T) { panic(\"aground\") }\nfunc TestAfter(t *testing.T) {}\n",
		"d/d_test.go": "package d\nimport (\"os\"; \"testing\")\nfunc TestMain(m *testing.M) { os.Exit(0) }\nfunc TestHidden(t *testing.T) { t.Fatal() }\n",
	})
	rep, err := Read(GoTestJSON, strings.NewReader(out), Options{})
	tests, sum := rep.Tests, rep.Summary
	require.NoError(t, err)
	got := outcomes(tests)
	assert.Equal(t, Passed, got["sample/a TestGood"])
	assert.Equal(t, Failed, got["sample/a TestBad"])
	assert.Equal(t, Skipped, got["sample/a TestSkipped"])
	assert.Equal(t, Passed, got["sample/a TestSub/one"])
	assert.Equal(t, Failed, got["sample/a TestSub/two"])
	assert.Equal(t, Failed, got["sample/b"], "a package that does not build")
	assert.Equal(t, Failed, got["sample/c TestPanics"])
	assert.NotContains(t, got, "sample/a", "a package is no test where its tests say enough")
	assert.NotContains(t, got, "sample/d TestHidden", "a test that was not run is not there")
	for _, one := range tests {
		switch one.Name {
		case "sample/a TestBad":
			assert.Contains(t, one.Message, "two metres too low")
		case "sample/b":
			assert.Contains(t, one.Message, "cannot use \"text\"")
		case "sample/a TestGood":
			assert.Empty(t, one.Message)
		}
	}
	assert.Equal(t, len(tests), sum.Passed+sum.Failed+sum.Skipped+0)
}

func TestReadTable(t *testing.T) {
	ev := func(action, test string) string {
		return `{"Action":"` + action + `","Package":"p","Test":"` + test + `"}` + "\n"
	}
	cases := []struct {
		name, in string
		want     map[string]Outcome
		repeated int
		fails    bool
	}{
		{"nothing", "", map[string]Outcome{}, 0, true},
		{"only noise", "hello\n{not json\n{\"a\":1}\n", map[string]Outcome{}, 0, true},
		{"cut off in a test", ev("run", "A") + ev("pass", "A") + ev("run", "B") + `{"Action":"out`, map[string]Outcome{"p A": Passed, "p B": Failed}, 0, false},
		{"noise between", "building...\n" + ev("pass", "A") + "{\"Action\":\"pass\"}\nmore\n", map[string]Outcome{"p A": Passed}, 0, false},
		{"failed once is failed", ev("fail", "A") + ev("pass", "A"), map[string]Outcome{"p A": Failed}, 1, false},
		{"a faked pass after a failure", ev("fail", "A") + ev("pass", "A") + ev("pass", "A"), map[string]Outcome{"p A": Failed}, 1, false},
		{"CRLF", strings.ReplaceAll(ev("pass", "A"), "\n", "\r\n"), map[string]Outcome{"p A": Passed}, 0, false},
		{"package failed alone", `{"Action":"fail","Package":"p"}`, map[string]Outcome{"p": Failed}, 0, false},
		{"a line too long", `{"Action":"pass","Package":"p","Test":"` + strings.Repeat("x", 2<<20) + "\"}\n" + ev("pass", "A"), map[string]Outcome{"p A": Passed}, 0, false},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			rep, err := Read(GoTestJSON, strings.NewReader(c.in), Options{})
			tests, sum := rep.Tests, rep.Summary
			assert.Equal(t, c.fails, err != nil)
			assert.Equal(t, c.want, outcomes(tests))
			assert.Equal(t, c.repeated, sum.Repeated)
		})
	}
}

func TestAnUnfinishedTestIsSeen(t *testing.T) {
	rep, err := Read(GoTestJSON, strings.NewReader(`{"Action":"output","Package":"p","Test":"B","Output":"so far\n"}`+"\n"), Options{})
	tests, sum := rep.Tests, rep.Summary
	require.NoError(t, err)
	assert.Equal(t, 1, sum.Failed)
	assert.Equal(t, Failed, tests[0].Outcome)
	assert.Contains(t, tests[0].Message, "no end of it was seen")
}

func TestMessagesAreBounded(t *testing.T) {
	line := `{"Action":"output","Package":"p","Test":"A","Output":"` + strings.Repeat("y", 1000) + `\n"}` + "\n"
	rep, err := Read(GoTestJSON, strings.NewReader(strings.Repeat(line, 100)+`{"Action":"fail","Package":"p","Test":"A"}`), Options{})
	tests := rep.Tests
	require.NoError(t, err)
	assert.LessOrEqual(t, len(tests[0].Message), MaxMessage+20)
	assert.Contains(t, tests[0].Message, "(cut)")
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("the pipe broke") }

func TestAReadErrorIsTold(t *testing.T) {
	rep, err := Read(GoTestJSON, io.MultiReader(strings.NewReader(`{"Action":"pass","Package":"p","Test":"A"}`+"\n"), broken{}), Options{})
	tests := rep.Tests
	assert.ErrorContains(t, err, "the pipe broke")
	assert.Len(t, tests, 1, "what was read until then is kept")
}

func FuzzReadGoTest(f *testing.F) {
	f.Add([]byte(`{"Action":"pass","Package":"p","Test":"A","Elapsed":1}`))
	f.Add([]byte(`{"Action":"build-output","ImportPath":"p","Output":"x"}` + "\n" + `{"Action":"fail","Package":"p","FailedBuild":"p"}`))
	f.Add([]byte("{\x00}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		rep, _ := Read(GoTestJSON, strings.NewReader(string(data)), Options{})
		tests, sum := rep.Tests, rep.Summary
		if len(tests) != sum.Passed+sum.Failed+sum.Skipped+0 {
			t.Fatalf("%d tests, counted %+v", len(tests), sum)
		}
	})
}
