package confine

import (
	"fmt"
	"runtime"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// The filter is a seccomp program (seccomp(2), BPF assembled by x/net/bpf) that every
// confined command runs under. It refuses what namespaces do not divide, and what no
// tool or test needs: typing into a terminal that it does not own, the kernel's
// keyrings, socket families with a life of their own, mounts, and the doors through
// which kernels have been broken. It is a second wall: what stands behind it are
// namespaces, an ordinary user without capabilities, and a root of its own.

// auditArch is how the kernel names the architectures that the filter is made for.
var auditArch = map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64, "riscv64": unix.AUDIT_ARCH_RISCV64}

// x32Bit marks system calls of the x32 interface, which has numbers of its own for the same calls.
const x32Bit = 0x40000000

// Where struct seccomp_data has what the filter looks at; arguments are 64 bits, of
// which the kernel itself uses the lower half for what is looked at here.
const (
	dataNumber = 0
	dataArch   = 4
	dataArgs   = 16
)

// refusedCalls are refused whatever their arguments are, with an error that programs
// know how to live without.
var refusedCalls = map[uint32][]uintptr{
	uint32(unix.EPERM): {
		unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY,
		unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_CHROOT, unix.SYS_SETNS, unix.SYS_UNSHARE,
		unix.SYS_FSOPEN, unix.SYS_FSCONFIG, unix.SYS_FSMOUNT, unix.SYS_FSPICK, unix.SYS_OPEN_TREE, unix.SYS_MOVE_MOUNT, unix.SYS_MOUNT_SETATTR,
		unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_OPEN_BY_HANDLE_AT,
		unix.SYS_KEXEC_LOAD, unix.SYS_KEXEC_FILE_LOAD, unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE,
		unix.SYS_ACCT, unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_REBOOT, unix.SYS_SYSLOG, unix.SYS_QUOTACTL, unix.SYS_QUOTACTL_FD,
		unix.SYS_SETTIMEOFDAY, unix.SYS_CLOCK_SETTIME, unix.SYS_CLOCK_ADJTIME, unix.SYS_ADJTIMEX, unix.SYS_SETHOSTNAME, unix.SYS_SETDOMAINNAME,
	},
	uint32(unix.ENOSYS): {
		unix.SYS_KEYCTL, unix.SYS_USERFAULTFD, unix.SYS_IO_URING_SETUP, unix.SYS_IO_URING_ENTER, unix.SYS_IO_URING_REGISTER,
		// Its flags lie in memory, where a filter cannot look; C libraries fall back to clone.
		unix.SYS_CLONE3,
	},
}

// socketFamilies are those that a command may open sockets of.
var socketFamilies = []uint32{unix.AF_UNIX, unix.AF_INET, unix.AF_INET6, unix.AF_NETLINK}

// refusedIoctls type into a terminal or paste its selection (ioctl_tty(2), ioctl_console(2)).
var refusedIoctls = []uint32{unix.TIOCSTI, unix.TIOCLINUX}

// newNamespaces are the flags of clone that make namespaces. A user namespace alone
// is let through: the supervisor makes one for the command, and without any of the
// others it gives power over nothing.
const newNamespaces = unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWNET | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP

// filterProgram is the filter for an architecture; nil where there is none for it.
func filterProgram(arch string) []bpf.Instruction {
	audit, known := auditArch[arch]
	if !known {
		return nil
	}
	deny := func(errno uint32) bpf.Instruction { return bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | errno} }
	allow := bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW}
	p := []bpf.Instruction{
		bpf.LoadAbsolute{Off: dataArch, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: audit, SkipTrue: 1},
		deny(uint32(unix.ENOSYS)),
		bpf.LoadAbsolute{Off: dataNumber, Size: 4},
	}
	if arch == "amd64" {
		p = append(p, bpf.JumpIf{Cond: bpf.JumpLessThan, Val: x32Bit, SkipTrue: 1}, deny(uint32(unix.ENOSYS)))
	}
	// Each block below stands alone: the call's number is in the register when it begins.
	for _, errno := range []uint32{uint32(unix.EPERM), uint32(unix.ENOSYS)} {
		for _, number := range refusedCalls[errno] {
			p = append(p, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(number), SkipTrue: 1}, deny(errno))
		}
	}
	// onArgument looks at the lower half of an argument of a call.
	onArgument := func(number uintptr, argument uint32, then ...bpf.Instruction) {
		p = append(p, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(number), SkipTrue: uint8(1 + len(then))},
			bpf.LoadAbsolute{Off: dataArgs + 8*argument, Size: 4}) // little-endian: the lower half comes first
		p = append(p, then...)
	}
	var families []bpf.Instruction
	for _, f := range socketFamilies {
		families = append(families, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: f, SkipTrue: 1}, allow)
	}
	families = append(families, deny(uint32(unix.EAFNOSUPPORT)))
	onArgument(unix.SYS_SOCKET, 0, families...)
	onArgument(unix.SYS_SOCKETPAIR, 0, families...)
	var ioctls []bpf.Instruction
	for _, request := range refusedIoctls {
		ioctls = append(ioctls, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: request, SkipTrue: 1}, deny(uint32(unix.EPERM)))
	}
	onArgument(unix.SYS_IOCTL, 1, append(ioctls, allow)...)
	onArgument(unix.SYS_CLONE, 0, bpf.JumpIf{Cond: bpf.JumpBitsNotSet, Val: newNamespaces, SkipTrue: 1}, deny(uint32(unix.EPERM)), allow)
	return append(p, allow)
}

// FilterAvailable tells whether there is a filter for this machine's architecture.
func FilterAvailable() bool { _, known := auditArch[runtime.GOARCH]; return known }

// installFilter puts the calling thread, and all that it starts from now on, under the
// filter. No new privileges must have been set before.
func installFilter() error {
	program := filterProgram(runtime.GOARCH)
	if program == nil {
		return nil
	}
	raw, err := bpf.Assemble(program)
	if err != nil {
		return fmt.Errorf("assemble the filter: %w", err)
	}
	out := make([]unix.SockFilter, len(raw))
	for i, in := range raw {
		out[i] = unix.SockFilter{Code: in.Op, Jt: in.Jt, Jf: in.Jf, K: in.K}
	}
	prog := unix.SockFprog{Len: uint16(len(out)), Filter: &out[0]}
	if _, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, 0, uintptr(unsafe.Pointer(&prog))); errno != 0 {
		return fmt.Errorf("install the filter: %w", errno)
	}
	runtime.KeepAlive(out)
	return nil
}
