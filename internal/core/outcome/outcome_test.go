package outcome

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
)

func tests(outcomes map[string]testlog.Outcome) []testlog.Test {
	var out []testlog.Test
	for name, o := range outcomes {
		out = append(out, testlog.Test{Name: name, Outcome: o, Message: "said by " + name})
	}
	return out
}

// run is a run of one check that sees tests.
func run(exit int, outcomes map[string]testlog.Outcome) Run {
	return Run{{Check: "tests", Reads: task.ReadsTAP, Ran: true, ExitCode: exit, Tests: tests(outcomes)}}
}

type o = map[string]testlog.Outcome

const (
	pass = testlog.Passed
	fail = testlog.Failed
	skip = testlog.Skipped
	gone = testlog.Missing
)

var oneCheck = task.Stage{Checks: []task.Check{{Name: "tests", Reads: task.ReadsTAP}}}

// base: "old" passes always, "bug" is to be mended, "new" comes with the sealed
// files and breaks what stands beside it at the start, "flaky" is known to be so.
func base() *Baseline {
	return &Baseline{
		Start:       run(1, o{"old": pass, "beside": pass, "bug": fail, "flaky": pass}),
		StartSealed: run(1, o{"old": pass, "bug": fail}),
		Reference:   run(0, o{"old": pass, "beside": pass, "bug": pass, "new": pass, "flaky": pass}),
		Unsteady:    []Key{{"tests", "flaky"}},
	}
}

func row(t *testing.T, r Result, name string) Row {
	t.Helper()
	for _, one := range r.Rows {
		if one.Name == name {
			return one
		}
	}
	t.Fatalf("no row for %s", name)
	return Row{}
}

func TestRolesComeFromBothSides(t *testing.T) {
	roles := base().Roles(&oneCheck, nil)
	key := func(name string) Key { return Key{"tests", name} }
	assert.Equal(t, Known{Guard, pass, pass}, roles[key("old")])
	assert.Equal(t, Known{Guard, pass, pass}, roles[key("beside")], "before is taken without the sealed files, which broke it")
	assert.Equal(t, Known{Goal, fail, pass}, roles[key("bug")])
	assert.Equal(t, Known{Goal, gone, pass}, roles[key("new")])
	assert.Equal(t, Other, roles[key("flaky")].Role, "what is unsteady is no guard")
}

func TestPatternsNameRoles(t *testing.T) {
	stage := oneCheck
	stage.Goal, stage.Guard = []string{"b*g", "never seen"}, []string{"old"}
	roles := base().Roles(&stage, nil)
	assert.Equal(t, Goal, roles[Key{"tests", "bug"}].Role)
	assert.Equal(t, Goal, roles[Key{"tests", "never seen"}].Role, "a goal that nobody has seen is still wanted")
	assert.Equal(t, Guard, roles[Key{"tests", "old"}].Role)
	assert.Equal(t, Other, roles[Key{"tests", "beside"}].Role)
	assert.Equal(t, Other, roles[Key{"tests", "new"}].Role)
}

func TestCompare(t *testing.T) {
	good := o{"old": pass, "beside": pass, "bug": pass, "new": pass, "flaky": fail}
	with := func(changes o) o {
		out := o{}
		for k, v := range good {
			out[k] = v
		}
		for k, v := range changes {
			if v == gone {
				delete(out, k)
			} else {
				out[k] = v
			}
		}
		return out
	}
	cases := []struct {
		name           string
		runs           Runs
		ok             bool
		goals, guards  Share
		missed, broken int
		flag           string
	}{
		{"everything", Runs{Deciding: run(0, good)}, true, Share{2, 2}, Share{2, 2}, 0, 0, ""},
		{"the exit status does not decide", Runs{Deciding: run(1, good)}, true, Share{2, 2}, Share{2, 2}, 0, 0, ""},
		{"a goal fails", Runs{Deciding: run(1, with(o{"bug": fail}))}, false, Share{1, 2}, Share{2, 2}, 1, 0, ""},
		{"a goal is skipped", Runs{Deciding: run(0, with(o{"bug": skip}))}, false, Share{1, 2}, Share{2, 2}, 1, 0, ""},
		{"a goal was not seen", Runs{Deciding: run(0, with(o{"new": gone}))}, false, Share{1, 2}, Share{2, 2}, 1, 0, ""},
		{"nothing ran, and the status is 0", Runs{Deciding: run(0, nil)}, false, Share{0, 2}, Share{0, 2}, 2, 2, ""},
		{"a guard breaks", Runs{Deciding: run(1, with(o{"old": fail}))}, false, Share{2, 2}, Share{1, 2}, 0, 1, ""},
		{"a guard breaks, and again", Runs{Deciding: run(1, with(o{"old": fail})), Again: run(1, with(o{"old": fail}))}, false, Share{2, 2}, Share{1, 2}, 0, 1, ""},
		{"an unsteady guard", Runs{Deciding: run(1, with(o{"old": fail})), Again: run(0, good)}, true, Share{2, 2}, Share{2, 2}, 0, 0, "unsteady"},
		{"a test from nowhere", Runs{Deciding: run(0, with(o{"forged": pass}))}, true, Share{2, 2}, Share{2, 2}, 0, 0, "from nowhere"},
		{"a case of a known test", Runs{Deciding: run(0, with(o{"old > with care": pass}))}, true, Share{2, 2}, Share{2, 2}, 0, 0, ""},
		{"a forged pass, and the real one fails", Runs{Deciding: run(1, with(o{"bug #2": fail}))}, false, Share{1, 2}, Share{2, 2}, 1, 0, "from nowhere"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r := Compare(&oneCheck, base(), c.runs)
			require.Len(t, r.Checks, 1)
			assert.Equal(t, c.ok, r.Checks[0].OK, r.Checks[0].Why)
			assert.Equal(t, c.goals, r.Goals)
			assert.Equal(t, c.guards, r.Guards)
			assert.Equal(t, c.missed, r.Checks[0].Missed)
			assert.Equal(t, c.broken, r.Checks[0].Broken)
			if c.flag == "" {
				assert.Empty(t, r.Flags)
			} else {
				require.NotEmpty(t, r.Flags)
				assert.Contains(t, r.Flags[0], c.flag)
			}
			_, err := json.Marshal(r)
			assert.NoError(t, err)
		})
	}
}

func TestRowsStandInTheirOrder(t *testing.T) {
	r := Compare(&oneCheck, base(), Runs{Deciding: run(1, o{"old": fail, "beside": pass, "bug": pass}), Own: run(0, o{"old": pass, "bug": pass, "beside": skip, "mine": pass, "mine too": fail})})
	var names []string
	for _, one := range r.Rows {
		names = append(names, one.Name)
	}
	assert.Equal(t, []string{"new", "bug", "old", "beside", "mine too", "mine", "flaky"}, names)
	assert.Equal(t, Share{1, 2}, r.Own)
	assert.Equal(t, Own, row(t, r, "mine").Role)
	assert.Contains(t, row(t, r, "old").Message, "said by old")
	assert.Empty(t, r.Removed, "the contender's own run did not go well, so what is missing there says nothing")
}

func TestWeakenedTestsAreSeenInTheOwnRun(t *testing.T) {
	r := Compare(&oneCheck, base(), Runs{Deciding: run(1, o{"old": fail, "beside": fail, "bug": pass, "new": pass}), Own: run(0, o{"beside": skip, "bug": pass})})
	assert.Equal(t, []Key{{"tests", "old"}}, r.Removed)
	assert.Equal(t, []Key{{"tests", "beside"}}, r.Skipped)
}

func TestTheContendersOwnFilesInTheDecidingRun(t *testing.T) {
	r := Compare(&oneCheck, base(), Runs{Deciding: run(0, o{"old": pass, "beside": pass, "bug": pass, "new": pass, "mine": pass}), OwnInDeciding: true})
	assert.Equal(t, Own, row(t, r, "mine").Role)
	assert.Empty(t, r.Flags)
}

// Without goals, and without a reference that could tell them, every test and the exit status count.
func TestWithoutGoalsEverythingCounts(t *testing.T) {
	b := &Baseline{Start: run(0, o{"old": pass}), StartSealed: run(1, nil)}
	for name, c := range map[string]struct {
		run Run
		ok  bool
	}{
		"all pass":                   {run(0, o{"old": pass, "new": pass}), true},
		"a test beside the guards":   {run(1, o{"old": pass, "new": fail}), false},
		"the status":                 {run(2, o{"old": pass}), false},
		"a guard that was not there": {run(0, o{"new": pass}), false},
		"nothing":                    {run(0, nil), false},
	} {
		t.Run(name, func(t *testing.T) {
			r := Compare(&oneCheck, b, Runs{Deciding: c.run})
			assert.Equal(t, c.ok, r.Checks[0].OK, r.Checks[0].Why)
		})
	}
}

func TestWholeChecks(t *testing.T) {
	stage := task.Stage{Checks: []task.Check{{Name: "build", Reads: task.ReadsExit}, {Name: "tables", Reads: task.ReadsExit}}}
	exits := func(build, tables int) Run {
		return Run{{Check: "build", Reads: task.ReadsExit, Ran: true, ExitCode: build}, {Check: "tables", Reads: task.ReadsExit, Ran: true, ExitCode: tables}}
	}
	b := &Baseline{Start: exits(0, 1), StartSealed: exits(0, 1)}
	r := Compare(&stage, b, Runs{Deciding: exits(0, 0)})
	assert.Equal(t, Share{1, 1}, r.Goals, "what fails at the start is a goal")
	assert.Equal(t, Share{1, 1}, r.Guards)
	assert.True(t, r.Checks[0].OK && r.Checks[1].OK)
	r = Compare(&stage, b, Runs{Deciding: exits(2, 0), Again: exits(0, 0)[:1]})
	assert.True(t, r.Checks[0].OK, "an unsteady build is not held against anyone")
	r = Compare(&stage, b, Runs{Deciding: exits(2, 0)[:1]})
	assert.Equal(t, "exit status 2", r.Checks[0].Why)
	assert.True(t, r.Checks[1].NotRun)
	timed := exits(0, 0)
	timed[1].TimedOut = true
	r = Compare(&stage, b, Runs{Deciding: timed})
	assert.True(t, r.Checks[1].TimedOut)
	assert.False(t, r.Checks[1].OK)
}

func TestFigures(t *testing.T) {
	bound := func(text string) *task.Bound {
		b := &task.Bound{}
		require.NoError(t, b.ParseScalar(text))
		return b
	}
	figures := func(values ...float64) Run {
		return Run{{Check: "speed", Reads: task.ReadsNumber, Ran: true, Values: values}}
	}
	b := &Baseline{Start: figures(100, 120, 110), StartSealed: figures(100, 120, 110), Reference: figures(40, 50)}
	cases := []struct {
		name   string
		number task.Number
		values Run
		ok     bool
		goals  Share
	}{
		{"no bound, only shown", task.Number{}, figures(500), true, Share{}},
		{"no bound, no figure", task.Number{}, figures(), true, Share{}},
		{"under a plain bound", task.Number{AtMost: bound("60")}, figures(70, 50, 55), true, Share{1, 1}},
		{"over it", task.Number{AtMost: bound("50")}, figures(70, 50, 55), false, Share{0, 1}},
		{"half of the start's", task.Number{AtMost: bound("0.5 x start")}, figures(55), true, Share{1, 1}},
		{"more than half", task.Number{AtMost: bound("0.5 x start")}, figures(56), false, Share{0, 1}},
		{"near the reference's", task.Number{AtMost: bound("1.2 x reference")}, figures(54), true, Share{1, 1}},
		{"at least", task.Number{AtLeast: bound("2 x reference")}, figures(89), false, Share{0, 1}},
		{"a bound and no figure", task.Number{AtMost: bound("60")}, figures(), false, Share{0, 1}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			stage := task.Stage{Checks: []task.Check{{Name: "speed", Reads: task.ReadsNumber, Number: &c.number}}}
			r := Compare(&stage, b, Runs{Deciding: c.values})
			assert.Equal(t, c.ok, r.Checks[0].OK, r.Checks[0].Why)
			assert.Equal(t, c.goals, r.Goals)
			require.Len(t, r.Figures, 1)
			assert.NotEmpty(t, r.Figures[0].Words())
		})
	}
	stage := task.Stage{Checks: []task.Check{{Name: "speed", Reads: task.ReadsNumber, Number: &task.Number{Unit: "ms"}}}}
	f := Compare(&stage, b, Runs{Deciding: figures(70, 50, 55)}).Figures[0]
	assert.Equal(t, 55.0, *f.Median)
	assert.Equal(t, 50.0, *f.Lowest)
	assert.Equal(t, 70.0, *f.Highest)
	assert.Equal(t, 0.5, *f.StartRatio)
	assert.InDelta(t, 1.2222, *f.ReferenceRatio, 0.0001)
	assert.Equal(t, "55 ms (50 to 70 in 3 runs), 0.5 x the start's, 1.222 x the reference's", f.Words())
	none := Compare(&stage, &Baseline{}, Runs{Deciding: figures(5)}).Figures[0]
	assert.Nil(t, none.StartRatio, "what was not measured is absent")
}

func TestDisagree(t *testing.T) {
	got := Disagree([]Run{run(0, o{"a": pass, "b": pass}), run(1, o{"a": pass, "b": fail, "c": pass})})
	assert.ElementsMatch(t, []Key{{"tests", "b"}, {"tests", "c"}}, got)
	assert.Empty(t, Disagree([]Run{run(0, o{"a": pass}), run(0, o{"a": pass})}))
}

// What decides is the sealed form of a test: one that gained a case passes at the start
// in its old form, and is a goal.
func TestAChangedTestIsAGoal(t *testing.T) {
	b := &Baseline{
		Start:       run(0, o{"changed": pass, "kept": pass, "unbuilt": pass, "said anew": pass, "shut": pass}),
		StartSealed: run(1, o{"changed": fail, "changed/new": fail, "kept": pass, "added": pass, "shut": skip}),
		Reference:   run(0, o{"changed": pass, "changed/new": pass, "kept": pass, "added": pass, "unbuilt": pass, "said anew": pass, "shut": pass}),
		Changed:     []Key{{"tests", "said anew"}},
	}
	roles := b.Roles(&oneCheck, nil)
	for name, want := range map[string]Known{
		"changed": {Goal, fail, pass}, "changed/new": {Goal, fail, pass}, "shut": {Goal, skip, pass},
		"kept": {Guard, pass, pass}, "added": {Guard, pass, pass}, "unbuilt": {Guard, pass, pass}, "said anew": {Goal, gone, pass},
	} {
		assert.Equal(t, want, roles[Key{"tests", name}], name)
	}
}

// Where the sealed tests do not build with a result, as they did not at the start, guards
// are what the start's own tests say.
func TestGuardsWhereSealedTestsDoNotBuild(t *testing.T) {
	b := &Baseline{
		Start:       run(0, o{"a": pass, "b": pass, "c": pass, "other": pass}),
		StartSealed: run(1, o{"other": pass}),
		Reference:   run(0, o{"a": pass, "b": pass, "c": pass, "new": pass, "other": pass}),
	}
	half := run(1, o{"other": pass}) // the package of a, b, c and new does not build
	blind := Compare(&oneCheck, b, Runs{Deciding: half})
	assert.Equal(t, "1 goal missed, 3 guards broken", blind.Checks[0].Why)
	seen := Compare(&oneCheck, b, Runs{Deciding: half, OwnTests: run(1, o{"a": pass, "b": pass, "c": fail, "other": pass})})
	assert.Equal(t, Share{3, 4}, seen.Guards, "c is broken by hand too")
	assert.Contains(t, row(t, seen, "c").Message, "start's own tests")
	whole := Compare(&oneCheck, b, Runs{Deciding: half, OwnTests: run(0, o{"a": pass, "b": pass, "c": pass, "other": pass})})
	assert.Equal(t, Share{4, 4}, whole.Guards)
	assert.Equal(t, "1 goal missed; the sealed tests do not build, or do not get to their end, with this result", whole.Checks[0].Why)
	assert.False(t, whole.Checks[0].OK)

	// Where no goal would tell, a result with which the sealed tests do not build passes not.
	without := &Baseline{Start: b.Start, StartSealed: b.StartSealed, Reference: run(0, o{"a": pass, "b": pass, "c": pass, "other": pass})}
	hidden := Compare(&oneCheck, without, Runs{Deciding: half, OwnTests: run(0, o{"a": pass, "b": pass, "c": pass, "other": pass})})
	assert.Equal(t, Share{4, 4}, hidden.Guards)
	assert.False(t, hidden.Checks[0].OK)
	assert.Contains(t, hidden.Checks[0].Why, "do not build")

	// They build with this one, and a asks for more than it did at the start.
	more := Compare(&oneCheck, b, Runs{Deciding: run(1, o{"a": fail, "b": pass, "c": pass, "new": pass, "other": pass}), OwnTests: run(0, o{"a": pass, "b": pass, "c": pass})})
	assert.Equal(t, Goal, row(t, more, "a").Role)
	assert.Equal(t, "1 goal missed", more.Checks[0].Why)

	// What ran at the start with the sealed files is decided by them.
	b.StartSealed = b.Start
	decided := Compare(&oneCheck, b, Runs{Deciding: half, OwnTests: run(0, o{"a": pass, "b": pass, "c": pass, "other": pass})})
	assert.Equal(t, Share{1, 4}, decided.Guards)
}

func TestChangedTests(t *testing.T) {
	goBefore := "package a\n\nfunc TestA(t *testing.T) {\n\tif a() != 1 {\n\t\tt.Fatal()\n\t}\n}\n\nfunc TestB(t *testing.T) {\n\tb()\n}\n"
	goAfter := "package a\n\nfunc TestA(t *testing.T) {\n\tif  a() != 2 {\n\t\tt.Fatal()\n\t}\n}\n\n// Moved.\nfunc TestB(t *testing.T) {\n\n\tb()\n}\n\nfunc TestC(t *testing.T) {}\n"
	assert.Equal(t, []string{"averil.example/a TestA"}, ChangedTests(goBefore, goAfter, []string{"averil.example/a TestA", "averil.example/a TestA/one", "averil.example/a TestB", "averil.example/a TestC", "averil.example/b Test"}))
	python := "class Lamp(unittest.TestCase):\n    def test_on(self):\n        self.assertTrue(on())\n\n    def test_off(self):\n        pass\n"
	assert.Equal(t, []string{"test_lamp.Lamp test_off"}, ChangedTests(python, python[:len(python)-5]+"self.fail()\n", []string{"test_lamp.Lamp test_on", "test_lamp.Lamp test_off", "test_lamp.Lamp test_off[2]"}))
	script := "describe('lamp', () => {\n  it('goes on', () => {\n    on();\n  });\n  it('goes off', () => {});\n});\n"
	assert.Equal(t, []string{"lamp > goes on"}, ChangedTests(script, "describe('lamp', () => {\n  it('goes on', () => {\n    on(2);\n  });\n  it('goes off', () => {});\n});\n", []string{"lamp > goes on", "lamp > goes off"}))
	assert.Empty(t, ChangedTests("", "x", []string{"", "x", " > ", "a[", "/"}))
}
