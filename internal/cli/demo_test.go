package cli

import (
	"encoding/json"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/demo"
	"agonometer/internal/api"
	"agonometer/internal/service"
	"agonometer/internal/standin"
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
	assert.Contains(t, string(out), "48/48")

	t.Setenv("AGONOMETER_DATA", data)
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer s.Close()
	var contests []api.Contest
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "list", "--format", "json")), &contests))
	require.Len(t, contests, 2)
	for _, c := range contests {
		assert.Equal(t, "done", c.State)
	}
	var bouts []api.Bout
	require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "list", "--contest", "port-averil", "--format", "json")), &bouts))
	assert.Len(t, bouts, 48)
	passed := map[string]int{}
	spinning, others, refused, wrong := 0, 0, 0, 0
	for _, b := range bouts {
		if b.Verdict.Outcome == "passed" {
			passed[b.Contender]++
		}
		if b.Limit == "token-limit" {
			spinning++
		}
		assert.Equal(t, "metered", b.Used.Source)
		flags := strings.Join(b.Flags, "; ")
		if strings.Contains(flags, "another model replied: ebb-tide") {
			others++
		}
		if strings.Contains(flags, "refused once") {
			refused++
		}
		var l api.BoutLedger
		require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "ledger", b.ID, "--format", "json")), &l))
		if b.Limit != "" {
			continue // what the tool did not hear the end of is not in its report
		}
		require.NotNil(t, l.Ledger.Difference)
		if *l.Ledger.Difference != 0 {
			wrong++
			assert.Equal(t, "whimbrel", b.Contender)
		}
	}
	// Each stand-in has its character.
	assert.Equal(t, 12, passed["turnstone"])
	assert.Equal(t, 8, passed["whimbrel"])
	assert.Equal(t, 5, passed["sanderling"])
	assert.Equal(t, 10, passed["turnstone-neap"])
	assert.Equal(t, 2, spinning, "no headway until a limit")
	assert.Equal(t, 1, others, "one falls back to a smaller model")
	assert.Equal(t, 4, refused)
	assert.Equal(t, 12, wrong, "one tells its own totals wrongly")
	// One weakens a test, one uses what it does not declare, one needs a second round: all in plain words.
	words := map[string]string{}
	for _, b := range bouts {
		words[b.Task+" "+b.Contender] += must(t, "bout", "show", b.ID)
	}
	assert.Contains(t, words["squat sanderling"], "berth/berth_test.go:66 skips a test")
	assert.Contains(t, words["squat sanderling"], "tidebook/berth TestWindowsAllDay")
	assert.Contains(t, words["export whimbrel"], "passes where it was made, fails on a clean copy")
	assert.Regexp(t, `First time +failed`, words["springs whimbrel"])
	assert.Contains(t, words["overdue whimbrel"], "NOTES.md")

	// Every edit measure is shown by some bout, and the careful contender is clean on all.
	kinds := map[string]bool{}
	for _, b := range bouts {
		if b.Footprint == nil || b.Footprint.Files == 0 {
			continue
		}
		var m api.EditMeasures
		require.NoError(t, json.Unmarshal([]byte(must(t, "bout", "measures", b.ID, "--format", "json")), &m))
		for _, f := range m.Findings {
			kinds[f.Measure+"/"+f.Kind] = true
			assert.False(t, b.Contender == "turnstone" && f.Kind != "added", "%s on %s: %s %s:%d %s", b.Contender, b.Task, f.Kind, f.Path, f.Line, f.Text)
		}
		for _, f := range m.Figures {
			assert.True(t, f.Value != nil || f.Why != "", f.Name)
		}
	}
	for _, want := range []string{"strays/file", "noise/white-space", "noise/comments", "noise/import-order", "leftovers/placeholder", "leftovers/debug", "leftovers/todo", "leftovers/commented-out", "leftovers/file",
		"losses/guard", "losses/unused", "tests/added", "tests/skipped", "tests/weakened", "tests/not-executed", "repetition/block", "fit/dependency", "fit/undeclared-import", "fit/lint", "claims/file-not-changed"} {
		assert.True(t, kinds[want], want)
	}

	// And every task of the demo is fair.
	tasks, err := filepath.Glob(filepath.Join(data, "demo", "tasks", "*.md"))
	require.NoError(t, err)
	out2 := must(t, append([]string{"task", "prove"}, tasks...)...)
	assert.NotContains(t, out2, "not proved")
	assert.Contains(t, out2, "proved: 6 goals, 28 guards")
}

// The quick demo, and what can be made of the demo's repositories.
// One task worked in four ways, with the person's part by the real commands.
func TestWaysDemo(t *testing.T) {
	data := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "demo", "--contest", "ways", "--once", "--data", data, "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "AGONOMETER_TEST_CLIENT=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "agonometer hand mark")
	t.Setenv("AGONOMETER_DATA", data)
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer s.Close()
	var d api.ContestDetail
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "show", "ways", "--format", "json")), &d))
	assert.Equal(t, "done", d.State)
	require.Len(t, d.Bouts, 7)
	var drivers []string
	for _, b := range d.Bouts {
		drivers = append(drivers, b.Driver)
		shown := must(t, "bout", "show", b.ID)
		switch b.Contender {
		case "dunlin":
			assert.Equal(t, "dunlin 1.2", b.ToolVersion)
			assert.Contains(t, shown, "over the Agent Client Protocol")
			assert.Contains(t, shown, "answered by rule")
			assert.Contains(t, must(t, "bout", "log", b.ID, "--round", "1"), "call: Edit src/log.js")
			assert.Contains(t, must(t, "bout", "ledger", b.ID), "protocol")
		case "knot":
			assert.Equal(t, "knot 1.2 (stand-in)", b.ToolVersion)
			assert.Contains(t, must(t, "bout", "log", b.ID, "--round", "1"), "May I change src/api.js? [y/n] y")
			cast := must(t, "bout", "log", b.ID, "--recording", "--round", "1")
			assert.Contains(t, cast, `"width":100`)
			assert.Contains(t, cast, `"i", "y\r"`)
		case "ruff":
			assert.Equal(t, "passed", string(b.Verdict.Outcome))
			assert.NotNil(t, b.Used.MoneyRange)
		case "stint":
			assert.Nil(t, b.Effort)
		}
	}
	slices.Sort(drivers)
	assert.Equal(t, []string{"acp", "acp", "command", "command", "elsewhere", "hand", "hand"}, drivers)
	settings := must(t, "contest", "settings", "ways")
	for _, want := range []string{"may ask", "differs", "First use: knot in lampkeeper took"} {
		assert.Contains(t, settings, want)
	}
	standings := must(t, "contest", "standings", "ways")
	for _, want := range []string{"By wording:", "letter", "short", "With person", "other words were sent"} {
		assert.Contains(t, standings, want)
	}
}

func TestQuickDemo(t *testing.T) {
	data := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "demo", "--contest", "quick", "--once", "--data", data, "--listen", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "AGONOMETER_TEST_CLIENT=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "4/4")
	assert.Equal(t, 4, strings.Count(string(out), "1 of 1"), "all four pass: %s", out)

	t.Setenv("AGONOMETER_DATA", data)
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer s.Close()
	port := filepath.Join(data, "demo")
	// The demo's model service ended with it; the contenders' files say where it was.
	file, err := os.ReadFile(filepath.Join(port, "contenders", "turnstone.yaml"))
	require.NoError(t, err)
	l, err := net.Listen("tcp", regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(string(file)))
	require.NoError(t, err)
	models := &http.Server{Handler: &standin.Service{Playbooks: demo.Playbooks()}}
	go func() { _ = models.Serve(l) }()
	defer models.Close()

	// What it used, by its own prices and by others.
	assert.Contains(t, must(t, "contest", "ledger"), "the tool reports -155,712")
	cheap := filepath.Join(t.TempDir(), "cheap.yaml")
	require.NoError(t, os.WriteFile(cheap, []byte("price_list: cheap\ncurrency: AVM\nmodels: [{model: '*-tide', rates: {input: 1, output: 1}}]\n"), 0o644))
	must(t, "validate", cheap, filepath.Join(port, "prices.yaml"))
	assert.Contains(t, must(t, "contest", "standings", "--prices", cheap), "0.1768 AVM")
	code, _, errs := run(t, "contest", "ledger", "--prices", filepath.Join(port, "quick.yaml"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "The price list has mistakes")
	whimbrel := strings.Split(must(t, "bout", "list", "--contender", "whimbrel", "--format", "csv"), "\n")[1][:26]
	shown := must(t, "bout", "show", whimbrel)
	assert.Regexp(t, `Time went to +model .*own work`, shown)
	assert.Regexp(t, `█+ *[·▌█ ]*model`, shown)
	assert.Contains(t, must(t, "bout", "ledger", whimbrel, "--exchanges"), "spring-tide")
	code, _, errs = run(t, "bout", "exchange", whimbrel, "1")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "The body was not kept")
	turnstone := strings.Split(must(t, "bout", "list", "--contender", "turnstone", "--format", "csv"), "\n")[1][:26]
	assert.Contains(t, must(t, "bout", "exchange", turnstone, "2", "--side", "request"), `"model":"spring-tide"`)

	// A task is drafted from every commit; those of the Go project are part of test-long.
	repository := filepath.Join(port, "repositories", "lampkeeper")
	list, err := exec.Command("git", "-C", repository, "rev-list", "main").Output()
	require.NoError(t, err)
	commits := strings.Fields(string(list))
	require.Len(t, commits, 7)
	goals := 0
	drafts := t.TempDir()
	for _, commit := range commits {
		out := must(t, "task", "draft", "--repository", repository, "--commit", commit, "--out", drafts)
		assert.Contains(t, out, "Rewrite the brief")
		if !strings.Contains(out, " 0 goal tests") {
			goals++
		}
	}
	assert.Equal(t, 5, goals, "two commits have no tests")
	files, err := filepath.Glob(filepath.Join(drafts, "*.md"))
	require.NoError(t, err)
	assert.Len(t, files, 7)
	must(t, append([]string{"validate"}, files...)...)
	code, _, errs = run(t, "task", "draft", "--repository", repository, "--commit", commits[1], "--out", drafts)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is there already; nothing was written")

	// A survey does that for a whole history, and goes on where it was stopped.
	surveyed := t.TempDir()
	told := must(t, "task", "survey", "--repository", repository, "--limit", "1", "--out", surveyed)
	assert.Contains(t, told, "1 task in ")
	assert.Contains(t, told, "Not tried, of 7 commits: ")
	files, err = filepath.Glob(filepath.Join(surveyed, "*.md"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "\nbrief: drafted\n")
	assert.Contains(t, string(text), "\nlabels: [")
	code, _, errs = run(t, "validate", files[0])
	assert.Zero(t, code)
	assert.Contains(t, errs, "rewrite it to say what is wanted")
	before, err := os.ReadFile(filepath.Join(surveyed, "survey.json"))
	require.NoError(t, err)
	code, _, errs = run(t, "task", "survey", "--repository", repository, "--limit", "1", "--out", surveyed)
	assert.Zero(t, code)
	assert.NotContains(t, errs, "trying")
	after, err := os.ReadFile(filepath.Join(surveyed, "survey.json"))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	code, _, errs = run(t, "task", "survey", "--repository", port, "--out", surveyed)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is a survey of "+repository)
	require.NoError(t, os.WriteFile(filepath.Join(surveyed, "survey.json"), []byte("{"), 0o644))
	code, _, errs = run(t, "task", "survey", "--repository", repository, "--out", surveyed)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "cannot be read")

	assert.Contains(t, must(t, "task", "prove", filepath.Join(port, "tasks", "overdue.md")), "proved: 4 goals")
	code, out2, _ := run(t, "task", "prove", filepath.Join(port, "tasks", "overdue.md"), "--repeats", "1", "--format", "json")
	assert.Equal(t, 1, code)
	assert.Contains(t, out2, `"proved": false`)
	code, _, errs = run(t, "task", "prove", filepath.Join(port, "quick.yaml"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is not a task file")

	// Proved first, and started only when all are.
	two := filepath.Join(port, "two.yaml")
	require.NoError(t, os.WriteFile(two, []byte("contest: two\ntasks: [tasks/overdue.md, tasks/margin.md]\ncontenders: [contenders/turnstone.yaml]\n"), 0o644))
	started := must(t, "contest", "start", two, "--prove", "--yes", "--watch")
	assert.Contains(t, started, "proved: 5 goals")
	assert.Contains(t, started, "2 of 2")
	assert.NotContains(t, started, "nothing has shown yet")
	require.NoError(t, os.WriteFile(filepath.Join(port, "references", "overdue.md"), []byte("I do not know."), 0o644))
	code, out2, errs = run(t, "contest", "start", two, "--prove", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out2, "the reference answer does not hold")
	assert.Contains(t, errs, "so nothing was started")
	again2 := must(t, "contest", "start", two, "--yes", "--watch")
	assert.Contains(t, again2, "overdue")
	assert.Contains(t, again2, "nothing has shown yet")

	imported := must(t, "bout", "import", "--task", filepath.Join(port, "tasks", "ledger.md"), "--contender", "dunlin", "--patch", filepath.Join(port, "references", "ledger.patch"), "--took", "25m", "--notes", "by hand",
		"--tokens", "fresh=1200,output=90", "--spent", "0.31 AVM")
	assert.Contains(t, imported, "1,290 tokens, 0.3100 AVM (typed-in)")
	assert.Contains(t, imported, "passed: every check passed")
	assert.Contains(t, imported, "25 min 00 s")
	assert.Contains(t, imported, "by hand")
	answer := filepath.Join(t.TempDir(), "said.md")
	require.NoError(t, os.WriteFile(answer, []byte("no idea"), 0o644))
	for _, args := range [][]string{
		{"--task", "ledger", "--contender", "dunlin"},
		{"--task", "ledger", "--contender", "dunlin", "--patch", "x", "--folder", "y"},
		{"--task", "ledger", "--contender", "dunlin", "--branch", "x"},
		{"--task", "ledger", "--contender", "dunlin", "--patch", answer, "--tokens", "many"},
		{"--task", "ledger", "--contender", "dunlin", "--patch", answer, "--spent", "0.31"},
	} {
		code, _, _ := run(t, append([]string{"bout", "import"}, args...)...)
		assert.NotZero(t, code, args)
	}
	again := must(t, "contest", "rejudge", "quick", "--task", "ledger")
	assert.Contains(t, again, "4 bouts were judged more than once")
	code, _, errs = run(t, "contest", "rejudge", "--file", filepath.Join(port, "nowhere.yaml"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "name it with --file")
}
