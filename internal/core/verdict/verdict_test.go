package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	ok, bad, late, not := Check{Name: "build", Outcome: CheckOK}, Check{Name: "tests", Outcome: CheckFail}, Check{Name: "tests", Outcome: CheckTimeOut}, Check{Name: "lint", Outcome: CheckNotRun}
	missed, broken := Check{Name: "goals", Outcome: CheckFail, Missed: 2, Why: "2 goals missed"}, Check{Name: "guards", Outcome: CheckFail, Missed: 1, Broken: 1}
	cases := []struct {
		name    string
		facts   Facts
		outcome Outcome
		reason  Reason
		check   string
	}{
		{"void before all", Facts{Void: Interrupted, Limit: TimeLimit, Changed: true, Checks: []Check{ok}}, Void, Interrupted, ""},
		{"late although it passes", Facts{Limit: TimeLimit, Changed: true, Checks: []Check{ok}}, Failed, TimeLimit, ""},
		{"late and nothing", Facts{Limit: TimeLimit}, Failed, TimeLimit, ""},
		{"crashed with nothing", Facts{EndedInError: true}, Failed, ToolCrashed, ""},
		{"no change", Facts{}, Failed, NoChange, ""},
		{"first failed check", Facts{Changed: true, Checks: []Check{ok, bad, not}}, Failed, CheckFailed, "tests"},
		{"check too slow", Facts{Changed: true, Checks: []Check{late, not}}, Failed, CheckTimeout, "tests"},
		{"goals missed", Facts{Changed: true, Checks: []Check{ok, missed}}, Failed, GoalsMissed, "goals"},
		{"guards broken come before goals missed", Facts{Changed: true, Checks: []Check{ok, broken}}, Failed, GuardsBroken, "guards"},
		{"weakened tests are a remark", Facts{Changed: true, Weakened: []string{"x"}, Checks: []Check{ok}}, Passed, ChecksPassed, ""},
		{"and a failure where they are protected strictly", Facts{Changed: true, Strict: true, Weakened: []string{"x"}, Checks: []Check{ok}}, Failed, TestsWeakened, ""},
		{"what fails comes before what was weakened", Facts{Changed: true, Strict: true, Weakened: []string{"x"}, Checks: []Check{bad}}, Failed, CheckFailed, "tests"},
		{"a question answered", Facts{Question: true}, Passed, ChecksPassed, ""},
		{"a question, facts missed", Facts{Question: true, Missed: []string{"depth"}}, Failed, GoalsMissed, ""},
		{"a question, files changed", Facts{Question: true, Changed: true, Strange: []string{"a.go"}}, Failed, FilesChanged, ""},
		{"a question, late", Facts{Question: true, Limit: TimeLimit}, Failed, TimeLimit, ""},
		{"passed", Facts{Changed: true, Checks: []Check{ok}}, Passed, ChecksPassed, ""},
		{"passed though it ended in error", Facts{Changed: true, EndedInError: true, Checks: []Check{ok}}, Passed, ChecksPassed, ""},
		{"nothing was judged", Facts{Changed: true}, Void, HarnessFault, ""},
		{"a check was not reached", Facts{Changed: true, Checks: []Check{ok, not}}, Failed, CheckFailed, "lint"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			v := Of(c.facts)
			assert.Equal(t, c.outcome, v.Outcome)
			assert.Equal(t, c.reason, v.Reason)
			assert.Equal(t, c.check, v.Check)
			assert.Contains(t, Reasons(), v.Reason)
		})
	}
	assert.Equal(t, []string{"the tool ended in error"}, Of(Facts{Changed: true, EndedInError: true, Checks: []Check{ok}}).Notes)
	assert.Equal(t, "what it had reached passes every check", Of(Facts{Limit: TimeLimit, Changed: true, Checks: []Check{ok}}).Detail)
	assert.Equal(t, "what it had reached: check tests failed", Of(Facts{Limit: TimeLimit, Changed: true, Checks: []Check{ok, bad}}).Detail)
}

func TestLongListsAreCut(t *testing.T) {
	many := make([]string, MaxNames+5)
	v := Of(Facts{Changed: true, Missed: many, Checks: []Check{{Name: "t", Outcome: CheckFail, Missed: len(many)}}})
	assert.Len(t, v.Missed, MaxNames+1)
	assert.Equal(t, "… and 5 more", v.Missed[MaxNames])
}

func TestOnlyFaultsAreRunAgain(t *testing.T) {
	for reason := range Reasons() {
		want := reason == HarnessFault || reason == PrepareFailed || reason == Interrupted || reason == CannotStart || reason == HandshakeFailed || reason == Refused || reason == OtherModel
		assert.Equal(t, want, reason.Reruns(), reason)
	}
}
