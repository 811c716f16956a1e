package watch

import (
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"agonometer/internal/core/timeline"
)

// hundredth is the kernel's unit of CPU time in /proc (USER_HZ is 100 everywhere).
const hundredth = 10 * time.Millisecond

// usage is the CPU time that a process and all below it have used, with what
// their ended children had used.
func usage(pid int) time.Duration {
	var ticks int64
	queue := []int{pid}
	for len(queue) > 0 && len(queue) < 10_000 {
		p := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		base := "/proc/" + strconv.Itoa(p)
		stat, err := os.ReadFile(base + "/stat")
		if err != nil {
			continue
		}
		// The name in brackets may hold anything; the fields follow the last bracket.
		text := string(stat)
		fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:])
		if len(fields) < 15 {
			continue
		}
		for _, n := range fields[11:15] { // utime, stime, cutime, cstime
			v, _ := strconv.ParseInt(n, 10, 64)
			ticks += v
		}
		tasks, _ := os.ReadDir(base + "/task")
		for _, t := range tasks {
			children, _ := os.ReadFile(base + "/task/" + t.Name() + "/children")
			for child := range strings.FieldsSeq(string(children)) {
				if n, err := strconv.Atoi(child); err == nil {
					queue = append(queue, n)
				}
			}
		}
	}
	return time.Duration(ticks) * hundredth
}

// leastWatched is for how long the machine must have been watched before a share says anything.
const leastWatched = time.Second

// pressure gathers how busy the machine is, in rounds only.
type pressure struct {
	mu    sync.Mutex
	began time.Time
	stall int64 // the kernel's counter of stalled microseconds at the beginning
	some  int64 // of it what fell into rounds
	time  int64
	load  float64
	seen  bool
}

func (p *pressure) begin() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.began = time.Now()
	p.stall, p.seen = stalled()
}

func (p *pressure) sample() {
	text, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return
	}
	first, _, _ := strings.Cut(string(text), " ")
	if v, err := strconv.ParseFloat(first, 64); err == nil {
		p.mu.Lock()
		p.load = max(p.load, v)
		p.mu.Unlock()
	}
}

func (p *pressure) end() {
	p.sample()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.time += time.Since(p.began).Microseconds()
	if now, ok := stalled(); ok && p.seen {
		p.some += now - p.stall
	}
}

// stalled is for how long, in microseconds since the machine started, at least
// one task had to wait for a CPU (/proc/pressure/cpu).
func stalled() (int64, bool) {
	text, err := os.ReadFile("/proc/pressure/cpu")
	if err != nil {
		return 0, false
	}
	for line := range strings.Lines(string(text)) {
		if at := strings.Index(line, "total="); strings.HasPrefix(line, "some ") && at >= 0 {
			n, err := strconv.ParseInt(strings.TrimSpace(line[at+len("total="):]), 10, 64)
			return n, err == nil
		}
	}
	return 0, false
}

func (p *pressure) machine() timeline.Machine {
	p.mu.Lock()
	defer p.mu.Unlock()
	m := timeline.Machine{CPUs: runtime.NumCPU(), Load: p.load}
	if p.seen && p.time >= leastWatched.Microseconds() {
		share := min(1, float64(p.some)/float64(p.time))
		m.Waiting = &share
	}
	return m
}
