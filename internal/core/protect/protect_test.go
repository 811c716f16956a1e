package protect

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/task"
)

func TestIsTest(t *testing.T) {
	for name, want := range map[string]bool{
		"tide/tide_test.go": true, "tide/tide.go": false, "src/lamp.test.js": true, "src/lamp.spec.tsx": true, "src/latest.js": false, "test/helper.js": true,
		"a/tests/b.py": true, "test_lamp.py": true, "lamp_test.py": true, "conftest.py": true, "contest.py": false, "src/LampTest.java": true, "spec/lamp_spec.rb": true,
		"tide/testdata/march.txt": true, "protest/a.go": false, "src/__tests__/a.ts": true, "lamps.bats": true, "README.md": false,
	} {
		assert.Equal(t, want, IsTest(nil, name), name)
	}
	assert.True(t, IsTest([]string{"proofs/**"}, "proofs/a.txt"), "a task can say what its tests are")
	assert.False(t, IsTest([]string{"proofs/**"}, "a_test.go"))
}

func exists(names ...string) func(string) bool {
	return func(name string) bool {
		for _, n := range names {
			if n == name {
				return true
			}
		}
		return false
	}
}

func TestNamed(t *testing.T) {
	has := exists("scripts/check.sh", "lamp.txt", "main.py", "conf.yaml")
	checks := []task.Check{{Run: "./scripts/check.sh --strict && grep -q on lamp.txt"}, {Run: "python3 main.py -c conf.yaml > out.txt"}, {Run: "if then ("}, {Run: "sh /scripts/check.sh ../main.py"}}
	assert.Equal(t, []string{"scripts/check.sh", "main.py", "conf.yaml"}, Named(checks, has))
}

func taskWith(f func(*task.Task)) *task.Task {
	t := &task.Task{}
	t.Stages = []task.Stage{{}}
	f(t)
	return t
}

func TestPlan(t *testing.T) {
	has := exists("a_test.go", "b_test.go", "a.go", "check.sh", "vitest.config.ts", "test/free.js")
	checks := []task.Check{{Run: "sh check.sh"}}
	changed := []string{"a.go", "a_test.go", "b_test.go", "new_test.go", "check.sh", "new.go", "vitest.config.ts", "jest.config.js", "test/free.js"}
	p := PlanFor(taskWith(func(t *task.Task) { t.Unprotected = []string{"test/free.js"} }), checks, changed, nil, has)
	assert.Equal(t, []string{"a_test.go", "b_test.go", "check.sh", "vitest.config.ts"}, p.PutBack)
	assert.Equal(t, []string{"jest.config.js", "new_test.go"}, p.Remove)
	p = PlanFor(taskWith(func(t *task.Task) { t.Scope, t.Protected = []string{"check.sh"}, []string{"a.go"} }), checks, changed, nil, has)
	assert.NotContains(t, p.PutBack, "check.sh", "a check's script that the task wants changed is not put back")
	assert.Contains(t, p.PutBack, "a.go", "the task can protect more")
	p = PlanFor(taskWith(func(t *task.Task) {
		t.Stages[0].Reference = []byte("diff --git a/check.sh b/check.sh\n--- a/check.sh\n+++ b/check.sh\n@@ -1 +1 @@\n-a\n+b\n")
	}), checks, changed, nil, has)
	assert.NotContains(t, p.PutBack, "check.sh", "nor one that the reference changes")
	assert.True(t, PlanFor(taskWith(func(*task.Task) {}), nil, []string{"a.go", "new.go"}, nil, has).Empty())
}

// A manifest is put back where its change is about which tests run, and only there.
func TestManifestsThatNarrowArePutBack(t *testing.T) {
	has := exists("Makefile", "package.json")
	checks := []task.Check{{Run: "make test"}}
	plan := func(name, text string, f func(*task.Task)) Plan {
		return PlanFor(taskWith(f), checks, []string{name}, diff(t, text), has)
	}
	plain := func(*task.Task) {}
	rule := edit("Makefile", " test:", "-\tgo test ./...", "+\ttrue")
	assert.Equal(t, []string{"Makefile"}, plan("Makefile", rule, plain).PutBack)
	assert.Empty(t, plan("Makefile", rule, func(t *task.Task) { t.Unprotected = []string{"Makefile"} }).PutBack)
	assert.Empty(t, plan("Makefile", rule, func(t *task.Task) { t.Stages[0].Reference = []byte(rule) }).PutBack, "the reference changes it too")
	assert.Empty(t, plan("Makefile", edit("Makefile", "-SOURCES = a.c", "+SOURCES = a.c b.c"), plain).PutBack)
	assert.Equal(t, []string{"package.json"}, plan("package.json", edit("package.json", `-  "test": "node test.js"`, `+  "test": "true"`), plain).PutBack)
	assert.Empty(t, plan("package.json", edit("package.json", `+  "tide": "^1.0.0"`), plain).PutBack)
	long := make([]string, 0, 6001)
	for range 6000 {
		long = append(long, "+# x")
	}
	files, err := patch.Parse([]byte("diff --git a/Makefile b/Makefile\n--- a/Makefile\n+++ b/Makefile\n@@ -1,0 +1,6000 @@\n"+strings.Join(long, "\n")+"\n"), patch.MaxLines)
	require.NoError(t, err)
	assert.Equal(t, []string{"Makefile"}, PlanFor(taskWith(plain), checks, []string{"Makefile"}, files, has).PutBack, "what cannot be looked through")
}

func diff(t *testing.T, text string) []patch.File {
	t.Helper()
	files, err := patch.Parse([]byte(text), 0)
	require.NoError(t, err)
	return files
}

func edit(name string, lines ...string) string {
	old, now := 0, 0
	for _, l := range lines {
		switch l[0] {
		case '+':
			now++
		case '-':
			old++
		default:
			old++
			now++
		}
	}
	head := func(n int) string {
		if n == 0 {
			return "0,0"
		}
		return "1," + string(rune('0'+n))
	}
	return "diff --git a/" + name + " b/" + name + "\n--- a/" + name + "\n+++ b/" + name + "\n@@ -" + head(old) + " +" + head(now) + " @@\n" + strings.Join(lines, "\n") + "\n"
}

func TestWeakened(t *testing.T) {
	has := exists("a_test.go", "test/lamp.test.js", "package.json", "Makefile", "go.go")
	cases := []struct {
		name, diff string
		kinds      []Kind
		line       int64
	}{
		{"lines changed", edit("a_test.go", " func TestA() {", "-	if got != 2 {", "+	if got > 100 {", " }"), []Kind{Changed}, 2},
		{"lines only added", edit("a_test.go", " func TestA() {", "+func TestB() {}", " }"), nil, 0},
		{"a skip added", edit("a_test.go", " func TestA() {", `+	t.Skip("later")`, " }"), []Kind{Skipped}, 2},
		{"only one left", edit("test/lamp.test.js", "-test('a', () => {});", "+test.only('a', () => {});"), []Kind{Changed, Skipped}, 1},
		{"the run is ended", edit("a_test.go", " func TestMain() {", "+	os.Exit(0)", " }"), []Kind{Skipped}, 2},
		{"deleted", "diff --git a/a_test.go b/a_test.go\ndeleted file mode 100644\nindex 1..0\n--- a/a_test.go\n+++ /dev/null\n@@ -1 +0,0 @@\n-x\n", []Kind{Deleted}, 0},
		{"moved away", "diff --git a/a_test.go b/a.txt\nsimilarity index 100%\nrename from a_test.go\nrename to a.txt\n", []Kind{Deleted}, 0},
		{"a script of the manifest", edit("package.json", " {", `-  "test": "node --test"`, `+  "test": "true"`, " }"), []Kind{Narrowed}, 2},
		{"a second script of the same name", edit("package.json", " {", `+  "test": "true",`, " }"), []Kind{Narrowed}, 2},
		{"a rule of the same name", edit("Makefile", " all:", "+test:", "+	true"), []Kind{Narrowed}, 2},
		{"a script that got a comma", edit("package.json", " {", `-  "scripts": { "test": "node --test" },`, `+  "scripts": { "test": "node --test",`, `+    "verify": "node verify.js" },`, " }"), nil, 0},
		{"a script that got a comma and let go", edit("package.json", " {", `-  "test": "node --test"`, `+  "test": "node --test || true",`, `+  "a": "b"`, " }"), []Kind{Narrowed}, 2},
		{"a script that stands twice", edit("package.json", " {", `-  "test": "node --test"`, `+  "test": "node --test",`, `+  "test": "node --test"`, " }"), []Kind{Narrowed}, 2},
		{"a script that went elsewhere", edit("package.json", " {", `-  "test": "node --test",`, ` "old": {`, `+  "test": "node --test",`, " }"), []Kind{Narrowed}, 2},
		{"a rule that got white space", edit("Makefile", " test:", "-	go test ./...", "+	go  test ./... "), nil, 0},
		{"a rule that got more", edit("Makefile", " test:", "-	go test ./...", "+	go test ./... || true"), []Kind{Narrowed}, 2},
		{"a rule that became a remark", edit("Makefile", " test:", "-	go test ./...", "+	# go test ./..."), []Kind{Narrowed}, 2},
		{"a recipe of the rule", edit("Makefile", " test:", "-	@sh run.sh", "+	@echo ok"), []Kind{Narrowed}, 2},
		{"a recipe of another rule", edit("Makefile", " lamp: lamp.c", "-	cc lamp.c", "+	cc -O2 lamp.c", " test:"), nil, 0},
		{"a remark about tests", edit("Makefile", "-# All tests", "+# All of the tests", " test:"), nil, 0},
		{"what it is about", edit("package.json", " {", `-  "description": "Lamps, and checks of them",`, `+  "description": "Lamps and their checks",`, " }"), nil, 0},
		{"something else in the manifest", edit("package.json", " {", `-  "version": "1"`, `+  "version": "2"`, " }"), nil, 0},
		{"source", edit("go.go", "-	t.Skip()", "+	a.Skip()"), nil, 0},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got := Weakened(taskWith(func(*task.Task) {}), nil, diff(t, c.diff), has)
			var kinds []Kind
			for _, w := range got {
				kinds = append(kinds, w.Kind)
				assert.NotEmpty(t, w.Words())
			}
			assert.Equal(t, c.kinds, kinds)
			if len(got) > 0 {
				assert.Equal(t, c.line, got[0].Line)
			}
		})
	}
	free := taskWith(func(t *task.Task) { t.Unprotected = []string{"**"} })
	assert.Empty(t, Weakened(free, nil, diff(t, edit("a_test.go", "-a", "+b")), has), "what the task leaves to the contender is not weakened")
}

func TestFilesThatSteerChecks(t *testing.T) {
	has := exists("Makefile", "package.json", "vendor/assert/assert.go", "vendor/assert/", "vendor/modules.txt", "setup.cfg", "tide/__init__.py", "types.py", ".npmrc", "go.mod", "web/Makefile")
	check := func(run string) []task.Check { return []task.Check{{Name: "c", Run: run, Reads: task.ReadsExit}} }
	for _, c := range []struct {
		run, name string
		steers    bool
	}{
		{"make test", "GNUmakefile", true},
		{"make -C web test", "web/makefile", true},
		{"make test", "docs/Makefile", false},
		{"make test", "Makefile", false}, // the project's own: told where it narrows
		{"npm test", ".npmrc", true},
		{"npm test", "sub/.npmrc", true},
		{"npm test", "package.json", false},
		{"npm test", "node_modules/.bin/mocha", true},
		{"python -m pytest", "pytest.py", true},
		{"pytest -q", "pytest/__init__.py", true},
		{"python3 -m pytest", "_pytest/config.py", true},
		{"python3 -m pytest", "json.py", true},
		{"python3 -m pytest", "types.py", false}, // the project has it
		{"python3 -m pytest", "tide/pytest.py", false},
		{"python3 -m pytest", "tide/new.py", false},
		{"python3 -m pytest", "pyproject.toml", true},
		{"python3 -m pytest", "evil.dist-info/entry_points.txt", true},
		{"python3 -m pytest", "sitecustomize.py", true},
		{"go test ./...", "json.py", false},
		{"go test ./...", "go.work", true},
		{"go test ./...", "go.mod", false},
		{"go test ./...", "vendor/assert/assert.go", true},
		{"go test ./...", "vendor/assert/init.go", true},
		{"go test ./...", "vendor/lamps/lamps.go", false}, // a library that is new
		{"go test ./...", "vendor/modules.txt", false},
		{"go test ./...", "depth.go", false},
		{"cargo test", ".cargo/config.toml", true},
		{"sh check.sh", ".bash_env", true},
	} {
		p := PlanFor(taskWith(func(*task.Task) {}), check(c.run), []string{c.name}, nil, has)
		assert.Equal(t, c.steers, !p.Empty(), "%s with %s", c.name, c.run)
		assert.True(t, PlanFor(taskWith(func(t *task.Task) { t.Unprotected = []string{c.name} }), check(c.run), []string{c.name}, nil, has).Empty(), "a task can allow %s", c.name)
	}
	added := "diff --git a/GNUmakefile b/GNUmakefile\nnew file mode 100644\n--- /dev/null\n+++ b/GNUmakefile\n@@ -0,0 +1 @@\n+test:\n"
	got := Weakened(taskWith(func(*task.Task) {}), check("make test"), diff(t, added), has)
	require.Len(t, got, 1)
	assert.Equal(t, "GNUmakefile, which steers checks, was added", got[0].Words())
	got = Weakened(taskWith(func(*task.Task) {}), check("npm test"), diff(t, edit(".npmrc", "-a=b", "+script-shell=/bin/true")), has)
	require.Len(t, got, 1)
	assert.Equal(t, Steered, got[0].Kind)
}
