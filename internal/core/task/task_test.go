package task

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/specfile"
)

const good = "---\ntask: tables\ntitle: Tables\nrepository: ../repo\nstart_commit: 0012345\nchecks:\n  - {name: ok, run: make}\n---\n\nThe brief.\n\n"

func TestParse(t *testing.T) {
	one, doc := Parse("/c/t.md", "t.md", []byte(good), nil)
	require.Empty(t, doc.Problems)
	assert.Equal(t, "The brief.", one.Brief)
	assert.Equal(t, "0012345", one.StartCommit, "a commit is read as it is written")
	assert.Equal(t, "/repo", one.RepositoryAddress())
	assert.Equal(t, ReadsExit, one.Checks[0].Reads)
}

func TestRepositoryAddresses(t *testing.T) {
	for address, url := range map[string]bool{
		"https://port.example/tidebook.git": true, "ssh://git@port.example/tidebook": true, "git@port.example:tidebook": true, "file:///srv/tidebook": true,
		"../tidebook": false, "/srv/tidebook": false, "tidebook": false, "./odd:name": false,
	} {
		assert.Equal(t, url, IsURL(address), address)
		one := Task{File: "/c/tasks/t.md"}
		one.Repository = address
		if url {
			assert.Equal(t, address, one.RepositoryAddress())
		} else {
			assert.True(t, strings.HasPrefix(one.RepositoryAddress(), "/"), address)
		}
	}
}

// The digest changes with everything that a result depends on, and with nothing else.
func TestDigest(t *testing.T) {
	base := Task{Source: []byte("a"), named: [][]byte{[]byte("b")}}
	again := Task{Source: []byte("a"), named: [][]byte{[]byte("b")}, File: "/elsewhere"}
	assert.Equal(t, base.Digest("c"), again.Digest("c"))
	assert.NotEqual(t, base.Digest("c"), base.Digest("d"))
	assert.NotEqual(t, base.Digest("c"), (&Task{Source: []byte("ab")}).Digest("c"), "parts do not run together")
	assert.Len(t, base.Digest("c"), 64)
}

func TestNames(t *testing.T) {
	files, folders := Names("/c/t.md", []byte(good))
	assert.Empty(t, append(files, folders...))
	files, folders = Names("/c/t.md", []byte(strings.Replace(good, "checks:", "reference_patch: fix.patch\nsealed: {folder: hidden}\ncanary: bird\nchecks:", 1)))
	assert.Equal(t, []string{"/c/fix.patch"}, files)
	assert.Equal(t, []string{"/c/hidden", "/c/bird"}, folders)
	files, folders = Names("/c/t.md", []byte("nothing of the kind"))
	assert.Empty(t, append(files, folders...))
}

// A task's own canary is part of it, and has to be there.
func TestCanaryFiles(t *testing.T) {
	text := []byte(strings.Replace(good, "checks:", "canary: bird\nchecks:", 1))
	plain, _ := Parse("/c/t.md", "t.md", text, map[string][]byte{"/c/bird/test/{word}.sh": []byte("false\n"), "/c/birds/x": nil})
	assert.Equal(t, map[string][]byte{"test/{word}.sh": []byte("false\n")}, plain.CanaryFiles)
	other, doc := Parse("/c/t.md", "t.md", text, map[string][]byte{"/c/bird/test/{word}.sh": []byte("exit 1\n")})
	assert.NoError(t, doc.Problems.Err())
	assert.NotEqual(t, plain.Digest("c"), other.Digest("c"))
	_, doc = Parse("/c/t.md", "t.md", text, nil)
	assert.ErrorContains(t, doc.Problems.Err(), "canary")
	_, doc = Parse("/c/t.md", "t.md", text, map[string][]byte{"/c/bird/.git/hooks/x": nil})
	assert.ErrorContains(t, doc.Problems.Err(), ".git/hooks/x")
}

func TestOver(t *testing.T) {
	d := specfile.Duration(time.Second)
	got := Limits{Time: d}.Over(Limits{Time: 2 * d, Check: 3 * d, File: 7})
	assert.Equal(t, Limits{Time: d, Check: 3 * d, File: 7}, got)
}
