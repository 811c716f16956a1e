package confine

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	MaybeSupervise()
	if len(os.Args) == 3 && os.Args[1] == "probe" {
		probe(os.Args[2])
		return
	}
	if len(os.Args) > 1 {
		switch os.Args[1] {
		case "try":
			try(os.Args[2:])
			return
		case "in-terminal":
			inTerminal()
			return
		case "hog":
			hog(strings.Join(os.Args[2:], ""))
			return
		case "chain":
			chain()
			return
		}
	}
	os.Exit(m.Run())
}

func backgroundContext() context.Context { return context.Background() }

// world makes a workspace, a HOME and a TMPDIR, and a spec for a shell script in them.
func world(t *testing.T, mode Mode, script string) Spec {
	t.Helper()
	base := t.TempDir()
	owner := CurrentOwner()
	for _, d := range []string{"ws", "home", "tmp", "root"} {
		require.NoError(t, os.Mkdir(filepath.Join(base, d), 0o755))
		if owner.Root && mode == Namespaces {
			require.NoError(t, os.Chown(filepath.Join(base, d), owner.UID, owner.GID))
		}
	}
	spec := Spec{Mode: mode, Args: []string{"sh", "-c", script}, Root: filepath.Join(base, "root"), Owner: owner}
	if mode == Namespaces {
		spec.Dir = WorkspacePath
		spec.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=" + HomePath, "TMPDIR=" + TmpPath}
		spec.Binds = []Bind{
			{Source: filepath.Join(base, "ws"), Target: WorkspacePath, Writable: true},
			{Source: filepath.Join(base, "home"), Target: HomePath, Writable: true},
			{Source: filepath.Join(base, "tmp"), Target: TmpPath, Writable: true},
		}
	} else {
		spec.Dir = filepath.Join(base, "ws")
		spec.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=" + filepath.Join(base, "home"), "TMPDIR=" + filepath.Join(base, "tmp")}
	}
	return spec
}

func needNamespaces(t *testing.T) {
	t.Helper()
	if c := Detect(t.TempDir()); c.Mode != Namespaces {
		t.Skip("this machine allows no namespaces: ", c.Why)
	}
}

func run(t *testing.T, spec Spec, limit time.Duration) (Result, string) {
	t.Helper()
	out := NewOutput(1 << 20)
	res, err := Run(t.Context(), spec, IO{Stdout: out, Stderr: out}, limit)
	require.NoError(t, err, string(out.Bytes()))
	return res, string(out.Bytes())
}

func TestConfinedWorldShowsOnlyWhatIsMeant(t *testing.T) {
	needNamespaces(t)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("answer"), 0o644))
	t.Setenv("PORT_SECRET", "not-for-contenders")
	spec := world(t, Namespaces, `
		echo "ids $(id -u) $(id -g)"
		echo "pwd $(pwd)"
		echo x > file && echo ws-written
		echo x > "$HOME/f" && echo home-written
		echo x > "$TMPDIR/f" && echo tmp-written
		echo x > /dev/null && echo null-works
		for p in /f /bout/f /etc/f /usr/f /var/f /root/f /home/f; do (echo x > $p) 2>/dev/null && echo "WROTE $p"; done
		cat `+secret+` 2>/dev/null && echo SAW-SECRET
		env | grep PORT_SECRET && echo SAW-ENV
		cat /proc/1/environ 2>/dev/null | tr '\0' '\n' | grep PORT_SECRET && echo SAW-PARENT-ENV
		ls /proc | grep -c '^[0-9]' | sed 's/^/processes /'
		cat /etc/shadow >/dev/null 2>&1 && echo SAW-SHADOW
		grep -i '^CapEff' /proc/self/status; grep -i NoNewPrivs /proc/self/status
		ls /proc/1/root/ 2>/dev/null && echo SAW-ROOT
		true`)
	_, out := run(t, spec, 0)
	for _, want := range []string{"pwd /bout/workspace", "ws-written", "home-written", "tmp-written", "null-works", "CapEff:\t0000000000000000", "NoNewPrivs:\t1"} {
		assert.Contains(t, out, want)
	}
	for _, bad := range []string{"WROTE", "SAW-"} {
		assert.NotContains(t, out, bad)
	}
	if os.Geteuid() == 0 {
		assert.Contains(t, out, "ids 1000 1000")
	}
}

func TestHiddenPathsAreCovered(t *testing.T) {
	needNamespaces(t)
	shown := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(shown, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(shown, "data", "db"), []byte("SEALED"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(shown, "fix.patch"), []byte("SEALED"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(shown, "tool"), []byte("open"), 0o644))
	spec := world(t, Namespaces, "cat "+shown+"/data/db "+shown+"/fix.patch "+shown+"/tool; true")
	spec.Binds = append(spec.Binds, Bind{Source: shown, Target: shown})
	spec.Hide = []string{filepath.Join(shown, "data"), filepath.Join(shown, "fix.patch"), "/no/such/path"}
	_, out := run(t, spec, 0)
	assert.Contains(t, out, "open")
	assert.NotContains(t, out, "SEALED")
}

func TestExitStatusAndSignal(t *testing.T) {
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		t.Run(string(mode), func(t *testing.T) {
			if mode == Namespaces {
				needNamespaces(t)
			}
			res, _ := run(t, world(t, mode, "exit 7"), 0)
			assert.Equal(t, 7, res.ExitCode)
			res, _ = run(t, world(t, mode, "kill -9 $$"), 0)
			assert.Equal(t, -1, res.ExitCode)
			assert.Equal(t, "killed", res.Signal)
			spec := world(t, mode, "")
			spec.Args = []string{"no-such-program-anywhere"}
			_, err := Run(t.Context(), spec, IO{}, 0)
			var start *StartError
			require.ErrorAs(t, err, &start)
			assert.Contains(t, err.Error(), "no-such-program-anywhere")
		})
	}
}

// A command's beginning is that of its process, not that of the news of it.
func TestTheBeginningIsExact(t *testing.T) {
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		if mode == Namespaces {
			needNamespaces(t)
		}
		for range 5 {
			before := time.Now()
			out := NewOutput(1 << 10)
			p, err := Start(t.Context(), world(t, mode, "date +%s%N"), IO{Stdout: out})
			require.NoError(t, err)
			res, err := p.Wait(0, nil)
			require.NoError(t, err)
			ns, err := strconv.ParseInt(strings.TrimSpace(string(out.Bytes())), 10, 64)
			require.NoError(t, err)
			said := time.Unix(0, ns)
			assert.False(t, p.Began.Before(before), "%v before %v", p.Began, before)
			assert.False(t, p.Began.After(said), "%v after %v", p.Began, said)
			assert.False(t, p.Began.Add(res.Elapsed).Before(said), "it ended after it had spoken")
			assert.False(t, p.Began.Add(res.Elapsed).After(time.Now()))
		}
	}
}

func TestSetupFailureIsTheHarnessFault(t *testing.T) {
	needNamespaces(t)
	spec := world(t, Namespaces, "true")
	spec.Binds = append(spec.Binds, Bind{Source: "/no/such/folder", Target: "/x"})
	_, err := Run(t.Context(), spec, IO{}, 0)
	var setup *SetupError
	require.ErrorAs(t, err, &setup)
	assert.Contains(t, setup.Stage, "/x")
}

// stubborn forks into the background in every way it knows, and ignores signals.
const stubborn = `
	trap '' TERM INT HUP
	(setsid sh -c 'trap "" TERM INT HUP; while :; do sleep 0.05; done; : %[1]s' >/dev/null 2>&1 &) 
	(setsid setsid sh -c 'trap "" TERM INT HUP; sleep 300; : %[1]s' </dev/null >/dev/null 2>&1 &)
	sh -c 'trap "" TERM; sleep 300; : %[1]s' &
	%[2]s`

// alive counts the machine's processes that have a word in their command line.
func alive(t *testing.T, word string) int {
	t.Helper()
	n := 0
	lines, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, l := range lines {
		if b, err := os.ReadFile(l); err == nil && bytes.Contains(b, []byte(word)) {
			n++
		}
	}
	return n
}

func TestNothingSurvivesTheEnd(t *testing.T) {
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		t.Run(string(mode), func(t *testing.T) {
			if mode == Namespaces {
				needNamespaces(t)
			}
			word := fmt.Sprintf("leftover-%s-%d", mode, os.Getpid())
			res, _ := run(t, world(t, mode, fmt.Sprintf(stubborn, word, "exit 0")), 0)
			assert.Equal(t, 0, res.ExitCode)
			assert.Zero(t, alive(t, word), "after a normal end")

			spec := world(t, mode, fmt.Sprintf(stubborn, word, "while :; do sleep 0.05; done"))
			p, err := Start(t.Context(), spec, IO{})
			require.NoError(t, err)
			p.grace = 300 * time.Millisecond
			res, err = p.Wait(300*time.Millisecond, nil)
			require.NoError(t, err)
			assert.True(t, res.TimedOut)
			assert.Zero(t, alive(t, word), "after the hard end")
		})
	}
}

func TestPoliteSignalComesFirst(t *testing.T) {
	needNamespaces(t)
	res, out := run(t, world(t, Namespaces, `trap 'echo tidying; exit 3' TERM; while :; do sleep 0.02; done`), 200*time.Millisecond)
	assert.True(t, res.TimedOut)
	assert.Equal(t, 3, res.ExitCode)
	assert.Contains(t, out, "tidying")
}

func TestCancelEndsAtOnce(t *testing.T) {
	needNamespaces(t)
	ctx, cancel := context.WithCancel(t.Context())
	p, err := Start(ctx, world(t, Namespaces, "sleep 300"), IO{})
	require.NoError(t, err)
	cancel()
	res, err := p.Wait(0, nil)
	require.NoError(t, err)
	assert.Equal(t, -1, res.ExitCode)
}

// The service's end by kill -9 is played by a copy of this test program that
// starts a bout and is then killed.
func TestSupervisorEndsWithTheService(t *testing.T) {
	if word := os.Getenv("CONFINE_TEST_SERVICE"); word != "" {
		mode := Mode(os.Getenv("CONFINE_TEST_MODE"))
		p, err := Start(context.Background(), world(t, mode, fmt.Sprintf(stubborn, word, "echo up; while :; do sleep 0.05; done")), IO{Stdout: os.Stdout})
		require.NoError(t, err)
		_, _ = p.Wait(0, nil)
		return
	}
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		t.Run(string(mode), func(t *testing.T) {
			if mode == Namespaces {
				needNamespaces(t)
			}
			word := fmt.Sprintf("service-%s-%d", mode, os.Getpid())
			cmd := exec.Command("/proc/self/exe", "-test.run=^TestSupervisorEndsWithTheService$")
			cmd.Env = append(os.Environ(), "CONFINE_TEST_SERVICE="+word, "CONFINE_TEST_MODE="+string(mode), "TMPDIR="+t.TempDir()) // it is killed, and cannot clear up
			pipe, err := cmd.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			buf := make([]byte, 2)
			_, err = pipe.Read(buf)
			require.NoError(t, err)
			require.NotZero(t, alive(t, word))
			require.NoError(t, cmd.Process.Kill())
			_ = cmd.Wait()
			assert.Eventually(t, func() bool { return alive(t, word) == 0 }, 10*time.Second, 10*time.Millisecond)
		})
	}
}

func TestAGigabyteOfOutputIsCutAndCounted(t *testing.T) {
	needNamespaces(t)
	out := NewOutput(1 << 20)
	spec := world(t, Namespaces, "echo begin; head -c 1073741824 /dev/zero; echo; echo end")
	res, err := Run(t.Context(), spec, IO{Stdout: out, Stderr: out}, 0)
	require.NoError(t, err)
	assert.Zero(t, res.ExitCode)
	assert.Equal(t, int64(1<<30+len("begin\n\nend\n")), out.Total())
	kept := out.Bytes()
	assert.Less(t, len(kept), 1<<20+100)
	assert.True(t, bytes.HasPrefix(kept, []byte("begin\n")))
	assert.True(t, bytes.HasSuffix(kept, []byte("\nend\n")))
	assert.Contains(t, string(kept), "… "+strconv.FormatInt(out.Cut(), 10)+" bytes cut …")
}

func TestOutputKeepsHeadAndTail(t *testing.T) {
	all := strings.Repeat("0123456789", 1000)
	for _, step := range []int{1, 7, 333, 5000, len(all)} {
		o := NewOutput(1024)
		for i := 0; i < len(all); i += step {
			_, _ = o.Write([]byte(all[i:min(i+step, len(all))]))
		}
		got := string(o.Bytes())
		assert.True(t, strings.HasPrefix(got, all[:512]), step)
		assert.True(t, strings.HasSuffix(got, all[len(all)-512:]), step)
		assert.Equal(t, int64(len(all)-1024), o.Cut(), step)
	}
	small := NewOutput(1024)
	_, _ = small.Write([]byte("short"))
	assert.Equal(t, "short", string(small.Bytes()))
}

// Where the command has its supervisor's user it can end the supervisor. That is
// the command's doing, and no fault of the harness.
func TestACommandThatEndsItsSupervisor(t *testing.T) {
	needNamespaces(t)
	for _, s := range []string{"QUIT", "SEGV", "ABRT", "KILL"} {
		res, err := Run(t.Context(), world(t, Namespaces, "kill -"+s+" 1; sleep 0.3; exit 9"), IO{}, 0)
		require.NoError(t, err, s)
		assert.True(t, res.Failed(), s)
	}
}

// As an ordinary user there is no second user to change to; the same promises
// hold but for the number.
func TestConfinementWithoutRoot(t *testing.T) {
	if os.Getenv("CONFINE_TEST_PLAIN") == "" {
		if os.Geteuid() != 0 {
			t.Skip("the other tests run as an ordinary user already")
		}
		dir, err := os.MkdirTemp("/tmp", "plain-user-")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		require.NoError(t, os.Chmod(dir, 0o777))
		exe, err := os.ReadFile("/proc/self/exe")
		require.NoError(t, err)
		copied := filepath.Join(dir, "confine.test")
		require.NoError(t, os.WriteFile(copied, exe, 0o755))
		cmd := exec.Command(copied, "-test.v", "-test.run=^(TestConfinementWithoutRoot|TestConfinedWorldShowsOnlyWhatIsMeant|TestHiddenPathsAreCovered|TestNothingSurvivesTheEnd|TestACommandThatEndsItsSupervisor)$")
		cmd.Dir = dir
		cmd.Env = []string{"CONFINE_TEST_PLAIN=1", "TMPDIR=" + dir, "PATH=" + os.Getenv("PATH")}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 23456, Gid: 23456}}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return
	}
	if c := Detect(t.TempDir()); c.Mode != Namespaces {
		t.Skip("no namespaces for ordinary users here: ", c.Why)
	}
	_, out := run(t, world(t, Namespaces, `id -u; grep -i '^CapBnd' /proc/self/status`), 0)
	assert.Contains(t, out, "23456")
	assert.Contains(t, out, "CapBnd:\t0000000000000000")
}
