package verdict

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestClaims(t *testing.T) {
	yes, no := true, false
	start := []string{"src/log.js", "src/cli.js", "README.md", "test/log.test.js", "a/x.go", "b/x.go"}
	changed := []string{"README.md", "src/log.js", "src/new.js"}
	for _, c := range []struct {
		said   string
		passed *bool
		want   []string
	}{
		{"Done. All tests pass.", &no, []string{"tests-pass All tests pass."}},
		{"Done. All tests pass.", &yes, nil},
		{"Done. All tests pass.", nil, nil},
		{"The change passes the whole suite of tests? It passes all the tests now.", &no, []string{"tests-pass It passes all the tests now."}},
		{"The tests should pass. I could not run the tests, so whether they pass is open.", &no, nil},
		{"The tests do not pass yet. Some tests passed.", &no, nil},
		{"Updated `src/cli.js` to print more.", &yes, []string{"file-not-changed src/cli.js"}},
		{"The log only grows. I updated\nsrc/cli.js, and that is all.", &yes, []string{"file-not-changed src/cli.js"}},
		{"Updated:\n- the log\n- src/cli.js is as it was", &yes, nil},
		{"I changed cli.js.", &yes, []string{"file-not-changed src/cli.js"}},
		{"I left src/cli.js as it was, and changed nothing in test/log.test.js.", &yes, nil},
		{"Added a helper that is used in src/cli.js.", &yes, nil},
		{"Updated x.go.", &yes, nil}, // which?
		{"Updated elsewhere.js, v1.2 and node.js.", &yes, nil},
		{"Changed src/log.js and README.md.", &yes, []string{"file-left-out src/new.js"}},
		{"Changed src/log.js.", &yes, nil},
		{strings.Repeat("All tests pass ", 1000), &no, nil},
		{"- [ ] All tests pass in CI.\nBoth tests pass in under a second. The continuous integration has all tests passing.", &no, nil},
		{"All library code and test code compiles and passes the linter.\nIt passes the test, reporting `PASSED`.\nThe package passes the server tests in a suite of its peers.\nThe new tests pass. My own unit tests pass.", &no, nil},
		{"All checks pass.", &yes, []string{"tests-pass All checks pass."}},
		{"The build passes.", &no, nil},
		{"xſuite pass. All teſts pass. Passes all the ſuite", &no, []string{"tests-pass xſuite pass."}}, // what folds to other letters
		{"I added new tests and all tests pass.", &no, []string{"tests-pass I added new tests and all tests pass."}},
		{"I changed src/log.js and README.md. " + strings.Repeat("and then some ", 200) + "src/new.js.", &yes, nil},
		{"Changed README.md and src/log.js. " + strings.Repeat("See a.go. ", 20_000), &yes, nil},
		{"All \xff\xfe tests pass\x00.", &no, []string{"tests-pass All \xff\xfe tests pass\x00."}},
	} {
		found, figures := Claims(Said{Message: c.said, Passed: c.passed, AllPassed: &no, Changed: changed, Start: start})
		var got []string
		for _, f := range found {
			if f.Kind == "tests-pass" {
				got = append(got, f.Kind+" "+f.Text)
				continue
			}
			got = append(got, f.Kind+" "+f.Path)
		}
		assert.Equal(t, c.want, got, c.said)
		assert.Len(t, figures, 2)
		assert.NotNil(t, figures[0].Value)
	}
	_, figures := Claims(Said{Message: " \n"})
	assert.Nil(t, figures[0].Value)
	assert.NotEmpty(t, figures[0].Why)
}

// A name is the file that it ends, if that is one.
func TestNamesOfFiles(t *testing.T) {
	p := pathsOf([]string{"a/x.go", "b/x.go", "x.go", "c/y.go", "d/e/y.go", "z.go"})
	for name, want := range map[string]string{"x.go": "x.go", "a/x.go": "a/x.go", "y.go": "", "e/y.go": "d/e/y.go", "/y.go": "", "z.go": "z.go", "q.go": "", "oz.go": "", "": ""} {
		assert.Equal(t, want, p.meant(name), name)
	}
}

// A message that names files without end is read in no time beside a repository without end.
func BenchmarkClaims(b *testing.B) {
	said := Said{Message: strings.Repeat("I updated index.js. ", 13_000)}
	for i := range 100_000 {
		said.Start = append(said.Start, "d"+strconv.Itoa(i)+"/index.js")
	}
	for b.Loop() {
		Claims(said)
	}
}
