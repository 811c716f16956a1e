// Package canary makes tests that must fail. A check that was talked into a pass, by
// whatever means, does not see one fail that was added just now: so a result that passed
// is checked once more with a canary beside the project's own tests.
//
// A canary has a name that nobody can know beforehand, and looks like the tests that it
// stands beside. Whether a check sees it at all is found out before any contender.
package canary

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/testlog"
)

// Canary is a test that must fail.
type Canary struct {
	// Files are its contents by slash path: most have one.
	Files map[string][]byte
	// Mark is a part of the test's name; "" where it has none that is known.
	Mark string
}

// wordPlace stands in a task's own canary for the word that nobody can know.
const wordPlace = "{word}"

// Own is a task's own canary with a word in it.
func Own(files map[string][]byte, word string) *Canary {
	c := &Canary{Files: make(map[string][]byte, len(files))}
	for name, text := range files {
		if strings.Contains(name, wordPlace) || bytes.Contains(text, []byte(wordPlace)) {
			c.Mark = word
		}
		c.Files[strings.ReplaceAll(name, wordPlace, word)] = bytes.ReplaceAll(text, []byte(wordPlace), []byte(word))
	}
	return c
}

// kinds are the kinds of test files that a canary can be made for.
var kinds = []struct {
	file *regexp.Regexp
	make func(dir, base, beside, word string) (name, content string)
}{
	{regexp.MustCompile(`_test\.go$`), goTest},
	{regexp.MustCompile(`\.(test|spec)\.(js|mjs|cjs|jsx|ts|mts|cts|tsx)$`), scriptTest},
	{regexp.MustCompile(`(^|/)(test_[^/]*|[^/]*_test)\.py$`), pythonTest},
	{regexp.MustCompile(`\.bats$`), func(dir, _, _, word string) (string, string) {
		return path.Join(dir, word+".bats"), "@test \"" + word + "\" {\n  false\n}\n"
	}},
	{regexp.MustCompile(`\.t$`), tapTest},
}

var packageRE = regexp.MustCompile(`(?m)^package[ \t]+([A-Za-z_][A-Za-z0-9_]*)`)

func goTest(dir, _, beside, word string) (string, string) {
	m := packageRE.FindStringSubmatch(beside)
	if m == nil {
		return "", ""
	}
	return path.Join(dir, word+"_test.go"), "package " + m[1] + "\n\nimport \"testing\"\n\nfunc Test" + strings.ToUpper(word[:1]) + word[1:] + "(t *testing.T) {\n\tt.Fatal(\"" + word + "\")\n}\n"
}

func scriptTest(dir, base, beside, word string) (string, string) {
	name := path.Join(dir, word+base[strings.LastIndexAny(strings.TrimSuffix(base, path.Ext(base)), "."):])
	body := "(\"" + word + "\", () => {\n  throw new Error(\"" + word + "\");\n});\n"
	quoted := func(module string) bool {
		return strings.Contains(beside, "'"+module+"'") || strings.Contains(beside, `"`+module+`"`)
	}
	requires := strings.Contains(beside, "require(") && !strings.Contains(beside, "import ")
	switch {
	case quoted("node:test") && requires:
		return name, "const { test } = require(\"node:test\");\n\ntest" + body
	case quoted("node:test"):
		return name, "import { test } from \"node:test\";\n\ntest" + body
	case quoted("vitest"):
		return name, "import { test } from \"vitest\";\n\ntest" + body
	}
	return name, "it" + body // the global of most runners
}

func pythonTest(dir, base, beside, word string) (string, string) {
	name := path.Join(dir, "test_"+word+".py")
	if strings.HasSuffix(base, "_test.py") {
		name = path.Join(dir, word+"_test.py")
	}
	if strings.Contains(beside, "import unittest") || strings.Contains(beside, "from unittest") {
		return name, "import unittest\n\n\nclass " + strings.ToUpper(word[:1]) + word[1:] + "(unittest.TestCase):\n    def test_" + word + "(self):\n        self.fail(\"" + word + "\")\n"
	}
	return name, "def test_" + word + "():\n    assert False, \"" + word + "\"\n"
}

func tapTest(dir, _, beside, word string) (string, string) {
	name := path.Join(dir, word+".t")
	if first, _, _ := strings.Cut(beside, "\n"); strings.Contains(first, "perl") || strings.Contains(beside, "use Test::") {
		return name, "print \"1..1\\nnot ok 1 - " + word + "\\n\";\nexit 1;\n"
	}
	return name, "echo \"1..1\"\necho \"not ok 1 - " + word + "\"\nexit 1\n"
}

// Beside makes a canary beside one of a result's test files; word is a lower-case word
// that nobody can know. ran are the names of the tests that the check reported: a file
// whose folder or name stands in one of them is taken first. nil where there is none that
// a canary can be made for. read gives a file's content.
func Beside(files []string, ran []testlog.Test, read func(name string) []byte, word string) *Canary {
	type candidate struct {
		name string
		kind int
		rank int
	}
	var all []candidate
	for _, name := range files {
		for k := range kinds {
			if kinds[k].file.MatchString(name) {
				all = append(all, candidate{name, k, rank(name, ran)})
				break
			}
		}
	}
	slices.SortStableFunc(all, func(a, b candidate) int {
		if a.rank != b.rank {
			return b.rank - a.rank
		}
		return strings.Compare(a.name, b.name)
	})
	for i, c := range all {
		if i >= 20 {
			break
		}
		beside := read(c.name)
		if beside == nil {
			continue
		}
		if name, content := kinds[c.kind].make(path.Dir(c.name), path.Base(c.name), string(beside), word); name != "" {
			return &Canary{Files: map[string][]byte{name: []byte(content)}, Mark: word}
		}
	}
	return nil
}

// rank is how sure it is that a check runs a file: its folder is the end of a package
// that ran, or its name stands in that of a test.
func rank(name string, ran []testlog.Test) int {
	dir, stem := path.Dir(name), strings.SplitN(path.Base(name), ".", 2)[0]
	best := 0
	for i := range ran {
		if i >= 2000 {
			break
		}
		pkg, _, _ := strings.Cut(ran[i].Name, " ")
		switch {
		case dir != "." && strings.HasSuffix(pkg, "/"+dir):
			best = max(best, 2+strings.Count(dir, "/"))
		case strings.Contains(ran[i].Name, stem):
			best = max(best, 2)
		case dir == "." && !strings.Contains(pkg, "/"):
			best = max(best, 1)
		}
	}
	return best
}

// Seen tells whether a run saw a canary fail. had are the tests of the run without it; failed
// is whether the run as a whole did, which is what counts where no single tests are read.
// Of a canary whose test has no known name any test counts that failed only with it.
func (c *Canary) Seen(readsTests bool, tests, had []testlog.Test, failed bool) bool {
	if !readsTests {
		return failed
	}
	before := map[string]bool{}
	if c.Mark == "" {
		for i := range had {
			before[had[i].Name] = had[i].Outcome == testlog.Failed
		}
	}
	return slices.ContainsFunc(tests, func(t testlog.Test) bool {
		return t.Outcome == testlog.Failed && !before[t.Name] && strings.Contains(strings.ToLower(t.Name), c.Mark)
	})
}

// harmlessRE are files that no check can be steered by: prose and pictures.
var harmlessRE = regexp.MustCompile(`(?i)(\.(md|markdown|rst|adoc|png|jpe?g|gif|svg|webp|pdf)|(^|/)(LICEN[CS]E|NOTICE|AUTHORS|CHANGELOG|CHANGES)(\.txt)?)$`)

// Harmless tells whether a change touches nothing but files that no check can be steered
// by; then no canary is needed.
func Harmless(changed []string) bool {
	return !slices.ContainsFunc(changed, func(name string) bool { return !harmlessRE.MatchString(name) })
}
