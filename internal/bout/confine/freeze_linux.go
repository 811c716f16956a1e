package confine

import (
	"slices"
	"syscall"
)

// Freeze stops everything that the command started, until Thaw: while a tool that
// stays is between two rounds nothing must change under whoever looks at its work.
// What the command starts in the meantime is stopped too; a process that the kernel
// does not let this one signal goes on.
func (p *Process) Freeze() {
	seen := map[int]bool{}
	for range 10 { // until a look finds nothing new
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

// Thaw lets everything go on that Freeze stopped.
func (p *Process) Thaw() {
	for _, pid := range descendants(p.PID()) {
		_ = syscall.Kill(pid, syscall.SIGCONT)
	}
}
