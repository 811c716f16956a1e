// Package api holds what goes over the wire between the service and its
// clients: the JSON of requests, records and problems. It has no behaviour.
//
// Fields are snake_case, times RFC 3339 in UTC with milliseconds, durations
// integers of milliseconds named _ms, ids ULIDs. A field that is null was not
// measured, or is not known yet.
package api

import (
	"time"

	"agonometer/internal/core/answer"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/draft"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/person"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/standings"
	"agonometer/internal/core/task"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// Time is written in UTC with milliseconds.
type Time struct{ time.Time }

// MarshalJSON writes RFC 3339 with exactly three decimals.
func (t Time) MarshalJSON() ([]byte, error) {
	return []byte(`"` + t.UTC().Format("2006-01-02T15:04:05.000Z07:00") + `"`), nil
}

// At makes a Time of a pointer; nil stays nil.
func At(t *time.Time) *Time {
	if t == nil {
		return nil
	}
	return &Time{*t}
}

// StartContest asks for a contest to be started, or only planned.
type StartContest struct {
	// Bundle holds the contest file and everything that it names.
	Bundle specfile.Bundle `json:"bundle"`
	// DryRun answers with what would be run, and starts nothing.
	DryRun bool `json:"dry_run,omitempty"`
	// Seed replaces the contest file's when it is given.
	Seed *int64 `json:"seed,omitempty"`
}

// Plan is what a contest will run.
type Plan struct {
	Name       string     `json:"name"`
	Title      string     `json:"title"`
	Seed       *int64     `json:"seed"`
	Repeats    int        `json:"repeats"`
	AtOnce     int        `json:"at_once"`
	Bouts      int        `json:"bouts"`
	Tasks      []PlanTask `json:"tasks"`
	Contenders []string   `json:"contenders"`
	// ByHand is how many of the bouts a person works.
	ByHand int `json:"by_hand"`
	// LongestMS is an upper bound: every bout and every check at its limit, in milliseconds.
	LongestMS  int64    `json:"longest_ms"`
	Confined   bool     `json:"confined"`
	Remarks    []string `json:"remarks"`
	ContestsAt int      `json:"contests_before"`
}

// PlanTask is a task as a plan shows it.
type PlanTask struct {
	Task        string `json:"task"`
	Title       string `json:"title"`
	StartCommit string `json:"start_commit"`
	TimeMS      int64  `json:"time_ms"`
	CheckMS     int64  `json:"check_ms"`
	Checks      int    `json:"checks"`
	// Proved is proved, unproved or changed (since it was proved).
	Proved string `json:"proved"`
	// RepairRounds is how often what failed is handed back; Stages how many briefs there are.
	RepairRounds int `json:"repair_rounds"`
	Stages       int `json:"stages"`
	// Wordings are the names of those that are used; empty for a task with one.
	Wordings []string `json:"wordings"`
}

// Contest is a comparison, with how far it has got.
type Contest struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Title string `json:"title"`
	State string `json:"state"`
	// Kind is contest, or import for what holds a bout that stands alone.
	Kind      string `json:"kind"`
	Seed      int64  `json:"seed"`
	SeedDrawn bool   `json:"seed_drawn"`
	Repeats   int    `json:"repeats"`
	AtOnce    int    `json:"at_once"`
	CreatedAt Time   `json:"created_at"`
	StartedAt *Time  `json:"started_at"`
	EndedAt   *Time  `json:"ended_at"`
	Counts    Counts `json:"counts"`
}

// Counts counts the bouts of a contest; reruns are not counted twice.
type Counts struct {
	Bouts   int `json:"bouts"`
	Waiting int `json:"waiting"`
	Running int `json:"running"`
	Done    int `json:"done"`
	Passed  int `json:"passed"`
	Failed  int `json:"failed"`
	Void    int `json:"void"`
}

// ContestDetail is a contest with everything that its page shows.
type ContestDetail struct {
	Contest
	Tasks      []Task      `json:"tasks"`
	Contenders []Contender `json:"contenders"`
	Bouts      []Bout      `json:"bouts"`
	Standings  Standings   `json:"standings"`
	// Used is what all its metered bouts have used so far, void and replaced ones included.
	Used Used `json:"used"`
	// HourlyRate is what an hour of the person is worth, such as "60 AVM"; "" where
	// nobody said.
	HourlyRate string `json:"hourly_rate"`
	// Differences are the settings of the contenders beside what is compared.
	Differences []contest.Setting `json:"differences"`
	// FirstUses are what contenders did once in a repository, counted apart.
	FirstUses []FirstUse `json:"first_uses"`
	// File is the contest's file on the machine where it was started.
	File string `json:"file"`
	// LastEventID is the newest event that this answer takes into account.
	LastEventID int64 `json:"last_event_id"`
}

// Standings is the table of contenders.
type Standings struct {
	ContestID string          `json:"contest_id"`
	Rows      []standings.Row `json:"rows"`
	// Final is false while bouts are still to come.
	Final bool     `json:"final"`
	Notes []string `json:"notes"`
	// ByWording tells tasks with several wordings apart; Spreads says how far results with
	// them differ. Both are empty where there is one wording.
	ByWording []standings.WordingRow `json:"by_wording"`
	Spreads   []standings.Spread     `json:"spreads"`
	// Figures say what the edit measures' figures are.
	Figures []patch.FigureInfo `json:"figures"`
}

// FirstUse is what a contender did once in a repository before its first bout there.
type FirstUse struct {
	Contender   string `json:"contender"`
	Repository  string `json:"repository"`
	StartCommit string `json:"start_commit"`
	Version     string `json:"version"`
	ElapsedMS   int64  `json:"elapsed_ms"`
	Used        Used   `json:"used"`
	// Trouble says why it came to nothing; "" where it went well.
	Trouble string `json:"trouble"`
	Log     string `json:"log"`
	At      Time   `json:"at"`
}

// Task is a task as a contest recorded it.
type Task struct {
	Task        string   `json:"task"`
	Title       string   `json:"title"`
	Repository  string   `json:"repository"`
	StartCommit string   `json:"start_commit"`
	Digest      string   `json:"digest"`
	Size        string   `json:"size"`
	Labels      []string `json:"labels"`
	Prepare     string   `json:"prepare"`
	// Reads are further folders of the service's machine that its commands may read.
	Reads []string `json:"reads"`
	// Drafted is set where the brief was made from a commit's message and nobody has confirmed it.
	Drafted bool    `json:"drafted"`
	Checks  []Check `json:"checks"`
	TimeMS  int64   `json:"time_ms"`
	CheckMS int64   `json:"check_ms"`
	Brief   string  `json:"brief"`
	// Wordings are the ways in which the brief is said; one without a name for most.
	Wordings []task.Wording `json:"wordings"`
	// Attachments are the names of the files that go with the brief.
	Attachments []string `json:"attachments"`
	ContestID   string   `json:"contest_id"`
	Contests    int      `json:"contests"`
	// Kind is change, question or typing.
	Kind string `json:"kind"`
	// Proved is proved, unproved or changed (since it was proved); ProvingID the
	// proving that says so, "" for none.
	Proved    string `json:"proved"`
	ProvingID string `json:"proving_id"`
	// ReferenceFails says why the task's own reference does not pass; "" when it does.
	ReferenceFails string `json:"reference_fails"`
}

// Check is a check of a task.
type Check struct {
	Name   string `json:"name"`
	Run    string `json:"run"`
	Reads  string `json:"reads"`
	Sealed bool   `json:"sealed"`
}

// Contender is a contender as a contest recorded it.
type Contender struct {
	Contender string `json:"contender"`
	Title     string `json:"title"`
	Digest    string `json:"digest"`
	File      string `json:"file"`
	Source    string `json:"source"`
	ContestID string `json:"contest_id"`
	Contests  int    `json:"contests"`
	// Driver is command, acp, hand or elsewhere; Driven says it in words.
	Driver string `json:"driver"`
	Driven string `json:"driven"`
	Model  string `json:"model"`
	Effort string `json:"effort"`
	// Setup is what it took a person to line the tool up; null where nobody said.
	Setup *contender.SetupNotes `json:"setup"`
	// Readiness is what the newest check of this file found; null where it was not checked.
	Readiness *Readiness `json:"readiness"`
}

// Readiness is what a check of a contender found, and when.
type Readiness struct {
	At       Time      `json:"at"`
	OK       bool      `json:"ok"`
	Version  string    `json:"version"`
	TrialMS  *int64    `json:"trial_ms"`
	Findings []Finding `json:"findings"`
}

// Bout is one contender, one task, once.
type Bout struct {
	ID         string `json:"id"`
	ContestID  string `json:"contest_id"`
	Position   int    `json:"position"`
	Task       string `json:"task"`
	Contender  string `json:"contender"`
	Repeat     int    `json:"repeat"`
	Rerun      int    `json:"rerun"`
	ReplacedBy string `json:"replaced_by"`
	Seed       int64  `json:"seed"`
	State      string `json:"state"`
	Doing      string `json:"doing"`
	// Verdict is that in the end; First that on what came the first time.
	Verdict *verdict.Verdict `json:"verdict"`
	First   *verdict.Verdict `json:"first"`
	// Rounds is how many rounds there were; 0 before the first was captured.
	Rounds int `json:"rounds"`
	// Imported is set when the bout was made elsewhere.
	Imported bool `json:"imported"`
	// Driver is command, acp, hand or elsewhere.
	Driver string `json:"driver"`
	// Wording is the name of the brief's wording; "" for the only one.
	Wording string `json:"wording"`
	// ToolVersion is what the tool said that it is; "" where it said nothing.
	ToolVersion string `json:"tool_version"`
	// Effort is what the bout asked of a person; null where that is not known.
	Effort *person.Effort `json:"effort"`
	// Hand is what is known of a bout that a person works; null for others.
	Hand *HandFacts `json:"hand"`
	Used Used       `json:"used"`
	// FirstEditMS and LastEditMS are in the time that the contender worked; null where no edit was seen.
	FirstEditMS *int64 `json:"first_edit_ms"`
	LastEditMS  *int64 `json:"last_edit_ms"`
	// Limit is the limit at which the tool was stopped; "" for none.
	Limit string `json:"limit"`
	// Network is open or meter-only; "" before the bout began.
	Network string `json:"network"`
	// Flags are remarks about the bout's model service and machine, in words.
	Flags []string `json:"flags"`
	// NotBefore is when a bout that waits for its model service may begin.
	NotBefore *Time            `json:"not_before"`
	ElapsedMS *int64           `json:"elapsed_ms"`
	ExitCode  *int             `json:"exit_code"`
	Signal    string           `json:"signal"`
	TimedOut  bool             `json:"timed_out"`
	Footprint *patch.Footprint `json:"footprint"`
	// Confinement is namespaces or process-group; empty before the bout began.
	Confinement string `json:"confinement"`
	Unconfined  bool   `json:"unconfined"`
	// Beside is how many other bouts ran at the same time, at most.
	Beside      int   `json:"beside"`
	CreatedAt   Time  `json:"created_at"`
	PreparingAt *Time `json:"preparing_at"`
	WorkingAt   *Time `json:"working_at"`
	CapturedAt  *Time `json:"captured_at"`
	DoneAt      *Time `json:"done_at"`
}

// BoutDetail is a bout with everything that its page shows.
type BoutDetail struct {
	Bout
	TaskTitle      string       `json:"task_title"`
	ContenderTitle string       `json:"contender_title"`
	ContestName    string       `json:"contest_name"`
	ConfinementWhy string       `json:"confinement_why"`
	StartTree      string       `json:"start_tree"`
	ResultTree     string       `json:"result_tree"`
	LeftOut        *LeftOut     `json:"left_out"`
	LogCut         int64        `json:"log_cut"`
	Kept           string       `json:"kept"`
	Costs          HarnessCosts `json:"costs"`
	// Checks are those of the last round that decided.
	Checks []CheckResult `json:"checks"`
	// RoundList are the bout's rounds, in order, as the judgement that is used has them.
	RoundList []Round `json:"round_list"`
	// Judgements are all there are, the newest last; the last one is used.
	Judgements []Judgement `json:"judgements"`
	Import     *Import     `json:"import"`
	// Tries are the other bouts of the same place: what this one replaced or is replaced by.
	Tries []Bout `json:"tries"`
	// Timing is what the timeline comes to; null where there is none.
	Timing *timeline.Timing `json:"timing"`
	// Machine is how busy the machine was; Overloaded says that times may have suffered.
	Machine    *timeline.Machine `json:"machine"`
	Overloaded bool              `json:"overloaded"`
	Ledger     ledger.Ledger     `json:"ledger"`
	// Departures are the ways in which models or efforts were not as expected.
	Departures []ledger.Departure `json:"departures"`
	// Cold tells whether the first counted exchange found nothing in a cache; null
	// where that was not said.
	Cold *bool `json:"cold"`
	// Edits are the figures of the last round's edit measures, by name; null for none.
	Edits map[string]float64 `json:"edits"`
	// Marks are what a person noted, those that were corrected or taken back among them.
	Marks []NotedMark `json:"marks"`
}

// Used is what a bout used, in short.
type Used struct {
	// Source is metered, protocol, reported, typed-in or unknown.
	Source string `json:"source"`
	// Tokens are of all kinds; null where nothing was counted.
	Tokens  *int64 `json:"tokens"`
	AtLeast bool   `json:"at_least"`
	// Money is exact, with its currency; null where nothing is priced.
	Money        *ledger.Money `json:"money"`
	MoneyAtLeast bool          `json:"money_at_least"`
	// MoneyRange stands in Money's place where it is only known to lie between two amounts.
	MoneyRange *ledger.Range `json:"money_range"`
}

// BoutLedger is what a bout used, exchange by exchange.
type BoutLedger struct {
	BoutID     string             `json:"bout_id"`
	Ledger     ledger.Ledger      `json:"ledger"`
	Departures []ledger.Departure `json:"departures"`
	Exchanges  []Exchange         `json:"exchanges"`
}

// Exchange is one request to a model service with its reply.
type Exchange struct {
	Number int  `json:"number"`
	Round  int  `json:"round"`
	Began  Time `json:"began"`
	// AtUS, FirstUS and UntilUS are moments on the bout's clock in microseconds: sent
	// on, the reply's head, the end. PacedUS is how long it had waited before.
	AtUS        int64         `json:"at_us"`
	PacedUS     int64         `json:"paced_us"`
	FirstUS     *int64        `json:"first_us"`
	UntilUS     int64         `json:"until_us"`
	Method      string        `json:"method"`
	Path        string        `json:"path"`
	Status      int           `json:"status"`
	BytesIn     int64         `json:"bytes_in"`
	BytesOut    int64         `json:"bytes_out"`
	ModelAsked  string        `json:"model_asked"`
	EffortAsked string        `json:"effort_asked"`
	Model       string        `json:"model"`
	Effort      string        `json:"effort"`
	Shape       string        `json:"shape"`
	Tokens      ledger.Tokens `json:"tokens"`
	// NotCounted is set where there should have been counts and there were none.
	NotCounted bool          `json:"not_counted"`
	Partial    bool          `json:"partial"`
	Strange    bool          `json:"strange"`
	Money      *ledger.Money `json:"money"`
	Refused    bool          `json:"refused"`
	Cause      string        `json:"cause"`
	CauseWords string        `json:"cause_words"`
	RetryAfter string        `json:"retry_after"`
	Trouble    string        `json:"trouble"`
	// HasBodies is set where the bodies were kept.
	HasBodies bool `json:"has_bodies"`
}

// Timeline is what happened in a bout, on its clock.
type Timeline struct {
	BoutID string           `json:"bout_id"`
	Events []timeline.Event `json:"events"`
	// Last is the number of the last event; ask for what is after it.
	Last    int64            `json:"last"`
	Summary *timeline.Timing `json:"summary"`
}

// ContestLedger is what a contest used.
type ContestLedger struct {
	ContestID string `json:"contest_id"`
	// PriceLists name the lists by which money is worked out.
	PriceLists []string         `json:"price_lists"`
	Rows       []ContenderSheet `json:"rows"`
	Total      ledger.Sheet     `json:"total"`
}

// ContenderSheet is what all tries of a contender used.
type ContenderSheet struct {
	Contender string       `json:"contender"`
	Bouts     int          `json:"bouts"`
	Passed    int          `json:"passed"`
	Sheet     ledger.Sheet `json:"sheet"`
	// Reported is what the tool reported in the same bouts; null where it says nothing.
	Reported      *ledger.Sheet `json:"reported"`
	PerPassed     *ledger.Money `json:"money_per_passed"`
	TokensPerLine *float64      `json:"tokens_per_line"`
}

// PriceListFile is a price list to work money out by.
type PriceListFile struct {
	Name string `json:"name"`
	Data []byte `json:"data"`
}

// StoredPriceList is a price list that the service has taken; name its digest in
// the parameter prices of any call that shows money.
type StoredPriceList struct {
	Digest    string `json:"digest"`
	PriceList string `json:"price_list"`
	Currency  string `json:"currency"`
	Models    int    `json:"models"`
}

// Round is one hand-over of words, and what came of it.
type Round struct {
	Number int `json:"number"`
	// Stage counts the task's briefs from 0; StageName is "" for the first.
	Stage     int    `json:"stage"`
	StageName string `json:"stage_name"`
	// Kind is opening, repair or follow-up.
	Kind      string `json:"kind"`
	Words     string `json:"words"`
	ElapsedMS *int64 `json:"elapsed_ms"`
	ExitCode  *int   `json:"exit_code"`
	Signal    string `json:"signal"`
	TimedOut  bool   `json:"timed_out"`
	// Footprint is the size of the change since the start, Step that of this round alone.
	Footprint *patch.Footprint `json:"footprint"`
	Step      *patch.Footprint `json:"step"`
	Verdict   *verdict.Verdict `json:"verdict"`
	// Answer is the closing message of a question; "" for changes.
	Answer string `json:"answer"`
	// HasRecording is set where a terminal was recorded.
	HasRecording bool           `json:"has_recording"`
	Guards       *outcome.Share `json:"guards"`
	Checks       []CheckResult  `json:"checks"`
	// Tests are the goals, and what is notable among the others; all of them come with tests=all.
	Tests   []TestRow         `json:"tests"`
	Figures []outcome.Figure  `json:"figures"`
	Facts   []answer.Examined `json:"facts"`
	// PutBack and LeftOut are files that the contender changed and that were not judged.
	PutBack    []string `json:"put_back"`
	LeftOut    []string `json:"left_out"`
	OverheadMS *int64   `json:"overhead_ms"`
	// Canaries says, for each check of a result that passed, whether it saw a test fail that
	// was added and must; CanaryMS is what that took.
	Canaries map[string]string `json:"canaries,omitempty"`
	CanaryMS *int64            `json:"canary_ms,omitempty"`
}

// TestRow is one test with everything that is known of it.
type TestRow outcome.Row

// Judgement is one judging of a bout.
type Judgement struct {
	ID      string           `json:"id"`
	At      Time             `json:"at"`
	Verdict verdict.Verdict  `json:"verdict"`
	First   *verdict.Verdict `json:"first"`
	// Used is set for the one that counts.
	Used       bool   `json:"used"`
	TaskDigest string `json:"task_digest"`
	// RejudgingID is set where stored diffs were judged again.
	RejudgingID string `json:"rejudging_id"`
}

// Import is what was told of a bout that was made elsewhere.
type Import struct {
	From     string `json:"from"`
	Source   string `json:"source"`
	Started  *Time  `json:"started"`
	Finished *Time  `json:"finished"`
	Notes    string `json:"notes"`
	OffBase  string `json:"off_base"`
}

// ImportBout asks for a change that was made elsewhere to be judged. Exactly one
// of Patch, Branch and Folder is given; for a question Answer alone will do.
type ImportBout struct {
	// Bundle holds the task file with what it names; without one the task of the
	// contest is meant.
	Bundle *specfile.Bundle `json:"bundle,omitempty"`
	Task   string           `json:"task,omitempty"`
	// Contest is the id of the contest that the bout belongs to; "" for one that stands alone.
	Contest   string `json:"contest,omitempty"`
	Contender string `json:"contender"`
	// ContenderFile is the contender's file, where there is one.
	ContenderFile []byte `json:"contender_file,omitempty"`
	Patch         []byte `json:"patch,omitempty"`
	PatchName     string `json:"patch_name,omitempty"`
	Branch        string `json:"branch,omitempty"`
	// From is the repository of the branch, Folder a folder, both on the service's machine.
	From   string `json:"from,omitempty"`
	Folder string `json:"folder,omitempty"`
	// Anyway takes a branch that is not based on the start commit.
	Anyway   bool       `json:"anyway,omitempty"`
	Started  *time.Time `json:"started,omitempty"`
	Finished *time.Time `json:"finished,omitempty"`
	// TookMS is how long the work took, in milliseconds; default: from Started to Finished.
	TookMS *int64 `json:"took_ms,omitempty"`
	Notes  string `json:"notes,omitempty"`
	// Answer is the closing message, for a question.
	Answer string `json:"answer,omitempty"`
	// Tokens and Money are what a person knows of what it used.
	Tokens *ledger.Tokens `json:"tokens,omitempty"`
	Money  *ledger.Money  `json:"money,omitempty"`
	Model  string         `json:"model,omitempty"`
	// Wording is that of the brief which was used; "" for the first.
	Wording string `json:"wording,omitempty"`
}

// ProveTask asks for a proving. Bundle holds the task file with what it names.
type ProveTask struct {
	Bundle specfile.Bundle `json:"bundle"`
	// Repeats is how often each side is run; default 3, and fewer prove nothing.
	Repeats int `json:"repeats,omitempty"`
}

// Proving shows, or does not, that a task is fair.
type Proving struct {
	ID          string `json:"id"`
	Task        string `json:"task"`
	Title       string `json:"title"`
	Digest      string `json:"digest"`
	StartCommit string `json:"start_commit"`
	Repeats     int    `json:"repeats"`
	// State is waiting, running, done or stopped.
	State     string         `json:"state"`
	Doing     string         `json:"doing"`
	StepsDone int            `json:"steps_done"`
	Steps     int            `json:"steps"`
	Result    *ProvingResult `json:"result"`
	CreatedAt Time           `json:"created_at"`
	EndedAt   *Time          `json:"ended_at"`
	// Tests are what the reference's run came to; only with one proving by itself.
	Tests []TestRow `json:"tests"`
}

// ProvingResult is what a proving found.
type ProvingResult struct {
	Proved   bool             `json:"proved"`
	Reasons  []string         `json:"reasons"`
	Warnings []string         `json:"warnings"`
	Steps    []ProvingStep    `json:"steps"`
	Goals    int              `json:"goals"`
	Guards   int              `json:"guards"`
	Figures  []outcome.Figure `json:"figures"`
}

// ProvingStep is one part of a proof.
type ProvingStep struct {
	What  string `json:"what"`
	OK    bool   `json:"ok"`
	Words string `json:"words"`
	// Output is the end of what a command printed that failed; "" for none. All of it is
	// at /provings/{id}/log.
	Output string `json:"output"`
}

// RejudgeContest asks for stored diffs to be judged again. Bundle holds the
// present task files.
type RejudgeContest struct {
	Bundle specfile.Bundle `json:"bundle"`
	// Tasks narrows them down; none: all.
	Tasks []string `json:"tasks,omitempty"`
}

// Rejudging is one judging again of a contest.
type Rejudging struct {
	ID        string   `json:"id"`
	ContestID string   `json:"contest_id"`
	Tasks     []string `json:"tasks"`
	// State is waiting, running or done.
	State     string `json:"state"`
	Done      int    `json:"done"`
	Total     int    `json:"total"`
	Problem   string `json:"problem"`
	CreatedAt Time   `json:"created_at"`
	EndedAt   *Time  `json:"ended_at"`
}

// DraftTask asks for a task to be drafted from a commit of a repository of the
// service's machine.
type DraftTask struct {
	Repository string `json:"repository"`
	Commit     string `json:"commit"`
	// Name is the task's slug; default: made from the commit's message.
	Name string `json:"name,omitempty"`
}

// Draft is a task as it was drafted: files by their path below the folder that
// it is written to.
type Draft struct {
	Name  string            `json:"name"`
	Main  string            `json:"main"`
	Files map[string][]byte `json:"files"`
	Notes []string          `json:"notes"`
}

// Survey lists the commits of a history that may make tasks.
type Survey struct {
	// Commits are the candidates in an order in which kinds of work, sizes and folders take
	// turns; LeftOut are the others, with the reason of each.
	Commits []draft.Candidate `json:"commits"`
	LeftOut []draft.Candidate `json:"left_out"`
}

// LeftOut counts what a capture did not take, and why.
type LeftOut struct {
	Ignored      int      `json:"ignored"`
	TooLarge     []string `json:"too_large"`
	Special      int      `json:"special"`
	Unreadable   int      `json:"unreadable"`
	NestedGit    int      `json:"nested_git"`
	InSubmodules int      `json:"in_submodules"`
	Struck       int      `json:"struck"`
}

// HarnessCosts are Agonometer's own times, in milliseconds; null where the step was not taken.
type HarnessCosts struct {
	WorkspaceMS *int64 `json:"workspace_ms"`
	HomeMS      *int64 `json:"home_ms"`
	HomeBytes   *int64 `json:"home_bytes"`
	// HomeLayered is set when HOME was a private layer over the prepared one, and not a copy.
	HomeLayered bool   `json:"home_layered"`
	CaptureMS   *int64 `json:"capture_ms"`
	JudgeCopyMS *int64 `json:"judge_copy_ms"`
}

// CheckResult is how one check ended.
type CheckResult struct {
	Round int `json:"round"`
	// Way is deciding, visible (with the contender's files as they are) or again
	// (a second time, because a guard failed), or own-tests (with the start's own tests in
	// place of the sealed ones).
	Way       string           `json:"way"`
	Name      string           `json:"name"`
	Run       string           `json:"run"`
	Reads     string           `json:"reads"`
	Outcome   string           `json:"outcome"`
	ExitCode  *int             `json:"exit_code"`
	Signal    string           `json:"signal"`
	ElapsedMS *int64           `json:"elapsed_ms"`
	Detail    string           `json:"detail"`
	Summary   *testlog.Summary `json:"summary"`
	// Tests are those that did not pass; all of them come with tests=all.
	Tests  []testlog.Test `json:"tests"`
	LogCut int64          `json:"log_cut"`
	HasLog bool           `json:"has_log"`
}

// Diff is a captured change, file by file.
type Diff struct {
	BoutID    string          `json:"bout_id"`
	Footprint patch.Footprint `json:"footprint"`
	Files     []patch.File    `json:"files"`
}

// FeedEvent is one message of the live feed. State is set when it changed.
type FeedEvent struct {
	ID        int64  `json:"id"`
	ContestID string `json:"contest_id"`
	BoutID    string `json:"bout_id,omitempty"`
	At        Time   `json:"at"`
	Kind      string `json:"kind"`
	State     string `json:"state,omitempty"`
	Doing     string `json:"doing,omitempty"`
	Outcome   string `json:"outcome,omitempty"`
	Reason    string `json:"reason,omitempty"`
	Check     string `json:"check,omitempty"`
	Task      string `json:"task,omitempty"`
	Contender string `json:"contender,omitempty"`
	Repeat    int    `json:"repeat,omitempty"`
	Rerun     int    `json:"rerun,omitempty"`
	Wording   string `json:"wording,omitempty"`
	Round     int    `json:"round,omitempty"`
	// Again is set when stored diffs were judged again; Rejudging, Done and Total
	// tell how far that has got.
	Again     bool   `json:"again,omitempty"`
	Rejudging string `json:"rejudging,omitempty"`
	Done      int    `json:"done,omitempty"`
	Total     int    `json:"total,omitempty"`
	// Tokens and Money are what a running bout has used so far; Happened is how many
	// events its timeline has got.
	Tokens   *int64        `json:"tokens,omitempty"`
	AtLeast  bool          `json:"at_least,omitempty"`
	Money    *ledger.Money `json:"money,omitempty"`
	Happened int           `json:"happened,omitempty"`
	// Hand is the phase of a bout that a person works.
	Hand string `json:"hand,omitempty"`
}

// Version says what is running.
type Version struct {
	Version string `json:"version"`
	Go      string `json:"go"`
	System  string `json:"system"`
}

// Finding is one line of a doctor's report.
type Finding struct {
	// Level is ok, warning or missing.
	Level  string `json:"level"`
	What   string `json:"what"`
	Detail string `json:"detail"`
	// Remedy says what to do, where something is to be done.
	Remedy string `json:"remedy"`
}

// Report is what doctor and contender check answer.
type Report struct {
	OK       bool      `json:"ok"`
	Findings []Finding `json:"findings"`
	// Version is the tool's, of a contender check; TrialMS how long its trial bout took.
	Version string `json:"version"`
	TrialMS *int64 `json:"trial_ms"`
}

// CheckContender asks whether a contender can start here. Bundle holds its
// file; without one the newest recorded contender of that slug is meant.
type CheckContender struct {
	Bundle *specfile.Bundle `json:"bundle,omitempty"`
	// Trial runs a trial bout too, on a tiny repository that ships with the service. It
	// uses the tool's model service.
	Trial bool `json:"trial,omitempty"`
}

// Pruned says what a pruning freed.
type Pruned struct {
	Folders int   `json:"folders"`
	Bytes   int64 `json:"bytes"`
}

// SignIn exchanges the code of a one-time link for a cookie.
type SignIn struct {
	Code string `json:"code"`
}

// SignInLink is a one-time link to the console.
type SignInLink struct {
	URL string `json:"url"`
}

// ProblemDocument is a problem document after RFC 9457.
type ProblemDocument struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
	// Problems lists what is wrong with the files of a request.
	Problems []specfile.Problem `json:"problems,omitempty"`
}
