// Package judge runs a task's checks on a clean copy that holds a result, and
// says how each ended. It gives no opinion.
package judge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
)

// Result is how one check ended.
type Result struct {
	Check   task.Check
	Outcome verdict.CheckOutcome
	// ExitCode is the command's; -1 when a signal ended it.
	ExitCode int
	Signal   string
	Elapsed  time.Duration
	// Detail says in words why a check failed, where the exit status alone does not.
	Detail  string
	Tests   []testlog.Test
	Summary *testlog.Summary
	Log     []byte
	LogCut  int64
}

// Run runs the checks in order in a world. After the first that does not pass
// the others are not run. An error is the harness's fault.
func Run(ctx context.Context, world confine.World, checks []task.Check, limits task.Limits, secrets []string, started func(task.Check)) ([]Result, error) {
	out := make([]Result, 0, len(checks))
	for _, c := range checks {
		if len(out) > 0 && out[len(out)-1].Outcome != verdict.CheckOK {
			out = append(out, Result{Check: c, Outcome: verdict.CheckNotRun})
			continue
		}
		if started != nil {
			started(c)
		}
		r, err := one(ctx, world, c, limits, secrets)
		if err != nil {
			return out, fmt.Errorf("check %s: %w", c.Name, err)
		}
		out = append(out, r)
	}
	return out, nil
}

func one(ctx context.Context, world confine.World, c task.Check, limits task.Limits, secrets []string) (Result, error) {
	log := confine.NewOutput(int64(limits.Output))
	streams := confine.IO{Stdout: log, Stderr: log}
	r := Result{Check: c}
	var readErr error
	read := make(chan struct{})
	var feed *io.PipeWriter
	if c.Reads == task.ReadsGoTestJSON {
		var from *io.PipeReader
		from, feed = io.Pipe()
		streams.Stdout = io.MultiWriter(log, feed)
		go func() { // ends when the command's output does
			defer close(read)
			var sum testlog.Summary
			r.Tests, sum, readErr = testlog.ReadGoTest(from)
			r.Summary = &sum
			_, _ = io.Copy(io.Discard, from)
		}()
	} else {
		close(read)
	}
	res, err := confine.Run(ctx, world.Spec([]string{"sh", "-c", c.Run}, nil), streams, limits.Check.Std())
	if feed != nil {
		feed.Close()
	}
	<-read
	if err != nil {
		return r, err
	}
	if ctx.Err() != nil {
		return r, ctx.Err()
	}
	r.ExitCode, r.Signal, r.Elapsed = res.ExitCode, res.Signal, res.Elapsed
	r.Log, r.LogCut = log.Bytes(), log.Cut()
	if struck := workspace.Strike(r.Log, secrets); struck != nil {
		r.Log = struck
	}
	for i := range r.Tests {
		if struck := workspace.Strike([]byte(r.Tests[i].Message), secrets); struck != nil {
			r.Tests[i].Message = string(struck)
		}
	}
	r.Outcome, r.Detail = decide(c, res, r.Summary, readErr)
	return r, nil
}

// decide says how a check ended, from its exit status and the tests that were read.
func decide(c task.Check, res confine.Result, sum *testlog.Summary, readErr error) (verdict.CheckOutcome, string) {
	if res.TimedOut {
		return verdict.CheckTimeOut, ""
	}
	if sum != nil && sum.Failed+sum.Unfinished > 0 {
		return verdict.CheckFail, fmt.Sprintf("%d of %d tests failed", sum.Failed+sum.Unfinished, sum.Ran()+sum.Unfinished)
	}
	if res.ExitCode != 0 {
		if res.Signal != "" {
			return verdict.CheckFail, "ended by a signal: " + res.Signal
		}
		return verdict.CheckFail, fmt.Sprintf("exit status %d", res.ExitCode)
	}
	if readErr != nil {
		return verdict.CheckFail, readErr.Error()
	}
	if sum != nil && sum.Ran() == 0 {
		return verdict.CheckFail, errNothingRan.Error()
	}
	return verdict.CheckOK, ""
}

var errNothingRan = errors.New("the exit status is 0, but no test was seen to run")
