package patch

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// busy is a change that shows most measures, in several languages.
func busy() (before, after tree) {
	before = tree{
		"go.mod": "module port\n\ngo 1.26\n", "package.json": `{"name": "port"}`,
		"tide/tide.go":      "package tide\n\nimport \"errors\"\n\n// Height is in metres.\nfunc Height(day int) (float64, error) {\n\tif day < 0 {\n\t\treturn 0, errors.New(\"day\")\n\t}\n\th, err := table(day)\n\tif err != nil {\n\t\treturn 0, err\n\t}\n\treturn h, nil\n}\n\n// Gone is gone.\nfunc Gone() {}\n",
		"tide/tide_test.go": "package tide\n\nfunc TestHeight(t *testing.T) {\n\trequire.Equal(t, 1.0, h)\n\trequire.NoError(t, err)\n}\n",
		"src/lamp.js":       "import a from './a.js';\n\nexport function light(lamp) {\n  try {\n    return burn(lamp);\n  } catch (e) {\n    report(e);\n  }\n}\n",
		"lib/oil.py":        "import b\nimport a\n\n\ndef oil(day):\n    if day < 0:\n        raise ValueError('day')\n    return 1\n",
		"web/page.html":     "<p>Lamps</p>\n", "web/page.css": "a{color:red}\n", "run.sh": "set -e\ncd x || exit 1\nmake\n",
	}
	after = tree{
		"go.mod": "module port\n\ngo 1.26\n\nrequire wick.example/oil v1.0.0\n", "package.json": `{"name": "port", "dependencies": {"wick": "1"}}`,
		"tide/tide.go":      "package tide\n\nimport \"wick.example/lamp\"\n\n// Height is in metres.\nfunc Height(day int) (float64, error) {\n\th, _ := table(day)\n\tfmt.Println(h)\n\treturn h, nil\n}\n\nfunc spare() int {\n\treturn 1\n}\n",
		"tide/tide_test.go": "package tide\n\nfunc TestHeight(t *testing.T) {\n\tt.Skip(\"later\")\n\trequire.NotNil(t, h)\n}\n",
		"src/lamp.js":       "import a from './a.js';\nimport wicks from 'wicks';\n\nexport function light(lamp) {\n  // ... rest of the code as before\n  return burn(lamp);\n}\n",
		"lib/oil.py":        "import a\nimport b\n\n\ndef oil(day):\n    return 1  # TODO: days\n",
		"web/page.html":     "<p>Lamps</p>\n<!-- TODO -->\n", "web/page.css": "a { color: red }\n", "run.sh": "cd x\nmake\n", "run.sh.orig": "x\n", "README.md": "Lamps.\n",
	}
	return before, after
}

func whole(t testing.TB) *Input {
	before, after := busy()
	in := between(t, before, after)
	in.Scope, in.Brief, in.Index = []string{"tide/**", "src/**"}, "Mend Height.", NewIndex()
	in.References = []Reference{{Diff: in.Diff, Read: in.Read}}
	return in
}

func TestMeasuresDoNotDependOnTheOrderOfFiles(t *testing.T) {
	in := whole(t)
	want := measure(t, in)
	require.Greater(t, len(want.Findings), 15)
	parts := strings.SplitAfter("\n"+string(in.Diff), "\ndiff --git ")[1:]
	for i := range parts {
		parts[i] = "diff --git " + strings.TrimSuffix(parts[i], "diff --git ")
	}
	dice := rand.New(rand.NewPCG(2031, 3))
	for range 10 {
		dice.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		var text strings.Builder
		for _, p := range parts {
			text.WriteString(strings.TrimSuffix(p, "\n") + "\n")
		}
		other := *in
		other.Diff = []byte(text.String())
		got := measure(t, &other)
		assert.Equal(t, want.Findings, got.Findings)
		assert.Equal(t, want.Figures, got.Figures)
	}
}

func TestADiffAppliedAndTakenAgainMeasuresTheSame(t *testing.T) {
	in := whole(t)
	before, _ := busy()
	dir := t.TempDir()
	git(t, dir, "init", "-q", ".")
	for name, text := range before {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	git(t, dir, "add", "-A", "-f")
	start := git(t, dir, "write-tree")
	cmd := exec.Command("git", "-C", dir, "apply", "--index", "-")
	cmd.Stdin = bytes.NewReader(in.Diff)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	again := *in
	again.Diff = []byte(git(t, dir, "diff", "--binary", "--full-index", "-M", start, git(t, dir, "write-tree")) + "\n")
	again.Read = func(side Side, name string) []byte {
		if side == Before {
			if text, there := before[name]; there {
				return []byte(text)
			}
			return nil
		}
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return nil
		}
		return data
	}
	assert.Equal(t, measure(t, in), measure(t, &again))
}

func TestTheEmptyDiffHasNone(t *testing.T) {
	in := whole(t)
	in.Diff = nil
	m := measure(t, in)
	assert.Empty(t, m.Findings)
	for _, f := range m.Figures {
		if f.Value != nil {
			assert.Zero(t, *f.Value, f.Name)
		}
	}
	for _, off := range MeasureNames {
		in := whole(t)
		in.Off = []string{off}
		for _, f := range measure(t, in).Figures {
			assert.NotEqual(t, off, FindFigure(f.Name).Measure, f.Name)
		}
	}
}

// The guide says of each measure what it cannot see, in the same words as the service.
func TestTheGuideSaysWhatEachMeasureMisses(t *testing.T) {
	guide, err := os.ReadFile("../../../docs/edit-measures.md")
	require.NoError(t, err)
	plain := strings.ReplaceAll(squeezed(guide), "`", "")
	for _, m := range MeasureInfos() {
		_, section, there := strings.Cut(plain, "## "+strings.ToUpper(m.Name[:1])+m.Name[1:])
		require.True(t, there, m.Name)
		section, _, _ = strings.Cut(section, " ## ")
		assert.Contains(t, section, "**Misses** "+m.Misses, m.Name)
	}
}

func TestFiguresAreThoseOfTheCatalogue(t *testing.T) {
	m := measure(t, whole(t))
	had := map[string]bool{}
	for _, f := range m.Figures {
		require.NotNil(t, FindFigure(f.Name), f.Name)
		assert.False(t, had[f.Name], "%s twice", f.Name)
		had[f.Name] = true
		assert.True(t, f.Value != nil || f.Why != "", "%s has neither value nor reason", f.Name)
	}
	for _, f := range Figures() {
		assert.True(t, had[f.Name] || f.Measure == "claims" || f.Name == "lint_gone", f.Name)
	}
	// What a person sets aside is not counted.
	all := m.Values(nil)
	for _, f := range m.Findings {
		less := m.Values(map[string]bool{f.ID: true})
		for name, v := range less {
			assert.GreaterOrEqual(t, v, 0.0, name)
			assert.LessOrEqual(t, v, all[name], name)
		}
		if info := FindFigure(f.Measure); info != nil && slices.Contains(info.Kinds, f.Kind) {
			assert.Equal(t, all[f.Measure]-1, less[f.Measure])
		}
	}
}

// hostile are diffs and contents that must do no harm.
func hostile() map[string][3]string {
	long := strings.Repeat("lamp ", 100_000)
	return map[string][3]string{
		"binary":          {"diff --git a/x b/x\nindex 1..2 100644\nGIT binary patch\nliteral 3\nKcmZQz00001\n\n", "\x00\x01", "\x00\x02"},
		"huge line":       {"diff --git a/x.js b/x.js\n--- a/x.js\n+++ b/x.js\n@@ -1 +1 @@\n-" + long + "\n+" + long + "x\n", long, long + "x"},
		"counts too high": {"diff --git a/x.go b/x.go\n--- a/x.go\n+++ b/x.go\n@@ -1,900 +1,900 @@\n-a\n+b\n", "a\n", "b\n"},
		"counts below 0":  {"diff --git a/x.go b/x.go\n--- a/x.go\n+++ b/x.go\n@@ -1,-3 +9223372036854775807,1 @@\n-a\n+b\n", "a\n", "b\n"},
		"lines not there": {"diff --git a/x.py b/x.py\n--- a/x.py\n+++ b/x.py\n@@ -700,2 +800,2 @@\n-def a():\n-    pass\n+def b():\n+    pass\n", "x = 1\n", ""},
		"odd names":       {"diff --git \"a/\\303\\244 \\tb\\n\" \"b/\\303\\244 \\tb\\n\"\n--- \"a/\\303\\244 \\tb\\n\"\n+++ \"b/\\303\\244 \\tb\\n\"\n@@ -1 +1 @@\n-a\n+b\n", "a\n", "b\n"},
		"up and out":      {"diff --git a/../../etc/passwd b/../../etc/passwd\n--- a/../../etc/passwd\n+++ b/../../etc/passwd\n@@ -1 +1 @@\n-a\n+b\n", "a\n", "b\n"},
		"line ends":       {"diff --git a/x.c b/x.c\n--- a/x.c\n+++ b/x.c\n@@ -1,2 +1,2 @@\n-int a;\r\n-int b;\n+int a;\n+int b;\r\n", "int a;\r\nint b;\n", "int a;\nint b;\r\n"},
		"no end of line":  {"diff --git a/x.rs b/x.rs\n--- a/x.rs\n+++ b/x.rs\n@@ -1 +1 @@\n-fn a() {\n\\ No newline at end of file\n+fn b() {\n\\ No newline at end of file\n", "fn a() {", "fn b() {"},
		"utf-16":          {"diff --git a/x.java b/x.java\n--- a/x.java\n+++ b/x.java\n@@ -1 +1 @@\n-\xff\xfea\x00\n+\xff\xfeb\x00\n", "\xff\xfea\x00\n\x00", "\xff\xfeb\x00\n\x00"},
		"submodule":       {"diff --git a/sub b/sub\nindex 1111111..2222222 160000\n--- a/sub\n+++ b/sub\n@@ -1 +1 @@\n-Subproject commit 1111111\n+Subproject commit 2222222\n", "", ""},
		"link":            {"diff --git a/l b/l\nnew file mode 120000\nindex 0000000..1111111\n--- /dev/null\n+++ b/l\n@@ -0,0 +1 @@\n+/etc/passwd\n\\ No newline at end of file\n", "", "root"},
		"open texts":      {"diff --git a/x.ts b/x.ts\n--- a/x.ts\n+++ b/x.ts\n@@ -1 +1,4 @@\n-a\n+`${`${`\n+/* \"\n+'\n+{{{(((\n", "a\n", "`${`${`\n/* \"\n'\n{{{((("},
		"deep":            {"diff --git a/x.js b/x.js\nnew file mode 100644\n--- /dev/null\n+++ b/x.js\n@@ -0,0 +1 @@\n+" + strings.Repeat("{(", 20_000) + "\n", "", strings.Repeat("{(", 20_000) + "\n"},
		"not a diff":      {"hello\n@@ -1 +1 @@\n", "", ""},
		"twice the same":  {strings.Repeat("diff --git a/x.go b/x.go\n--- a/x.go\n+++ b/x.go\n@@ -1 +1 @@\n-a\n+b\n", 3), "a\n", "b\n"},
		"bad manifest":    {"diff --git a/package.json b/package.json\n--- a/package.json\n+++ b/package.json\n@@ -1 +1 @@\n-{}\n+{\"dependencies\": 7}\n", "{}\n", "{\"dependencies\": 7}\n"},
	}
}

// sound checks what holds of all measures, however hostile the change.
func sound(t *testing.T, m *Measures) {
	text, err := json.Marshal(m)
	require.NoError(t, err)
	require.True(t, utf8.Valid(text))
	ids := map[string]bool{}
	for _, f := range m.Findings {
		require.False(t, ids[f.ID], "two findings are called %s", f.ID)
		ids[f.ID] = true
		require.GreaterOrEqual(t, f.Line, 0)
		require.True(t, f.End == 0 || f.End >= f.Line, "%+v", f)
		require.LessOrEqual(t, len(f.Text), maxFindingText+3)
		require.NotEmpty(t, f.Why)
		require.Contains(t, MeasureNames, f.Measure)
	}
	for _, f := range m.Figures {
		if f.Value != nil {
			require.False(t, math.IsNaN(*f.Value) || math.IsInf(*f.Value, 0) || *f.Value < 0, f.Name)
		}
	}
}

func held(diff, before, after string) *Input {
	in := &Input{Diff: []byte(diff), Start: []string{"a.py", "pyproject.toml", "requirements/a.txt", "\xff.py"}, IsTest: isTest, Brief: "Mend it.", Index: NewIndex(), Read: func(side Side, _ string) []byte {
		if side == Before {
			return []byte(before)
		}
		return []byte(after)
	}}
	in.References = []Reference{{Diff: in.Diff, Read: in.Read}}
	in.Lint = &Lint{Start: [][]byte{[]byte(before)}, Result: [][]byte{[]byte(after)}}
	return in
}

func TestHostileDiffs(t *testing.T) {
	for name, c := range hostile() {
		t.Run(name, func(t *testing.T) {
			m, err := MeasureEdits(held(c[0], c[1], c[2]))
			require.NotErrorIs(t, err, ErrFault)
			if err == nil {
				sound(t, m)
			}
		})
	}
}

func FuzzMeasureEdits(f *testing.F) {
	for _, c := range hostile() {
		if len(c[0]) < 10_000 {
			f.Add(c[0], c[1], c[2])
		}
	}
	in := whole(f)
	f.Add(string(in.Diff), "package a\n", "package b\n")
	f.Fuzz(func(t *testing.T, diff, before, after string) {
		m, err := MeasureEdits(held(diff, before, after))
		require.NotErrorIs(t, err, ErrFault)
		if err == nil {
			sound(t, m)
		}
	})
}

// A fault in a measure is an error, not the end of the service.
func TestAFaultIsAnError(t *testing.T) {
	in := whole(t)
	in.IsTest = func(string) bool { panic("a fault") }
	_, err := MeasureEdits(in)
	assert.ErrorIs(t, err, ErrFault)
	in = whole(t)
	in.Index = &Index{at: map[uint64]place{}}
	read := in.Read
	calls := 0
	in.Read = func(side Side, name string) []byte {
		if calls++; name == "package.json" && calls > 18 {
			panic("a fault")
		}
		return read(side, name)
	}
	_, err = MeasureEdits(in)
	assert.ErrorIs(t, err, ErrFault)
}

func FuzzReadCoverage(f *testing.F) {
	for _, s := range []string{"mode: set\na/b.go:1.1,2.2 1 1\n", "TN:\nSF:a\nDA:1,2\nend_of_record\n", "<coverage><packages><package><classes><class filename=\"a\"><lines><line number=\"1\" hits=\"2\"/></lines></class></classes></package></packages></coverage>", "mode: set\na:1.1,99999999999.1 1 1\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := ReadCoverage(data)
		if err != nil {
			return
		}
		for name, lines := range c {
			require.NotEmpty(t, name)
			for n, count := range lines {
				require.GreaterOrEqual(t, n, 0)
				require.GreaterOrEqual(t, count, int64(0))
			}
			_ = c.Lines("x/" + name)
		}
	})
}

func FuzzFindingsOfLinters(f *testing.F) {
	f.Add([]byte(`{"runs": [{"tool": {"driver": {"name": "a"}}, "results": [{"ruleId": "r", "message": {"text": "m"}, "locations": [{"physicalLocation": {"artifactLocation": {"uri": "file:///x"}, "region": {"startLine": -4}}}]}]}]}`))
	f.Add([]byte("\xef\xbb\xbf{}"))
	f.Add([]byte(`{"runs": [{"results": [{}, {"suppressions": [1]}, {"fingerprints": {"a": "b"}}]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		in := held("", "x\n", "y\n")
		in.Lint = &Lint{Start: [][]byte{[]byte(`{"runs": []}`)}, Result: [][]byte{data}}
		m, err := MeasureEdits(in)
		require.NoError(t, err)
		sound(t, m)
	})
}

// Changes that are made to take long: each of these took minutes where every pair was compared.
// nested are functions within each other.
func nested(n int) string {
	return strings.Repeat("function a(n) {\n", n) + "if (x) { return null; }\n" + strings.Repeat("}\n", n)
}

// functionsOf repeats a text with numbers.
func functionsOf(format string, n int) string {
	var out strings.Builder
	for i := range n {
		fmt.Fprintf(&out, format, i)
	}
	return out.String()
}

func TestChangesMadeToTakeLong(t *testing.T) {
	const long = "moor(%d, (a) => { if (a > 1) { return a * 2; } });\n"
	for name, c := range map[string]struct{ file, before, after string }{
		"braces":            {"a.c", strings.Repeat("}\n", 30_000), strings.Repeat("{\n}\n", 15_000)},
		"one line repeated": {"a.js", strings.Repeat("moor();\n", 30_000), strings.Repeat("sail();\nmoor();\n", 15_000)},
		"many functions":    {"a.go", functions("old", 3000), functions("new", 3000)},
		"many tests":        {"a_test.go", functions("TestOld", 2000), functions("TestNew", 2000)},
		"dots":              {"a.ts", "x\n", strings.Repeat("...\n", 5000)},
		"remarks":           {"a.go", strings.Repeat("// a remark of some length\nx()\n", 10_000), strings.Repeat("// a remark of other length\nx()\n", 10_000)},
		"nested functions":  {"a.js", "x();\n", nested(40_000)},
		"nested, and gone":  {"a.js", nested(40_000), "x();\n"},
		"nested tests":      {"a.test.js", "x();\n", strings.Repeat("test('a', () => {\n", 20_000) + "skip();\n" + strings.Repeat("});\n", 20_000)},
		"tests of one name": {"test_a.py", "x\n", strings.Repeat("def test_a():\n    pytest.skip('x')\n", 40_000)},
		"tests left out":    {"a.test.js", "x();\n", strings.Repeat("function a(){}\n", 60_000) + "test('a', () => {\n" + strings.Repeat("skip();\n", 100_000) + "});\n"},
		"code in remarks":   {"a.js", strings.Repeat("x = moor(1, 2);\n", 40_000), strings.Repeat("function a(){}\n", 40_000) + strings.Repeat("//\tx = moor(1, 2);\n", 40_000)},
		"a check of each":   {"a.js", functionsOf("function f%d(n) {\n  if (!n) return null;\n  return tie(n);\n}\n", 40_000), functionsOf("function f%d(n) {\n  return tie(n);\n}\n", 40_000)},
		"a long remark":     {"a.go", "package a\n\n" + strings.Repeat("// one remark\n", 60_000) + "func f() {}\n", "package a\n\n" + strings.Repeat("// two remark\n", 60_000) + "func f() {}\n"},
		"a handler of each": {"a.go", "package a\n" + functionsOf("func F%d() error {\n\tif err := g(); err != nil {\n\t\treturn err\n\t}\n\treturn nil\n}\n", 20_000), "package a\n" + functionsOf("func F%d() error {\n\tg()\n\treturn nil\n}\n", 20_000)},
		"names still given": {"a.js", functionsOf("export function old%d() {\n  return tie(%[1]d);\n}\n", 20_000), functionsOf("use(old%d);\n", 20_000)},
		"written anew":      {"a.js", functionsOf(long, 15_000) + functionsOf(strings.ReplaceAll(long, "moor", "tie"), 15_000), functionsOf(long, 15_000) + functionsOf(strings.ReplaceAll(long, "moor", "sail"), 15_000)},
		"white space":       {"a.rs", strings.Repeat("let a = 1;\n\"a\nb\";\n\n\n\n\n\n\n\n", 3000), strings.Repeat("let a  = 1;\n\"a\nb\";\n\n\n\n\n\n\n\n", 3000)},
	} {
		t.Run(name, func(t *testing.T) {
			in := between(t, tree{c.file: c.before}, tree{c.file: c.after})
			in.References = []Reference{{Diff: in.Diff, Read: in.Read}}
			in.Index = NewIndex()
			sound(t, measure(t, in))
		})
	}
	// A thousand files that no reference touches, each to be looked for in the others.
	before, after := tree{"keep.go": "package a\n"}, tree{"keep.go": "package a\n"}
	for i := range 800 {
		after[fmt.Sprintf("d/f%03d.go", i)] = fmt.Sprintf("package d\n\nfunc f%d() string {\n\treturn %q\n}\n", i, strings.Repeat("x", 50))
	}
	in := between(t, before, after)
	in.References = []Reference{{Diff: between(t, before, tree{"keep.go": "package b\n"}).Diff, Read: reading(before, tree{"keep.go": "package b\n"})}}
	m := measure(t, in)
	assert.Equal(t, 800.0, value(t, m, "strays"))
	sound(t, m)
}

// Imports without end are held against manifests without end.
func TestManyImportsDoNotTakeLong(t *testing.T) {
	many := functionsOf
	manifests := tree{
		"go.mod":           "module port\n\ngo 1.26\n\nrequire (\n" + many("\tlamps.example/m%d v1.0.0\n", 20_000) + ")\n",
		"package.json":     `{"dependencies": {` + many(`"m%d": "1", `, 20_000) + `"last": "1"}}`,
		"requirements.txt": many("module-%d\n", 20_000),
		"a/b/c/keep":       "x\n",
	}
	files := tree{
		"a/b/c/x.go": "package c\n\nimport (\n" + many("\t\"oil.example/n%d/x\"\n", 20_000) + ")\n",
		"a/b/c/x.js": many("import x%d from 'n%[1]d';\n", 20_000),
		"a/b/c/x.py": many("import n%d\n", 20_000),
	}
	after := tree{}
	for _, one := range []tree{manifests, files} {
		for name, text := range one {
			after[name] = text
		}
	}
	in := between(t, manifests, after)
	for name := range manifests {
		in.Start = append(in.Start, name)
	}
	m := measure(t, in)
	assert.GreaterOrEqual(t, value(t, m, "undeclared_imports"), 40_000.0, "what Python imports is looked at up to a bound")
	sound(t, m)
	in = between(t, tree{"keep": "x\n"}, manifests)
	assert.Greater(t, value(t, measure(t, in), "dependencies_added"), 60_000.0)
}

// What is not kept as a finding is counted all the same, and what is not read is said.
func TestCountsGoBeyondWhatIsKept(t *testing.T) {
	todos := strings.Repeat("// TODO: one of many\n", maxFindings+345)
	m := measure(t, between(t, tree{"a.go": "package a\n"}, tree{"a.go": "package a\n\n" + todos}))
	assert.Equal(t, float64(maxFindings+345), value(t, m, "leftovers"))
	assert.Len(t, evidence(m, "leftovers"), maxFindings)
	assert.Len(t, m.Notes, 1)

	defer func(n int) { maxTexts = n }(maxTexts)
	maxTexts = 10
	m = measure(t, between(t, tree{"x": "1\n"}, tree{"x": "1\n", "a.go": "package a\n\n// TODO\n", "b.go": "package b\n\n// TODO\n"}))
	assert.Equal(t, []string{"todo a.go:3"}, evidence(m, "leftovers"))
	assert.Equal(t, 6.0, value(t, m, "lines_added"))
	assert.Contains(t, m.Notes[0], "of 1 files only the lines were counted")
	sound(t, m)
}

func functions(name string, n int) string {
	var b strings.Builder
	b.WriteString("package a\n\n")
	for i := range n {
		fmt.Fprintf(&b, "func %s%d(t *testing.T) {\n\ta%d(%d)\n\tb%d(t, x, y)\n\tc%d()\n}\n\n", name, i, i, i, i%7, i%11)
	}
	return b.String()
}
