package draft

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/task"
)

const change = "diff --git a/src/a.go b/src/a.go\n--- a/src/a.go\n+++ b/src/a.go\n@@ -1 +1 @@\n-a\n+b\n"

// Whatever a commit is called, its draft is a task that can be read.
func TestDraftsCanBeRead(t *testing.T) {
	for _, message := range []string{"Mend the lamp\n\nIt was dark.", "", "---", "title: {a: [b", "#!/bin/sh `$(x)` \"quoted\" 'too'", "Ünïcödé ☂", "\x00\x01\xff", "a\n---\nb", "- [x] *\n&anchor !tag %dir @at"} {
		t.Run(message, func(t *testing.T) {
			d := Write(From{Repository: "/srv/port: x", Start: "0123456789abcdef0123456789abcdef01234567", Commit: "fedcba9876543210fedcba9876543210fedcba98", Message: message,
				Changed:   map[string][]byte{"src/a.go": []byte("b\n"), "src/a_test.go": []byte("package a\n"), "old_test.go": nil},
				Files:     []string{"go.mod", "src/a.go", "src/a_test.go"},
				Reference: []byte(change)})
			files := map[string][]byte{}
			for name, data := range d.Files {
				files["/out/"+name] = data
			}
			main := WithGoals(d.Files[d.Main], []string{"p TestA", `p "odd": name`}, 3)
			one, doc := task.Parse("/out/"+d.Main, d.Main, main, files)
			require.Empty(t, doc.Problems)
			assert.Equal(t, []string{"p TestA", `p "odd": name`}, one.Goal)
			assert.Equal(t, []string{"src/**"}, one.Scope)
			assert.Equal(t, []byte("package a\n"), one.Stages[0].Sealed["src/a_test.go"])
			assert.Equal(t, []string{"old_test.go"}, one.Stages[0].Delete)
			assert.Equal(t, []byte(change), one.Stages[0].Reference)
			assert.NotContains(t, one.Brief, "Rewrite this", "the remark is for the author")
			assert.True(t, one.Drafted())
			assert.Equal(t, task.ReadsGoTestJSON, one.Checks[1].Reads)
		})
	}
}

func TestTestsOnlyMakeNoReference(t *testing.T) {
	d := Write(From{Repository: "/r", Start: task.Nothing, Commit: "fedcba9876543210", Message: "Tests", Changed: map[string][]byte{"a_test.go": []byte("x")}, Files: []string{"package.json"}})
	one, doc := task.Parse("/out/"+d.Main, d.Main, d.Files[d.Main], map[string][]byte{"/out/tests.sealed/a_test.go": []byte("x")})
	require.Empty(t, doc.Problems)
	assert.Nil(t, one.Stages[0].Reference)
	assert.Contains(t, d.Notes[0], "nothing but tests")
}

// Each project is tested as its manifests say, in the folder that the commit touched.
func TestProjects(t *testing.T) {
	for name, c := range map[string]struct {
		files   map[string]string
		changed []string
		lacks   []string // programs that are not there
		prepare string
		checks  [][4]string
		how     string
	}{
		"go": {map[string]string{"go.mod": "module m\nrequire x v1\n"}, []string{"a.go"}, nil, "go mod download && { go build ./...; go test -vet=off -exec true ./...; } > /dev/null 2>&1 || true",
			[][4]string{{"build", "go build ./..."}, {"tests", "go test -vet=off -json ./...", "go-test-json"}}, "a go.mod"},
		"go without dependencies, nested": {map[string]string{"go.mod": "module m\n", "tools/go.mod": "module m/tools\n", "Makefile": "test:\n"}, []string{"tools/a.go", "tools/a_test.go", "readme.md"}, nil,
			"cd tools && { go build ./...; go test -vet=off -exec true ./...; } > /dev/null 2>&1 || true", [][4]string{{"build", "cd tools && go build ./..."}, {"tests", "cd tools && go test -vet=off -json ./...", "go-test-json"}}, "in tools"},
		"vitest in a monorepo": {map[string]string{"package.json": `{"workspaces":["packages/*"]}`, "pnpm-lock.yaml": "", "packages/lamp/package.json": `{"scripts":{"test":"vitest run"},"devDependencies":{"vitest":"^1"}}`},
			[]string{"packages/lamp/src/a.ts", "packages/lamp/test/a.test.ts"}, nil, "cd packages/lamp && (cd ../.. && pnpm install --frozen-lockfile)",
			[][4]string{{"tests", "cd packages/lamp && npx --no-install vitest run --reporter=junit --outputFile=agonometer.xml", "junit", "packages/lamp/agonometer.xml"}}, "packages/lamp"},
		"no pnpm here": {map[string]string{"package.json": `{"scripts":{"test":"ava"},"devDependencies":{"ava":"^6"}}`, "pnpm-lock.yaml": ""}, []string{"a.js"}, []string{"pnpm"}, "npm install --no-audit --no-fund --no-package-lock",
			[][4]string{{"tests", "npx --no-install ava --tap", "tap"}}, "pnpm is not on this machine"},
		"linters do not decide": {map[string]string{"package.json": `{"scripts":{"test":"xo && c8 mocha --reporter spec test/*.js && tsd"},"devDependencies":{"mocha":"^10"}}`, "package-lock.json": ""}, []string{"a.js"}, nil, "npm ci --no-audit --no-fund",
			[][4]string{{"tests", "npx --no-install mocha --reporter tap test/*.js", "tap"}}, "mocha"},
		"node's own": {map[string]string{"package.json": `{"scripts":{"test":"eslint . && node --test --experimental-test-coverage test/"}}`}, []string{"a.mjs"}, nil, "",
			[][4]string{{"tests", "node --test --test-reporter=tap test/", "tap"}}, "node --test"},
		"tape": {map[string]string{"package.json": `{"scripts":{"test":"nyc tape 'test/**/*.js'"},"devDependencies":{"tape":"^5"}}`}, []string{"a.js"}, nil, "npm install --no-audit --no-fund --no-package-lock",
			[][4]string{{"tests", "npx --no-install tape 'test/**/*.js'", "tap"}}, "tape"},
		"by another script": {map[string]string{"package.json": `{"scripts":{"test":"npm run tests-only","lint":"eslint .","pretest":"npm run lint","tests-only":"nyc tape 'test/*.js'"},"devDependencies":{"tape":"^5","deep-tide":"^1","eslint":"^8","nyc":"^10"}}`, "test/a.js": "var test = require('tape'); const d = require(\"deep-tide\");"}, []string{"a.js"}, nil,
			"{ npm install --no-audit --no-fund --no-package-lock || { " + onlyDev([]string{"deep-tide", "nyc", "tape"}) + " && npm install --no-audit --no-fund --no-package-lock --ignore-scripts; s=$?; mv .package.json.whole package.json; exit $s; }; }",
			[][4]string{{"tests", "npx --no-install tape 'test/*.js'", "tap"}}, "tape"},
		"scripts that run each other":        {map[string]string{"package.json": `{"scripts":{"test":"npm run a","a":"npm run b && npm run b","b":"npm run a && npm run a"}}`}, []string{"a.js"}, nil, "", [][4]string{{"tests", "npm test --silent"}}, "npm test"},
		"a package.json that cannot be read": {map[string]string{"package.json": "{"}, []string{"a.js"}, nil, "", [][4]string{{"tests", "node --test --test-reporter=tap", "tap"}}, "a package.json"},
		"python": {map[string]string{"pyproject.toml": "", "src/port/a.py": ""}, []string{"src/port/a.py", "tests/test_a.py"}, nil, "",
			[][4]string{{"tests", "PYTHONPATH=src python3 -m pytest -q -p no:cacheprovider --junitxml=agonometer.xml", "junit", "agonometer.xml"}}, "pytest"},
		"maven": {map[string]string{"pom.xml": "", "core/pom.xml": ""}, []string{"core/src/main/java/A.java"}, nil, "mvn -q -B dependency:go-offline; { mvn -q -B test-compile; } > /dev/null 2>&1 || true",
			[][4]string{{"tests", "mvn -o -q -B test", "junit", "**/target/surefire-reports/TEST-*.xml"}}, "maven"},
		"make check": {map[string]string{"Makefile": "all:\n\ncheck: all\n\ttrue\n"}, []string{"a.sh"}, nil, "", [][4]string{{"tests", "make check"}}, "make check"},
		"cmake and a makefile": {map[string]string{"CMakeLists.txt": "", "Makefile": "test:\n"}, []string{"src/a.c"}, nil, "{ cmake -S . -B build && cmake --build build --parallel; } > /dev/null 2>&1 || true",
			[][4]string{{"build", "cmake -S . -B build && cmake --build build --parallel"}, {"tests", "ctest --test-dir build --output-junit ../agonometer.xml", "junit", "agonometer.xml"}}, "ctest"},
		"nothing": {map[string]string{"a.txt": ""}, []string{"a.txt"}, nil, "", [][4]string{{"tests", "make test"}}, "no manifest"},
		"an odd folder": {map[string]string{"it's here/go.mod": "module m\n"}, []string{"it's here/a.go"}, nil, `cd 'it'\''s here' && { go build ./...; go test -vet=off -exec true ./...; } > /dev/null 2>&1 || true`,
			[][4]string{{"build", `cd 'it'\''s here' && go build ./...`}, {"tests", `cd 'it'\''s here' && go test -vet=off -json ./...`, "go-test-json"}}, "it's here"},
	} {
		t.Run(name, func(t *testing.T) {
			f := From{Changed: map[string][]byte{}, Read: func(name string) []byte { return []byte(c.files[name]) }, Find: func(program string) bool { return !slices.Contains(c.lacks, program) }}
			for name := range c.files {
				f.Files = append(f.Files, name)
			}
			for _, name := range c.changed {
				f.Changed[name] = []byte("x")
			}
			p := f.projectOf()
			assert.Equal(t, c.prepare, p.prepare)
			assert.Equal(t, c.checks, p.checks)
			assert.Contains(t, p.how, c.how)
		})
	}
}

func TestAdvice(t *testing.T) {
	for said, help := range map[string]string{
		"go: finding module: dial tcp: lookup averil.example: no such host": "network", "package m: build constraints exclude all Go files in /w": "build tag",
		"ModuleNotFoundError: No module named 'tide'": "Python package", "sh: 1: tide-check: not found": "program", "Error: Cannot find module 'tide'": "Node package",
		"a.c:1:10: fatal error: tide/chart.h: No such file or directory": "development files", "go: go.mod requires go >= 9.1": "version of its toolchain",
	} {
		assert.Contains(t, Advice(said), help, said)
	}
	assert.Empty(t, Advice("--- FAIL: TestTide"))
}
