package store

import (
	"time"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
)

// ContestState is where a contest stands.
type ContestState string

const (
	ContestWaiting ContestState = "waiting"
	ContestRunning ContestState = "running"
	// ContestStopping is one that a person wants stopped: what runs is being ended.
	ContestStopping ContestState = "stopping"
	ContestDone     ContestState = "done"
	ContestStopped  ContestState = "stopped"
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
	// Bundle holds the raw files that the contest was started with.
	Bundle    Digest
	CreatedAt time.Time
	StartedAt *time.Time
	EndedAt   *time.Time
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
	Brief       string
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
	// Judgements are in the order in which they were made; the last one is used.
	Judgements []Judgement `gorm:"foreignKey:BoutID"`
}

// Verdict is the one that is used: the last judgement's; nil where there is none.
func (b *Bout) Verdict() *verdict.Verdict {
	if len(b.Judgements) == 0 {
		return nil
	}
	return &b.Judgements[len(b.Judgements)-1].Verdict
}

// Judgement is one judging of a bout.
type Judgement struct {
	ID      string `gorm:"primaryKey"`
	BoutID  string
	At      time.Time
	Verdict verdict.Verdict `gorm:"serializer:json"`
	Outcome verdict.Outcome
	Reason  verdict.Reason
	// CopyMS is what making the judging copy cost; nil where none was made.
	CopyMS *int64
	Checks []CheckResult `gorm:"foreignKey:JudgementID"`
}

// CheckResult is how one check ended.
type CheckResult struct {
	JudgementID string `gorm:"primaryKey"`
	Position    int    `gorm:"primaryKey"`
	Name        string
	Run         string
	Reads       string
	Outcome     verdict.CheckOutcome
	ExitCode    *int
	Signal      string
	ElapsedMS   *int64
	Detail      string
	Summary     *testlog.Summary `gorm:"serializer:json"`
	// Tests is the digest of the list of tests, in JSON.
	Tests  Digest
	Log    Digest
	LogCut int64
}

// EventKind says what an event tells.
type EventKind string

const (
	EventContest EventKind = "contest" // the contest's state changed
	EventBout    EventKind = "bout"    // a bout's state changed, or what it is doing
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
