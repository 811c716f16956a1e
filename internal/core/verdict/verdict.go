// Package verdict turns the facts of a bout into passed, failed or void, always
// with one reason.
package verdict

// Outcome is the verdict's yes or no, or neither.
type Outcome string

const (
	Passed Outcome = "passed"
	Failed Outcome = "failed"
	// Void is for what was not the contender's doing; it counts for nobody.
	Void Outcome = "void"
)

// Reason says why; every verdict has exactly one.
type Reason string

const (
	// The reasons of void.
	HarnessFault    Reason = "harness-fault"     // Agonometer or its machine failed
	PrepareFailed   Reason = "prepare-failed"    // the task's own prepare command failed
	Interrupted     Reason = "interrupted"       // the service stopped in the middle of the bout
	StoppedByPerson Reason = "stopped-by-person" // somebody stopped the bout or the contest
	CannotStart     Reason = "cannot-start"      // the contender's program is not there

	// The reasons of failed.
	TimeLimit    Reason = "time-limit"
	ToolCrashed  Reason = "tool-crashed"
	NoChange     Reason = "no-change"
	CheckFailed  Reason = "check-failed"
	CheckTimeout Reason = "check-timeout"

	// The reason of passed.
	ChecksPassed Reason = "checks-passed"
)

// Reasons lists all of them with the words that people read.
func Reasons() map[Reason]string {
	return map[Reason]string{
		HarnessFault:    "Agonometer or its machine failed; not the contender's doing",
		PrepareFailed:   "the task's prepare command failed; not the contender's doing",
		Interrupted:     "the service stopped in the middle of the bout",
		StoppedByPerson: "stopped by a person",
		CannotStart:     "the contender's program could not be started",
		TimeLimit:       "still working at the time limit",
		ToolCrashed:     "the tool ended in error and changed nothing",
		NoChange:        "the tool changed nothing",
		CheckFailed:     "a check failed",
		CheckTimeout:    "a check did not end in its time",
		ChecksPassed:    "every check passed",
	}
}

// CheckOutcome is how one check ended.
type CheckOutcome string

const (
	CheckOK      CheckOutcome = "passed"
	CheckFail    CheckOutcome = "failed"
	CheckTimeOut CheckOutcome = "timeout"
	// CheckNotRun is a check behind one that failed.
	CheckNotRun CheckOutcome = "not-run"
)

// Check is what the verdict needs to know of a check.
type Check struct {
	Name    string
	Outcome CheckOutcome
}

// Facts are what the verdict is worked out from.
type Facts struct {
	// Void is a reason of void, or empty.
	Void Reason
	// VoidDetail says more.
	VoidDetail string
	// TimedOut is set when the tool was stopped at its time limit.
	TimedOut bool
	// EndedInError is set when the tool ended by itself with an exit status other than 0, or by a signal.
	EndedInError bool
	// Changed tells whether the captured diff is not empty.
	Changed bool
	// Checks in their order; empty when nothing was judged.
	Checks []Check
}

// Verdict is the result.
type Verdict struct {
	Outcome Outcome `json:"outcome"`
	Reason  Reason  `json:"reason"`
	// Check names the check that decided, for check-failed and check-timeout.
	Check string `json:"check,omitempty"`
	// Detail says more in words, where there is more to say.
	Detail string `json:"detail,omitempty"`
	// Notes are remarks that change nothing.
	Notes []string `json:"notes,omitempty"`
}

// Of decides: the first that matches, in the order of void, time-limit,
// tool-crashed, no-change, the first failed check, passed.
func Of(f Facts) Verdict {
	if f.Void != "" {
		return Verdict{Outcome: Void, Reason: f.Void, Detail: f.VoidDetail}
	}
	if f.TimedOut {
		return Verdict{Outcome: Failed, Reason: TimeLimit, Detail: reached(f)}
	}
	if !f.Changed {
		if f.EndedInError {
			return Verdict{Outcome: Failed, Reason: ToolCrashed}
		}
		return Verdict{Outcome: Failed, Reason: NoChange}
	}
	var notes []string
	if f.EndedInError {
		notes = append(notes, "the tool ended in error")
	}
	if len(f.Checks) == 0 {
		return Verdict{Outcome: Void, Reason: HarnessFault, Detail: "no check was run"}
	}
	for _, c := range f.Checks {
		switch c.Outcome {
		case CheckFail:
			return Verdict{Outcome: Failed, Reason: CheckFailed, Check: c.Name, Notes: notes}
		case CheckTimeOut:
			return Verdict{Outcome: Failed, Reason: CheckTimeout, Check: c.Name, Notes: notes}
		case CheckNotRun:
			return Verdict{Outcome: Void, Reason: HarnessFault, Check: c.Name, Detail: "a check was not run", Notes: notes}
		}
	}
	return Verdict{Outcome: Passed, Reason: ChecksPassed, Notes: notes}
}

// reached says what a bout that was stopped at a limit had got to.
func reached(f Facts) string {
	switch {
	case !f.Changed:
		return "nothing was changed until then"
	case len(f.Checks) == 0:
		return ""
	}
	for _, c := range f.Checks {
		if c.Outcome != CheckOK {
			return "what it had reached: check " + c.Name + " " + string(c.Outcome)
		}
	}
	return "what it had reached passes every check"
}

// Reruns tells whether a void bout is worth running again by itself.
func (r Reason) Reruns() bool {
	return r == HarnessFault || r == PrepareFailed || r == Interrupted || r == CannotStart
}
