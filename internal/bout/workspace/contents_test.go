package workspace

import (
	"fmt"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestContentsOfStartAndResult(t *testing.T) {
	f := newFixture(t, "sha1", "")
	w := f.make(t, "w")
	sh(t, w.Tree(), `echo four >> src/a.txt; rm src/b.txt; printf odd > "$(printf 'new\nline')"; ln -s /etc/passwd password; truncate -s 17M large.bin; mv docs/keep.md docs/kept.md`)
	c, err := f.git.Capture(t.Context(), w, Limits{File: 64 << 20, Total: 128 << 20})
	require.NoError(t, err)
	change, err := f.git.ReadChange(t.Context(), f.p, filepath.Join(f.dir, "scratch"), c.Diff, c.Tree)
	require.NoError(t, err)
	defer change.Close()
	r, err := f.git.Contents(t.Context(), f.p, change)
	require.NoError(t, err)
	ask := []Asked{{Name: "src/a.txt"}, {Name: "src/a.txt", Result: true}, {Name: "src/b.txt"}, {Name: "src/b.txt", Result: true}, {Name: "nowhere"}, {Name: "large.bin", Result: true}, {Name: "docs/kept.md", Result: true}}
	for _, ahead := range []bool{false, true, true} {
		if ahead {
			r.Ahead(ask)
		}
		// Several at once, and in another order than was told.
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				assert.Equal(t, "one\ntwo\nthree\nfour\n", string(r.After("src/a.txt")))
				assert.Equal(t, "one\ntwo\nthree\n", string(r.Before("src/a.txt")))
			})
		}
		all.Wait()
		assert.Equal(t, "b\nstart\n", string(r.Before("src/b.txt")))
		assert.Nil(t, r.After("src/b.txt"), "it is gone")
		assert.Equal(t, "odd", string(r.After("new\nline")))
		assert.Equal(t, "keep\n", string(r.After("docs/kept.md")))
		assert.Nil(t, r.After("docs/keep.md"))
		assert.Nil(t, r.After("password"), "a link is no file")
		assert.Nil(t, r.After("large.bin"), "longer than what is read")
		assert.Nil(t, r.Before("nowhere"))
		assert.Nil(t, r.Before(""))
		assert.Equal(t, "#!/bin/sh\n", string(r.After("run.sh")), "what did not change is there too")
	}
	r.Ahead(ask) // and nobody reads it
	require.NoError(t, r.Close())
	require.NoError(t, r.Close())
	assert.Nil(t, r.Before("src/a.txt"))

	// No change at all.
	none, err := f.git.ReadChange(t.Context(), f.p, filepath.Join(f.dir, "scratch"), nil, "")
	require.NoError(t, err)
	r, err = f.git.Contents(t.Context(), f.p, none)
	require.NoError(t, err)
	assert.Equal(t, string(r.Before("src/a.txt")), string(r.After("src/a.txt")))
	require.NoError(t, r.Close())

	// Many files ahead, of which only the last is wanted.
	var many []Asked
	for i := range 3000 {
		many = append(many, Asked{Name: fmt.Sprint("none-", i)}, Asked{Name: "src/a.txt"})
	}
	r, err = f.git.Contents(t.Context(), f.p, none)
	require.NoError(t, err)
	r.Ahead(append(many, Asked{Name: "run.sh"}))
	assert.Equal(t, "#!/bin/sh\n", string(r.Before("run.sh")))
	require.NoError(t, r.Close())
}
