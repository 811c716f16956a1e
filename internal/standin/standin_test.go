package standin

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"agonometer/demo"
	"agonometer/internal/core/task"
)

// Every way of every character applies to the repository that its task names,
// and leaves something that a reviewer would take for a change.
func TestEveryPlaybookFitsItsTask(t *testing.T) {
	dir := t.TempDir()
	git, err := exec.LookPath("git")
	require.NoError(t, err)
	require.NoError(t, demo.Unpack(t.Context(), dir, "/bin/true", git))
	data, err := fs.ReadFile(demo.Playbooks(), "playbooks.yaml")
	require.NoError(t, err)
	var books []Playbook
	require.NoError(t, yaml.Unmarshal(data, &books))
	require.Len(t, books, 6)
	for _, book := range books {
		file := filepath.Join(dir, "tasks", book.Name+".md")
		source, err := os.ReadFile(file)
		require.NoError(t, err)
		one, doc := task.Parse(file, file, source, named(t, file, source))
		require.Empty(t, doc.Problems)
		for _, c := range Characters() {
			for _, way := range c.Ways {
				t.Run(book.Name+"/"+c.Name+"/"+way.Patch, func(t *testing.T) {
					work := filepath.Join(t.TempDir(), "w")
					out, err := exec.Command(git, "clone", "-q", "--branch", one.StartCommit, one.RepositoryAddress(), work).CombinedOutput()
					require.NoError(t, err, string(out))
					c.Ways, c.Hangs, c.Tests = []Way{{way.Patch, 1}}, 0, 0
					var said bytes.Buffer
					run := Run{Character: c, Brief: one.Brief, Seed: 1, Dir: work, Out: &said, Playbooks: demo.Playbooks(), Home: t.TempDir()}
					require.NoError(t, run.Do(t.Context()))
					assert.Contains(t, said.String(), "looked at")
					if one.Kind == task.Question {
						assert.Regexp(t, `[a-z]+\.(go|js):[0-9]+`, said.String())
						return
					}
					assert.Contains(t, said.String(), "done.")
					// A later round, with words that are no brief: it knows what it was at.
					run.Brief = "This is not yet right."
					require.NoError(t, run.Do(t.Context()))
					assert.Contains(t, said.String(), "looking at what I made again")
					changed, err := exec.Command(git, "-C", work, "status", "--porcelain").Output()
					require.NoError(t, err)
					assert.NotEmpty(t, changed)
				})
			}
		}
	}
}

// named reads what a task file names.
func named(t *testing.T, file string, source []byte) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	files, folders := task.Names(file, source)
	for _, dir := range folders {
		require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				files = append(files, name)
			}
			return err
		}))
	}
	for _, name := range files {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		out[name] = data
	}
	return out
}

func TestTheSameSeedGivesTheSamePlan(t *testing.T) {
	c, err := Find("sanderling")
	require.NoError(t, err)
	hangs, patches := 0, map[string]int{}
	for seed := range uint64(2000) {
		p := c.Decide(seed)
		assert.Equal(t, p, c.Decide(seed))
		if p.Hangs {
			hangs++
		}
		patches[p.Patch]++
	}
	assert.InDelta(t, 2000*c.Hangs, hangs, 60)
	assert.InDelta(t, 1000, patches["hasty"], 120)
	_, err = Find("albatross")
	assert.ErrorContains(t, err, "turnstone, sanderling, whimbrel")
}

func TestAStandInThatHangsEndsWhenAsked(t *testing.T) {
	c, err := Find("sanderling")
	require.NoError(t, err)
	c.Hangs, c.Looks = 1, 0
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	var out bytes.Buffer
	err = Run{Character: c, Brief: "an export with a small heap", Dir: t.TempDir(), Out: &out, Playbooks: demo.Playbooks()}.Do(ctx)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Contains(t, out.String(), "let me think about this once more")
}

func TestAnUnknownBrief(t *testing.T) {
	c, err := Find("turnstone")
	require.NoError(t, err)
	var out bytes.Buffer
	assert.ErrorIs(t, Run{Character: c, Brief: "Paint the pier.", Out: &out, Playbooks: demo.Playbooks()}.Do(t.Context()), ErrLost)
}
