package service_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/bout"
	"agonometer/internal/client"
	"agonometer/internal/core/specfile"
	"agonometer/internal/service"
)

// As a child of a test this program is a service of its own, to be killed.
func TestMain(m *testing.M) {
	bout.MaybeHelper()
	if data := os.Getenv("AGONOMETER_TEST_SERVICE"); data != "" {
		s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(os.Stderr, nil))})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
		defer stop()
		fmt.Println("up")
		<-ctx.Done()
		if err := s.Close(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// sh runs a script in a folder.
func sh(t *testing.T, dir, script string) string {
	t.Helper()
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir(), "GIT_CONFIG_NOSYSTEM=1",
		"GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@localhost", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@localhost"}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

// port is a small repository with the files of a contest beside it.
type port struct {
	dir   string
	files map[string]string
}

const portTask = `---
task: lamp
title: Light the lamp
repository: repo
start_commit: begin
checks:
  - name: lit
    run: grep -qx on lamp.txt
  - name: quay
    run: test -f quay.txt
limits:
  time: 20s
  check: 20s
---
Write "on" into lamp.txt. {brief} is no placeholder here.
`

// newPort makes the repository and a contest whose contenders are shell scripts.
func newPort(t *testing.T, contest string, tools map[string]string) *port {
	t.Helper()
	p := &port{dir: t.TempDir(), files: map[string]string{"contest.yaml": "contest: trial\ntasks: [\"*.md\"]\ncontenders: [\"tools/*.yaml\"]\nseed: 1\n" + contest, "lamp.md": portTask}}
	for name, script := range tools {
		if !strings.HasPrefix(script, "contender:") {
			script = fmt.Sprintf("contender: %s\ntitle: %s\nrun:\n  - sh\n  - -c\n  - |\n    %s\n", name, name, strings.ReplaceAll(strings.TrimSpace(script), "\n", "\n    "))
		}
		p.files["tools/"+name+".yaml"] = script
	}
	sh(t, p.dir, `mkdir repo tools; cd repo; git init -q -b main .; echo off > lamp.txt; echo here > quay.txt; printf '*.tmp\n' > .gitignore
		git add -A; git commit -qm start; git tag begin; echo later > later.txt; git add -A; git commit -qm later`)
	p.write(t)
	return p
}

func (p *port) write(t *testing.T) {
	t.Helper()
	for name, text := range p.files {
		require.NoError(t, os.WriteFile(filepath.Join(p.dir, name), []byte(text), 0o644))
	}
}

func (p *port) bundle() *specfile.Bundle {
	b := &specfile.Bundle{Main: filepath.Join(p.dir, "contest.yaml"), Files: map[string][]byte{}}
	for name, text := range p.files {
		b.Files[filepath.Join(p.dir, name)] = []byte(text)
	}
	return b
}

// start starts a service in this process.
func start(t *testing.T, data string) (*service.Server, *client.Client) {
	t.Helper()
	s, err := service.Start(service.Options{Data: data, Listen: "127.0.0.1:0", Version: "test", Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	c, err := client.New(s.URL(), s.Token())
	require.NoError(t, err)
	return s, c
}

// finish waits for a contest's end by its live feed.
func finish(t *testing.T, c *client.Client, d api.ContestDetail) api.ContestDetail {
	t.Helper()
	return finishWithin(t, c, d, 3*time.Minute)
}

func finishWithin(t *testing.T, c *client.Client, d api.ContestDetail, limit time.Duration) api.ContestDetail {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	require.NoError(t, c.Follow(ctx, d.ID, d.LastEventID, func(e api.FeedEvent) bool {
		return e.Kind != "contest" || e.State != "done" && e.State != "stopped"
	}))
	d, err := c.Contest(ctx, d.ID)
	require.NoError(t, err)
	return d
}

// until follows a contest to the first event that fits.
func until(t *testing.T, c *client.Client, d api.ContestDetail, fits func(api.FeedEvent) bool) api.FeedEvent {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var found api.FeedEvent
	require.NoError(t, c.Follow(ctx, d.ID, 0, func(e api.FeedEvent) bool {
		if fits(e) {
			found = e
			return false
		}
		return true
	}))
	return found
}

func only(t *testing.T, d api.ContestDetail, contender string) api.Bout {
	t.Helper()
	for _, b := range d.Bouts {
		if b.Contender == contender && b.ReplacedBy == "" {
			return b
		}
	}
	t.Fatalf("no bout of %s", contender)
	return api.Bout{}
}

func begin(t *testing.T, c *client.Client, p *port) api.ContestDetail {
	t.Helper()
	d, err := c.StartContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	return d
}

func discard() *slog.Logger { return slog.New(slog.DiscardHandler) }

func clientOf(t *testing.T, s *service.Server) *client.Client {
	t.Helper()
	c, err := client.New(s.URL(), s.Token())
	require.NoError(t, err)
	return c
}
