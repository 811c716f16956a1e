// Package judge runs a stage's checks on clean copies that hold a result, and
// says how each ended. It gives no opinion: what the outcomes mean is worked out
// in core/outcome.
package judge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
)

// Result is how one check ended.
type Result struct {
	Check  task.Check
	Run    outcome.CheckRun
	Signal string
	// Began is when it began; the zero time where it did not run.
	Began   time.Time
	Elapsed time.Duration
	Log     []byte
	LogCut  int64
	// Coverage and Findings are the files that the check is to write; nil where it wrote
	// none, or more than 32 MiB.
	Coverage, Findings []byte
	// Remarks are what the reader found odd.
	Remarks []string
}

// Copy is a clean copy in which checks run.
type Copy struct {
	// AsContender is the program that starts another as the contender's user; "" where
	// this machine has no second user to give.
	AsContender string
	World       confine.World
	// Tree is the copy's folder on this machine.
	Tree string
}

// Options say how checks are run.
type Options struct {
	Limits  task.Limits
	Secrets []string
	// Started is told of each check before it runs; may be nil.
	Started func(task.Check)
	// Keep says which tests of a check are kept where there are very many; nil for the usual.
	Keep func(check string) testlog.Options
	// Ends tells whether the checks behind one are not worth running.
	Ends func(*outcome.CheckRun) bool
}

// AsContender stands in a check's command before a program that is run as the
// contender's user, while the check itself runs as another.
const AsContender = "{as_contender}"

// Apart tells whether a check runs as a user of its own, in a copy of its own.
func Apart(c task.Check) bool { return c.Sealed || strings.Contains(c.Run, AsContender) }

// Run runs checks in order. fresh makes a copy: the first check gets one that
// those after it share; one that runs apart gets one of its own, so that nothing that
// ran before can have changed what it sees. An error is the harness's fault.
func Run(ctx context.Context, fresh func(task.Check) (Copy, error), checks []task.Check, o Options) ([]Result, error) {
	out := make([]Result, 0, len(checks))
	var shared *Copy
	ended := false
	for _, c := range checks {
		if ended {
			out = append(out, Result{Check: c, Run: outcome.CheckRun{Check: string(c.Name), Reads: c.Reads}})
			continue
		}
		if o.Started != nil {
			o.Started(c)
		}
		in := shared
		if in == nil || Apart(c) {
			made, err := fresh(c)
			if err != nil {
				return out, err
			}
			in = &made
			if !Apart(c) {
				shared = in
			}
		}
		r, err := one(ctx, *in, c, o)
		if err != nil {
			return out, fmt.Errorf("check %s: %w", c.Name, err)
		}
		out = append(out, r)
		ended = o.Ends != nil && o.Ends(&r.Run)
	}
	return out, nil
}

// Runs are the outcomes of results.
func Runs(results []Result) outcome.Run {
	out := make(outcome.Run, 0, len(results))
	for i := range results {
		out = append(out, results[i].Run)
	}
	return out
}

// one runs a check: once, or as often as its figure asks.
func one(ctx context.Context, in Copy, c task.Check, o Options) (Result, error) {
	if c.Reads != task.ReadsNumber {
		return command(ctx, in, c, o)
	}
	var all Result
	var log []byte
	for i := range c.Number.Times() {
		r, err := command(ctx, in, c, o)
		if err != nil {
			return r, err
		}
		values := all.Run.Values
		elapsed := all.Elapsed + r.Elapsed
		if room := int(o.Limits.Output) - len(log); len(r.Log) <= room {
			log = append(log, r.Log...)
		} else {
			all.LogCut += int64(len(r.Log))
		}
		cut := all.LogCut + r.LogCut
		all = r
		all.Elapsed, all.LogCut = elapsed, cut
		all.Run.Values = append(values, r.Run.Values...)
		if !r.Run.Ran || r.Run.TimedOut || r.Run.ExitCode != 0 || len(r.Run.Values) == 0 {
			// A figure of some of the runs would not be the one that was asked for.
			all.Run.Values = nil
			if all.Run.Trouble == "" {
				all.Run.Trouble = fmt.Sprintf("run %d of %d ended with exit status %d", i+1, c.Number.Times(), r.Run.ExitCode)
			}
			break
		}
	}
	all.Log = log
	return all, nil
}

func command(ctx context.Context, in Copy, c task.Check, o Options) (Result, error) {
	log := confine.NewOutput(int64(o.Limits.Output))
	streams := confine.IO{Stdout: log, Stderr: log}
	r := Result{Check: c, Run: outcome.CheckRun{Check: string(c.Name), Reads: c.Reads}}
	var report testlog.Report
	var readErr error
	var keep testlog.Options
	if o.Keep != nil {
		keep = o.Keep(string(c.Name))
	}
	read := make(chan struct{})
	var feed *io.PipeWriter
	figure := confine.NewOutput(1 << 20)
	switch {
	case c.Reads.SeesTests() && c.Report == "":
		var from *io.PipeReader
		from, feed = io.Pipe()
		streams.Stdout = io.MultiWriter(log, feed)
		go func() { // ends when the command's output does
			defer close(read)
			report, readErr = testlog.Read(testlog.Format(c.Reads), from, keep)
			_, _ = io.Copy(io.Discard, from)
		}()
	case c.Reads == task.ReadsNumber:
		streams.Stdout = io.MultiWriter(log, figure)
		close(read)
	default:
		close(read)
	}
	// A report that lies there already is not this run's.
	if err := clear(in.Tree, c); err != nil {
		// The copy is fresh, or an earlier check's code had it: that is whose doing this is.
		if feed != nil {
			feed.Close()
		}
		<-read
		r.Began = time.Now()
		r.Run.Ran, r.Run.ExitCode, r.Run.Trouble = true, 1, "what an earlier run left cannot be cleared away: "+err.Error()
		r.Log = []byte(r.Run.Trouble + "\n")
		return r, nil
	}
	r.Began = time.Now()
	res, err := confine.Run(ctx, in.World.Spec([]string{"sh", "-c", strings.ReplaceAll(c.Run, AsContender, in.AsContender)}, judgingEnv(in)), streams, o.Limits.Check.Std())
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
	if c.Report != "" {
		report, readErr = readReports(in.Tree, c.Report, keep)
	}
	r.Coverage, r.Findings = written(in.Tree, c.Coverage), written(in.Tree, c.Findings)
	r.Signal, r.Elapsed = res.Signal, res.Elapsed
	r.Run.Ran, r.Run.TimedOut, r.Run.ExitCode = true, res.TimedOut, res.ExitCode
	r.Log, r.LogCut = log.Bytes(), log.Cut()
	if struck := workspace.Strike(r.Log, o.Secrets); struck != nil {
		r.Log = struck
	}
	for i := range report.Tests {
		if struck := workspace.Strike([]byte(report.Tests[i].Message), o.Secrets); struck != nil {
			report.Tests[i].Message = string(struck)
		}
	}
	r.Run.Tests, r.Run.Cached, r.Remarks = report.Tests, report.Cached, report.Remarks
	if report.Dropped > 0 {
		r.Run.All = &report.Summary
	}
	if c.Reads == task.ReadsNumber && !res.TimedOut && res.ExitCode == 0 {
		var v float64
		if v, readErr = testlog.ReadNumber(figure.Bytes(), c.Number.Compiled(), c.Number.Pointer); readErr == nil {
			r.Run.Values = []float64{v}
		}
	}
	r.Run.Limit = string(res.Limit)
	switch {
	case res.Limit != "":
		r.Run.Trouble = "it was ended: " + res.LimitDetail
	case res.TimedOut:
		r.Run.Trouble = fmt.Sprintf("it did not end within %s", o.Limits.Check.Std())
	case readErr != nil:
		r.Run.Trouble = readErr.Error()
	case len(report.Remarks) > 0:
		r.Run.Trouble = strings.Join(report.Remarks, "; ")
	}
	if why := r.Run.CannotRun(); why != "" {
		r.Run.Trouble = why
		if said := End(r.Log, 1, 200); said != "" {
			r.Run.Trouble += " (" + said + ")"
		}
	}
	return r, nil
}

// End is the end of an output, at most so many lines and bytes.
func End(log []byte, lines, most int) string {
	s := strings.TrimRight(strings.ToValidUTF8(string(log), "\ufffd"), " \t\r\n")
	for i := len(s); lines > 0; lines-- {
		if i = strings.LastIndexByte(s[:i], '\n'); i < 0 {
			break
		}
		if lines == 1 {
			s = s[i+1:]
		}
	}
	if len(s) > most {
		s = "… " + strings.ToValidUTF8(s[len(s)-most:], "")
	}
	return s
}

// judgingEnv is the environment that checks get besides the usual. Results from
// a cache would make every repeat agree.
// Scripts that a check calls find in AS_CONTENDER what {as_contender} stands for.
func judgingEnv(in Copy) map[string]string {
	return map[string]string{"GOFLAGS": "-count=1", "AS_CONTENDER": in.AsContender}
}

// What is read of reports at most.
const (
	maxReports     = 100_000
	maxReportBytes = 256 << 20
)

// eachReport calls f for the regular files of a tree that a pattern names;
// nothing outside the tree is touched, whatever links lie in it.
func eachReport(tree, pattern string, f func(root *os.Root, name string) error) error {
	root, err := os.OpenRoot(tree)
	if err != nil {
		return err
	}
	defer root.Close()
	names, err := doublestar.Glob(root.FS(), pattern, doublestar.WithNoFollow())
	if err != nil {
		return nil // unreadable folders are a contender's doing
	}
	for i, name := range names {
		st, err := root.Lstat(name)
		if i >= maxReports || err != nil || !st.Mode().IsRegular() && st.Mode()&fs.ModeSymlink == 0 {
			continue
		}
		if err := f(root, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// clear takes away what a check is to write.
func clear(tree string, c task.Check) error {
	d, err := beneath.Open(tree)
	if err != nil {
		return err
	}
	defer d.Close()
	st, err := d.Lstat(".")
	if err == nil && st.Mode&0o700 != 0o700 {
		err = d.Chmod(".", st.Mode&0o777|0o700)
	}
	if err != nil {
		return err
	}
	remove := func(_ *os.Root, name string) error { return d.Remove(name) }
	if c.Report != "" {
		if err := eachReport(tree, c.Report, remove); err != nil {
			return err
		}
	}
	for _, name := range []string{c.Coverage, c.Findings} {
		if name != "" {
			if err := eachReport(tree, escaped(name), remove); err != nil {
				return err
			}
		}
	}
	return nil
}

var special = strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`)

// escaped is a pattern that names one file.
func escaped(name string) string { return special.Replace(strings.TrimPrefix(name, "./")) }

const maxWritten = 32 << 20

// written reads a file that a check wrote; nil where there is none of a reasonable size.
func written(tree, name string) []byte {
	if name == "" {
		return nil
	}
	root, err := os.OpenRoot(tree)
	if err != nil {
		return nil
	}
	defer root.Close()
	f, err := root.OpenFile(strings.TrimPrefix(name, "./"), os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() || st.Size() > maxWritten {
		return nil
	}
	data, err := io.ReadAll(io.LimitReader(f, maxWritten+1))
	if err != nil || len(data) > maxWritten {
		return nil
	}
	return data
}

func readReports(tree, pattern string, o testlog.Options) (testlog.Report, error) {
	reports := &reports{}
	defer reports.close()
	err := eachReport(tree, pattern, func(root *os.Root, name string) error {
		if reports.root == nil {
			var err error
			if reports.root, err = os.OpenRoot(tree); err != nil { // eachReport closes its own
				return err
			}
		}
		reports.names = append(reports.names, name)
		return nil
	})
	if err != nil {
		return testlog.Report{}, err
	}
	report, err := testlog.Read(testlog.JUnit, io.LimitReader(reports, maxReportBytes), o)
	if !reports.any {
		return testlog.Report{}, fmt.Errorf("no report %s was written", pattern)
	}
	return report, err
}

// reports reads files one after the other, with one of them open.
type reports struct {
	root  *os.Root
	names []string
	now   *os.File
	any   bool // one of them could be opened
}

func (r *reports) Read(p []byte) (int, error) {
	for {
		if r.now != nil {
			n, err := r.now.Read(p)
			if n > 0 || err != nil && !errors.Is(err, io.EOF) {
				return n, err
			}
			r.now.Close()
			r.now = nil
		}
		if len(r.names) == 0 {
			return 0, io.EOF
		}
		name := r.names[0]
		r.names = r.names[1:]
		f, err := r.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
		if err != nil {
			continue // what goes away, or leads out, is no report
		}
		if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
			f.Close()
			continue
		}
		r.now, r.any = f, true
	}
}

func (r *reports) close() {
	if r.now != nil {
		r.now.Close()
	}
	if r.root != nil {
		r.root.Close()
	}
}
