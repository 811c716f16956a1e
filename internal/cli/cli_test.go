package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/demo"
	"agonometer/internal/api"
	"agonometer/internal/bout"
	plaintext "agonometer/internal/core/plain"
	"agonometer/internal/schema"
	"agonometer/internal/service"
)

// As a child of a test this program is the client itself.
func TestMain(m *testing.M) {
	bout.MaybeHelper()
	// The demo's contenders start this program as a stand-in, in an environment of their own.
	if os.Getenv("AGONOMETER_TEST_CLIENT") != "" || len(os.Args) > 1 && os.Args[1] == "stand-in" {
		os.Exit(Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
	}
	os.Exit(m.Run())
}

// run runs the client in this process, without a terminal.
func run(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	var o, e bytes.Buffer
	code = Main(t.Context(), args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

func must(t *testing.T, args ...string) string {
	t.Helper()
	code, out, errs := run(t, args...)
	require.Zero(t, code, "%v: %s%s", args, out, errs)
	return out
}

func git(t *testing.T, dir string, args ...string) {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@localhost", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@localhost"}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// write writes files into a folder.
func write(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
}

// project writes files into a folder, and makes those in repo a repository of one commit.
func project(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	write(t, dir, files)
	for _, args := range [][]string{{"init", "-q", "."}, {"add", "-A"}, {"commit", "-qm", "start"}} {
		git(t, filepath.Join(dir, "repo"), args...)
	}
}

// world starts a service and points the client at it.
func world(t *testing.T) {
	t.Helper()
	data := t.TempDir()
	t.Setenv("AGONOMETER_DATA", data)
	t.Setenv("AGONOMETER_SERVICE", "")
	t.Setenv("AGONOMETER_TOKEN", "")
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Version: "test", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
}

// setUp makes a world with one finished contest.
func setUp(t *testing.T) (dir string, contest api.ContestDetail) {
	t.Helper()
	world(t)
	dir = t.TempDir()
	files := map[string]string{
		"repo/a.txt": "a\n",
		"t.md":       "---\ntask: word\ntitle: Write a word\nrepository: repo\nstart_commit: HEAD\nchecks:\n  - name: word\n    run: grep -q word a.txt\n---\nWrite a word into a.txt.\n",
		"good.yaml":  "contender: good\ntitle: Good\nrun: [sh, -c, \"echo word >> a.txt; printf 'red \\\\033[31m title \\\\033]0;x\\\\007'\"]\n",
		"bad.yaml":   "contender: bad\ntitle: Bad\nrun: [sh, -c, \"echo wrod >> a.txt\"]\n",
		"c.yaml":     "contest: words\ntasks: [t.md]\ncontenders: [good.yaml, bad.yaml]\nseed: 5\n",
	}
	project(t, dir, files)
	out := must(t, "contest", "start", filepath.Join(dir, "c.yaml"), "--yes", "--watch")
	assert.Contains(t, out, "2 bouts = 1 tasks x 2 contenders x 1 repeats")
	assert.Contains(t, out, "good on word, repeat 1: passed")
	assert.Contains(t, out, "bad on word, repeat 1: failed, check-failed (word)")
	assert.Regexp(t, `good +1 of 1 +100%`, out)
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "show", "--format", "json")), &contest))
	return dir, contest
}

func TestRecordsInEveryFormat(t *testing.T) {
	_, contest := setUp(t)
	bout := contest.Bouts[0].ID
	good := contest.Bouts[0]
	for _, b := range contest.Bouts {
		if b.Contender == "good" {
			good = b
		}
	}
	commands := [][]string{{"contest", "list"}, {"contest", "show"}, {"contest", "standings", "words"}, {"bout", "list"}, {"bout", "list", "--contest", "words"}, {"bout", "show", bout},
		{"bout", "show", bout[20:], "--tests"}, {"bout", "diff", bout, "--stat"}, {"task", "list"}, {"task", "show", "word"}, {"contender", "list"}, {"contender", "show", "good"},
		{"contender", "check", "good"}, {"doctor"}}
	for _, command := range commands {
		for _, f := range []string{"table", "json", "csv", "markdown"} {
			out := must(t, append(command, "--format", f)...)
			switch f {
			case "json":
				var v any
				assert.NoError(t, json.Unmarshal([]byte(out), &v), command)
			case "csv":
				rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
				assert.NoError(t, err, command)
				assert.GreaterOrEqual(t, len(rows), 2, command)
			case "markdown":
				assert.Contains(t, out, ":--- |", command)
			}
			assert.NotContains(t, out, "\x1b", "no colours and no control characters in a pipe: %v", command)
		}
	}
	patch := must(t, "bout", "diff", good.ID)
	assert.True(t, strings.HasPrefix(patch, "diff --git a/a.txt b/a.txt"))
	assert.Contains(t, must(t, "bout", "log", good.ID), "\x1b[31m", "a pipe gets the bytes as they are")
	_, _, errs := run(t, "bout", "log", good.ID, "--check", "word")
	assert.Contains(t, errs, "Nothing was printed.")
	assert.Contains(t, must(t, "contest", "watch"), "good")
	assert.Regexp(t, `^http://127\.0\.0\.1:\d+/sign-in#\S{40,}\n$`, must(t, "console"))
}

func TestMistakesSayWhatToDo(t *testing.T) {
	dir, contest := setUp(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wrong.yaml"), []byte("contest: x\ntasks: [no.md]\ncontenders: [good.yaml]\nrepeats: 0\n"), 0o644))
	cases := []struct {
		args []string
		code int
		says string
	}{
		{[]string{"contests"}, 2, "unknown command"},
		{[]string{"contest", "lst"}, 2, `unknown command "lst"`},
		{[]string{"contest", "list", "--colour"}, 2, "unknown flag"},
		{[]string{"contest", "list", "--format", "xml"}, 2, "expected table, json, csv or markdown"},
		{[]string{"bout", "show"}, 2, "accepts 1 arg"},
		{[]string{"contest", "show", "nothing"}, 1, "agonometer contest list"},
		{[]string{"bout", "show", "ZZZZ"}, 1, "agonometer bout list"},
		{[]string{"task", "show", "nothing"}, 1, "no such record"},
		{[]string{"contest", "stop", contest.ID}, 1, "has ended already"},
		{[]string{"contest", "start", filepath.Join(dir, "none.yaml")}, 1, "no such file"},
		{[]string{"contest", "start", filepath.Join(dir, "good.yaml")}, 2, "is not a contest file"},
		{[]string{"contest", "start", filepath.Join(dir, "wrong.yaml"), "--yes"}, 1, "wrong.yaml:4: repeats: found 0"},
		{[]string{"contest", "list", "--service", "http://127.0.0.1:1"}, 1, "start one with: agonometer serve"},
		{[]string{"contest", "list", "--service", "nonsense"}, 1, "is not a service's address"},
		{[]string{"contest", "list", "--data", filepath.Join(dir, "nowhere")}, 1, "no service has run with the data folder"},
		{[]string{"stand-in", "albatross"}, 2, "there are turnstone, sanderling, whimbrel"},
	}
	for _, c := range cases {
		t.Run(strings.Join(c.args, " "), func(t *testing.T) {
			code, out, errs := run(t, c.args...)
			assert.Equal(t, c.code, code, out+errs)
			assert.Contains(t, errs, c.says)
		})
	}
	var list []api.Contest
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "list", "--format", "json")), &list))
	assert.Len(t, list, 1, "nothing was started by mistake")
}

// The local check says word for word what the service says.
func TestValidateSaysWhatTheServiceSays(t *testing.T) {
	dir, _ := setUp(t)
	wrong := filepath.Join(dir, "wrong.yaml")
	require.NoError(t, os.WriteFile(wrong, []byte("contest: x\ntasks: [t2.md]\ncontenders: [good.yaml, none.yaml]\nrepeats: 0\ncolour: red\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "t2.md"), []byte("---\ntask: word\ntitle: T\nrepository: repo\nstart_commit: v9\nchecks: []\n---\n"), 0o644))
	code, local, _ := run(t, "validate", wrong)
	assert.Equal(t, 1, code)
	code, _, remote := run(t, "contest", "start", wrong, "--yes")
	assert.Equal(t, 1, code)
	lines := strings.Split(strings.TrimSpace(strings.ReplaceAll(local, dir+"/", "")), "\n")
	assert.Len(t, lines, 6)
	for _, l := range lines {
		assert.Contains(t, strings.ReplaceAll(remote, dir+"/", ""), l)
	}
	code, out, _ := run(t, "validate", filepath.Join(dir, "c.yaml"), filepath.Join(dir, "t.md"), filepath.Join(dir, "good.yaml"))
	assert.Zero(t, code, out)
	assert.Contains(t, out, "3 files: nothing is wrong.")
	code, out, _ = run(t, "validate", filepath.Join(dir, "repo", "a.txt"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "none of the four kinds")
}

func TestPruneWithAndWithoutAService(t *testing.T) {
	setUp(t)
	assert.Contains(t, must(t, "prune"), "2 folders")
	code, _, errs := run(t, "prune", "--data", filepath.Join(t.TempDir(), "none"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "there is no data folder")
	assert.Contains(t, must(t, "prune", "--data", t.TempDir()), "Freed 0 B in 0 folders.")
}

func TestEmptyStates(t *testing.T) {
	data := t.TempDir()
	t.Setenv("AGONOMETER_DATA", data)
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer s.Close()
	assert.Contains(t, must(t, "contest", "list"), "agonometer contest start FILE")
	assert.Equal(t, "[]\n", must(t, "contest", "list", "--format", "json"))
	assert.Contains(t, must(t, "bout", "list"), "No bouts.")
	assert.Contains(t, must(t, "task", "list"), "agonometer validate FILE")
	code, _, errs := run(t, "contest", "standings")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "there is no contest yet")
}

func TestHelpAndVersion(t *testing.T) {
	for _, args := range [][]string{{}, {"--help"}, {"contest"}, {"bout", "--help"}, {"serve", "--help"}, {"completion", "bash"}, {"version"}, {"version", "--format", "json"}} {
		assert.NotEmpty(t, must(t, args...), args)
	}
	assert.NotContains(t, must(t), "stand-in ", "the demo's own command is not for people")
}

func TestVisible(t *testing.T) {
	cases := map[string]string{
		"plain ü 港":    "plain ü 港",
		"\x1b[31m":     "␛[31m",
		"a\x00b\x7f\r": "a␀b␡␍",
		"\u202etxt":    `\u202etxt`,
		"bad \xff":     `bad \xff`,
		"tab\tline\n":  "tab\tline\n",
		"\u009b31m":    `\u009b31m`,
	}
	for in, want := range cases {
		assert.Equal(t, want, visible(in))
	}
}

func TestTheConsolesHiddenCharactersAreCurrent(t *testing.T) {
	got, err := os.ReadFile(filepath.Join("..", "..", "console", "src", "lib", "hidden.ts"))
	require.NoError(t, err)
	assert.Equal(t, plaintext.TypeScript(), string(got), "make docs")
}

func TestSchemasAreCurrent(t *testing.T) {
	for kind := range schema.Kinds() {
		want, err := schema.Of(kind)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join("..", "..", "docs", "schema", kind+".schema.json"))
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), "docs/schema is not current: make docs")
	}
}

// The demo's repositories have the same commits on every machine, and all its
// files are right.
func TestDemoFiles(t *testing.T) {
	dir := t.TempDir()
	program, err := exec.LookPath("git")
	require.NoError(t, err)
	require.NoError(t, demo.Unpack(t.Context(), dir, "/bin/true", "http://127.0.0.1:1/v1", program))
	require.NoError(t, demo.Unpack(t.Context(), dir, "/bin/true", "http://127.0.0.1:1/v1", program), "a second time changes nothing")
	must(t, "validate", filepath.Join(dir, demo.Contest))
	for repo, want := range map[string]string{"tidebook": "3946f1438c28", "lampkeeper": "0554fe93b2f6"} {
		tag := map[string]string{"tidebook": "v1.0", "lampkeeper": "v0.6"}[repo]
		out, err := exec.Command("git", "-C", filepath.Join(dir, "repositories", repo), "rev-parse", "--short=12", tag).Output()
		require.NoError(t, err)
		assert.Equal(t, want, strings.TrimSpace(string(out)))
		count, err := exec.Command("git", "-C", filepath.Join(dir, "repositories", repo), "rev-list", "--count", "HEAD").Output()
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"tidebook": "6", "lampkeeper": "7"}[repo], strings.TrimSpace(string(count)))
	}
}

// A list fits the terminal that it is shown in, and says what it left out.
func TestTablesFit(t *testing.T) {
	columns := []column{{head: "Bout", id: true}, {head: "Task"}, {head: "State", spare: 1}, {head: "Tokens", right: true, spare: 2}, {head: "Notes", spare: 3}}
	line := func(state, notes string) []cell {
		return []cell{plain("01M8EKK0ZBMCGPY6HWMPAW0V59"), plain("ledger"), {shown: state, color: outcomeColors["passed"]}, plain("1,234"), plain(notes)}
	}
	lines := [][]cell{line("done", "beside two others, refused once, the machine was overloaded"), line("working", "潮汐表潮汐表潮汐表潮汐表潮汐表"), line("done", "")}
	heads := func(columns []column) (out string) {
		for _, c := range columns {
			out += c.head + " "
		}
		return strings.TrimSpace(out)
	}
	for _, c := range []struct {
		width int
		shown string
		notes int
		gone  string
	}{
		{0, "Bout Task State Tokens Notes", 0, ""},
		{200, "Bout Task State Tokens Notes", 0, ""},
		{100, "Bout Task State Tokens Notes", 0, ""},
		{80, "Bout Task State Tokens Notes", 80 - 6 - 6 - 7 - 6 - 4*2, ""},
		{56, "Bout Task Tokens Notes", 56 - 6 - 6 - 6 - 3*2, "State"},
		{48, "Bout Task Notes", 48 - 6 - 6 - 2*2, "State Tokens"},
		{40, "Bout Task State Tokens", 0, "Notes"},
		{20, "Bout Task", 0, "State Tokens Notes"},
		{3, "Bout Task", 0, "State Tokens Notes"},
	} {
		shown, cells, most, gone := fit(columns, lines, c.width)
		assert.Equal(t, c.shown, heads(shown), c.width)
		assert.Equal(t, c.gone, strings.Join(gone, " "), c.width)
		require.Len(t, most, len(shown))
		require.Len(t, cells[0], len(shown))
		if shown[len(shown)-1].head == "Notes" {
			assert.Equal(t, c.notes, most[len(most)-1], c.width)
		}
		assert.Equal(t, c.width == 0 || c.width >= 200, cells[0][0].shown == "01M8EKK0ZBMCGPY6HWMPAW0V59", "short only where there is no room: %d", c.width)
		assert.Equal(t, "01M8EKK0ZBMCGPY6HWMPAW0V59", cells[0][0].plain)
	}
	assert.Equal(t, "01M8EKK0ZBMCGPY6HWMPAW0V59", lines[0][0].shown, "what was given stays")
	_, _, most, _ := fit(nil, nil, 10)
	assert.Empty(t, most)

	// In a real terminal, no line is longer than it.
	_, contest := setUp(t)
	for _, columns := range []int{60, 80, 120} {
		code, shown := inTerminal(t, columns, "bout", "list", "--contest", contest.ID).wait(t)
		assert.Zero(t, code)
		assert.Contains(t, shown, "No room for: ")
		for line := range strings.Lines(shown) {
			if !strings.HasPrefix(line, "No room for") {
				assert.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(line, "\r\n")), columns, line)
			}
		}
	}
}

// In a terminal a contest is asked for first, its table is drawn in place, and Ctrl-C leaves it to itself.
func TestAContestInATerminal(t *testing.T) {
	dir, _ := setUp(t)
	gate := filepath.Join(dir, "gate")
	write(t, dir, map[string]string{
		"slow.yaml": "contender: slow\ntitle: Slow\nreads: [" + dir + "]\nrun: [sh, -c, 'while ! test -e " + gate + "; do sleep 0.05; done; echo word >> a.txt']\n",
		"long.yaml": "contest: tide\ntasks: [t.md]\ncontenders: [good.yaml, slow.yaml]\nat_once: 2\n",
	})
	file := filepath.Join(dir, "long.yaml")

	no := inTerminal(t, 100, "contest", "start", file, "--watch")
	no.await(t, "Start it? [y/N] ")
	no.press(t, "\r", "Nothing was started.")
	code, shown := no.wait(t)
	assert.Equal(t, 1, code)
	assert.Contains(t, shown, "2 bouts = 1 tasks x 2 contenders x 1 repeats, 2 at once")

	yes := inTerminal(t, 60, "contest", "start", file, "--watch")
	yes.await(t, "Start it? [y/N] ")
	yes.press(t, "y\r", "Started contest ")
	yes.await(t, "good  ●  1 passed, 0 failed")
	yes.await(t, "slow  ▸  0 passed, 0 failed  now: word (at work)")
	yes.press(t, "\x03", "The contest goes on without being watched.")
	code, shown = yes.wait(t)
	assert.NotZero(t, code)
	assert.Contains(t, shown, "1 of 2 bouts done, 1 running, 0 left")
	assert.Regexp(t, `agonometer contest watch \S{26}; stop it: agonometer contest stop \S{26}`, shown)
	drawn := strings.Split(shown[strings.Index(shown, "\x1b[2K"):strings.Index(shown, "The contest goes on")], "\x1b[2K")
	for _, line := range drawn {
		line, _, _ = strings.Cut(line, "\r")
		assert.Less(t, utf8.RuneCountInString(line), 60, "no drawn line wraps: %q", line)
	}
	assert.Contains(t, shown, "\x1b[3A", "drawn again in the place of its three lines")

	// Watched again it is drawn to its end, and its standings stand below.
	again := inTerminal(t, 120, "contest", "watch", "tide")
	again.await(t, "slow  ▸")
	require.NoError(t, os.WriteFile(gate, nil, 0o644))
	code, shown = again.wait(t)
	assert.Zero(t, code)
	assert.Contains(t, shown, "2 of 2 bouts done, 0 running, 0 left")
	assert.Regexp(t, `slow +1 of 1 +100%`, shown)
}

// Bouts that went another way than usual are told as what they were.
func TestRecordsOfUnusualBouts(t *testing.T) {
	dir, _ := setUp(t)
	write(t, dir, map[string]string{
		"u.md":      "---\ntask: word\ntitle: Write a word\nrepository: repo\nstart_commit: HEAD\nlimits: {time: 1s}\nrepair_rounds: 2\ntest_files: [a_test.sh]\nchecks:\n  - name: word\n    run: grep -q word a.txt\n---\nWrite a word into a.txt.\n",
		"late.yaml": "contender: late\ntitle: Late\nrun: [sleep, \"60\"]\n",
		"ends.yaml": "contender: ends\ntitle: Ends\nrun: [sh, -c, 'kill -9 $$']\nsetup_notes: {steps: [\"take it from the shelf\", \"oil it\"], minutes: 12, accounts: [\"the harbour office\"]}\n",
		"idle.yaml": "contender: idle\ntitle: Idle\nrun: [\"true\"]\n",
		"slow.yaml": "contender: slow\ntitle: Slow\nrun: [sleep, \"600\"]\n",
		"odd.yaml":  "contest: odd\ntasks: [u.md]\ncontenders: [late.yaml, ends.yaml, idle.yaml]\nseed: 3\n",
		"long.yaml": "contest: long\ntasks: [t.md]\ncontenders: [slow.yaml]\n",
	})
	out := must(t, "contest", "start", filepath.Join(dir, "odd.yaml"), "--yes", "--watch")
	assert.Contains(t, out, "late on word, repeat 1: failed, time-limit")
	var d api.ContestDetail
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "show", "odd", "--format", "json")), &d))
	for name, words := range map[string][]string{
		"late": {`(?m)^Tool ended +stopped: time`, `(?m)^Verdict +failed: `},
		"ends": {`(?m)^Tool ended +by a signal: killed`, `(?m)^Change +nothing|(?m)^Change +0 files`},
		"idle": {`(?m)^Verdict +failed: the tool changed nothing$`},
	} {
		shown := must(t, "bout", "show", boutOf(t, d, name).ID)
		for _, want := range words {
			assert.Regexp(t, want, shown, name)
		}
	}
	list := must(t, "bout", "list", "--contest", "odd")
	assert.Regexp(t, `late +1 +done +failed, time-limit +1\.\d s `, list, "it had the whole second")
	_, _, errs := run(t, "bout", "diff", boutOf(t, d, "idle").ID)
	assert.Equal(t, "The bout changed nothing.\n", errs)
	assert.Contains(t, must(t, "bout", "diff", boutOf(t, d, "idle").ID, "--stat"), "The bout changed nothing.")
	assert.Regexp(t, `(?s)Set up +12 minutes of a person's time.*take it from the shelf.*oil it.*accounts: the harbour office`, must(t, "contender", "show", "ends"))

	// Ready or not: what was found is kept, and a contender that cannot run says so with its status.
	out = must(t, "contender", "check", filepath.Join(dir, "idle.yaml"))
	assert.Regexp(t, `(?m)^warning +trial bout +it ended and changed nothing, in `, out)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gone.yaml"), []byte("contender: gone\ntitle: Gone\nrun: [no-such-program]\n"), 0o644))
	code, out, _ := run(t, "contender", "check", filepath.Join(dir, "gone.yaml"), "--no-trial")
	assert.NotZero(t, code)
	assert.Regexp(t, `(?m)^missing +program +`, out)

	// A bout that a person stops counts neither for nor against.
	must(t, "contest", "start", filepath.Join(dir, "long.yaml"), "--yes")
	require.NoError(t, json.Unmarshal([]byte(must(t, "contest", "show", "long", "--format", "json")), &d))
	slow := d.Bouts[0].ID
	assert.Contains(t, must(t, "bout", "stop", slow), "it counts neither for nor against")
	must(t, "contest", "watch", "long")
	assert.Regexp(t, `(?m)^Verdict +void: `, must(t, "bout", "show", slow))
	assert.Regexp(t, `slow +0 of 0 +–`, must(t, "contest", "standings", "long"))
}
