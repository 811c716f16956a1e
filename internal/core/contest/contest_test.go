package contest

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/specfile"
)

const (
	goodTask  = "---\ntask: tables\ntitle: Tables\nrepository: ../repo\nstart_commit: v1\nlabels: [go]\nsize: small\nchecks:\n  - name: build\n    run: make\n  - name: tests\n    run: go test -json ./...\n    reads: go-test-json\nlimits:\n  time: 5m\nreference_patch: fix.patch\n---\nMend the tables.\n"
	goodPatch = "diff --git a/a b/a\n--- a/a\n+++ b/a\n@@ -1 +1 @@\n-a\n+b\n"
	goodTool  = "contender: dunlin\ntitle: Dunlin\nrun: [dunlin, --brief, \"{brief_file}\"]\nkeep_env: [DUNLIN_KEY]\ncarry:\n  - from: ~/.dunlin\n    except: [\"sessions/**\"]\n"
	goodMain  = "contest: trial\ntasks: [\"tasks/*.md\"]\ncontenders: [\"tools/*.yaml\"]\nrepeats: 2\nseed: 7\nat_once: 2\nlimits:\n  time: 1m\n"
)

func bundle(change map[string]string) *specfile.Bundle {
	files := map[string][]byte{"/c/contest.yaml": []byte(goodMain), "/c/tasks/a.md": []byte(goodTask), "/c/tasks/fix.patch": []byte(goodPatch), "/c/tools/d.yaml": []byte(goodTool)}
	for name, text := range change {
		if text == "" {
			delete(files, name)
		} else {
			files[name] = []byte(text)
		}
	}
	return &specfile.Bundle{Main: "/c/contest.yaml", Files: files}
}

type commits map[string]string

func (c commits) ResolveCommit(repository, revision string) (string, error) {
	if repository != "/c/repo" {
		return "", &NoRepositoryError{Why: "no such folder on the service's machine: " + repository}
	}
	if id, ok := c[revision]; ok {
		return id, nil
	}
	return "", errors.New("no such commit in " + repository)
}

var known = commits{"v1": strings.Repeat("a", 40)}

func TestLoad(t *testing.T) {
	c, err := Load(bundle(nil), known)
	require.NoError(t, err)
	assert.Equal(t, 2, c.Repeats)
	assert.Equal(t, 2, c.AtOnce)
	assert.Equal(t, specfile.Seed(7), *c.Seed)
	require.Len(t, c.Tasks, 1)
	assert.Equal(t, "Mend the tables.", c.Tasks[0].Brief)
	assert.Equal(t, strings.Repeat("a", 40), c.Commits["tables"])
	assert.Equal(t, []byte(goodPatch), c.Tasks[0].Stages[0].Reference)
	assert.Equal(t, "exit", string(c.Tasks[0].Checks[0].Reads), "the default reader")
	assert.Equal(t, ".dunlin", c.Contenders[0].Carry[0].Target())
}

// Each mistake in any of the files is told, with file, line and key.
func TestLoadTellsMistakes(t *testing.T) {
	task := func(old, new string) map[string]string {
		return map[string]string{"/c/tasks/a.md": strings.Replace(goodTask, old, new, 1)}
	}
	tool := func(old, new string) map[string]string {
		return map[string]string{"/c/tools/d.yaml": strings.Replace(goodTool, old, new, 1)}
	}
	main := func(old, new string) map[string]string {
		return map[string]string{"/c/contest.yaml": strings.Replace(goodMain, old, new, 1)}
	}
	both := func(a, b map[string]string) map[string]string {
		maps.Copy(a, b)
		return a
	}
	prices := func(currency string) string {
		return "price_list: p\ncurrency: " + currency + "\nmodels: [{model: a, per_hour: 1}]\n"
	}
	cases := []struct {
		name   string
		change map[string]string
		want   string
	}{
		{"start commit", task("v1", "v9"), `tasks/a.md:5: start_commit: found "v9" (no such commit in /c/repo), expected a tag, branch or commit of /c/repo`},
		{"repository", task("../repo", "../nowhere"), `tasks/a.md:4: repository: found "../nowhere" (no such folder`},
		{"start commit that is an option", task("v1", "--upload-pack=x"), "start_commit: found"},
		{"no brief", task("Mend the tables.\n", ""), "found no brief"},
		{"check reader", task("reads: go-test-json", "reads: xml"), `tasks/a.md:13: checks[1].reads: found "xml", expected exit, go-test-json, junit, tap or number`},
		{"repair rounds", main("repeats: 2", "repeats: 2\nrepair_rounds: -1"), `contest.yaml:5: repair_rounds: found -1, expected a whole number from 0 to 20`},
		{"a price list that is not there", main("repeats: 2", "repeats: 2\nprices: [p.yaml]"), `prices[0]: found "p.yaml" (no such file)`},
		{"two currencies", both(main("repeats: 2", "repeats: 2\nprices: ['*.prices.yaml']"), map[string]string{"/c/a.prices.yaml": prices("AVM"), "/c/b.prices.yaml": prices("XTS")}), `b.prices.yaml:2: currency: found XTS, expected AVM`},
		{"a limit of money without prices", main("repeats: 2", "repeats: 2\nlimits: {spend: 1 AVM}"), `limits.spend: found 1 AVM, and no price list`},
		{"a limit in another currency", both(main("repeats: 2", "repeats: 2\nprices: [a.prices.yaml]\nlimits: {spend: 1 XTS}"), map[string]string{"/c/a.prices.yaml": prices("AVM")}), "an amount in AVM"},
		{"a task's limit without prices", task("time: 5m", "spend: 1 AVM"), "the key prices, with price lists in AVM"},
		{"money without a currency", main("repeats: 2", "repeats: 2\nlimits: {spend: 1}"), "an amount and a currency"},
		{"tokens below none", main("repeats: 2", "repeats: 2\nlimits: {tokens: -1}"), "a number of tokens above 0"},
		{"a refusal that is flagged", main("repeats: 2", "repeats: 2\non_refused: flag"), "count or void"},
		{"another model that is counted", main("repeats: 2", "repeats: 2\non_other_model: count"), "flag or void"},
		{"repair words", main("repeats: 2", "repeats: 2\nrepair_words: Mend it."), `contest.yaml:5: repair_words: found "Mend it.", expected words with {output} in them`},
		{"two checks of one name", task("name: tests", "name: build"), `checks[1].name: found "build", expected a name of its own`},
		{"no checks", task("checks:\n  - name: build\n    run: make\n  - name: tests\n    run: go test -json ./...\n    reads: go-test-json\n", "checks: []\n"), "at least one check"},
		{"size", task("size: small", "size: tiny"), "expected small, medium or large"},
		{"unknown limit", task("time: 5m", "tiem: 5m"), `tasks/a.md:15: limits.tiem: found an unknown key, expected "time", perhaps`},
		{"missing patch", map[string]string{"/c/tasks/fix.patch": ""}, `tasks/a.md:16: reference_patch: found "fix.patch" (no such file)`},
		{"patch that is none", map[string]string{"/c/tasks/fix.patch": "hello\n"}, "expected a patch as git diff prints it"},
		{"two tasks with one slug", map[string]string{"/c/tasks/b.md": goodTask}, `tasks/b.md:2: task: found "tables", expected a slug of its own (tasks/a.md has it already)`},
		{"two contenders with one slug", map[string]string{"/c/tools/e.yaml": goodTool}, "tools/e.yaml:1: contender:"},
		{"pattern that matches nothing", main("tasks/*.md", "task/*.md"), `contest.yaml:2: tasks[0]: found "task/*.md" (no such file)`},
		{"broken pattern", main("tasks/*.md", "tasks/[.md"), "expected a path or glob pattern"},
		{"repeats", main("repeats: 2", "repeats: 0"), "contest.yaml:4: repeats: found 0, expected a whole number from 1"},
		{"at once", main("at_once: 2", "at_once: 9999"), "at_once: found 9999"},
		{"run is text", tool("run: [dunlin, --brief, \"{brief_file}\"]", "run: dunlin"), `tools/d.yaml:3: run: found "dunlin", expected a list`},
		{"misspelt placeholder", tool("{brief_file}", "{breif_file}"), `run[2]: found "{breif_file}", expected the placeholder {brief_file}, perhaps`},
		{"reserved variable", tool("DUNLIN_KEY", "HOME"), "keep_env[0]: found a variable that every bout sets itself"},
		{"carried home", tool("~/.dunlin", "~"), "a whole home is not carried"},
		{"carried out of HOME", tool("from: ~/.dunlin", "from: ~/.dunlin\n    to: ../x"), "expected a path inside the bout's HOME"},
		{"broken except", tool("sessions/**", "[x"), "except[0]"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			_, err := Load(bundle(c.change), known)
			var problems specfile.Problems
			require.ErrorAs(t, err, &problems)
			assert.Contains(t, problems.Error(), c.want)
		})
	}
}

func TestLoadTellsTheMistakesOfAllFilesAtOnce(t *testing.T) {
	_, err := Load(bundle(map[string]string{
		"/c/contest.yaml": strings.Replace(goodMain, "repeats: 2", "repeats: two", 1),
		"/c/tasks/a.md":   strings.Replace(goodTask, "size: small", "size: tiny", 1),
		"/c/tools/d.yaml": goodTool + "colour: red\n",
	}), known)
	var problems specfile.Problems
	require.ErrorAs(t, err, &problems)
	assert.Len(t, problems, 3)
}

func TestOrderIsFairAndRepeatable(t *testing.T) {
	tasks, tools := []Item{{Task: "a"}, {Task: "b"}, {Task: "c"}}, []specfile.Slug{"x", "y", "z", "w"}
	order := Order(tasks, tools, 3, 42)
	require.Len(t, order, 36)
	assert.Equal(t, order, Order(tasks, tools, 3, 42))
	assert.NotEqual(t, order, Order(tasks, tools, 3, 43))
	for block := range 9 {
		seen := map[specfile.Slug]bool{}
		for _, s := range order[block*4 : block*4+4] {
			assert.Equal(t, tasks[block%3].Task, s.Task)
			assert.Equal(t, block/3+1, s.Repeat)
			seen[s.Contender] = true
		}
		assert.Len(t, seen, 4, "block %d has every contender once", block)
	}
	// Kept, so that a change of the generator is noticed: it would change old contests' orders.
	var first []string
	for _, s := range order[:4] {
		first = append(first, string(s.Contender))
	}
	assert.Equal(t, "y z w x", strings.Join(first, " "))
}

// Each contender stands in each place of a block about equally often.
func TestOrderIsUniform(t *testing.T) {
	tools := []specfile.Slug{"x", "y", "z"}
	counts := map[string]int{}
	const n = 6000
	for seed := range specfile.Seed(n) {
		for place, s := range Order([]Item{{Task: "a"}}, tools, 1, seed) {
			counts[fmt.Sprint(s.Contender, place)]++
		}
	}
	require.Len(t, counts, 9)
	for at, got := range counts {
		assert.InDelta(t, n/3, got, 0.06*n/3*3, at)
	}
}

func TestBoutSeedsDiffer(t *testing.T) {
	seen := map[specfile.Seed]bool{}
	for r := 1; r <= 20; r++ {
		for _, tool := range []specfile.Slug{"x", "y"} {
			s := BoutSeed(5, Slot{Task: "a", Contender: tool, Repeat: r})
			assert.GreaterOrEqual(t, int64(s), int64(0))
			assert.LessOrEqual(t, int64(s), int64(specfile.MaxSeed))
			seen[s] = true
		}
	}
	assert.Len(t, seen, 40)
}

// The checked-in schemas accept what the reader accepts.
func TestSchemasAcceptTheDemoFiles(t *testing.T) {
	root := filepath.Join("..", "..", "..")
	for kind, files := range map[string]string{"contender": "demo/contenders/*.yaml", "contest": "demo/*[^s].yaml", "prices": "demo/prices.yaml"} {
		schema, err := jsonschema.NewCompiler().Compile(filepath.Join(root, "docs", "schema", kind+".schema.json"))
		require.NoError(t, err)
		names, err := filepath.Glob(filepath.Join(root, files))
		require.NoError(t, err)
		require.NotEmpty(t, names)
		for _, name := range names {
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			assert.NoError(t, schema.Validate(generic(t, data)), name)
		}
		assert.Error(t, schema.Validate(map[string]any{"colour": "red"}))
	}
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join(root, "docs", "schema", "task.schema.json"))
	require.NoError(t, err)
	names, err := filepath.Glob(filepath.Join(root, "demo/tasks/*.md"))
	require.NoError(t, err)
	require.Len(t, names, 6)
	for _, name := range names {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		_, front, _ := strings.Cut(string(data), "---\n")
		front, _, _ = strings.Cut(front, "\n---\n")
		assert.NoError(t, schema.Validate(generic(t, []byte(front))), name)
	}
}

func TestKindOf(t *testing.T) {
	for name, c := range map[string]struct {
		file, text string
		want       Kind
	}{
		"task":                    {"t.md", "---\n", KindTask},
		"contest":                 {"c.yaml", goodMain, KindContest},
		"contender":               {"c.yml", goodTool, KindContender},
		"contender with mistakes": {"c.yaml", "contender: X_\nrun: 3\n", KindContender},
		"neither":                 {"c.yaml", "colour: red\n", ""},
		"broken":                  {"c.yaml", "[", ""},
		"prices":                  {"p.yaml", "price_list: p\n", KindPrices},
		"other":                   {"c.txt", goodMain, ""},
	} {
		assert.Equal(t, c.want, KindOf(c.file, []byte(c.text)), name)
	}
	tasks, tools, _ := Globs("/c/contest.yaml", []byte(goodMain))
	assert.Equal(t, []string{"/c/tasks/*.md"}, tasks)
	assert.Equal(t, []string{"/c/tools/*.yaml"}, tools)
}

func TestAContestOfTooManyBoutsIsRefused(t *testing.T) {
	change := map[string]string{"/c/contest.yaml": strings.Replace(goodMain, "repeats: 2", "repeats: 1000", 1)}
	for i := range 120 {
		change[fmt.Sprintf("/c/tools/x%d.yaml", i)] = strings.Replace(goodTool, "contender: dunlin", fmt.Sprint("contender: x", i), 1)
	}
	_, err := Load(bundle(change), known)
	assert.ErrorContains(t, err, "121000 bouts in all, expected at most 100000")
}
