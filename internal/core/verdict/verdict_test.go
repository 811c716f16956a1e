package verdict

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOf(t *testing.T) {
	ok, bad, late, not := Check{"build", CheckOK}, Check{"tests", CheckFail}, Check{"tests", CheckTimeOut}, Check{"lint", CheckNotRun}
	cases := []struct {
		name    string
		facts   Facts
		outcome Outcome
		reason  Reason
		check   string
	}{
		{"void before all", Facts{Void: Interrupted, TimedOut: true, Changed: true, Checks: []Check{ok}}, Void, Interrupted, ""},
		{"late although it passes", Facts{TimedOut: true, Changed: true, Checks: []Check{ok}}, Failed, TimeLimit, ""},
		{"late and nothing", Facts{TimedOut: true}, Failed, TimeLimit, ""},
		{"crashed with nothing", Facts{EndedInError: true}, Failed, ToolCrashed, ""},
		{"no change", Facts{}, Failed, NoChange, ""},
		{"first failed check", Facts{Changed: true, Checks: []Check{ok, bad, not}}, Failed, CheckFailed, "tests"},
		{"check too slow", Facts{Changed: true, Checks: []Check{late, not}}, Failed, CheckTimeout, "tests"},
		{"passed", Facts{Changed: true, Checks: []Check{ok}}, Passed, ChecksPassed, ""},
		{"passed though it ended in error", Facts{Changed: true, EndedInError: true, Checks: []Check{ok}}, Passed, ChecksPassed, ""},
		{"nothing was judged", Facts{Changed: true}, Void, HarnessFault, ""},
		{"a check was left out", Facts{Changed: true, Checks: []Check{ok, not}}, Void, HarnessFault, "lint"},
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
	assert.Equal(t, "what it had reached passes every check", Of(Facts{TimedOut: true, Changed: true, Checks: []Check{ok}}).Detail)
	assert.Equal(t, "what it had reached: check tests failed", Of(Facts{TimedOut: true, Changed: true, Checks: []Check{ok, bad}}).Detail)
}

func TestOnlyFaultsAreRunAgain(t *testing.T) {
	for reason := range Reasons() {
		want := reason == HarnessFault || reason == PrepareFailed || reason == Interrupted || reason == CannotStart
		assert.Equal(t, want, reason.Reruns(), reason)
	}
}
