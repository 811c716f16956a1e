package bout

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/task"
	"agonometer/internal/core/verdict"
)

// The trial bout: a repository of one file, and a brief that any tool can do.
const (
	trialStream = `commit refs/heads/main
committer The Harbour Master <harbour@averil.example> 1900000000 +0000
data 18
The lamps are out

M 644 inline README.md
data <<END
# Lamp room

What lamp is lit stands in LAMPS.txt
END

`
	trialTask = `---
task: trial
title: Say that the lamps are lit
repository: %s
start_commit: main
checks: [{name: lit, run: "grep -qx 'all lamps are lit' LAMPS.txt"}]
limits: {time: 2m}
---
Make a file LAMPS.txt in this folder whose only line is: all lamps are lit
`
)

// Trial is what a trial bout came to.
type Trial struct {
	Elapsed time.Duration
	Version string
	// Lit tells whether the change is the one that was asked for.
	Lit bool
	// Words say in one line how it ended.
	Words string
	Spent Spent
	Log   []byte
}

// Try runs a trial bout of a contender that Agonometer starts. An error says that the
// contender could not be started, or that this machine failed.
func (e *Engine) Try(ctx context.Context, c *contender.Contender) (*Trial, error) {
	address := filepath.Join(e.Data, "trial")
	gate := e.gate("trial")
	gate.Lock()
	if _, err := os.Stat(filepath.Join(address, "HEAD")); err != nil {
		if err := e.Git.FastImport(ctx, address, []byte(trialStream)); err != nil {
			gate.Unlock()
			return nil, err
		}
	}
	gate.Unlock()
	t, doc := task.Parse("/trial.md", "trial.md", fmt.Appendf(nil, trialTask, address), nil)
	if err := doc.Problems.Err(); err != nil {
		return nil, err
	}
	commit, err := e.Repositories.Resolve(ctx, address, t.StartCommit)
	if err != nil {
		return nil, err
	}
	job := Job{ID: fmt.Sprintf("trial-%d", time.Now().UnixNano()), Task: t, Commit: commit, Contender: c, Limits: t.Limits.Over(task.Defaults()), Seed: 1, Prices: ledger.Prices{}}
	if c.Guidance != nil {
		job.Guidance = c.Guidance.Text
	}
	p, err := e.Prepare(ctx, t, commit, job.Limits, func(string) {})
	if err != nil {
		return nil, err
	}
	s, err := e.Open(ctx, job, p)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	w, err := s.HandOver(ctx, t.Brief, false, job.Limits.Time.Std(), func() {})
	if err != nil {
		return nil, err
	}
	out := &Trial{Elapsed: w.Result.Elapsed, Version: s.Version, Spent: s.Spent(), Log: w.Log}
	out.Lit = bytes.Contains(w.Captured.Shown, []byte("\n+all lamps are lit\n"))
	switch {
	case w.Limit != "":
		out.Words = strings.TrimSuffix(verdict.Reasons()[w.Limit]+"; "+w.LimitDetail, "; ")
	case w.Result.Failed():
		out.Words = fmt.Sprintf("it ended in error: %s%s", lastLine(w.Log), exitWords(w))
	case out.Lit:
		out.Words = "it made the change that was asked for"
	case w.Captured.Changed():
		out.Words = "it changed something else than it was asked to"
	default:
		out.Words = "it ended and changed nothing"
	}
	return out, nil
}

func exitWords(w *Worked) string {
	if w.Result.Signal != "" {
		return " (" + w.Result.Signal + ")"
	}
	return fmt.Sprintf(" (exit status %d)", w.Result.ExitCode)
}
