package confine

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hog holds some memory and starts another that does.
func hog(left string) {
	held := make([]byte, 16<<20)
	for i := range held {
		held[i] = byte(i)
	}
	if left != "" {
		self, _ := os.Readlink("/proc/self/exe")
		_, _ = os.StartProcess(self, []string{self, "hog", left[1:]}, &os.ProcAttr{Files: []*os.File{nil, nil, nil}})
	}
	time.Sleep(time.Hour)
	fmt.Fprint(os.Stderr, held[0])
}

func TestLimitsEndACommand(t *testing.T) {
	needNamespaces(t)
	self, err := os.Executable()
	require.NoError(t, err)
	for name, c := range map[string]struct {
		script string
		limits Limits
		want   LimitKind
		words  string
	}{
		"memory of many small processes": {self + " hog " + strings.Repeat("x", 20), Limits{Memory: 150 << 20}, LimitMemory, "of memory, in"},
		"CPU time of many processes":     {"for i in 1 2 3 4; do (while :; do :; done) & done; sleep 100", Limits{CPU: 300 * time.Millisecond}, LimitCPU, "CPU time"},
		"bytes":                          {"i=0; while :; do i=$((i+1)); head -c 1000000 /dev/zero > f$i; done", Limits{Disk: 40 << 20, Files: 1 << 30}, LimitDisk, "written"},
		"files":                          {"i=0; while :; do i=$((i+1)); : > f$i; done", Limits{Disk: 1 << 40, Files: 3000}, LimitDisk, "files made"},
	} {
		t.Run(name, func(t *testing.T) {
			spec := world(t, Namespaces, c.script)
			spec.Binds = append(spec.Binds, Bind{Source: self, Target: self})
			spec.Limits = c.limits
			began := time.Now()
			res, out := run(t, spec, 2*time.Minute)
			assert.Equal(t, c.want, res.Limit, out)
			assert.Contains(t, res.LimitDetail, c.words)
			assert.False(t, res.TimedOut)
			assert.Less(t, time.Since(began), 2*time.Minute)
		})
	}
	t.Run("memory of one process that grows at once", func(t *testing.T) {
		spec := world(t, Namespaces, "head -c 400000000 /dev/zero | tail -c 390000000 | wc -c")
		spec.Limits = Limits{Memory: 60 << 20}
		res, out := run(t, spec, 2*time.Minute)
		assert.Equal(t, LimitMemory, res.Limit, out)
	})
	t.Run("what is within them is left alone", func(t *testing.T) {
		spec := world(t, Namespaces, "head -c 5000000 /dev/zero > f; sleep 0.3; echo done")
		spec.Limits = Limits{Memory: 1 << 30, CPU: time.Hour, Disk: 100 << 20, Files: 1000, Processes: 100, OpenFiles: 64}
		res, out := run(t, spec, time.Minute)
		assert.Empty(t, res.Limit)
		assert.Contains(t, out, "done")
	})
	t.Run("shared pages count once", func(t *testing.T) {
		spec := world(t, Namespaces, "for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do sleep 0.5 & done; wait; echo done")
		spec.Limits = Limits{Memory: 24 << 20}
		res, out := run(t, spec, time.Minute)
		assert.Empty(t, res.Limit, res.LimitDetail)
		assert.Contains(t, out, "done")
	})
	t.Run("open files", func(t *testing.T) {
		spec := world(t, Namespaces, "ulimit -n; ulimit -u")
		spec.Limits = Limits{OpenFiles: 33, Processes: 55}
		_, out := run(t, spec, time.Minute)
		assert.Contains(t, out, "33")
	})
}
