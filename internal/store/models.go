package store

import (
	"time"

	"agonometer/internal/core/answer"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/person"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// ContestState is where a contest stands.
type ContestState string

const (
	ContestWaiting ContestState = "waiting"
	ContestRunning ContestState = "running"
	// ContestStopping is one that a person wants stopped: what runs is being ended.
	ContestStopping ContestState = "stopping"
	// ContestByHand is one whose own bouts have ended, and that waits for those that
	// a person works.
	ContestByHand  ContestState = "by-hand"
	ContestDone    ContestState = "done"
	ContestStopped ContestState = "stopped"
)

// ContestKind tells contests from what holds a bout that stands alone.
type ContestKind string

const (
	KindContest ContestKind = "contest"
	// KindImport holds one bout that was made elsewhere.
	KindImport ContestKind = "import"
	// KindHand holds one bout that was worked by hand outside any contest.
	KindHand ContestKind = "hand"
)

// Proved says what is known of a task's fairness.
type Proved string

const (
	ProvedYes Proved = "proved"
	// ProvedNo is a task of which no proving is known, or whose proving went wrong.
	ProvedNo Proved = "unproved"
	// ProvedChanged is a task that was proved and has changed since.
	ProvedChanged Proved = "changed"
)

// BoutState is where a bout stands.
type BoutState string

const (
	Waiting   BoutState = "waiting"
	Preparing BoutState = "preparing"
	Working   BoutState = "working"
	Captured  BoutState = "captured"
	Judging   BoutState = "judging"
	Done      BoutState = "done"
)

// Contest is a row of contests.
type Contest struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	Title     string
	State     ContestState
	Seed      int64
	SeedDrawn bool
	Repeats   int
	AtOnce    int
	Path      string
	// Kind tells a contest from what holds a single imported bout.
	Kind ContestKind
	// Bundle holds the raw files that the contest was started with.
	Bundle Digest
	// Prices holds the sources of the contest's price lists, as a JSON list.
	Prices Digest
	// HourlyRate is what an hour of the person is worth, such as "60 AVM"; "" for not said.
	HourlyRate string
	CreatedAt  time.Time
	StartedAt  *time.Time
	EndedAt    *time.Time
}

// ContestTask is a task as a contest recorded it.
type ContestTask struct {
	ContestID   string `gorm:"primaryKey"`
	Position    int
	Slug        string `gorm:"primaryKey"`
	Title       string
	Repository  string
	StartCommit string
	Digest      string
	Size        string
	Labels      []specfile.Slug `gorm:"serializer:json"`
	Checks      []task.Check    `gorm:"serializer:json"`
	Limits      task.Limits     `gorm:"serializer:json"`
	Prepare     string
	// Reads are further folders that the task's commands may read.
	Reads []string `gorm:"serializer:json"`
	Brief string
	// Drafted is set where nobody has confirmed the brief.
	Drafted bool
	// Wordings are the ways in which the brief is said; one without a name for most.
	Wordings []task.Wording `gorm:"serializer:json"`
	// Attachments are the names of the files that go with the brief.
	Attachments []string `gorm:"serializer:json"`
	Kind        task.Kind
	// Baseline is the digest of what is known of each stage before any contender,
	// in JSON; empty until it is measured.
	Baseline Digest
	// ReferenceFails says in words why the task's own reference does not pass.
	ReferenceFails string
	Proved         Proved
	ProvingID      string
}

// ContestContender is a contender as a contest recorded it.
type ContestContender struct {
	ContestID string `gorm:"primaryKey"`
	Position  int
	Slug      string `gorm:"primaryKey"`
	Title     string
	Digest    string
	Source    string
	Path      string
	// Guidance is the text that the contest gave it; "" for none.
	Guidance string
}

// LeftOut counts what a capture did not take, and why.
type LeftOut struct {
	Ignored      int      `json:"ignored"`
	TooLarge     []string `json:"too_large,omitempty"`
	Special      int      `json:"special,omitempty"`
	Unreadable   int      `json:"unreadable,omitempty"`
	NestedGit    int      `json:"nested_git,omitempty"`
	InSubmodules int      `json:"in_submodules,omitempty"`
	Struck       int      `json:"struck,omitempty"`
	// Elsewhere says where else in the workspace work was left, which is no part of the change.
	Elsewhere []string `json:"elsewhere,omitempty"`
}

// Bout is a row of bouts. Pointers are nil until the fact is known; a fact
// that was written is not changed.
type Bout struct {
	ID        string `gorm:"primaryKey"`
	ContestID string
	Position  int
	Task      string
	Contender string
	Repeat    int
	Rerun     int
	Seed      int64
	State     BoutState
	// ReplacedBy is the id of the rerun that counts in this bout's place.
	ReplacedBy string
	// Doing says what goes on now, in words, while the bout is running.
	Doing          string
	Confinement    string
	ConfinementWhy string
	// Beside is the largest number of other bouts that ran at the same time.
	Beside      int
	ElapsedMS   *int64
	ExitCode    *int
	Signal      string
	TimedOut    bool
	WorkspaceMS *int64
	HomeMS      *int64
	HomeBytes   *int64
	// HomeLayered is set when HOME was a private layer over the prepared one, and not a copy.
	HomeLayered bool
	CaptureMS   *int64
	StartTree   string
	ResultTree  string
	Diff        Digest
	Shown       Digest
	Log         Digest
	LogCut      int64
	Footprint   *patch.Footprint `gorm:"serializer:json"`
	LeftOut     *LeftOut         `gorm:"serializer:json"`
	Kept        string
	CreatedAt   time.Time
	PreparingAt *time.Time
	WorkingAt   *time.Time
	CapturedAt  *time.Time
	DoneAt      *time.Time
	// Imported says what is known of a bout that was made elsewhere; nil for others.
	Imported   *Imported `gorm:"serializer:json"`
	RoundsUsed int
	// Network is open or meter-only; empty before the bout began.
	Network string
	// Metered is set where the meter stood before the model service.
	Metered bool
	// Limit is the limit at which the contender was stopped; empty for none.
	Limit verdict.Reason
	// Timing is what the timeline comes to; nil where there is none.
	Timing *timeline.Timing `gorm:"serializer:json"`
	// Machine is how busy the machine was; nil where that was not looked at.
	Machine *timeline.Machine `gorm:"serializer:json"`
	// Reported is what the tool says it used, Typed what a person typed in.
	Reported *ledger.Told `gorm:"serializer:json"`
	Typed    *ledger.Told `gorm:"serializer:json"`
	// Driver is how the contender was driven.
	Driver contender.Drive
	// Wording is the name of the brief's wording; "" for the only one.
	Wording string
	// Version is what the tool said that it is.
	Version string
	// GuidanceChanged says in words what the tool did to its guidance; "" for nothing.
	GuidanceChanged string
	// Protocol is what the tool told over the protocol that it used.
	Protocol *ledger.Told `gorm:"serializer:json"`
	// Effort is what the bout asked of a person; nil where that is not known.
	Effort *person.Effort `gorm:"serializer:json"`
	// Hand is what is known of a bout that a person works; nil for others.
	Hand *Hand `gorm:"serializer:json"`
	// Scanned is set where edits were found by scanning, to the second.
	Scanned bool
	// NotBefore is when a bout that waits for its model service may begin.
	NotBefore *time.Time
	Rounds    []Round `gorm:"foreignKey:BoutID"`
	// Judgements are in the order in which they were made; the last one is used.
	Judgements []Judgement `gorm:"foreignKey:BoutID"`
}

// Imported is what a person told of a bout that was made elsewhere.
type Imported struct {
	// From is patch, branch or folder; Source names it.
	From   string `json:"from"`
	Source string `json:"source"`
	// Started and Finished are nil where they are not known.
	Started  *time.Time `json:"started,omitempty"`
	Finished *time.Time `json:"finished,omitempty"`
	Notes    string     `json:"notes,omitempty"`
	// OffBase says in words that the work was not based on the start commit.
	OffBase string `json:"off_base,omitempty"`
}

// RoundKind says why words were handed over.
type RoundKind string

const (
	RoundOpening  RoundKind = "opening"
	RoundRepair   RoundKind = "repair"
	RoundFollowUp RoundKind = "follow-up"
)

// Round is one hand-over of words inside a bout, and what came of it. Its diff
// is against the start, and so holds what earlier rounds did.
type Round struct {
	BoutID string `gorm:"primaryKey"`
	Number int    `gorm:"primaryKey"`
	// Stage counts the task's briefs from 0.
	Stage      int
	Kind       RoundKind
	Words      Digest
	ElapsedMS  *int64
	ExitCode   *int
	Signal     string
	TimedOut   bool
	Diff       Digest
	Shown      Digest
	ResultTree string
	Log        Digest
	LogCut     int64
	Answer     Digest
	Footprint  *patch.Footprint `gorm:"serializer:json"`
	// Limit is the limit at which the round was stopped; empty for none.
	Limit verdict.Reason
	// LimitDetail says in words how far it was.
	LimitDetail string
	// Reported is what the tool says this round used.
	Reported *ledger.Told `gorm:"serializer:json"`
	// Protocol is what the tool told over the protocol that this round used.
	Protocol *ledger.Told `gorm:"serializer:json"`
	// Recording is what a terminal showed, as an asciicast.
	Recording Digest
	// Step is the size of what this round alone changed.
	Step       *patch.Footprint `gorm:"serializer:json"`
	CapturedAt time.Time
}

// Verdict is the one that is used: the last judgement's; nil where there is none.
func (b *Bout) Verdict() *verdict.Verdict {
	if len(b.Judgements) == 0 {
		return nil
	}
	return &b.Judgements[len(b.Judgements)-1].Verdict
}

// First is the verdict on what came the first time; nil where there is none.
func (b *Bout) First() *verdict.Verdict {
	if len(b.Judgements) == 0 {
		return nil
	}
	return b.Judgements[len(b.Judgements)-1].First
}

// Judgement is one judging of a bout.
type Judgement struct {
	ID      string `gorm:"primaryKey"`
	BoutID  string
	At      time.Time
	Verdict verdict.Verdict `gorm:"serializer:json"`
	Outcome verdict.Outcome
	Reason  verdict.Reason
	// First is the verdict on what the contender brought the first time.
	First *verdict.Verdict `gorm:"serializer:json"`
	// Rounds are what each round comes to.
	Rounds []RoundJudgement `gorm:"serializer:json"`
	// TaskDigest is that of the task by which it was judged.
	TaskDigest string
	// RejudgingID is set where stored diffs were judged again.
	RejudgingID string
	// CopyMS is what making the judging copy cost; nil where none was made.
	CopyMS *int64
	Checks []CheckResult `gorm:"foreignKey:JudgementID"`
}

// RoundJudgement is what a round comes to.
type RoundJudgement struct {
	Round   int             `json:"round"`
	Stage   int             `json:"stage"`
	Verdict verdict.Verdict `json:"verdict"`
	// Tests is the digest of the table of tests, in JSON.
	Tests   Digest            `json:"tests,omitempty"`
	Figures []outcome.Figure  `json:"figures,omitempty"`
	Facts   []answer.Examined `json:"facts,omitempty"`
	Guards  *outcome.Share    `json:"guards,omitempty"`
	// Measures is the digest of the edit measures, in JSON, MeasuresVersion by what
	// counting, and Edits are their figures without what a person set aside.
	Measures        Digest             `json:"measures,omitempty"`
	MeasuresVersion int                `json:"measures_version,omitempty"`
	Edits           map[string]float64 `json:"edits,omitempty"`
	// Beside is the digest of what the checks wrote for them, in JSON.
	Beside Digest `json:"beside,omitempty"`
	// PutBack and LeftOut are the contender's changes that were not judged.
	PutBack []string `json:"put_back,omitempty"`
	LeftOut []string `json:"left_out,omitempty"`
	// OverheadMS is what judging took beyond the checks' own time.
	OverheadMS int64 `json:"overhead_ms"`
	// Canaries says what became of each check's canary, CanaryMS what that took; absent
	// where the result did not pass.
	Canaries map[string]string `json:"canaries,omitempty"`
	CanaryMS *int64            `json:"canary_ms,omitempty"`
}

// EditMark is what a person says of a finding of the edit measures.
type EditMark struct {
	BoutID  string `gorm:"primaryKey"`
	Finding string `gorm:"primaryKey"`
	Mark    EditMarkKind
	Reason  string
	By      string
	At      time.Time
}

// EditMarkKind is what a person says.
type EditMarkKind string

const (
	// Aside is a false alarm: it is not counted any more.
	Aside EditMarkKind = "aside"
	// Needed, Welcome and Unwanted are said of strays; they stay counted.
	Needed   EditMarkKind = "needed"
	Welcome  EditMarkKind = "welcome"
	Unwanted EditMarkKind = "unwanted"
)

// The ways in which a check is run.
const (
	WayDeciding = "deciding"
	WayVisible  = "visible"
	WayAgain    = "again"
	// WayOwnTests is a run with the start's own tests in place of the sealed ones.
	WayOwnTests = "own-tests"
)

// CheckResult is how one check ended.
type CheckResult struct {
	JudgementID string `gorm:"primaryKey"`
	Position    int    `gorm:"primaryKey"`
	Round       int
	// Way is deciding, visible (with the contender's files as they are) or again
	// (a second time, because a guard failed).
	Way       string
	Name      string
	Run       string
	Reads     string
	Outcome   verdict.CheckOutcome
	ExitCode  *int
	Signal    string
	ElapsedMS *int64
	Detail    string
	Summary   *testlog.Summary `gorm:"serializer:json"`
	// Tests is the digest of the list of tests, in JSON.
	Tests  Digest
	Log    Digest
	LogCut int64
}

// EventKind says what an event tells.
type EventKind string

const (
	EventHappened EventKind = "happened" // something happened in a running bout: see its timeline
	EventRejudge  EventKind = "rejudge"  // a judging again has got further
	EventContest  EventKind = "contest"  // the contest's state changed
	EventBout     EventKind = "bout"     // a bout's state changed, or what it is doing
)

// Event is one line of a contest's live feed. Data is a JSON object.
type Event struct {
	ID        int64 `gorm:"primaryKey"`
	ContestID string
	BoutID    string
	At        time.Time
	Kind      EventKind
	Data      string
}

// ProvingState is where a proving stands.
type ProvingState string

const (
	ProvingWaiting ProvingState = "waiting"
	ProvingRunning ProvingState = "running"
	ProvingDone    ProvingState = "done"
	// ProvingStopped is one that ended before its result, by a person or with the service.
	ProvingStopped ProvingState = "stopped"
)

// Proving shows, or does not, that a task is fair.
type Proving struct {
	ID          string `gorm:"primaryKey"`
	Task        string
	Title       string
	Digest      string
	StartCommit string
	Bundle      Digest
	Repeats     int
	State       ProvingState
	Doing       string
	StepsDone   int
	Steps       int
	Result      *ProvingResult `gorm:"serializer:json"`
	// Tests is the digest of the table of tests, in JSON.
	Tests     Digest
	CreatedAt time.Time
	EndedAt   *time.Time
}

// ProvingResult is what a proving found.
type ProvingResult struct {
	Proved bool `json:"proved"`
	// Reasons say in words why it is not proved.
	Reasons  []string `json:"reasons,omitempty"`
	Warnings []string `json:"warnings,omitempty"`
	// Steps are the parts of the proof, in order.
	Steps    []ProvingStep  `json:"steps"`
	Goals    int            `json:"goals"`
	Guards   int            `json:"guards"`
	Unsteady []UnsteadyTest `json:"unsteady,omitempty"`
	// Figures are those of the reference beside the start's.
	Figures []outcome.Figure `json:"figures,omitempty"`
}

// UnsteadyTest is a test of which repeats did not agree.
type UnsteadyTest struct {
	Stage int         `json:"stage"`
	Key   outcome.Key `json:"key"`
}

// ProvingStep is one part of a proof.
type ProvingStep struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	// Words say what was found.
	Words string `json:"words"`
	// Output is the end of what a command printed that failed, Log the digest of all of it.
	Output string `json:"output,omitempty"`
	Log    Digest `json:"log,omitempty"`
}

// Rejudging judges stored diffs of a contest again.
type Rejudging struct {
	ID        string `gorm:"primaryKey"`
	ContestID string
	Bundle    Digest
	Tasks     []string          `gorm:"serializer:json"`
	Digests   map[string]string `gorm:"serializer:json"`
	State     ProvingState
	Done      int
	Total     int
	Problem   string
	CreatedAt time.Time
	EndedAt   *time.Time
}
