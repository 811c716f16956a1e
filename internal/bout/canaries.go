package bout

import (
	"context"
	"crypto/rand"
	"maps"
	"slices"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/judge"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/canary"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/task"
)

// What became of a check's canary.
const (
	CanarySeen    = "seen"
	CanaryNotSeen = "not seen"
	// CanaryNone: nothing that this check sees fail could be put beside its tests.
	CanaryNone = "none"
	// CanaryHarmless: the change has nothing in it that could steer a check.
	CanaryHarmless = "not needed: only prose and pictures were changed"
)

// word is a word of letters that nobody can know beforehand.
func word() string {
	raw := make([]byte, 12)
	_, _ = rand.Read(raw) // it does not fail on the systems that we run on
	for i := range raw {
		raw[i] = 'a' + raw[i]%26
	}
	return string(raw)
}

// canaryFor is the task's own canary, or one beside the tests of a copy that a check ran in.
func canaryFor(in judge.Copy, t *task.Task, result *judge.Result) (*canary.Canary, error) {
	if len(t.CanaryFiles) > 0 {
		return canary.Own(t.CanaryFiles, word()), nil
	}
	d, err := beneath.Open(in.Tree)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var files []string
	if err := d.Walk(func(_ *beneath.Dir, base, name string, st *unix.Stat_t) (bool, error) {
		if beneath.Kind(st) == unix.S_IFREG && len(files) < maxCanaryFiles {
			files = append(files, name)
		}
		return base != ".git" && base != "node_modules" && base != "vendor", nil
	}); err != nil {
		return nil, err
	}
	return canary.Beside(files, result.Run.Tests, func(name string) []byte {
		data, err := d.ReadFile(name, 1<<20)
		if err != nil {
			return nil
		}
		return data
	}, word()), nil
}

const maxCanaryFiles = 50_000

// sees runs a check with a canary in a fresh copy, and tells whether it saw it fail. had is
// how it ended without one. known is false where there is no canary for it.
func (c *copies) sees(ctx context.Context, check task.Check, had *judge.Result, laid workspace.Laid, o judge.Options) (seen, known bool, err error) {
	in, err := c.make(laid, check)
	if err != nil {
		return false, false, err
	}
	bird, err := canaryFor(in, c.j.Task, had)
	if err != nil || bird == nil {
		return false, false, err
	}
	with := workspace.Laid{Files: bird.Files}
	if err := c.lay(in, with); err != nil {
		return false, false, err
	}
	o.Ends = nil
	results, err := judge.Run(ctx, func(task.Check) (judge.Copy, error) { return in, nil }, []task.Check{check}, o)
	if err != nil {
		return false, false, err
	}
	r := &results[0].Run
	return bird.Seen(check.Reads.SeesTests(), r.Tests, had.Run.Tests, r.ExitCode != 0 || r.TimedOut), true, nil
}

// asked tells whether a check's pass is asked about: one that reads tests, and under
// strict protection each that has no figure for a result.
func asked(t *task.Task, c task.Check) bool {
	return c.Reads.SeesTests() || t.Protect == task.Strict && c.Reads == task.ReadsExit
}

// canaries asks the checks of a result that passed whether they see a test fail that must.
func (e *Engine) canaries(ctx context.Context, j Job, stage *task.Stage, base *outcome.Baseline, c *copies, laid workspace.Laid, out *Judged, changed []string, started func(string)) error {
	for _, check := range out.Compared.Checks {
		if !check.OK {
			return nil
		}
	}
	out.Canaries = map[string]string{}
	for i := range out.Deciding {
		had := &out.Deciding[i]
		name := string(had.Check.Name)
		switch {
		case !asked(j.Task, had.Check):
			continue
		case canary.Harmless(changed):
			out.Canaries[name] = CanaryHarmless
			continue
		case base == nil || !base.Canaries[name]:
			out.Canaries[name] = CanaryNone
			continue
		}
		started("canary of check " + name)
		seen, known, err := c.sees(ctx, had.Check, had, laid, judge.Options{Limits: j.Limits, Secrets: drive.Secrets(j.Contender), Keep: keeps(nil)})
		if err != nil {
			return err
		}
		switch {
		case !known:
			out.Canaries[name] = CanaryNone
		case seen:
			out.Canaries[name] = CanarySeen
		default:
			out.Canaries[name] = CanaryNotSeen
		}
	}
	return nil
}

// Subverted are the checks of a result that passed and did not see their canaries fail.
func (j *Judged) Subverted() []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(j.Canaries)) {
		if j.Canaries[name] == CanaryNotSeen {
			out = append(out, name)
		}
	}
	return out
}

// calibrate finds out which checks see a canary fail, with what is known to be good.
func (e *Engine) calibrate(ctx context.Context, j Job, base *outcome.Baseline, c *copies, laid workspace.Laid, results []judge.Result, started func(string)) error {
	for i := range results {
		had := &results[i]
		// Where single tests are read, some of which fail as they should, it is enough that they ran.
		ran := had.Run.OK() || had.Check.Reads.SeesTests() && had.Run.Summary().Passed > 0
		if !asked(j.Task, had.Check) || !ran {
			continue
		}
		started("canary of check " + string(had.Check.Name))
		seen, known, err := c.sees(ctx, had.Check, had, laid, judge.Options{Limits: j.Limits})
		if err != nil {
			return err
		}
		if seen && known {
			if base.Canaries == nil {
				base.Canaries = map[string]bool{}
			}
			base.Canaries[string(had.Check.Name)] = true
		}
	}
	return nil
}
