package confine

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// probe is what a contender might try that must not get out. It runs inside.
func probe(outside string) {
	say := func(what string, err error) {
		if err == nil {
			fmt.Println(what, "REACHED")
		} else {
			fmt.Println(what, "refused")
		}
	}
	try := func(network, addr string) error {
		c, err := net.DialTimeout(network, addr, 2*time.Second)
		if err != nil {
			return err
		}
		defer c.Close()
		if _, err := c.Write([]byte("hello")); err != nil {
			return err
		}
		_ = c.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
		_, err = c.Read(make([]byte, 1))
		return err
	}
	say("the service's loopback", try("tcp", outside))
	say("another address", try("tcp", "192.0.2.1:80"))
	say("a name server", try("udp", "192.0.2.53:53"))
	_, err := net.LookupHost("tides.example")
	say("a name", err)
	say("an abstract socket", try("unix", "@agonometer-probe"))
	for what, domain := range map[string]int{"a raw socket": unix.AF_INET, "a packet socket": unix.AF_PACKET} {
		fd, err := unix.Socket(domain, unix.SOCK_RAW, unix.IPPROTO_ICMP)
		if err == nil {
			err = unix.Sendto(fd, make([]byte, 64), 0, &unix.SockaddrInet4{Addr: [4]byte{192, 0, 2, 1}})
		}
		say(what, err)
	}
	say("the network of another process", func() error {
		f, err := os.Open("/proc/1/ns/net")
		if err != nil {
			return err
		}
		if err := unix.Setns(int(f.Fd()), unix.CLONE_NEWNET); err != nil {
			return err
		}
		return try("tcp", outside)
	}())
	resp, err := http.Get("http://127.0.0.1:7411/hello")
	if err != nil {
		fmt.Println("the meter cannot be reached:", err)
		return
	}
	body, _ := io.ReadAll(resp.Body)
	fmt.Printf("the meter says %s\n", body)
}

// With a network of its own and one port on its loopback, a command reaches what
// serves that port and nothing else.
func TestOnlyTheListenerIsReached(t *testing.T) {
	needNamespaces(t)
	host, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer host.Close()
	abstract, err := net.Listen("unix", "@agonometer-probe")
	require.NoError(t, err)
	defer abstract.Close()
	for _, l := range []net.Listener{host, abstract} {
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Write([]byte("x"))
				c.Close()
			}
		}()
	}
	self, err := os.Executable()
	require.NoError(t, err)
	probeRun := func(listen int) string {
		spec := world(t, Namespaces, "")
		spec.Args = []string{self, "probe", host.Addr().String()}
		spec.Binds = append(spec.Binds, Bind{Source: self, Target: self})
		spec.NoNetwork, spec.Listen = listen != 0, listen
		var out bytes.Buffer
		p, err := Start(t.Context(), spec, IO{Stdout: &out, Stderr: &out})
		require.NoError(t, err)
		if p.Listener != nil {
			s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "here I am") })}
			go func() { _ = s.Serve(p.Listener) }()
			defer s.Close()
		}
		_, err = p.Wait(time.Minute, nil)
		require.NoError(t, err)
		return out.String()
	}
	out := probeRun(7411)
	assert.NotContains(t, out, "REACHED")
	assert.Contains(t, out, "the meter says here I am")
	assert.Equal(t, 8, strings.Count(out, "refused"), out)
	// The probe is no paper tiger: with the network there it gets through.
	assert.Contains(t, probeRun(0), "the service's loopback REACHED")
}

func TestACommandIsStoppedWhenItIsTold(t *testing.T) {
	for _, mode := range []Mode{Namespaces, ProcessGroup} {
		t.Run(string(mode), func(t *testing.T) {
			if mode == Namespaces {
				needNamespaces(t)
			}
			p, err := Start(t.Context(), world(t, mode, "trap 'echo asked; exit 3' TERM; echo ready; while :; do sleep 0.05; done"), IO{})
			require.NoError(t, err)
			stop := make(chan struct{})
			close(stop)
			res, err := p.Wait(time.Minute, stop)
			require.NoError(t, err)
			assert.True(t, res.Stopped)
			assert.False(t, res.TimedOut)
			assert.Contains(t, []int{3, -1}, res.ExitCode) // -1 where the signal came before the trap
			assert.Error(t, syscall.Kill(p.PID(), 0), "the supervisor has ended too")
		})
	}
}
