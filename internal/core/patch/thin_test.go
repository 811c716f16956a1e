package patch

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestThinnedDiffsHaveTheFiguresOfTheWhole(t *testing.T) {
	var diff bytes.Buffer
	rng := rand.New(rand.NewPCG(1, 2))
	want := Footprint{}
	for f := range 30 {
		fmt.Fprintf(&diff, "diff --git a/f%d b/f%d\nindex 1..2 100644\n--- a/f%d\n+++ b/f%d\n", f, f, f, f)
		want.Files++
		at := 1
		for range 1 + rng.IntN(4) {
			n := 1 + rng.IntN(6000)
			var body strings.Builder
			old, now := 0, 0
			for range n {
				switch rng.IntN(3) {
				case 0:
					body.WriteString("+@@ -1,1 +1,1 @@ no head\n")
					now++
					want.LinesAdded++
				case 1:
					body.WriteString("-diff --git a/x b/x\n")
					old++
					want.LinesRemoved++
				default:
					body.WriteString(" \n")
					old, now = old+1, now+1
				}
			}
			body.WriteString("+z\n")
			now++
			want.LinesAdded++
			fmt.Fprintf(&diff, "@@ -%d,%d +%d,%d @@ heading\n%s", at, old, at, now, body.String())
			want.Hunks++
			at += 10_000
		}
	}
	require.Greater(t, bytes.Count(diff.Bytes(), []byte{'\n'}), wholeLines)
	got, err := Measure(diff.Bytes())
	require.NoError(t, err)
	assert.Equal(t, want, got)
	files, err := Parse(diff.Bytes(), 0)
	require.NoError(t, err)
	require.Len(t, files, 30)
	added, removed, lines := 0, 0, 0
	for _, f := range files {
		added, removed = added+f.Added, removed+f.Removed
		for _, h := range f.Hunks {
			lines += len(h.Lines)
		}
	}
	assert.Equal(t, [2]int{want.LinesAdded, want.LinesRemoved}, [2]int{added, removed})
	assert.LessOrEqual(t, lines, wholeLines)
}

func TestBinaryContentsAreNotDecoded(t *testing.T) {
	diff := "diff --git a/b.bin b/b.bin\nnew file mode 100644\nindex 0000000..1111111\nGIT binary patch\nliteral 3\n" + strings.Repeat("KcmZQzWMXDvWMl*Y00IC2\n", 60_000) + "\nliteral 0\nHcmV?d00001\n\n" +
		"diff --git a/t b/t\n--- a/t\n+++ b/t\n@@ -1 +1,2 @@\n a\n+b\n\\ No newline at end of file\n"
	fp, err := Measure([]byte(diff))
	require.NoError(t, err)
	assert.Equal(t, Footprint{Files: 2, FilesAdded: 1, FilesBinary: 1, LinesAdded: 1, Hunks: 1}, fp)
	files, err := Parse([]byte(diff), 0)
	require.NoError(t, err)
	assert.True(t, files[0].Binary)
	require.Len(t, files[1].Hunks, 1)
	assert.True(t, files[1].Hunks[0].Lines[1].NoNewline)
}

// A diff of very many lines costs memory in proportion to its bytes, not to its lines.
func TestManyLinesCostNoMemory(t *testing.T) {
	const lines = 8 << 20
	diff := append([]byte("diff --git a/f b/f\nnew file mode 100644\n--- /dev/null\n+++ b/f\n@@ -0,0 +1,8388608 @@\n"), bytes.Repeat([]byte("+\n"), lines)...)
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	fp, err := Measure(diff)
	require.NoError(t, err)
	runtime.ReadMemStats(&after)
	assert.Equal(t, lines, fp.LinesAdded)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(150<<20))
}
