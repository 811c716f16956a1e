package watch

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"agonometer/internal/core/timeline"
)

// BenchmarkRound is what watching a round costs beside the contender's own time:
// a workspace of 300 files in 30 folders, of which one is edited.
func BenchmarkRound(b *testing.B) {
	dir := b.TempDir()
	var start []string
	for i := range 300 {
		name := fmt.Sprintf("d%d/f%d.go", i%30, i)
		start = append(start, name)
		require.NoError(b, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(b, os.WriteFile(filepath.Join(dir, name), []byte("x\n"), 0o644))
	}
	var began, ended time.Duration
	for b.Loop() {
		at := time.Now()
		w := New(Options{Tree: dir, Start: start, Sink: func([]timeline.Event) {}})
		w.Begin(1, time.Now())
		w.Run(os.Getpid())
		began += time.Since(at)
		require.NoError(b, os.WriteFile(filepath.Join(dir, "d0/f0.go"), []byte("y\n"), 0o644))
		at = time.Now()
		w.EndRound(time.Now())
		w.Changed([]string{"d0/f0.go"})
		w.Close()
		ended += time.Since(at)
	}
	b.ReportMetric(float64(began.Microseconds())/float64(b.N)/1000, "begin-ms")
	b.ReportMetric(float64(ended.Microseconds())/float64(b.N)/1000, "end-ms")
}
