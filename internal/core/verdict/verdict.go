// Package verdict turns the facts of a bout into passed, failed or void, always
// with one reason.
package verdict

import (
	"fmt"
	"strings"
)

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
	CheckCannotRun  Reason = "check-cannot-run"  // a check names a program that is not there, before any contender
	Interrupted     Reason = "interrupted"       // the service stopped in the middle of the bout
	StoppedByPerson Reason = "stopped-by-person" // somebody stopped the bout or the contest
	Discarded       Reason = "discarded"         // a person threw away a bout that they had worked
	CannotStart     Reason = "cannot-start"      // the contender's program is not there
	ReferenceFails  Reason = "reference-fails"   // the task's own known good change does not pass on this machine

	// HandshakeFailed is for a tool that was started and did not come to begin its work. It
	// is void as long as that was so everywhere; where the contender did begin elsewhere in
	// the contest, it is a failure.
	HandshakeFailed Reason = "handshake-failed"

	Refused    Reason = "refused"     // the model service refused, and the contest makes such bouts void
	OtherModel Reason = "other-model" // another model replied, and the contest makes such bouts void

	// The reasons of failed.
	TimeLimit   Reason = "time-limit"
	QuietLimit  Reason = "quiet-limit"
	TokenLimit  Reason = "token-limit"
	SpendLimit  Reason = "spend-limit"
	MemoryLimit Reason = "memory-limit"
	DiskLimit   Reason = "disk-limit"
	CPULimit    Reason = "cpu-limit"
	// OwnFlood is a refusal by the model service that came after a flood of requests.
	OwnFlood     Reason = "own-flood"
	ToolCrashed  Reason = "tool-crashed"
	NoChange     Reason = "no-change"
	CheckFailed  Reason = "check-failed"
	CheckTimeout Reason = "check-timeout"
	GoalsMissed  Reason = "goals-missed"  // goal tests, or facts of a reply, were not reached
	GuardsBroken Reason = "guards-broken" // tests that passed at the start do not pass any more
	// TestsWeakened is for tasks that protect their tests strictly.
	TestsWeakened Reason = "tests-weakened"
	// CheckSubverted is for a check that passed, and passes with a test that must fail.
	CheckSubverted Reason = "check-subverted"
	// EditsBeyond is for tasks that bound figures of the edit measures.
	EditsBeyond Reason = "edits-beyond"
	// FilesChanged is for questions, which change nothing.
	FilesChanged Reason = "files-changed"

	// The reason of passed.
	ChecksPassed Reason = "checks-passed"
)

// Reasons lists all of them with the words that people read.
func Reasons() map[Reason]string {
	return map[Reason]string{
		HarnessFault:    "Agonometer or its machine failed; not the contender's doing",
		PrepareFailed:   "the task's prepare command failed; not the contender's doing",
		CheckCannotRun:  "a check names a program that is not there; not the contender's doing",
		Interrupted:     "the service stopped in the middle of the bout",
		StoppedByPerson: "stopped by a person",
		Discarded:       "thrown away by the person who worked it",
		CannotStart:     "the contender's program could not be started",
		TimeLimit:       "still working at the time limit",
		QuietLimit:      "nothing was seen of the tool for too long",
		TokenLimit:      "all the tokens that it may use were used",
		SpendLimit:      "all the money that it may spend was spent",
		MemoryLimit:     "more memory was used than may be",
		DiskLimit:       "more was written than may be",
		OwnFlood:        "the model service refused after a flood of the tool's own requests",
		HandshakeFailed: "the tool was started and did not begin to work",
		CPULimit:        "more CPU time was used than may be",
		Refused:         "the model service refused to work",
		OtherModel:      "another model replied than may reply",
		ToolCrashed:     "the tool ended in error and changed nothing",
		NoChange:        "the tool changed nothing",
		CheckFailed:     "a check failed",
		CheckTimeout:    "a check did not end in its time",
		ChecksPassed:    "every check passed",
		ReferenceFails:  "the task's own reference does not pass on this machine; not the contender's doing",
		GoalsMissed:     "not everything that was wanted is there",
		GuardsBroken:    "something that worked before does not work any more",
		TestsWeakened:   "the tests were weakened",
		CheckSubverted:  "a check passes whatever the tests say: it does not see a test fail that must",
		EditsBeyond:     "the change is beyond what the task allows",
		FilesChanged:    "files were changed although nothing was to change",
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
	// Missed and Broken count goals and guards that are not as wanted.
	Missed, Broken int
	// Why says in words what is wrong.
	Why string
	// Limit is the limit of the machine's resources at which it was ended; empty for none.
	Limit Reason
}

// Share counts how many of a kind there are, and how many are as wanted.
type Share struct {
	Reached int `json:"reached"`
	Total   int `json:"total"`
}

// Facts are what the verdict is worked out from.
type Facts struct {
	// Void is a reason of void, or empty.
	Void Reason
	// VoidDetail says more.
	VoidDetail string
	// Limit is the limit at which the tool was stopped; empty for none.
	Limit Reason
	// LimitDetail says in words how far it was, where there is more to say.
	LimitDetail string
	// EndedInError is set when the tool ended by itself with an exit status other than 0, or by a signal.
	EndedInError bool
	// Changed tells whether the captured diff is not empty.
	Changed bool
	// Checks in their order; empty when nothing was judged.
	Checks []Check
	// Missed and Broken name the goals and guards that are not as wanted.
	Missed, Broken []string
	Goals          *Share
	Own            *Share
	// Weakened says in words what was done to the tests; Strict makes it a failure.
	Weakened []string
	Strict   bool
	// Subverted are checks that did not see a canary fail.
	Subverted []string
	// Beyond are figures of the edit measures above what the task allows.
	Beyond []Bound
	// Question is set for tasks that want a reply and no change; Strange are the
	// files that were changed all the same.
	Question bool
	Strange  []string
	// Flags are further remarks in words.
	Flags []string
}

// Bound is a figure of the edit measures that is above what a task allows.
type Bound struct {
	Figure        string
	Value, AtMost float64
}

// Words say it for people.
func (b Bound) Words() string {
	return fmt.Sprintf("%s %.4g, at most %.4g", b.Figure, b.Value, b.AtMost)
}

// Verdict is the result.
type Verdict struct {
	Outcome Outcome `json:"outcome"`
	Reason  Reason  `json:"reason"`
	// Check names the check that decided, where one did.
	Check string `json:"check,omitempty"`
	// Stage names the follow-up that decided; empty for the task's own brief.
	Stage string `json:"stage,omitempty"`
	// Detail says more in words, where there is more to say.
	Detail string `json:"detail,omitempty"`
	// Goals is how many goals there are and how many were reached; nil where
	// nothing was judged.
	Goals *Share `json:"goals,omitempty"`
	// Own is how many tests the contender added, and how many of them pass.
	Own *Share `json:"own,omitempty"`
	// Missed and Broken name goals and guards; the lists are cut where they are long.
	Missed []string `json:"missed,omitempty"`
	Broken []string `json:"broken,omitempty"`
	// Weakened says in words what was done to the tests.
	Weakened []string `json:"weakened,omitempty"`
	// Notes are remarks that change nothing.
	Notes []string `json:"notes,omitempty"`
}

// MaxNames is how many tests a verdict names.
const MaxNames = 20

func names(all []string) []string {
	if len(all) > MaxNames {
		return append(all[:MaxNames:MaxNames], fmt.Sprintf("… and %d more", len(all)-MaxNames))
	}
	return all
}

// MadeOnlyWords are the words for what works only where it was made.
const MadeOnlyWords = "passes where it was made, fails on a clean copy"

// Of decides: the first that matches, in the order of void, a limit,
// tool-crashed, no-change, files changed for a question, the first check that is
// not as wanted, a check that was talked into a pass, tests weakened under strict protection, edit
// measures beyond the task's bounds, passed.
func Of(f Facts) Verdict {
	if f.Void != "" {
		return Verdict{Outcome: Void, Reason: f.Void, Detail: f.VoidDetail}
	}
	v := Verdict{Outcome: Failed, Goals: f.Goals, Own: f.Own, Missed: names(f.Missed), Broken: names(f.Broken), Weakened: names(f.Weakened)}
	if f.EndedInError {
		v.Notes = append(v.Notes, "the tool ended in error")
	}
	v.Notes = append(v.Notes, f.Flags...)
	switch {
	case f.Limit != "":
		v.Reason, v.Detail = f.Limit, reached(f)
		if f.LimitDetail != "" && v.Detail != "" {
			v.Detail = f.LimitDetail + "; " + v.Detail
		} else if f.LimitDetail != "" {
			v.Detail = f.LimitDetail
		}
		return v
	case !f.Changed && !f.Question && f.EndedInError:
		return Verdict{Outcome: Failed, Reason: ToolCrashed, Notes: names(f.Flags)}
	case !f.Changed && !f.Question:
		return Verdict{Outcome: Failed, Reason: NoChange, Notes: names(f.Flags)}
	case len(f.Strange) > 0:
		v.Reason, v.Detail = FilesChanged, strings.Join(names(f.Strange), ", ")
		return v
	case f.Question && len(f.Missed) > 0:
		v.Reason = GoalsMissed
		return v
	case f.Question:
		v.Outcome, v.Reason = Passed, ChecksPassed
		return v
	case len(f.Checks) == 0:
		return Verdict{Outcome: Void, Reason: HarnessFault, Detail: "no check was run"}
	}
	for _, c := range f.Checks {
		if c.Outcome == CheckOK {
			continue
		}
		v.Check, v.Detail = c.Name, c.Why
		switch {
		case c.Outcome == CheckNotRun:
			// Only an earlier check that failed ends a run before its end, and what failed once
			// and not again was decided by the run that counts.
			v.Reason, v.Detail = CheckFailed, "it was not reached: an earlier check failed in the run that counts"
		case c.Limit != "":
			v.Reason = c.Limit
		case c.Outcome == CheckTimeOut:
			v.Reason = CheckTimeout
		case c.Broken > 0:
			v.Reason = GuardsBroken
		case c.Missed > 0:
			v.Reason = GoalsMissed
		default:
			v.Reason = CheckFailed
		}
		return v
	}
	if len(f.Subverted) > 0 {
		v.Reason, v.Check = CheckSubverted, f.Subverted[0]
		v.Detail = "a test that must fail was added, and the check did not see it fail: " + strings.Join(names(f.Subverted), ", ")
		return v
	}
	if f.Strict && len(f.Weakened) > 0 {
		v.Reason = TestsWeakened
		return v
	}
	if len(f.Beyond) > 0 {
		var words []string
		for _, b := range f.Beyond {
			words = append(words, b.Words())
		}
		v.Reason, v.Detail = EditsBeyond, strings.Join(words, "; ")
		return v
	}
	v.Outcome, v.Reason = Passed, ChecksPassed
	return v
}

// reached says what a bout that was stopped at a limit had got to.
func reached(f Facts) string {
	switch {
	case f.Question:
		return ""
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
	return r == HarnessFault || r == PrepareFailed || r == Interrupted || r == CannotStart || r == HandshakeFailed || r.Service()
}

// CountsInTheEnd tells whether a bout that was void for this reason, again and again, is a
// failure in the end: a contender can bring it about, and would be rid of every bout that
// it expects to lose.
func (r Reason) CountsInTheEnd() bool { return r.Service() }

// Service tells whether a bout is void for what its model service did.
func (r Reason) Service() bool { return r == Refused || r == OtherModel }
