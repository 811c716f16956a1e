package confine

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unsafe"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// try is what a hostile command tries; it runs inside and prints a line for each.
func try(args []string) {
	say := func(what string, err error) {
		if err == nil {
			fmt.Println(what, "WORKED")
		} else {
			fmt.Println(what, "failed:", err)
		}
	}
	open := func(family int) error {
		fd, err := unix.Socket(family, unix.SOCK_STREAM, 0)
		if err == nil {
			unix.Close(fd)
		}
		return err
	}
	errno := func(call uintptr, args ...uintptr) error {
		var a [3]uintptr
		copy(a[:], args)
		if _, _, e := unix.Syscall(call, a[0], a[1], a[2]); e != 0 {
			return e
		}
		return nil
	}
	ioctl := func(request uintptr) error {
		c := byte('x')
		return errno(unix.SYS_IOCTL, 0, request, uintptr(unsafe.Pointer(&c)))
	}
	_, err := os.Open("/dev/tty")
	say("tty", err)
	say("tiocsti", ioctl(unix.TIOCSTI))
	say("tiocsti-high-bits", ioctl(unix.TIOCSTI|1<<40))
	say("tioclinux", ioctl(unix.TIOCLINUX))
	say("vsock", open(unix.AF_VSOCK))
	say("alg", open(unix.AF_ALG))
	say("packet", open(unix.AF_PACKET))
	_, err = unix.KeyctlInt(unix.KEYCTL_GET_KEYRING_ID, unix.KEY_SPEC_SESSION_KEYRING, 0, 0, 0)
	say("keyctl", err)
	_, err = unix.AddKey("user", "tide", []byte("x"), unix.KEY_SPEC_USER_KEYRING)
	say("add-key", err)
	say("io-uring", errno(unix.SYS_IO_URING_SETUP, 8, 0))
	say("userfaultfd", errno(unix.SYS_USERFAULTFD, 1))
	say("mount", unix.Mount("tmpfs", "/tmp", "tmpfs", 0, ""))
	say("unshare", unix.Unshare(unix.CLONE_NEWUSER|unix.CLONE_NEWNS))
	say("bpf", errno(unix.SYS_BPF, 0, 0, 0))
	for fd := 3; fd < 200; fd++ {
		if target, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", fd)); err == nil && !strings.HasPrefix(target, "anon_inode:") && !strings.HasPrefix(target, "/proc/") && !strings.HasPrefix(target, "/sys/fs/cgroup/") { // those are Go's own
			say("descriptor "+target, nil)
		}
	}
	for _, name := range args {
		_, err := net.DialTimeout("unix", name, time.Second)
		say("socket "+name, err)
	}
	say("unix", open(unix.AF_UNIX))
	say("inet", open(unix.AF_INET))
	fmt.Println("tried")
}

func TestWhatTheFilterAndTheSessionRefuse(t *testing.T) {
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		t.Run(string(mode), func(t *testing.T) {
			if mode == Namespaces {
				needNamespaces(t)
			}
			self, err := os.Executable()
			require.NoError(t, err)
			// Something that the service holds open without meaning to hand it on.
			secret := filepath.Join(t.TempDir(), "held-open")
			require.NoError(t, os.WriteFile(secret, []byte("answer"), 0o600))
			fd, err := unix.Open(secret, unix.O_RDONLY, 0) // not close-on-exec
			require.NoError(t, err)
			defer unix.Close(fd)
			spec := world(t, mode, "")
			spec.Args = []string{self, "try"}
			spec.Binds = append(spec.Binds, Bind{Source: self, Target: self})
			_, out := run(t, spec, time.Minute)
			require.Contains(t, out, "tried")
			for line := range strings.Lines(out) {
				if strings.HasSuffix(strings.TrimSpace(line), "WORKED") {
					assert.Contains(t, []string{"unix WORKED", "inet WORKED"}, strings.TrimSpace(line))
				}
			}
			assert.Contains(t, out, "unix WORKED")
			assert.Contains(t, out, "inet WORKED")
		})
	}
}

// A service that was started in a terminal does not share it.
func TestTheTerminalOfTheServiceIsOutOfReach(t *testing.T) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	defer master.Close()
	self, err := os.Executable()
	require.NoError(t, err)
	proc, err := os.StartProcess(self, []string{self, "in-terminal"}, &os.ProcAttr{Files: []*os.File{slave, slave, slave}, Env: os.Environ(),
		Sys: &unix.SysProcAttr{Setsid: true, Setctty: true, Ctty: 0}})
	slave.Close()
	require.NoError(t, err)
	var out strings.Builder
	buf := make([]byte, 4096)
	for failed := 0; failed < 2; {
		n, err := master.Read(buf)
		out.Write(buf[:n])
		if err != nil {
			failed++
		}
	}
	state, err := proc.Wait()
	require.NoError(t, err)
	assert.True(t, state.Success(), out.String())
	assert.Contains(t, out.String(), "service has its terminal", "the trial is one")
	assert.NotContains(t, out.String(), "WORKED")
	assert.Contains(t, out.String(), "tty failed")
}

// inTerminal is a service in a terminal: it starts a command that looks for it.
func inTerminal() {
	if f, err := os.OpenFile("/dev/tty", os.O_RDWR, 0); err == nil {
		fmt.Println("service has its terminal")
		f.Close()
	}
	dir, err := os.MkdirTemp("", "terminal-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		spec := Spec{Mode: mode, Args: []string{"sh", "-c", "(: < /dev/tty) 2>/dev/null && echo tty WORKED || echo tty failed"}, Env: []string{"PATH=/usr/bin:/bin"}, Dir: "/", Root: dir, Owner: CurrentOwner()}
		out := NewOutput(1 << 16)
		_, err := Run(backgroundContext(), spec, IO{Stdout: out, Stderr: out}, time.Minute)
		var setup *SetupError
		if errors.As(err, &setup) {
			continue
		}
		fmt.Println(string(out.Bytes()))
	}
}

// What lies in the way of a shown path goes; a link is never followed.
func TestLinksInTheWayOfMounts(t *testing.T) {
	needNamespaces(t)
	outside := t.TempDir()
	require.NoError(t, os.Chmod(outside, 0o777))
	tool := filepath.Join(t.TempDir(), "tool")
	require.NoError(t, os.WriteFile(tool, []byte("#!/bin/sh\necho the tool runs\n"), 0o755))
	for what, place := range map[string]func(t *testing.T, tmp string){
		"a link to a folder": func(t *testing.T, tmp string) { require.NoError(t, os.Symlink(outside, filepath.Join(tmp, "shown"))) },
		"a link to the file": func(t *testing.T, tmp string) {
			require.NoError(t, os.Mkdir(filepath.Join(tmp, "shown"), 0o777))
			require.NoError(t, os.Symlink(filepath.Join(outside, "made"), filepath.Join(tmp, "shown", "tool")))
		},
		"a file where a folder is needed": func(t *testing.T, tmp string) {
			require.NoError(t, os.WriteFile(filepath.Join(tmp, "shown"), nil, 0o644))
		},
		"a folder where a file is needed": func(t *testing.T, tmp string) {
			require.NoError(t, os.MkdirAll(filepath.Join(tmp, "shown", "tool", "deep", "er"), 0o755))
		},
		"a pipe": func(t *testing.T, tmp string) { require.NoError(t, unix.Mkfifo(filepath.Join(tmp, "shown"), 0o666)) },
	} {
		t.Run(what, func(t *testing.T) {
			spec := world(t, Namespaces, "/tmp/shown/tool")
			place(t, spec.Binds[2].Source)
			spec.Binds = append(spec.Binds, Bind{Source: tool, Target: "/tmp/shown/tool"})
			res, out := run(t, spec, time.Minute)
			assert.Zero(t, res.ExitCode, out)
			assert.Contains(t, out, "the tool runs")
			left, err := os.ReadDir(outside)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// A machine with namespaces and a usual kernel has all walls.
func TestNoWallIsMissing(t *testing.T) {
	needNamespaces(t)
	c := Detect(t.TempDir())
	for _, missing := range c.Missing {
		assert.Contains(t, missing, "network", "only a sandbox that forbids network namespaces may be without that")
	}
	assert.Equal(t, len(c.Missing) == 0, c.Walls() == FullWalls)
}

func TestTheRootHasNoMoreThanIsNeeded(t *testing.T) {
	needNamespaces(t)
	_, out := run(t, world(t, Namespaces, `
		for d in /opt /srv /root /home /mnt /media /run /var; do [ -n "$(ls -A $d 2>/dev/null | grep -v '^tmp$')" ] && echo "SHOWN $d: $(ls $d)"; done
		for f in /etc/shadow /etc/ssh /etc/gitconfig /etc/sudoers /etc/machine-id /etc/npmrc /etc/crontab; do [ -e $f ] && echo "SHOWN $f"; done
		cat /etc/passwd; getent hosts localhost; ls /etc/ssl >/dev/null && echo certificates; id -un
		script -qc 'tty' /dev/null </dev/null 2>/dev/null | grep -q pts && echo pty
		true`), time.Minute)
	assert.NotContains(t, out, "SHOWN")
	assert.Contains(t, out, "dev:x:")
	assert.Contains(t, out, "certificates")
	assert.Contains(t, out, "localhost")
}

func TestSocketsInShownFoldersAreDead(t *testing.T) {
	needNamespaces(t)
	dir, err := os.MkdirTemp("", "s")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	name := filepath.Join(dir, "daemon.sock")
	l, err := net.Listen("unix", name)
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Chmod(name, 0o777))
	self, err := os.Executable()
	require.NoError(t, err)
	w := World{Mode: Namespaces, Owner: CurrentOwner(), Path: "/usr/bin:/bin", Reads: []string{dir, name, self}}
	base := t.TempDir()
	for into, d := range map[*string]string{&w.Workspace: "ws", &w.Home: "home", &w.Tmp: "tmp", &w.Root: "root"} {
		*into = filepath.Join(base, d)
		require.NoError(t, os.Mkdir(*into, 0o755))
	}
	_, out := run(t, w.Spec([]string{self, "try", name}, nil), time.Minute)
	assert.Contains(t, out, "tried")
	assert.Contains(t, out, "socket "+name+" failed")
	if os.Geteuid() != 0 {
		return
	}
	// As root what comes into the folder later on is seen.
	script := "echo ready > /tmp/ready; i=0; while ! test -e " + filepath.Join(dir, "late") + " && [ $i -lt 300 ]; do i=$((i+1)); sleep 0.05; done; cat " + filepath.Join(dir, "late")
	var lateOut bytes.Buffer
	p, err := Start(t.Context(), w.Spec([]string{"sh", "-c", script}, nil), IO{Stdout: &lateOut, Stderr: &lateOut})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "late"), []byte("it came"), 0o644))
	_, err = p.Wait(time.Minute, nil)
	require.NoError(t, err)
	assert.Contains(t, lateOut.String(), "it came")
}

// Nothing of a frozen command runs, whatever it does to live on in ever new processes.
func TestFrozenIsFrozen(t *testing.T) {
	needNamespaces(t)
	self, err := os.Executable()
	require.NoError(t, err)
	spec := world(t, Namespaces, self+" chain & exec sleep 1000")
	spec.Binds = append(spec.Binds, Bind{Source: self, Target: self})
	ws := spec.Binds[0].Source
	if spec.Owner.Root {
		require.NoError(t, os.Chown(ws, spec.Owner.UID, spec.Owner.GID))
	}
	p, err := Start(t.Context(), spec, IO{})
	require.NoError(t, err)
	count := func() int64 {
		st, err := os.Stat(filepath.Join(ws, "links"))
		if err != nil {
			return 0
		}
		return st.Size()
	}
	grows := func(from int64) bool {
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
			if count() > from {
				return true
			}
		}
		return false
	}
	require.True(t, grows(0))
	for range 10 {
		require.True(t, p.Freeze())
		was := count()
		time.Sleep(20 * time.Millisecond) // a chain that is not stopped makes some fifty links in that time
		require.Equal(t, was, count())
		p.Thaw()
		require.True(t, grows(was))
	}
	p.Kill()
	_, err = p.Wait(time.Minute, nil)
	require.NoError(t, err)
}

// chain lives on as ever new processes, each of which writes a byte.
func chain() {
	unix.Setsid()
	f, err := os.OpenFile("links", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		os.Exit(1)
	}
	_, _ = f.Write([]byte("."))
	f.Close()
	self, _ := os.Readlink("/proc/self/exe")
	_, err = os.StartProcess(self, []string{self, "chain"}, &os.ProcAttr{Files: []*os.File{nil, nil, nil}})
	if err != nil {
		os.Exit(1)
	}
}

// What shells and tests expect of a machine is there.
func TestDevicesThatShellsNeed(t *testing.T) {
	needNamespaces(t)
	spec := world(t, Namespaces, "")
	spec.Args = []string{"bash", "-c", `echo to-stdout > /dev/stdout; echo to-stderr > /dev/stderr; echo to-fd > /dev/fd/1; cat <(echo substituted)
		echo teed | tee /dev/stderr > /dev/null; echo in | cat /dev/stdin; diff <(echo a) <(echo a) && echo same
		echo shared > /dev/shm/x && cat /dev/shm/x; echo x > /dev/null && head -c 4 /dev/zero | wc -c; head -c 8 /dev/urandom | wc -c
		mkfifo /tmp/p && (echo piped > /tmp/p & cat /tmp/p); sh -c 'echo inner > /dev/stdout' | cat
		exec 3<<< here; cat <&3; (echo no > /dev/tty) 2> /dev/null || echo no-terminal`}
	_, out := run(t, spec, 0)
	for _, want := range []string{"to-stdout", "to-stderr", "to-fd", "substituted", "teed", "in\n", "same", "shared", "4\n", "8\n", "piped", "inner", "here", "no-terminal"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "denied")
}
