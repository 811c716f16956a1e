package bout

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"sync"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/protect"
	"agonometer/internal/core/task"
	"agonometer/internal/core/verdict"
)

// Beside is what a change is measured with, beside its trees: what checks wrote, and
// what earlier rounds touched.
type Beside struct {
	// Coverage are the files that checks wrote about executed lines.
	Coverage [][]byte
	// Unwritten are the names of checks that should have written a file and did not.
	Unwritten []string
	// LintStart and LintResult are findings of linters, by check.
	LintStart, LintResult map[string][]byte
	// Earlier are the paths that earlier rounds had changed.
	Earlier []string
	// Said is the closing message. Passed tells whether the project's tests passed: the checks
	// that tell of tests, or all where none does; AllPassed whether every check did. Nil where
	// nothing was judged.
	Said              []byte
	Passed, AllPassed *bool
}

// BesideOf takes from results of checks what they wrote: of the visible run, with the
// contender's own tests, where there was one.
func (j *Judged) BesideOf() Beside {
	b := Beside{LintResult: map[string][]byte{}}
	results := j.Visible
	if results == nil {
		results = j.Deciding
	}
	for i := range results {
		r := &results[i]
		if r.Check.Sealed {
			continue
		}
		if len(r.Coverage) > 0 {
			b.Coverage = append(b.Coverage, r.Coverage)
		}
		if len(r.Findings) > 0 {
			b.LintResult[string(r.Check.Name)] = r.Findings
		}
		if r.Check.Coverage != "" && r.Coverage == nil || r.Check.Findings != "" && r.Findings == nil {
			b.Unwritten = append(b.Unwritten, string(r.Check.Name))
		}
	}
	all, tests, told := true, true, false
	for i := range results {
		if r := &results[i]; !r.Check.Sealed {
			all = all && r.Run.OK()
			if r.Check.Reads.SeesTests() {
				tests, told = tests && r.Run.OK(), true
			}
		}
	}
	if !told {
		tests = all
	}
	b.Passed, b.AllPassed = &tests, &all
	return b
}

// lintOf are the findings that checks wrote at the start.
func lintOf(results []judge.Result) map[string][]byte {
	var out map[string][]byte
	for i := range results {
		if r := &results[i]; len(r.Findings) > 0 && !r.Check.Sealed {
			if out == nil {
				out = map[string][]byte{}
			}
			out[string(r.Check.Name)] = r.Findings
		}
	}
	return out
}

// indexes keeps what start repositories repeat, for the last few of them.
type indexes struct {
	mu   sync.Mutex
	of   map[string]*patch.Index
	last []string
}

const maxIndexes = 4

// measuring measures changes: in the measurer, or in the service's own process where
// there is none.
type measuring struct {
	git     *workspace.Git
	indexes indexes
}

// Index is what the code of a prepared state looks like, made once.
func (g *measuring) index(ctx context.Context, p *workspace.Prepared, testFiles []string, contents *workspace.Contents) (*patch.Index, error) {
	g.indexes.mu.Lock()
	defer g.indexes.mu.Unlock()
	if x := g.indexes.of[p.Dir]; x != nil {
		return x, nil
	}
	files, err := g.git.Files(p)
	if err != nil {
		return nil, err
	}
	sort.Strings(files)
	x := patch.NewIndex()
	files = slices.DeleteFunc(files, func(name string) bool { return !patch.Indexed(name) || protect.IsTest(testFiles, name) })
	ask := make([]workspace.Asked, len(files))
	for i, name := range files {
		ask[i].Name = name
	}
	contents.Ahead(ask)
	for i, name := range files {
		if i%100 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		x.Add(name, contents.Before(name))
	}
	if g.indexes.of == nil {
		g.indexes.of = map[string]*patch.Index{}
	}
	g.indexes.of[p.Dir] = x
	if g.indexes.last = append(g.indexes.last, p.Dir); len(g.indexes.last) > maxIndexes {
		delete(g.indexes.of, g.indexes.last[0])
		g.indexes.last = g.indexes.last[1:]
	}
	return x, nil
}

// MeasureEdits works out the edit measures of a result of a stage. Where that is more
// than the measurer may use there are no figures, and a note says so.
func (e *Engine) MeasureEdits(ctx context.Context, t *task.Task, p *workspace.Prepared, stage *task.Stage, result Result, with Beside) (*patch.Measures, error) {
	job := &measureJob{Prepared: *p, PreparedDir: p.Dir, Scratch: e.Scratch(), Result: result, With: with, Scope: t.Scope, Never: t.Never, TestFiles: t.TestFiles, Brief: stage.Brief}
	if t.Measures != nil {
		job.Off = t.Measures.Off
	}
	if stage != &t.Stages[0] { // a follow-up's change holds what the stages before it wanted
		for i := range t.Stages {
			job.Brief += "\n" + t.Stages[i].Brief
		}
	}
	for _, text := range append([][]byte{stage.Reference}, stage.AlsoGood...) {
		if text != nil {
			job.References = append(job.References, text)
		}
	}
	if len(result.Diff)+len(result.Shown) > maxMeasured {
		return notMeasured(job, &errNotMeasured{"the change is too large"}), nil
	}
	if !helperReady {
		return e.measuring.measure(ctx, job)
	}
	dir, err := os.MkdirTemp(e.Scratch(), "measure-") // a measurer that is ended leaves what it made
	if err != nil {
		return nil, err
	}
	defer beneath.RemoveTree(dir)
	job.Scratch = dir
	m, err := e.measurers.run(ctx, filepath.Join(e.Data, "git"), job)
	var not *errNotMeasured
	if errors.As(err, &not) {
		e.Log.Warn("a change is too much to be measured", "why", not.why)
		return notMeasured(job, not), nil
	}
	return m, err
}

// maxMeasured is how long a diff may be that is measured, in its two forms together, in bytes.
const maxMeasured = 16 << 20

// notMeasured are the measures of a change that has none.
func notMeasured(job *measureJob, why *errNotMeasured) *patch.Measures {
	return &patch.Measures{Version: patch.MeasuresVersion, Figures: []patch.Figure{}, Findings: []patch.Finding{}, Notes: []string{why.Error()}, Off: job.Off}
}

// measure works out the edit measures of a change.
func (g *measuring) measure(ctx context.Context, job *measureJob) (m *patch.Measures, err error) {
	p, result, with := &job.Prepared, job.Result, job.With
	defer patch.Catch(&err, "what is measured beside the change")
	change, err := g.git.ReadChange(ctx, p, job.Scratch, result.Diff, result.Tree)
	if err != nil {
		return nil, err
	}
	defer change.Close()
	contents, err := g.git.Contents(ctx, p, change)
	if err != nil {
		return nil, err
	}
	defer contents.Close()
	reading := func(c *workspace.Contents) func(patch.Side, string) []byte {
		return func(side patch.Side, name string) []byte {
			if side == patch.Before {
				return c.Before(name)
			}
			return c.After(name)
		}
	}
	ahead := func(c *workspace.Contents) func([]patch.Place) {
		return func(places []patch.Place) {
			ask := make([]workspace.Asked, len(places))
			for i, p := range places {
				ask[i] = workspace.Asked{Result: p.Side == patch.After, Name: p.Path}
			}
			c.Ahead(ask)
		}
	}
	start, err := g.git.Files(p)
	if err != nil {
		return nil, err
	}
	in := &patch.Input{Diff: result.Shown, Start: start, Read: reading(contents), Ahead: ahead(contents), Scope: job.Scope, Never: job.Never, Brief: job.Brief, Earlier: with.Earlier,
		IsTest: func(name string) bool { return protect.IsTest(job.TestFiles, name) }}
	if len(in.Diff) == 0 {
		in.Diff = result.Diff
	}
	in.Off = job.Off
	for _, text := range job.References {
		plain, err := g.git.Between(ctx, p, job.Scratch, text) // whatever made it, and with renames as the change has them
		if err != nil {
			continue // it does not apply: proving says so
		}
		ref, err := g.git.ReadChange(ctx, p, job.Scratch, plain.Diff, plain.Tree)
		if err != nil {
			return nil, err
		}
		defer ref.Close()
		theirs, err := g.git.Contents(ctx, p, ref)
		if err != nil {
			return nil, err
		}
		defer theirs.Close()
		in.References = append(in.References, patch.Reference{Diff: plain.Shown, Read: reading(theirs), Ahead: ahead(theirs)})
	}
	var notes []string
	for _, data := range with.Coverage {
		c, err := patch.ReadCoverage(data)
		if err != nil {
			notes = append(notes, err.Error())
			continue
		}
		in.Covered = in.Covered.Join(c)
	}
	if len(with.LintStart) > 0 || len(with.LintResult) > 0 {
		in.Lint = &patch.Lint{}
		for _, name := range slices.Sorted(maps.Keys(with.LintResult)) {
			if start, there := with.LintStart[name]; there {
				in.Lint.Start, in.Lint.Result = append(in.Lint.Start, start), append(in.Lint.Result, with.LintResult[name])
			}
		}
		if len(in.Lint.Start) == 0 {
			in.Lint = nil
			notes = append(notes, "what linters find at the start is not known")
		}
	}
	for _, name := range with.Unwritten {
		notes = append(notes, fmt.Sprintf("check %s did not write the file that it is to write", name))
	}
	if !slices.Contains(in.Off, "repetition") {
		if in.Index, err = g.index(ctx, p, job.TestFiles, contents); err != nil {
			return nil, err
		}
	}
	m, err = patch.MeasureEdits(in)
	if closed := contents.Close(); err == nil && closed != nil && ctx.Err() == nil {
		err = closed
	}
	if err != nil {
		return nil, err
	}
	m.Notes = append(m.Notes, notes...)
	if !slices.Contains(in.Off, "claims") {
		m.Add(verdict.Claims(verdict.Said{Message: string(with.Said), Passed: with.Passed, AllPassed: with.AllPassed, Changed: change.Paths, Start: start}))
	}
	return m, nil
}

// OutOfBounds says which figures are above what a task allows.
func OutOfBounds(t *task.Task, values map[string]float64) []verdict.Bound {
	var out []verdict.Bound
	if t.Measures == nil {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(t.Measures.AtMost)) {
		if v, there := values[name]; there && v > t.Measures.AtMost[name] {
			out = append(out, verdict.Bound{Figure: name, Value: v, AtMost: t.Measures.AtMost[name]})
		}
	}
	return out
}
