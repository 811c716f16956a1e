package draft

import (
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
			assert.Contains(t, one.Brief, "Rewrite this")
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
