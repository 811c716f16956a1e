package confine

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// Where the service runs as root and the machine has the controllers, the kernel itself
// bounds the memory of a command, and how many processes it has (cgroups(7), version 2 or 1). The guard
// looks after memory too, with a little less room, and so mostly says first how far it
// was; what grows faster than it looks is ended by the kernel.

// cgroupPrefix is how the service's groups are called.
const cgroupPrefix = "agonometer-"

// controllers are the folders in which groups that bound memory are made.
type controllers struct {
	unified string // version 2; "" where it lacks the controller of memory
	memory  string // version 1
	pids    string // version 1
}

func findControllers() controllers {
	var c controllers
	for _, dir := range []string{"/sys/fs/cgroup", "/sys/fs/cgroup/unified"} {
		text, err := os.ReadFile(filepath.Join(dir, "cgroup.controllers"))
		if err != nil || !strings.Contains(" "+string(text)+" ", "memory") {
			continue
		}
		// A group's own controllers must be switched on in the one above it.
		_ = os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte("+memory"), 0)
		_ = os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte("+pids"), 0)
		on, err := os.ReadFile(filepath.Join(dir, "cgroup.subtree_control"))
		if err == nil && strings.Contains(string(on), "memory") {
			c.unified = dir
			return c
		}
	}
	if _, err := os.Stat("/sys/fs/cgroup/memory/cgroup.procs"); err == nil {
		c.memory = "/sys/fs/cgroup/memory"
	}
	if _, err := os.Stat("/sys/fs/cgroup/pids/cgroup.procs"); err == nil {
		c.pids = "/sys/fs/cgroup/pids"
	}
	return c
}

// cgroup is the group of one command.
type cgroup struct {
	dirs   []string
	memory string // the one that bounds memory; "" for none
	v2     bool
}

var cgroupNumber atomic.Int64

// slack is how much more the kernel gives than the guard, in parts of the limit.
const slack = 8

// newCgroup makes a group for a process with limits; nil where none can be made.
func newCgroup(pid int, l Limits) *cgroup {
	if os.Geteuid() != 0 || l.Memory == 0 {
		return nil
	}
	c := findControllers()
	g := &cgroup{v2: c.unified != ""}
	name := fmt.Sprintf("%s%d-%d", cgroupPrefix, os.Getpid(), cgroupNumber.Add(1))
	add := func(parent string, settings map[string]string) string {
		if parent == "" {
			return ""
		}
		dir := filepath.Join(parent, name)
		if os.Mkdir(dir, 0o755) != nil {
			return ""
		}
		g.dirs = append(g.dirs, dir)
		for file, value := range settings {
			_ = os.WriteFile(filepath.Join(dir, file), []byte(value), 0)
		}
		if os.WriteFile(filepath.Join(dir, "cgroup.procs"), []byte(strconv.Itoa(pid)), 0) != nil {
			return ""
		}
		return dir
	}
	memory := strconv.FormatInt(l.Memory+l.Memory/slack, 10)
	// The supervisor, and what it starts as the other user, count here too.
	pids := map[string]string{"pids.max": strconv.FormatUint(l.Processes+64, 10)}
	if l.Processes == 0 {
		pids = nil
	}
	switch {
	case c.unified != "":
		g.memory = add(c.unified, map[string]string{"memory.max": memory, "memory.swap.max": "0"})
		if g.memory != "" && pids != nil { // where there is no such controller there is no such file
			_ = os.WriteFile(filepath.Join(g.memory, "pids.max"), []byte(pids["pids.max"]), 0)
		}
	default:
		g.memory = add(c.memory, map[string]string{"memory.limit_in_bytes": memory})
		if pids != nil {
			add(c.pids, pids)
		}
	}
	if len(g.dirs) == 0 {
		return nil
	}
	return g
}

// outOfMemory tells whether the kernel ended a process of the group for want of memory.
func (g *cgroup) outOfMemory() bool {
	if g == nil || g.memory == "" {
		return false
	}
	file := "memory.oom_control"
	if g.v2 {
		file = "memory.events"
	}
	text, err := os.ReadFile(filepath.Join(g.memory, file))
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "oom_kill "); ok {
			n, _ := strconv.Atoi(strings.TrimSpace(rest))
			return n > 0
		}
	}
	return false
}

// remove takes the group away, whose processes have ended.
func (g *cgroup) remove() {
	if g == nil {
		return
	}
	for _, dir := range g.dirs {
		for try := 0; try < 20 && os.Remove(dir) != nil; try++ {
			time.Sleep(5 * time.Millisecond) // the kernel takes its time with what has just ended
		}
	}
}

// RemoveCgroups takes away the groups that an earlier service left, in which nothing is any more.
func RemoveCgroups() {
	c := findControllers()
	for _, parent := range []string{c.unified, c.memory, c.pids} {
		if parent == "" {
			continue
		}
		left, _ := filepath.Glob(filepath.Join(parent, cgroupPrefix+"*"))
		for _, dir := range left {
			_ = os.Remove(dir)
		}
	}
}
