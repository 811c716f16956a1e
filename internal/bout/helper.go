package bout

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/patch"
)

// Edit measures are worked out in a process of their own, the measurer: what it reads was
// written by a contender, and a file that is made for it can want any time and memory of
// whoever looks for its functions, its repetitions and its losses. The measurer has a
// bound of both. Where it goes beyond one, it ends, and the measures are not there, with
// a note that says why; the service neither grows nor waits.

// measureArg is the first argument that makes the binary a measurer.
const measureArg = "measure"

// measureTime is how long the measures of one change may take, in all.
const measureTime = 30 * time.Second

// What the measurer may use, in bytes: maxMeasurer is what the service looks after,
// softMeasurer where its own collector works harder, and dataMeasurer what the kernel gives at most.
const (
	softMeasurer = 192 << 20
	maxMeasurer  = 320 << 20
	dataMeasurer = 1 << 30
)

var helperReady bool

// MaybeHelper turns the process into a supervisor or a measurer when it was started as
// one, and does not return then. It stands first in main and in TestMain; without it
// measures are worked out in the service's own process.
func MaybeHelper() {
	confine.MaybeSupervise()
	if len(os.Args) == 3 && os.Args[1] == measureArg {
		os.Exit(measurer(os.Args[2]))
	}
	helperReady = true
}

// errNotMeasured says why there are no measures.
type errNotMeasured struct{ why string }

func (e *errNotMeasured) Error() string { return "not measured: " + e.why }

// measureJob is all that a change is measured from; it goes over a pipe.
type measureJob struct {
	Prepared    workspace.Prepared `json:"prepared"`
	PreparedDir string             `json:"prepared_dir"`
	Scratch     string             `json:"scratch"`
	Result      Result             `json:"result"`
	With        Beside             `json:"with"`
	Scope       []string           `json:"scope"`
	Never       []string           `json:"never"`
	TestFiles   []string           `json:"test_files"`
	Brief       string             `json:"brief"`
	Off         []string           `json:"off"`
	References  [][]byte           `json:"references"`
}

type measureAnswer struct {
	Measures *patch.Measures `json:"measures,omitempty"`
	Err      string          `json:"err,omitempty"`
}

// measurers is the running measurer, started when it is wanted.
type measurers struct {
	mu  sync.Mutex // held by whoever measures
	cmd *exec.Cmd
	in  *json.Encoder
	out *json.Decoder
}

// close ends the measurer.
func (m *measurers) close() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.end()
}

// end ends the measurer; the lock is held.
func (m *measurers) end() {
	if m.cmd != nil {
		_ = m.cmd.Process.Kill()
		_ = m.cmd.Wait()
		m.cmd = nil
	}
}

func (m *measurers) start(git string) error {
	if m.cmd != nil {
		return nil
	}
	cmd := exec.Command("/proc/self/exe", measureArg, git)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH")}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	cmd.Stderr = nil
	if err := cmd.Start(); err != nil {
		return err
	}
	m.cmd, m.in, m.out = cmd, json.NewEncoder(in), json.NewDecoder(bufio.NewReaderSize(out, 1<<16))
	return nil
}

// run has one change measured. An errNotMeasured says that it was too much.
func (m *measurers) run(ctx context.Context, git string, job *measureJob) (*patch.Measures, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.start(git); err != nil {
		return nil, fmt.Errorf("start the measurer: %w", err)
	}
	type ended struct {
		answer measureAnswer
		err    error
	}
	done := make(chan ended, 1)
	in, out, pid := m.in, m.out, m.cmd.Process.Pid
	go func() { // ends with the measurer at the latest
		var e ended
		if e.err = in.Encode(job); e.err == nil {
			e.err = out.Decode(&e.answer)
		}
		done <- e
	}()
	look := time.NewTicker(20 * time.Millisecond)
	defer look.Stop()
	limit := time.NewTimer(measureTime)
	defer limit.Stop()
	for {
		select {
		case e := <-done:
			switch {
			case e.err != nil:
				m.end()
				return nil, &errNotMeasured{"took too much memory"} // nothing else ends it: it catches its own faults
			case e.answer.Measures != nil:
				return e.answer.Measures, nil
			}
			return nil, errors.New(e.answer.Err)
		case <-look.C:
			if resident(pid) > maxMeasurer {
				m.end()
				<-done
				return nil, &errNotMeasured{"took too much memory"}
			}
		case <-limit.C:
			m.end()
			<-done
			return nil, &errNotMeasured{"took too long"}
		case <-ctx.Done():
			m.end()
			<-done
			return nil, ctx.Err()
		}
	}
}

// resident is how much memory a process has, in bytes; 0 where that cannot be told.
func resident(pid int) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize())
}

// measurer measures what it is given on standard input until that ends.
func measurer(git string) int {
	debug.SetMemoryLimit(softMeasurer)
	_ = unix.Setrlimit(unix.RLIMIT_DATA, &unix.Rlimit{Cur: dataMeasurer, Max: dataMeasurer})
	_ = unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	_ = os.WriteFile("/proc/self/oom_score_adj", []byte("500"), 0)
	g, err := workspace.NewGit(git)
	if err != nil {
		return 1
	}
	m := &measuring{git: g}
	in, out := json.NewDecoder(bufio.NewReaderSize(os.Stdin, 1<<16)), json.NewEncoder(os.Stdout)
	for {
		var job measureJob
		if err := in.Decode(&job); err != nil {
			return 0
		}
		job.Prepared.Dir = job.PreparedDir
		var answer measureAnswer
		if answer.Measures, err = m.measure(context.Background(), &job); err != nil {
			answer.Err = err.Error()
		}
		if out.Encode(answer) != nil {
			return 0
		}
		if resident(os.Getpid()) > softMeasurer { // the next change begins with what it needs itself
			debug.FreeOSMemory()
		}
	}
}
