// Package outcome compares test outcomes: what was known before anyone touched
// the code, what the reference patch makes of it, and what a contender's result
// does. From that it says which goals were reached and which guards broke.
package outcome

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
)

// Role is what a test means for the verdict.
type Role string

const (
	Goal  Role = "goal"
	Guard Role = "guard"
	// Own is a test that the contender added; it decides nothing.
	Own Role = "own"
	// Other is any test that decides nothing.
	Other Role = "other"
)

// CheckRun is what one run of a check brought.
type CheckRun struct {
	Check string      `json:"check"`
	Reads task.Reader `json:"reads"`
	// Ran is false when an earlier check ended the run.
	Ran      bool `json:"ran"`
	TimedOut bool `json:"timed_out,omitempty"`
	// ExitCode is -1 when a signal ended the command.
	ExitCode int            `json:"exit_code"`
	Tests    []testlog.Test `json:"tests,omitempty"`
	// All counts all tests, where there were more than those that were kept; else nil.
	All *testlog.Summary `json:"all,omitempty"`
	// Values are the figures of a number check, one for each time it was run.
	Values []float64 `json:"values,omitempty"`
	// Limit says which of the machine's resources it used too much of; "" for none.
	Limit string `json:"limit,omitempty"`
	// Trouble says what the reader could not make sense of.
	Trouble string `json:"trouble,omitempty"`
	// Cached is set when the runner took results from a cache.
	Cached bool `json:"cached,omitempty"`
}

// OK tells whether the run by itself looks right: it ended with 0, every test
// that was seen passed, and where tests or figures are read some were there.
func (r *CheckRun) OK() bool {
	if !r.Ran || r.TimedOut || r.ExitCode != 0 {
		return false
	}
	switch {
	case r.Reads.SeesTests():
		s := r.Summary()
		return s.Failed == 0 && s.Passed > 0 && r.Trouble == ""
	case r.Reads == task.ReadsNumber:
		return len(r.Values) > 0
	}
	return true
}

// CannotRun says that the check's command could not be run at all: the shell ended with
// its status for a program that is not there, or that it may not run, and no test was
// seen; "" where it could.
func (r *CheckRun) CannotRun() string {
	if !r.Ran || r.TimedOut || r.Summary().Ran() > 0 || len(r.Values) > 0 {
		return ""
	}
	switch r.ExitCode {
	case 127:
		return "cannot run: no such program"
	case 126:
		return "cannot run: not a program that may be run"
	}
	return ""
}

// Summary counts the run's tests, also those that were not kept.
func (r *CheckRun) Summary() testlog.Summary {
	if r.All != nil {
		return *r.All
	}
	return testlog.Count(r.Tests)
}

// Run is one run of a stage's checks, in their order.
type Run []CheckRun

// Of finds a check's part of a run; nil where it has none.
func (r Run) Of(check string) *CheckRun {
	for i := range r {
		if r[i].Check == check {
			return &r[i]
		}
	}
	return nil
}

// Key tells a test from all others of a stage. Name is empty for a check that
// is judged as a whole.
type Key struct {
	Check string `json:"check"`
	Name  string `json:"name"`
}

// String is the key as verdicts show it.
func (k Key) String() string {
	if k.Name == "" {
		return k.Check
	}
	return k.Name
}

// all lists the outcomes of a run by key.
func (r Run) all() map[Key]testlog.Test {
	out := map[Key]testlog.Test{}
	for _, c := range r {
		if !c.Ran {
			continue
		}
		if c.Reads.SeesTests() {
			for _, t := range c.Tests {
				out[Key{c.Check, t.Name}] = t
			}
			continue
		}
		one := testlog.Test{Outcome: testlog.Passed}
		if c.TimedOut || c.ExitCode != 0 || c.Reads == task.ReadsNumber && len(c.Values) == 0 {
			one.Outcome, one.Message = testlog.Failed, c.Trouble
		}
		out[Key{Check: c.Check}] = one
	}
	return out
}

// Baseline is what is known of a stage before any contender.
type Baseline struct {
	// Start is the start commit without the sealed files, StartSealed with them.
	Start       Run `json:"start"`
	StartSealed Run `json:"start_sealed"`
	// Reference is the reference patch, judged as a result is; nil where there is none.
	Reference Run `json:"reference,omitempty"`
	// Canaries are the checks that see a canary fail, and which therefore can be asked to
	// before a pass counts.
	Canaries map[string]bool `json:"canaries,omitempty"`
	// Lint is what linters found at the start, as SARIF, by check.
	Lint map[string][]byte `json:"lint,omitempty"`
	// Changed are tests that ran at the start without the sealed files and not with them,
	// and that the sealed files say anew.
	Changed []Key `json:"changed,omitempty"`
	// Printed is what checks printed in the last run that is to be good and was not: with the
	// reference or, without one, at the start. It is for those who prove, and not kept.
	Printed map[string][]byte `json:"-"`
	// Unsteady are tests of which repeats did not agree.
	Unsteady []Key `json:"unsteady,omitempty"`
}

// Known is what a baseline says of a test.
type Known struct {
	Role              Role
	Before, Reference testlog.Outcome
}

// outcomeIn is a test's outcome in a run, missing where it is not there, and
// empty where there was no such run.
func outcomeIn(run map[Key]testlog.Test, was Run, k Key) testlog.Outcome {
	if was == nil {
		return ""
	}
	if t, ok := run[k]; ok {
		return t.Outcome
	}
	return testlog.Missing
}

// Roles works out the goals and guards of a stage, and the outcomes before.
// seen is a further run whose tests a pattern may name; nil for none.
//
// What decides is the form of a test that judging uses: the sealed one. So a test that
// passed at the start, fails there in its sealed form and passes with the reference is a
// goal. Where a test does not run at the start with the sealed files - a sealed test of
// something that does not exist yet can keep those beside it from running - the start's
// own form says how it was before, unless the sealed files say the test anew.
func (b *Baseline) Roles(stage *task.Stage, seen Run) map[Key]Known {
	start, sealed, reference := b.Start.all(), b.StartSealed.all(), b.Reference.all()
	unsteady := map[Key]bool{}
	for _, k := range b.Unsteady {
		unsteady[k] = true
	}
	changed := map[Key]bool{}
	for _, k := range b.Changed {
		changed[k] = true
	}
	before := func(k Key) testlog.Outcome {
		with := outcomeIn(sealed, b.StartSealed, k)
		if b.Start.Of(k.Check) == nil || changed[k] || with != testlog.Missing && with != "" {
			return with // a sealed check has no other start
		}
		return outcomeIn(start, b.Start, k)
	}
	keys := map[Key]bool{}
	for _, m := range []map[Key]testlog.Test{start, sealed, reference, seen.all()} {
		for k := range m {
			keys[k] = true
		}
	}
	out := map[Key]Known{}
	put := func(k Key, role Role) {
		known := Known{Role: role, Reference: outcomeIn(reference, b.Reference, k), Before: before(k)}
		if role == Goal {
			known.Before = outcomeIn(sealed, b.StartSealed, k)
		}
		out[k] = known
	}
	matches := func(patterns []string, k Key) bool {
		return slices.ContainsFunc(patterns, func(p string) bool { return task.MatchName(p, k.Name) || k.Name == "" && p == k.Check })
	}
	for _, c := range stage.Checks {
		if c.Reads == task.ReadsExit || c.Reads == task.ReadsNumber {
			k := Key{Check: string(c.Name)}
			switch {
			case c.Reads == task.ReadsNumber && c.Number.AtMost == nil && c.Number.AtLeast == nil:
				put(k, Other)
			case c.Reads == task.ReadsNumber, outcomeIn(sealed, b.StartSealed, k) != testlog.Passed:
				put(k, Goal)
			default:
				put(k, Guard)
			}
			continue
		}
	}
	for k := range keys {
		if k.Name == "" {
			continue
		}
		was, after := before(k), outcomeIn(reference, b.Reference, k)
		isGoal := matches(stage.Goal, k)
		if stage.Goal == nil {
			isGoal = after == testlog.Passed && was != testlog.Passed && !unsteady[k]
		}
		isGuard := was == testlog.Passed && (b.Reference == nil || after == testlog.Passed) && !unsteady[k]
		if stage.Guard != nil {
			isGuard = isGuard && matches(stage.Guard, k)
		}
		switch {
		case isGoal:
			put(k, Goal)
		case isGuard:
			put(k, Guard)
		default:
			put(k, Other)
		}
	}
	// What is named and was never seen stays wanted.
	for role, patterns := range map[Role][]string{Guard: stage.Guard, Goal: stage.Goal} {
		for _, p := range patterns {
			found := false
			for k := range out {
				found = found || matches([]string{p}, k)
			}
			if !found {
				put(Key{Check: firstWithTests(stage), Name: p}, role)
			}
		}
	}
	return out
}

// CannotRun says which check can be run neither at the start nor with the reference, and
// why; "" where there is none. Such a check says nothing of any result.
func (b *Baseline) CannotRun() string {
	for i := range b.StartSealed {
		start := &b.StartSealed[i]
		if start.CannotRun() == "" {
			continue
		}
		if with := b.Reference.Of(start.Check); b.Reference == nil || with != nil && with.CannotRun() != "" {
			return "check " + start.Check + " " + start.Trouble
		}
	}
	return ""
}

// Silent are the tests that ran at the start without the sealed files and were not seen
// with them.
func (b *Baseline) Silent() map[Key]bool {
	out := map[Key]bool{}
	if b == nil {
		return out
	}
	for _, c := range b.Start {
		for i := range c.Tests {
			out[Key{c.Check, c.Tests[i].Name}] = true
		}
	}
	for _, c := range b.StartSealed {
		for i := range c.Tests {
			delete(out, Key{c.Check, c.Tests[i].Name})
		}
	}
	return out
}

func firstWithTests(stage *task.Stage) string {
	for _, c := range stage.Checks {
		if c.Reads.SeesTests() {
			return string(c.Name)
		}
	}
	return ""
}

// Row is one test with everything that is known of it.
type Row struct {
	Check string `json:"check"`
	// Name is empty for a check that is judged as a whole.
	Name string `json:"name"`
	Role Role   `json:"role"`
	// Before is the outcome at the start, Reference with the reference patch,
	// After with the contender's result. Missing: it was not seen; empty: there
	// was no such run.
	Before    testlog.Outcome `json:"before"`
	Reference testlog.Outcome `json:"reference"`
	After     testlog.Outcome `json:"after"`
	// Own is the outcome in the contender's own copy, with its tests as it left them.
	Own       testlog.Outcome `json:"own,omitempty"`
	ElapsedMS *int64          `json:"elapsed_ms"`
	Message   string          `json:"message,omitempty"`
	// Unsteady is set when it failed once and passed when it was run again.
	Unsteady bool `json:"unsteady,omitempty"`
	// Repeated is set when it was reported more than once, Unexpected when no
	// file known before can have it.
	Repeated   bool `json:"repeated,omitempty"`
	Unexpected bool `json:"unexpected,omitempty"`
}

// Key is the row's key.
func (r *Row) Key() Key { return Key{r.Check, r.Name} }

// Missed tells whether the row is a goal that was not reached.
func (r *Row) Missed() bool { return r.Role == Goal && r.After != testlog.Passed }

// Broken tells whether the row is a guard that does not hold any more.
func (r *Row) Broken() bool {
	return r.Role == Guard && r.After != testlog.Passed && !r.Unsteady
}

// Share counts how many of a kind there are, and how many are as wanted.
type Share struct {
	Reached int `json:"reached"`
	Total   int `json:"total"`
}

// CheckResult says how a check counts.
type CheckResult struct {
	Check string
	// OK is false when a goal or a guard of it is not as wanted.
	OK       bool
	TimedOut bool
	NotRun   bool
	Missed   int
	Broken   int
	// Why says in words what is wrong, where it is not a test by name.
	Why string
}

// Result is a stage's result, compared.
type Result struct {
	// Rows: goals first, then guards, the contender's own, others; what is wrong
	// stands first in each.
	Rows   []Row
	Checks []CheckResult
	Goals  Share
	Guards Share
	Own    Share
	// Figures are those of number checks.
	Figures []Figure
	// Flags are remarks in words.
	Flags []string
	// Removed and Skipped are guards that are gone, or skipped, among the tests
	// as the contender left them.
	Removed, Skipped []Key
}

// Runs are the runs of one result.
type Runs struct {
	// Deciding is the run that counts.
	Deciding Run
	// Again are checks that were run once more because a guard failed.
	Again Run
	// OwnTests are checks that were run with the start's own tests in place of the sealed
	// ones, because with those guards failed of which the start with the sealed files says nothing.
	OwnTests Run
	// Own is the run with the contender's tests as they are; nil where there was none.
	Own Run
	// OwnInDeciding is set when test files of the contender, which the task leaves
	// to it, took part in the deciding run.
	OwnInDeciding bool
}

// Compare works out what a result comes to.
func Compare(stage *task.Stage, b *Baseline, runs Runs) Result {
	deciding, again, own := runs.Deciding, runs.Again, runs.Own
	var out Result
	roles := b.Roles(stage, deciding)
	after, second, mine, plain := deciding.all(), again.all(), own.all(), runs.OwnTests.all()
	var silent map[Key]bool
	if len(plain) > 0 {
		silent = b.Silent()
	}
	unbuilt := map[string]bool{} // checks whose sealed tests did not run with this result
	known := map[Key]bool{}
	for _, m := range []map[Key]testlog.Test{b.Start.all(), b.StartSealed.all(), b.Reference.all()} {
		for k := range m {
			known[k] = true
		}
	}
	for _, c := range stage.Checks {
		if c.Reads == task.ReadsNumber {
			f := compareFigure(&c, b, deciding)
			out.Figures = append(out.Figures, f)
			k := Key{Check: string(c.Name)}
			if roles[k].Role == Goal && !f.Reached {
				t := after[k]
				t.Outcome, t.Message = testlog.Failed, strings.TrimSpace(f.Words()+"\n"+t.Message)
				after[k] = t
			}
		}
	}
	strange := 0
	for k, r := range roles {
		row := Row{Check: k.Check, Name: k.Name, Role: r.Role, Before: r.Before, Reference: r.Reference, After: outcomeIn(after, deciding, k),
			ElapsedMS: after[k].ElapsedMS, Message: after[k].Message, Repeated: after[k].Repeated, Own: outcomeIn(mine, own, k)}
		if b.Reference != nil && !known[k] && k.Name != "" && row.After != testlog.Missing && !subtestOfKnown(k, known) {
			if runs.OwnInDeciding {
				row.Role = Own
			} else {
				row.Unexpected = true
				strange++
			}
		}
		if row.Role == Guard && row.After != testlog.Passed {
			if t, ok := second[k]; ok && t.Outcome == testlog.Passed {
				row.Unsteady = true
			}
			if t, ok := plain[k]; ok && !row.Unsteady && silent[k] {
				switch {
				case row.After == testlog.Missing:
					// Its package does not build with the sealed tests, as it did not at the start.
					row.After, row.Message, row.ElapsedMS = t.Outcome, "run with the start's own tests: the sealed ones did not run with this result\n"+t.Message, t.ElapsedMS
					unbuilt[k.Check] = true
				case t.Outcome == testlog.Passed:
					// What it was before holds; what it asks for newly is not there.
					row.Role, row.Before = Goal, testlog.Missing
				}
			}
		}
		out.Rows = append(out.Rows, row)
	}
	// A goal counts only when no test of the same name from nowhere failed.
	for i := range out.Rows {
		r := &out.Rows[i]
		if r.Role != Goal || r.After != testlog.Passed || r.Name == "" {
			continue
		}
		for n := 2; ; n++ {
			k := Key{r.Check, fmt.Sprintf("%s #%d", r.Name, n)}
			t, ok := after[k]
			if !ok {
				break
			}
			if !known[k] && t.Outcome != testlog.Passed {
				r.After, r.Message = t.Outcome, "a second test of this name did not pass\n"+t.Message
			}
		}
	}
	for k, t := range mine {
		if _, ok := roles[k]; ok || known[k] || k.Name == "" {
			continue
		}
		out.Rows = append(out.Rows, Row{Check: k.Check, Name: k.Name, Role: Own,
			After: t.Outcome, Own: t.Outcome, ElapsedMS: t.ElapsedMS, Message: t.Message, Repeated: t.Repeated})
	}
	out.count(stage, b, deciding, own)
	for i := range out.Checks {
		if c := &out.Checks[i]; unbuilt[c.Check] {
			// With the reference they do: a result with which they do not is none that passes.
			const why = "the sealed tests do not build, or do not get to their end, with this result"
			if c.OK = false; c.Why == "" {
				c.Why = why
			} else {
				c.Why += "; " + why
			}
		}
	}
	if strange > 0 {
		out.Flags = append(out.Flags, fmt.Sprintf("%s from nowhere: neither the start nor the reference has them", plural(strange, "test")))
	}
	return out
}

// subtestOfKnown tells whether a test is a case of one that is known: cases may
// be named by what they try.
func subtestOfKnown(k Key, known map[Key]bool) bool {
	for _, sep := range []string{"/", " > "} {
		for cut := strings.LastIndex(k.Name, sep); cut > 0; cut = strings.LastIndex(k.Name[:cut], sep) {
			if known[Key{k.Check, k.Name[:cut]}] {
				return true
			}
		}
	}
	return false
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// count sums the rows up, check by check, and sorts them.
func (out *Result) count(stage *task.Stage, b *Baseline, deciding, own Run) {
	repeated, unsteady := 0, 0
	perCheck := map[string]*CheckResult{}
	deciders := map[string]int{}
	for i := range out.Rows {
		r := &out.Rows[i]
		c := perCheck[r.Check]
		if c == nil {
			c = &CheckResult{Check: r.Check}
			perCheck[r.Check] = c
		}
		if r.Repeated {
			repeated++
		}
		switch r.Role {
		case Goal:
			out.Goals.Total++
			deciders[r.Check]++
			if r.Missed() {
				c.Missed++
			} else {
				out.Goals.Reached++
			}
		case Guard:
			out.Guards.Total++
			deciders[r.Check]++
			switch {
			case r.Broken():
				c.Broken++
			default:
				out.Guards.Reached++
			}
			if r.Unsteady {
				unsteady++
			}
			if ownRun := own.Of(r.Check); r.Name != "" && ownRun != nil && ownRun.OK() {
				switch r.Own {
				case testlog.Missing:
					out.Removed = append(out.Removed, Key{r.Check, r.Name})
				case testlog.Skipped:
					out.Skipped = append(out.Skipped, Key{r.Check, r.Name})
				}
			}
		case Own:
			out.Own.Total++
			if r.After == testlog.Passed {
				out.Own.Reached++
			}
		}
	}
	for _, c := range stage.Checks {
		name := string(c.Name)
		res := CheckResult{Check: name}
		if p := perCheck[name]; p != nil {
			res.Missed, res.Broken = p.Missed, p.Broken
		}
		run := deciding.Of(name)
		switch {
		case run == nil || !run.Ran:
			res.NotRun = true
		case run.TimedOut:
			res.TimedOut = true
			res.Why = "it did not end in its time"
		case c.Reads.SeesTests() && (deciders[name] == 0 || stage.Goal == nil && b.Reference == nil) && res.Missed+res.Broken == 0 && !run.OK() && !onlyUnsteady(out.Rows, run):
			// Nothing says which tests count: then all of them do, and the exit status.
			res.Why = wholeRun(run)
		case c.Reads.SeesTests() && res.Missed+res.Broken > 0:
			res.Why = testWords(run, res)
		case c.Reads == task.ReadsExit && run.ExitCode != 0 && !unsteadyWhole(out.Rows, name):
			res.Why = fmt.Sprintf("exit status %d", run.ExitCode)
			if run.CannotRun() != "" {
				res.Why = run.Trouble
			} else if run.ExitCode < 0 {
				res.Why = "ended by a signal"
			}
		case c.Reads == task.ReadsNumber && res.Missed > 0:
			for _, f := range out.Figures {
				if f.Check == name {
					res.Why = f.Words()
				}
			}
		}
		res.OK = !res.NotRun && res.Why == ""
		out.Checks = append(out.Checks, res)
	}
	order := map[Role]int{Goal: 0, Guard: 1, Own: 2, Other: 3}
	bad := func(r *Row) int {
		if r.Missed() || r.Broken() || r.Role == Own && r.After != testlog.Passed {
			return 0
		}
		if r.Unsteady {
			return 1
		}
		return 2
	}
	sort.Slice(out.Rows, func(i, j int) bool {
		a, c := &out.Rows[i], &out.Rows[j]
		if order[a.Role] != order[c.Role] {
			return order[a.Role] < order[c.Role]
		}
		if bad(a) != bad(c) {
			return bad(a) < bad(c)
		}
		if a.Check != c.Check {
			return a.Check < c.Check
		}
		return a.Name < c.Name
	})
	for _, list := range [][]Key{out.Removed, out.Skipped} {
		sort.Slice(list, func(i, j int) bool { return list[i].Check+list[i].Name < list[j].Check+list[j].Name })
	}
	if repeated > 0 {
		out.Flags = append(out.Flags, plural(repeated, "test")+" reported more than once")
	}
	if unsteady > 0 {
		out.Flags = append(out.Flags, plural(unsteady, "unsteady guard")+": failed, and passed when run again; not held against anyone")
	}
}

// onlyUnsteady tells whether the tests of a run that failed are all unsteady guards.
func onlyUnsteady(rows []Row, run *CheckRun) bool {
	unsteady, failed := 0, 0
	for i := range rows {
		if r := &rows[i]; r.Check == run.Check && r.After == testlog.Failed {
			failed++
			if r.Unsteady {
				unsteady++
			}
		}
	}
	return unsteady > 0 && failed == unsteady && run.Trouble == "" && !run.TimedOut
}

func unsteadyWhole(rows []Row, check string) bool {
	for i := range rows {
		if rows[i].Check == check && rows[i].Name == "" {
			return rows[i].Unsteady
		}
	}
	return false
}

// wholeRun says what is wrong with a run of which no single test is known to count.
func wholeRun(run *CheckRun) string {
	s := run.Summary()
	switch {
	case s.Failed > 0:
		return fmt.Sprintf("%d of %d tests failed", s.Failed, s.Ran())
	case run.Trouble != "":
		return run.Trouble
	case run.ExitCode != 0:
		return fmt.Sprintf("exit status %d", run.ExitCode)
	}
	return "the exit status is 0, but no test was seen to run"
}

func testWords(run *CheckRun, res CheckResult) string {
	var parts []string
	if res.Missed > 0 {
		parts = append(parts, plural(res.Missed, "goal")+" missed")
	}
	if res.Broken > 0 {
		parts = append(parts, plural(res.Broken, "guard")+" broken")
	}
	words := strings.Join(parts, ", ")
	if run.Summary().Ran() == 0 {
		words += "; no test was seen to run"
	}
	return words
}

// Disagree lists the tests whose outcomes are not the same in all runs.
func Disagree(runs []Run) []Key {
	var all []map[Key]testlog.Test
	keys := map[Key]bool{}
	for _, r := range runs {
		m := r.all()
		all = append(all, m)
		for k := range m {
			keys[k] = true
		}
	}
	var out []Key
	for k := range keys {
		for i := range all {
			if outcomeIn(all[i], runs[i], k) != outcomeIn(all[0], runs[0], k) {
				out = append(out, k)
				break
			}
		}
	}
	return out
}
