package confine

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// The guard is the part of a supervisor that looks after what all processes of its
// command use together: memory, CPU time, and what they write. The kernel's own limits of
// a process (setrlimit(2)) hold beside it; they cannot count what many processes use.

// guardEvery is how often the guard looks. It is what a command can go beyond a limit.
const guardEvery = 100 * time.Millisecond

// guard ends a command that goes beyond a limit.
type guard struct {
	limits Limits
	places []string // what it may write to

	free, nodes uint64 // of the file system, at the beginning
	tick        time.Duration
	walked      time.Time
	walking     time.Duration // what the last look through the files took

	mu     sync.Mutex
	broken LimitKind
	detail string
}

// LimitKind says what a command used too much of.
type LimitKind string

const (
	LimitMemory LimitKind = "memory"
	LimitDisk   LimitKind = "disk"
	LimitCPU    LimitKind = "cpu"
)

// Limits bound what a command and all that it starts may use together; 0 is no limit.
type Limits struct {
	// Memory is the resident memory of all processes, in bytes.
	Memory int64 `json:"memory,omitempty"`
	// CPU is the CPU time of all processes.
	CPU time.Duration `json:"cpu,omitempty"`
	// Disk and Files are what lies in the command's own folders beyond DiskFrom and
	// FilesFrom, in bytes and in files.
	Disk      int64 `json:"disk,omitempty"`
	Files     int64 `json:"files,omitempty"`
	DiskFrom  int64 `json:"disk_from,omitempty"`
	FilesFrom int64 `json:"files_from,omitempty"`
	// Processes is how many processes there may be at once, OpenFiles how many files one
	// of them may have open. Whoever wants more gets an error.
	Processes uint64 `json:"processes,omitempty"`
	OpenFiles uint64 `json:"open_files,omitempty"`
}

// What is left free on a file system at least: whoever fills it up to that is stopped
// before nothing works any more.
const (
	leastFree  = 256 << 20
	leastNodes = 2000
	// Whoever wrote less than this has not filled it.
	leastBlamed      = 32 << 20
	leastBlamedFiles = 1000
)

func newGuard(l Limits) *guard {
	g := &guard{limits: l, places: []string{WorkspacePath, HomePath, TmpPath}, tick: time.Second / 100}
	g.free, g.nodes = g.room()
	return g
}

// room is how many bytes and inodes are free where the command writes.
func (g *guard) room() (bytes, nodes uint64) {
	var fs unix.Statfs_t
	if unix.Statfs(g.places[0], &fs) != nil {
		return 0, 0
	}
	return fs.Bavail * uint64(fs.Bsize), fs.Ffree
}

// watch looks until the supervisor ends, and ends everything else at a limit.
func (g *guard) watch() {
	for range time.Tick(guardEvery) {
		kind, detail := g.look()
		if kind == "" {
			continue
		}
		g.mu.Lock()
		g.broken, g.detail = kind, detail
		g.mu.Unlock()
		_ = syscall.Kill(-1, syscall.SIGKILL)
		return
	}
}

// reached is the limit at which the command was ended; "" where it was not.
func (g *guard) reached() (LimitKind, string) {
	if g == nil {
		return "", ""
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.broken, g.detail
}

func (g *guard) look() (LimitKind, string) {
	memory, cpu, pids := g.processes()
	if g.limits.Memory > 0 && memory > g.limits.Memory {
		// Pages that processes share were counted for each of them.
		if memory = proportional(pids); memory > g.limits.Memory {
			return LimitMemory, fmt.Sprintf("%s of %s of memory, in %d processes", size(memory), size(g.limits.Memory), len(pids))
		}
	}
	if g.limits.CPU > 0 && cpu > g.limits.CPU {
		return LimitCPU, fmt.Sprintf("%s of %s of CPU time", cpu.Round(time.Second), g.limits.CPU)
	}
	return g.disk()
}

func size(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// processes adds up the memory and the CPU time of all processes but this one.
func (g *guard) processes() (memory int64, cpu time.Duration, pids []int) {
	entries, _ := os.ReadDir("/proc")
	page := int64(os.Getpagesize())
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		stat, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
		if len(fields) < 22 {
			continue
		}
		pids = append(pids, pid)
		for _, at := range []int{11, 12, 13, 14} { // utime, stime, and those of children that it waited for (proc_pid_stat(5))
			ticks, _ := strconv.ParseInt(fields[at], 10, 64)
			cpu += time.Duration(ticks) * g.tick
		}
		pages, _ := strconv.ParseInt(fields[21], 10, 64)
		memory += pages * page
	}
	var ended unix.Rusage
	if unix.Getrusage(unix.RUSAGE_CHILDREN, &ended) == nil { // what came back to the first process
		cpu += time.Duration(ended.Utime.Nano() + ended.Stime.Nano())
	}
	return memory, cpu, pids
}

// proportional is the memory of processes where each page counts once, however many share it.
func proportional(pids []int) (total int64) {
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", pid))
		if err != nil {
			// It may have ended; where it cannot be looked into it counts as a whole.
			if stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid)); err == nil {
				if fields := strings.Fields(string(stat)); len(fields) > 1 {
					pages, _ := strconv.ParseInt(fields[1], 10, 64)
					total += pages * int64(os.Getpagesize())
				}
			}
			continue
		}
		for line := range strings.Lines(string(text)) {
			if rest, ok := strings.CutPrefix(line, "Pss:"); ok {
				kib, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
				total += kib << 10
				break
			}
		}
	}
	return total
}

// disk looks through the command's folders where the file system says that there is
// reason to: others write to it too, and a walk costs something.
func (g *guard) disk() (LimitKind, string) {
	if g.limits.Disk <= 0 && g.limits.Files <= 0 {
		return "", ""
	}
	free, nodes := g.room()
	full := free < leastFree && g.free > free || nodes < leastNodes && g.nodes > nodes
	much := g.free > free && int64(g.free-free) > g.limits.Disk/2 || g.nodes > nodes && int64(g.nodes-nodes) > g.limits.Files/2
	if !full && !much || time.Since(g.walked) < 5*g.walking {
		return "", ""
	}
	began := time.Now()
	bytes, files := g.written()
	g.walked = time.Now()
	g.walking = g.walked.Sub(began)
	bytes, files = bytes-g.limits.DiskFrom, files-g.limits.FilesFrom
	switch {
	case g.limits.Disk > 0 && bytes > g.limits.Disk:
		return LimitDisk, fmt.Sprintf("%s of %s written", size(bytes), size(g.limits.Disk))
	case g.limits.Files > 0 && files > g.limits.Files:
		return LimitDisk, fmt.Sprintf("%d of %d files made", files, g.limits.Files)
	case free < leastFree && bytes > leastBlamed && bytes > int64(g.free-free)/2:
		return LimitDisk, fmt.Sprintf("%s written, and the disk is full", size(bytes))
	case nodes < leastNodes && files > leastBlamedFiles && files > int64(g.nodes-nodes)/2:
		return LimitDisk, fmt.Sprintf("%d files made, and the disk can hold no more", files)
	}
	return "", ""
}

// written is how many bytes and files lie in the command's folders.
func (g *guard) written() (bytes, files int64) {
	for _, name := range g.places {
		d, err := beneath.Open(name)
		if err != nil {
			continue
		}
		b, f, err := beneath.Usage(d)
		d.Close()
		if err == nil {
			bytes, files = bytes+b, files+f
		}
	}
	return bytes, files
}
