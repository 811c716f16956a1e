package confine

import (
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Between two rounds nothing of a tool that stays may run: what it did then would be
// counted by nobody, and would change under whoever takes its work out.

const (
	signalFreeze = "FREEZE"
	signalThaw   = "THAW"
	eventFrozen  = "frozen"
)

// freezeTime is how long the processes of a command may take to come to a stop, and
// answerTime how long its supervisor may take to say that they have.
const (
	freezeTime = 10 * time.Second
	answerTime = 2 * freezeTime
)

// Freeze stops everything that the command started, until Thaw, and tells whether all
// of it has come to a stop. Where there is no PID namespace it does what it can: a
// chain of processes that live shorter than a look lasts is not caught.
func (p *Process) Freeze() bool {
	if p.mode != Namespaces {
		p.stopSeen()
		return false
	}
	select { // an answer that came too late, to an earlier question
	case <-p.frozen:
	default:
	}
	if p.tell(signalFreeze) != nil {
		return true // its supervisor has ended, and with it everything
	}
	t := time.NewTimer(answerTime)
	defer t.Stop()
	select {
	case ok := <-p.frozen:
		return ok
	case <-p.ended:
		return true
	case <-t.C:
		return false
	}
}

// Thaw lets everything go on that Freeze stopped.
func (p *Process) Thaw() {
	if p.mode == Namespaces {
		_ = p.tell(signalThaw)
		return
	}
	for _, pid := range descendants(p.PID()) {
		_ = syscall.Kill(pid, syscall.SIGCONT)
	}
}

// stopSeen stops the processes that can be seen, until a look finds nothing new.
func (p *Process) stopSeen() {
	seen := map[int]bool{}
	for range 10 {
		fresh := slices.DeleteFunc(descendants(p.PID()), func(pid int) bool { return seen[pid] })
		if len(fresh) == 0 {
			return
		}
		for _, pid := range fresh {
			seen[pid] = true
			_ = syscall.Kill(pid, syscall.SIGSTOP)
		}
	}
}

// freeze stops all processes of this PID namespace but its first, which is the caller,
// and tells whether they stand still. One kill(2) of all processes is one step of the
// kernel's: a process that forks meanwhile is either not there yet, and then its fork
// is undone and the signal comes first, or its child gets the signal too.
//
// A process that waits in the kernel for a child that it shares its memory with (vfork)
// waits on, since the child was stopped: it is in uninterruptible sleep, in the middle of
// one system call, and stops before it does anything else. That is still enough once it
// has been so for a while.
func freeze() bool {
	began := time.Now()
	for {
		if err := syscall.Kill(-1, syscall.SIGSTOP); err == syscall.ESRCH {
			return true
		}
		allowed := "TtZXx"
		if time.Since(began) > asleep {
			allowed += "D"
		}
		if still(allowed) {
			return true
		}
		if time.Since(began) > freezeTime {
			return false
		}
		time.Sleep(time.Millisecond)
	}
}

// asleep is how long a process is given to come out of uninterruptible sleep.
const asleep = 50 * time.Millisecond

// still tells whether every thread of every process that can be seen in /proc, but this
// one, is in one of some states.
func still(states string) bool {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return false
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		threads, err := os.ReadDir("/proc/" + e.Name() + "/task")
		if err != nil {
			continue // it has ended since
		}
		for _, t := range threads {
			stat, err := os.ReadFile("/proc/" + e.Name() + "/task/" + t.Name() + "/stat")
			if err != nil {
				continue
			}
			// The name in brackets may hold anything; the state follows the last bracket.
			after := string(stat[strings.LastIndexByte(string(stat), ')')+1:])
			if state := strings.TrimSpace(after); state == "" || !strings.Contains(states, state[:1]) {
				return false
			}
		}
	}
	return true
}
