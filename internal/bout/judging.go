package bout

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/answer"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/protect"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
)

// CheckRun is how one check ended.
type CheckRun = judge.Result

// Judged is what judging one round of a stage brought.
type Judged struct {
	// Diff is what was judged.
	Diff []byte
	// Visible are the results of the visible checks with the contender's files as
	// they are; nil where that would have been the same run as Deciding.
	Visible []judge.Result
	// Deciding are the results that count, Again those of checks that were run
	// once more because a guard failed, OwnTests those of checks that were run with the
	// start's own tests in place of the sealed ones; see outcome.Runs.
	Deciding, Again, OwnTests []judge.Result
	// Compared is what they come to.
	Compared outcome.Result
	// Weakened is what was done to the tests.
	Weakened []protect.Weakening
	// PutBack and LeftOut are the contender's changes that were not judged.
	PutBack, LeftOut []string
	// Facts are those of a question.
	Facts []answer.Examined
	// Strange are the files that a question's reply changed.
	Strange []string
	// CopyMS is what making the judging copies cost, in milliseconds.
	CopyMS int64
	// OverheadMS is all that judging took beyond the checks themselves, in milliseconds.
	OverheadMS int64
	// Canaries says what became of the canary of each check that had one to see: seen, not
	// seen, or why there was none. Nil where the result did not pass.
	Canaries map[string]string
	// CanaryMS is what that took, in milliseconds; it is no part of OverheadMS.
	CanaryMS int64
	// OneUser is set when a check wanted to run the result as another user, and this machine has none.
	OneUser bool
	// Networked is set when the copies had the network although the task does not need it.
	Networked bool
}

// OK tells whether everything that decides is as wanted.
func (j *Judged) OK() bool {
	for _, c := range j.Compared.Checks {
		if !c.OK {
			return false
		}
	}
	for _, f := range j.Facts {
		if !f.Reached {
			return false
		}
	}
	return len(j.Strange) == 0
}

// Result is one round's change, as it is judged.
type Result struct {
	Diff []byte
	// Tree is the id of the tree that it leads to; "" where it is not known.
	Tree string
	// Shown is the diff for people; weakened tests are looked for in it.
	Shown []byte
}

// copies makes judging copies of one result, and frees them all.
type copies struct {
	e      *Engine
	ctx    context.Context
	j      Job
	p      *workspace.Prepared
	change *workspace.Change
	n      int
	owner  confine.Owner
	tookMS int64
	dirs   []string
}

// make makes a fresh copy that holds the result, with laid over it, for a check. One that
// runs apart gets a user of its own, to whom what is laid over belongs alone; what it
// starts as the contender's can read the rest.
func (c *copies) make(laid workspace.Laid, check task.Check) (judge.Copy, error) {
	began := time.Now()
	owner := c.owner
	apart := judge.Apart(check) && owner.Root && c.e.Capability.Mode == confine.Namespaces
	if apart {
		owner, laid.Private = owner.Numbered(confine.MaxOwners), true
	}
	c.n++
	dir := filepath.Join(c.e.Scratch(), fmt.Sprintf("%s-judge-%d", c.j.ID, c.n))
	if err := beneath.RemoveTree(dir); err != nil {
		return judge.Copy{}, err
	}
	c.dirs = append(c.dirs, dir)
	// Copied as the service's own first, so that git works on files of its own.
	w, err := c.e.Maker.Make(c.ctx, c.p, dir, workspace.CopyOptions{})
	if err != nil {
		return judge.Copy{}, err
	}
	if err := c.e.Git.Place(c.ctx, w, c.change); err != nil {
		return judge.Copy{}, err
	}
	if err := w.Lay(laid); err != nil {
		return judge.Copy{}, err
	}
	if opt := c.e.copyOptionsOf(owner); opt.Owned {
		owned := []string{w.Tree(), w.Tmp()}
		if lower, work := w.HomeLayer(); lower != "" {
			owned = append(owned, w.Home(), work)
		} else {
			owned = append(owned, w.Home())
		}
		for _, d := range owned {
			if err := beneath.ChownTree(c.ctx, d, opt.UID, opt.GID); err != nil {
				return judge.Copy{}, err
			}
		}
	}
	c.tookMS += time.Since(began).Milliseconds()
	world := c.e.worldOf(c.j.Task, w, owner)
	out := judge.Copy{Tree: w.Tree()}
	if judge.Apart(check) && c.e.Capability.RunsOthers {
		world.Other, out.AsContender = &c.owner, confine.OtherPath
		if !owner.Root {
			world.Never = slices.Collect(maps.Keys(laid.Files))
		}
		d, err := beneath.Open(w.Tmp()) // both users write there
		if err == nil {
			err = errors.Join(d.Chmod(".", 0o1777), d.Close())
		}
		if err != nil {
			return judge.Copy{}, err
		}
	}
	world.NoNetwork = c.j.Task.Network != task.NetworkNeeded && c.e.Capability.CutsNetwork
	world.Limits = bounds(c.j.Limits, c.p)
	out.World = world
	return out, nil
}

// lay puts files over a copy that was made.
func (c *copies) lay(in judge.Copy, laid workspace.Laid) error {
	w := &workspace.Workspace{Prepared: c.p, Dir: filepath.Dir(in.Tree)}
	if err := w.Lay(laid); err != nil {
		return err
	}
	opt := c.e.copyOptionsOf(in.World.Owner)
	if !opt.Owned {
		return nil
	}
	d, err := beneath.Open(in.Tree)
	if err != nil {
		return err
	}
	defer d.Close()
	for name := range laid.Files {
		for ; name != "."; name = path.Dir(name) { // folders that were made for it too
			if err := d.Chown(name, opt.UID, opt.GID); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *copies) free() {
	defer c.e.give(c.j.ID)
	if c.e.KeepWorkspaces {
		return
	}
	for _, dir := range c.dirs {
		if err := c.e.remove(dir); err != nil {
			c.e.Log.Warn("a judging copy could not be removed", "bout", c.j.ID, "error", err)
		}
	}
}

// sealedFiles is what is laid over every judging copy of a stage.
func sealedFiles(stage *task.Stage) workspace.Laid {
	return workspace.Laid{Files: stage.Sealed, Remove: stage.Delete}
}

// laidOver is what is put over the result of a contender: the protected files
// as they were, without the tests that it added, and the sealed files.
func laidOver(stage *task.Stage, plan protect.Plan) workspace.Laid {
	laid := sealedFiles(stage)
	for _, name := range plan.PutBack {
		if _, sealed := stage.Sealed[name]; !sealed && !slices.Contains(stage.Delete, name) {
			laid.PutBack = append(laid.PutBack, name)
		}
	}
	laid.Remove = append(slices.Clone(plan.Remove), laid.Remove...)
	return laid
}

// unsealed are the checks that a contender may know of.
func unsealed(checks []task.Check) []task.Check {
	return slices.DeleteFunc(slices.Clone(checks), func(c task.Check) bool { return c.Sealed })
}

// visible are the checks whose output may be handed back as it is.
func visible(checks []task.Check) []task.Check {
	var out []task.Check
	for _, c := range unsealed(checks) {
		if c.Reads != task.ReadsNumber {
			out = append(out, c)
		}
	}
	return out
}

// Judge judges a result of a stage on fresh copies of the prepared state, with
// a HOME that no contender could write to: its visible checks once with the
// contender's files as they are, and all checks once as it counts. said is the
// contender's closing message; started is told of each check.
func (e *Engine) Judge(ctx context.Context, j Job, p *workspace.Prepared, stage *task.Stage, base *outcome.Baseline, result Result, said []byte, started func(what string)) (*Judged, error) {
	began := time.Now()
	out, spent, err := e.judge(ctx, j, p, stage, base, result, said, started)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, voidOf(err)
	}
	out.OverheadMS = (time.Since(began) - spent).Milliseconds()
	return out, nil
}

func (e *Engine) judge(ctx context.Context, j Job, p *workspace.Prepared, stage *task.Stage, base *outcome.Baseline, result Result, said []byte, started func(what string)) (*Judged, time.Duration, error) {
	out := &Judged{Diff: result.Diff, Networked: j.Task.Network != task.NetworkNeeded && !e.Capability.CutsNetwork}
	has, err := e.Git.Has(p)
	if err != nil {
		return nil, 0, err
	}
	change, err := e.Git.ReadChange(ctx, p, e.Scratch(), result.Diff, result.Tree)
	if err != nil {
		return nil, 0, err
	}
	defer change.Close()
	changed := change.Paths
	if j.Task.Kind == task.Question {
		for _, name := range changed {
			if name != j.Task.Deliverable {
				out.Strange = append(out.Strange, name)
			}
		}
		out.Facts = answer.Examine(j.Task.Facts, string(said), e.lines(p))
		return out, 0, nil
	}
	files, err := patch.Parse(result.Shown, patch.MaxLines)
	if err != nil {
		e.Log.Warn("a change cannot be looked through for weakened tests", "bout", j.ID, "error", err)
	}
	plan := protect.PlanFor(j.Task, stage.Checks, changed, files, has)
	laid := laidOver(stage, plan)
	out.PutBack, out.LeftOut = laid.PutBack, plan.Remove
	c := &copies{e: e, ctx: ctx, j: j, p: p, change: change, owner: e.own(j.ID)}
	defer c.free()
	var spent time.Duration
	run := func(checks []task.Check, laid workspace.Laid, words string) ([]judge.Result, error) {
		results, err := judge.Run(ctx, func(check task.Check) (judge.Copy, error) { return c.make(laid, check) }, checks, judge.Options{
			Limits: j.Limits, Secrets: drive.Secrets(j.Contender),
			Started: func(c task.Check) { started(words + string(c.Name)) },
			Ends:    ends(base), Keep: keeps(base),
		})
		for i := range results {
			spent += results[i].Elapsed
		}
		return results, err
	}
	if own := visible(stage.Checks); len(own) > 0 && (stage.HasSealed() || !plan.Empty()) {
		if out.Visible, err = run(own, workspace.Laid{}, "visible check "); err != nil {
			return nil, 0, err
		}
	}
	if out.Deciding, err = run(stage.Checks, laid, "check "); err != nil {
		return nil, 0, err
	}
	out.OneUser = !e.Capability.RunsOthers && slices.ContainsFunc(stage.Checks, func(c task.Check) bool { return strings.Contains(c.Run, judge.AsContender) })
	runs := outcome.Runs{Deciding: judge.Runs(out.Deciding), OwnInDeciding: slices.ContainsFunc(changed, func(name string) bool {
		return protect.IsTest(j.Task.TestFiles, name) && !slices.Contains(plan.PutBack, name) && !slices.Contains(plan.Remove, name)
	})}
	if out.Visible != nil {
		runs.Own = judge.Runs(out.Visible)
	}
	out.Compared = outcome.Compare(stage, base, runs)
	if again := shaky(stage, base, &out.Compared, runs.Deciding); len(again) > 0 {
		if out.Again, err = run(again, laid, "once more: check "); err != nil {
			return nil, 0, err
		}
		runs.Again = judge.Runs(out.Again)
		out.Compared = outcome.Compare(stage, base, runs)
	}
	if plain := silent(stage, base, &out.Compared); len(plain) > 0 {
		if out.OwnTests, err = run(plain, workspace.Laid{PutBack: plan.PutBack, Remove: plan.Remove}, "with the start's own tests: check "); err != nil {
			return nil, 0, err
		}
		runs.OwnTests = judge.Runs(out.OwnTests)
		out.Compared = outcome.Compare(stage, base, runs)
	}
	out.Weakened = protect.Weakened(j.Task, stage.Checks, files, has)
	for _, k := range out.Compared.Removed {
		out.Weakened = append(out.Weakened, protect.Weakening{Kind: protect.Removed, What: k.Name})
	}
	for _, k := range out.Compared.Skipped {
		out.Weakened = append(out.Weakened, protect.Weakening{Kind: protect.Skipped, What: k.Name})
	}
	out.CopyMS = c.tookMS
	asked := time.Now()
	if err := e.canaries(ctx, j, stage, base, c, laid, out, changed, started); err != nil {
		return nil, 0, err
	}
	took := time.Since(asked)
	out.CanaryMS = took.Milliseconds()
	return out, spent + took, nil
}

// otherTests is how many tests are kept of a result's run that nothing is known of.
const otherTests = 20_000

// keeps says which tests are kept of the runs of a result: those that are known.
func keeps(base *outcome.Baseline) func(check string) testlog.Options {
	return func(check string) testlog.Options {
		o := testlog.Options{Asked: map[string]bool{}, Others: otherTests}
		if base == nil {
			return o
		}
		for _, run := range []outcome.Run{base.Start, base.StartSealed, base.Reference} {
			if c := run.Of(check); c != nil {
				for i := range c.Tests {
					o.Asked[c.Tests[i].Name] = true
				}
			}
		}
		return o
	}
}

// ends tells which failures make the checks behind them pointless: a check
// without single tests that passed at the start, such as a build, and one that
// did not end.
func ends(base *outcome.Baseline) func(*outcome.CheckRun) bool {
	return func(r *outcome.CheckRun) bool {
		if r.TimedOut {
			return true
		}
		if r.Reads != task.ReadsExit || r.ExitCode == 0 || base == nil {
			return false
		}
		was := base.Start.Of(r.Check)
		return was != nil && was.Ran && was.ExitCode == 0 && !was.TimedOut
	}
}

// shaky lists the checks of which a guard failed although something ran: they
// are run once more, to tell broken guards from unsteady ones. A check that ended the
// run, such as a build, is not: what came behind it was not run, so that it decided.
func shaky(stage *task.Stage, base *outcome.Baseline, compared *outcome.Result, run outcome.Run) []task.Check {
	var out []task.Check
	ended := ends(base)
	unsaid := base.Silent()
	for _, c := range stage.Checks {
		broken := slices.ContainsFunc(compared.Rows, func(r outcome.Row) bool {
			return r.Check == string(c.Name) && r.Broken() && (r.After != testlog.Missing || !unsaid[r.Key()])
		})
		r := run.Of(string(c.Name))
		if !broken || r == nil || r.TimedOut || !r.Ran || ended(r) || c.Reads.SeesTests() && r.Summary().Passed == 0 {
			continue
		}
		out = append(out, c)
	}
	return out
}

// changedTests are the tests that the start with the sealed files says nothing of, and
// that the sealed files say anew.
func (e *Engine) changedTests(p *workspace.Prepared, stage *task.Stage, base *outcome.Baseline) ([]outcome.Key, error) {
	var out []outcome.Key
	unsaid := base.Silent()
	for _, run := range base.Start {
		var names []string
		for _, t := range run.Tests {
			if k := (outcome.Key{Check: run.Check, Name: t.Name}); t.Outcome == testlog.Passed && unsaid[k] {
				names = append(names, t.Name)
			}
		}
		if len(names) == 0 {
			continue
		}
		start, err := beneath.Open(p.Template())
		if err != nil {
			return nil, err
		}
		changed := map[string]bool{}
		for name, now := range stage.Sealed {
			if was, err := start.ReadFile(name, maxTestFile); err == nil && len(now) <= maxTestFile {
				for _, test := range outcome.ChangedTests(string(was), string(now), names) {
					changed[test] = true
				}
			}
		}
		start.Close()
		for _, name := range slices.Sorted(maps.Keys(changed)) {
			out = append(out, outcome.Key{Check: run.Check, Name: name})
		}
	}
	return out, nil
}

// maxTestFile is how large a file of tests may be that is looked through, in bytes.
const maxTestFile = 4 << 20

// silent are the checks of which a guard failed that the start with the sealed files says
// nothing of: whether it holds is seen with the start's own tests.
func silent(stage *task.Stage, base *outcome.Baseline, compared *outcome.Result) []task.Check {
	var out []task.Check
	if !stage.HasSealed() {
		return nil
	}
	unsaid := base.Silent()
	for _, c := range stage.Checks {
		if c.Sealed || !c.Reads.SeesTests() {
			continue
		}
		if slices.ContainsFunc(compared.Rows, func(r outcome.Row) bool {
			return r.Check == string(c.Name) && r.Broken() && unsaid[r.Key()]
		}) {
			out = append(out, c)
		}
	}
	return out
}

// lines tells how many lines the files of a start have.
func (e *Engine) lines(p *workspace.Prepared) answer.Lines {
	files, err := e.Git.Files(p)
	if err != nil {
		return func(string) (int, bool) { return 0, false }
	}
	counted := map[string]int{} // a reply may name one file a thousand times
	return func(name string) (n int, ok bool) {
		name = strings.TrimPrefix(strings.TrimPrefix(name, "bout/workspace/"), "./")
		if known, there := counted[name]; there {
			return max(known, 0), known >= 0
		}
		best := -1
		defer func() { counted[name] = best }()
		for _, f := range files {
			if f != name && (strings.Contains(name, "/") || !strings.HasSuffix(f, "/"+name)) {
				continue
			}
			root, err := os.OpenRoot(p.Template())
			if err != nil {
				return 0, false
			}
			data, err := root.ReadFile(f)
			root.Close()
			if err == nil {
				best = max(best, strings.Count(strings.TrimSuffix(string(data), "\n"), "\n")+1)
			}
		}
		return max(best, 0), best >= 0
	}
}

// Baseline finds out what is known of a stage before any contender: the checks
// at the start, with and without the sealed files, and with the reference patch.
func (e *Engine) Baseline(ctx context.Context, j Job, p *workspace.Prepared, stage *task.Stage, started func(what string)) (*outcome.Baseline, error) {
	base := &outcome.Baseline{}
	run := func(change *workspace.Change, checks []task.Check, laid workspace.Laid, words string, ends func(*outcome.CheckRun) bool, good bool) ([]judge.Result, error) {
		c := &copies{e: e, ctx: ctx, j: j, p: p, change: change, owner: e.own(j.ID)}
		defer c.free()
		results, err := judge.Run(ctx, func(check task.Check) (judge.Copy, error) { return c.make(laid, check) }, checks, judge.Options{
			Limits: j.Limits, Started: func(c task.Check) { started(words + ", check " + string(c.Name)) }, Ends: ends})
		for i := range results {
			if r := &results[i]; good && r.Run.Ran && !r.Run.OK() {
				if base.Printed == nil {
					base.Printed = map[string][]byte{}
				}
				base.Printed[r.Run.Check] = r.Log
			}
		}
		if err == nil && good {
			err = e.calibrate(ctx, j, base, c, laid, results, func(what string) { started(words + ", " + what) })
		}
		return results, err
	}
	fail := func(err error) (*outcome.Baseline, error) {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, voidOf(err)
	}
	start, err := e.Git.ReadChange(ctx, p, e.Scratch(), nil, "")
	if err != nil {
		return fail(err)
	}
	results, err := run(start, stage.Checks, sealedFiles(stage), "the start", nil, stage.Reference == nil)
	if err != nil {
		return fail(err)
	}
	base.StartSealed = judge.Runs(results)
	base.Start = base.StartSealed
	if stage.HasSealed() {
		if results, err = run(start, unsealed(stage.Checks), workspace.Laid{}, "the start without sealed files", nil, stage.Reference == nil); err != nil {
			return fail(err)
		}
		base.Start = judge.Runs(results)
	}
	if base.Changed, err = e.changedTests(p, stage, base); err != nil {
		return fail(err)
	}
	base.Lint = lintOf(results)
	if stage.Reference == nil {
		return base, nil
	}
	has, err := e.Git.Has(p)
	if err != nil {
		return fail(err)
	}
	change, err := e.Git.ReadChange(ctx, p, e.Scratch(), stage.Reference, "")
	if err != nil {
		return fail(&ReferenceError{err})
	}
	defer change.Close()
	plan := protect.PlanFor(j.Task, stage.Checks, change.Paths, nil, has)
	if results, err = run(change, stage.Checks, laidOver(stage, plan), "the reference", ends(base), true); err != nil {
		return fail(err)
	}
	base.Reference = judge.Runs(results)
	return base, nil
}

// ReferenceError says that a reference patch does not apply.
type ReferenceError struct{ err error }

func (e *ReferenceError) Error() string { return "the reference patch: " + e.err.Error() }
func (e *ReferenceError) Unwrap() error { return e.err }

// ReferenceTests lists the test files that a reference patch changes, and which
// judging therefore puts back or leaves out.
func (e *Engine) ReferenceTests(ctx context.Context, j Job, p *workspace.Prepared, stage *task.Stage) ([]string, error) {
	has, err := e.Git.Has(p)
	if err != nil {
		return nil, err
	}
	changed, err := e.Changed(ctx, p, stage.Reference, "")
	if err != nil {
		return nil, err
	}
	plan := protect.PlanFor(j.Task, stage.Checks, changed, nil, has)
	var out []string
	for _, name := range append(plan.PutBack, plan.Remove...) {
		if _, sealed := stage.Sealed[name]; !sealed && !slices.Contains(stage.Delete, name) {
			out = append(out, name)
		}
	}
	return out, nil
}

// PassesHere runs the check that failed on the clean copy in the workspace as
// the tool left it, and tells whether it passes there. The check is run as it
// failed: with the contender's tests where the visible run failed, else with the
// protected and the sealed files laid over.
func (s *Session) PassesHere(ctx context.Context, stage *task.Stage, base *outcome.Baseline, j *Judged) (check string, passes bool, err error) {
	find := func(name string) *task.Check {
		for i := range stage.Checks {
			if string(stage.Checks[i].Name) == name {
				return &stage.Checks[i]
			}
		}
		return nil
	}
	if name, failed := firstFailing(judge.Runs(j.Visible)); failed {
		c := find(name)
		r, err := s.Here(ctx, *c, workspace.Laid{})
		if err != nil {
			return name, false, err
		}
		return name, r.Run.OK(), nil
	}
	for _, res := range j.Compared.Checks {
		c := find(res.Check)
		if res.OK || res.NotRun || c == nil || c.Reads == task.ReadsNumber {
			continue
		}
		laid := workspace.Laid{}
		if j.Visible != nil || c.Sealed {
			laid = laidOver(stage, protect.Plan{PutBack: j.PutBack, Remove: j.LeftOut})
		}
		r, err := s.Here(ctx, *c, laid)
		if err != nil {
			return res.Check, false, err
		}
		here := outcome.Compare(stage, base, outcome.Runs{Deciding: outcome.Run{r.Run}})
		for _, other := range here.Checks {
			if other.Check == res.Check {
				return res.Check, other.OK, nil
			}
		}
	}
	return "", false, nil
}

// Changed lists the paths that a diff touches.
func (e *Engine) Changed(ctx context.Context, p *workspace.Prepared, diff []byte, tree string) ([]string, error) {
	change, err := e.Git.ReadChange(ctx, p, e.Scratch(), diff, tree)
	if err != nil {
		return nil, err
	}
	change.Close()
	return change.Paths, nil
}

// Failing are the results of the visible checks that did not go well by
// themselves: what a person would see. Sealed checks are never among them.
func (j *Judged) Failing() []judge.Result {
	results := j.Visible
	if results == nil {
		results = j.Deciding
	}
	var out []judge.Result
	for i := range results {
		r := &results[i]
		if r.Check.Sealed || !r.Run.Ran {
			continue
		}
		if r.Check.Reads == task.ReadsNumber {
			if slices.ContainsFunc(j.Compared.Checks, func(c outcome.CheckResult) bool { return c.Check == r.Run.Check && !c.OK }) {
				out = append(out, *r)
			}
			continue
		}
		if !r.Run.OK() {
			out = append(out, *r)
		}
	}
	return out
}
