package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"agonometer/internal/core/patch"
)

func TestFloodTmp(t *testing.T) {
	f := newFixture(t, "sha1", "")
	w := f.make(t, "flood")
	for i := range 200_000 {
		if i%1000 == 0 {
			require.NoError(t, os.MkdirAll(filepath.Join(w.Tree(), fmt.Sprint("d", i/1000)), 0o755))
		}
		require.NoError(t, os.WriteFile(filepath.Join(w.Tree(), fmt.Sprint("d", i/1000), fmt.Sprint(i)), []byte(fmt.Sprint(i)), 0o644))
	}
	began := time.Now()
	c, err := f.git.Capture(t.Context(), w, Limits{File: 32 << 20, Total: 512 << 20})
	require.NoError(t, err)
	fmt.Println("capture", time.Since(began), len(c.Diff), len(c.TooLarge))
	began = time.Now()
	_, err = patch.Measure(c.Shown)
	fmt.Println("measure", time.Since(began), err)
	began = time.Now()
	ch, err := f.git.ReadChange(t.Context(), f.p, t.TempDir(), c.Diff, c.Tree)
	require.NoError(t, err)
	fmt.Println("read", time.Since(began))
	began = time.Now()
	fresh := f.make(t, "fresh")
	require.NoError(t, f.git.Place(t.Context(), fresh, ch))
	fmt.Println("place", time.Since(began))
	data, _ := os.ReadFile("/proc/self/status")
	fmt.Println(string(data[:0]))
}
