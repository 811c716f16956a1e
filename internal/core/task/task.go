// Package task holds the task file: one wanted change in a real repository,
// with its start commit, its brief and the checks that judge a result.
//
// A task is one Markdown file: YAML front matter, and below it the brief in
// prose. The package parses and validates; it reads no disk.
package task

import (
	"fmt"
	"strings"
	"time"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
)

// TaskSize is the author's estimate of how large the wanted change is.
type TaskSize string

func (s *TaskSize) ParseScalar(text string) error {
	switch text {
	case "small", "medium", "large":
		*s = TaskSize(text)
		return nil
	}
	return fmt.Errorf("unknown size")
}

func (*TaskSize) Expected() string { return "small, medium or large" }

// Limits bound what a bout may use. Zero means that nothing was said.
type Limits struct {
	Time    specfile.Duration `yaml:"time" json:"time,omitempty" jsonschema_description:"How long a contender may work on the task; default 30m."`
	Check   specfile.Duration `yaml:"check" json:"check,omitempty" jsonschema_description:"How long one check may run; default 10m."`
	Prepare specfile.Duration `yaml:"prepare" json:"prepare,omitempty" jsonschema_description:"How long the prepare command may run; default 30m."`
	Output  specfile.Size     `yaml:"output" json:"output,omitempty" jsonschema_description:"How much of each output is kept; default 4MiB. What is cut is counted and shown as cut."`
	File    specfile.Size     `yaml:"file" json:"file,omitempty" jsonschema_description:"The largest changed file that is captured; default 32MiB."`
	// Quiet, Tokens and Spend hold for a whole bout; 0 and nil for no limit.
	Quiet     specfile.Duration `yaml:"quiet" json:"quiet,omitempty" jsonschema_description:"How long a contender may do nothing that can be seen - no exchange with its model, no output, no edit, no use of the CPU - before it is stopped; default: as long as it likes."`
	Tokens    int               `yaml:"tokens" json:"tokens,omitempty" jsonschema_description:"How many tokens a bout may use, of all kinds together; default: no limit. The bout is stopped within one exchange. It needs the meter."`
	Spend     *ledger.Money     `yaml:"spend" json:"spend,omitempty" jsonschema_description:"How much a bout may cost, such as 0.50 AVM, by the contest's price lists; default: no limit. It needs the meter."`
	Resources `yaml:",inline"`
}

// Resources bound what a contender's tool, and each check, may use of the machine, with
// all that it starts. Zero means that nothing was said.
type Resources struct {
	Memory    specfile.Size     `yaml:"memory" json:"memory,omitempty" jsonschema_description:"How much memory all processes together may have; default 8GiB."`
	CPU       specfile.Duration `yaml:"cpu" json:"cpu,omitempty" jsonschema_description:"How much CPU time all processes together may use; default 12h."`
	Disk      specfile.Size     `yaml:"disk" json:"disk,omitempty" jsonschema_description:"How much may be written to the workspace, HOME and /tmp together; default 16GiB."`
	Files     int               `yaml:"files" json:"files,omitempty" jsonschema_description:"How many files and folders may be made there; default 500000."`
	Processes int               `yaml:"processes" json:"processes,omitempty" jsonschema_description:"How many processes there may be at once; default 4096. Whoever wants more gets an error."`
	OpenFiles int               `yaml:"open_files" json:"open_files,omitempty" jsonschema_description:"How many files a process may have open; default 65536. Whoever wants more gets an error."`
}

// The resources where nobody says anything.
const (
	DefaultMemory    = 8 << 30
	DefaultCPU       = 12 * time.Hour
	DefaultDisk      = 16 << 30
	DefaultFiles     = 500_000
	DefaultProcesses = 4096
	DefaultOpenFiles = 65_536
)

// Over lays the resources that r names over those of base.
func (r Resources) Over(base Resources) Resources {
	pick := func(into *specfile.Size, from specfile.Size) {
		if *into == 0 {
			*into = from
		}
	}
	number := func(into *int, from int) {
		if *into == 0 {
			*into = from
		}
	}
	pick(&r.Memory, base.Memory)
	pick(&r.Disk, base.Disk)
	if r.CPU == 0 {
		r.CPU = base.CPU
	}
	number(&r.Files, base.Files)
	number(&r.Processes, base.Processes)
	number(&r.OpenFiles, base.OpenFiles)
	return r
}

// Validate reports figures that are none, under the key that holds them.
func (r Resources) Validate(doc *specfile.Document, key string) {
	for name, n := range map[string]int{"files": r.Files, "processes": r.Processes, "open_files": r.OpenFiles} {
		if n < 0 {
			doc.Add(key+"."+name, fmt.Sprint(n), "a whole number above 0")
		}
	}
}

// The limits of a task that names none.
const (
	DefaultTime    = 30 * time.Minute
	DefaultCheck   = 10 * time.Minute
	DefaultPrepare = 30 * time.Minute
	DefaultOutput  = 4 << 20
	DefaultFile    = 32 << 20
)

// Over lays the limits that l names over those of base.
func (l Limits) Over(base Limits) Limits {
	pick := func(a, b specfile.Duration) specfile.Duration {
		if a != 0 {
			return a
		}
		return b
	}
	size := func(a, b specfile.Size) specfile.Size {
		if a != 0 {
			return a
		}
		return b
	}
	tokens, spend := l.Tokens, l.Spend
	if tokens == 0 {
		tokens = base.Tokens
	}
	if spend == nil {
		spend = base.Spend
	}
	return Limits{Quiet: pick(l.Quiet, base.Quiet), Tokens: tokens, Spend: spend,
		Time: pick(l.Time, base.Time), Check: pick(l.Check, base.Check), Prepare: pick(l.Prepare, base.Prepare),
		Output: size(l.Output, base.Output), File: size(l.File, base.File), Resources: l.Resources.Over(base.Resources),
	}
}

// Defaults are the limits where neither the task nor the contest says anything.
func Defaults() Limits {
	return Limits{Time: specfile.Duration(DefaultTime), Check: specfile.Duration(DefaultCheck),
		Prepare: specfile.Duration(DefaultPrepare), Output: DefaultOutput, File: DefaultFile,
		Resources: Resources{Memory: DefaultMemory, CPU: specfile.Duration(DefaultCPU), Disk: DefaultDisk, Files: DefaultFiles, Processes: DefaultProcesses, OpenFiles: DefaultOpenFiles}}
}

// FrontMatter is the YAML part of a task file.
type FrontMatter struct {
	Task           specfile.Slug   `yaml:"task" spec:"required" json:"task" jsonschema_description:"The task's slug; unique in a contest."`
	Title          string          `yaml:"title" spec:"required" json:"title" jsonschema_description:"One line that says what is wanted."`
	Repository     string          `yaml:"repository" spec:"required" json:"repository" jsonschema_description:"A path relative to this file, an absolute path, or a git URL."`
	StartCommit    string          `yaml:"start_commit" spec:"required" json:"start_commit" jsonschema_description:"A tag, branch or commit; the full commit id is recorded."`
	Labels         []specfile.Slug `yaml:"labels" json:"labels,omitempty" jsonschema_description:"Words for language, kind of work, area."`
	Size           TaskSize        `yaml:"size" json:"size,omitempty" jsonschema_description:"The author's estimate of the change: small, medium or large."`
	Prepare        string          `yaml:"prepare" json:"prepare,omitempty" jsonschema_description:"A command, handed to sh -c once per repository and start commit, that fetches dependencies and warms caches."`
	Kind           Kind            `yaml:"kind" json:"kind,omitempty" jsonschema_description:"change (default), question or typing. A question changes nothing; its reply is examined. Typing is a change that a person types with a tool's suggestions, so its contenders are worked by hand."`
	Checks         []Check         `yaml:"checks" json:"checks,omitempty" jsonschema_description:"What decides, in this order. A change needs at least one."`
	Goal           []string        `yaml:"goal" json:"goal,omitempty" jsonschema_description:"Names of the goal tests; * stands for anything. Default: what fails or is not there at the start and passes with the reference patch."`
	Guard          []string        `yaml:"guard" json:"guard,omitempty" jsonschema_description:"Names of the guard tests; * stands for anything. Default: what passed at the start and, where there is a reference patch, passes with it."`
	Scope          []string        `yaml:"scope" json:"scope,omitempty" jsonschema_description:"Glob patterns of where the change is wanted."`
	Never          []string        `yaml:"never" json:"never,omitempty" jsonschema_description:"Glob patterns of files that must not be touched; those that are count as strays."`
	Measures       *Measures       `yaml:"measures" json:"measures,omitempty" jsonschema_description:"Which edit measures are left out, and which figures fail a bout."`
	Sealed         *Sealed         `yaml:"sealed" json:"sealed,omitempty" jsonschema_description:"Files that are laid over the result in the judging copy only."`
	Protect        Protect         `yaml:"protect" json:"protect,omitempty" jsonschema_description:"What a weakened test means: report (default) notes it on the verdict, strict fails the bout."`
	Protected      []string        `yaml:"protected" json:"protected,omitempty" jsonschema_description:"Glob patterns of further files that are put back to their start for judging."`
	Unprotected    []string        `yaml:"unprotected" json:"unprotected,omitempty" jsonschema_description:"Glob patterns of files that are not put back, although they are tests or named by a check."`
	BriefState     string          `yaml:"brief" json:"brief,omitempty" jsonschema_description:"drafted: the brief was made from a commit's message, and no person has confirmed it; plans and contests say so. Take the key out when the brief says what is wanted."`
	Reads          []string        `yaml:"reads" json:"reads,omitempty" jsonschema_description:"Further folders of the service's machine that prepare, checks and contenders may read where they are, such as a toolchain that is not on the service's PATH."`
	Canary         string          `yaml:"canary" json:"canary,omitempty" jsonschema_description:"A folder, relative to this file, with files that make the task's checks fail when they are laid over a good result, such as a failing test. {word} in names and contents becomes a random word. It takes the place of the canaries that Agonometer makes itself."`
	TestFiles      []string        `yaml:"test_files" json:"test_files,omitempty" jsonschema_description:"Glob patterns of what counts as a test file here; default: the usual names."`
	Attachments    []string        `yaml:"attachments" json:"attachments,omitempty" jsonschema_description:"Files that go with the brief, such as a picture of what is wanted; paths relative to this file."`
	Network        Network         `yaml:"network" json:"network,omitempty" jsonschema_description:"none (default) takes the network away from judging copies, where the machine allows it; needed leaves it."`
	RepairRounds   *int            `yaml:"repair_rounds" json:"repair_rounds,omitempty" jsonschema_description:"How often what failed is handed back to the contender; default 0, or what the contest says."`
	FollowUps      []FollowUp      `yaml:"follow_ups" json:"follow_ups,omitempty" jsonschema_description:"Further briefs, in order, each handed over when the one before is done."`
	Facts          []Fact          `yaml:"facts" json:"facts,omitempty" jsonschema_description:"Of a question: what the reply must hold, and what it must not."`
	Deliverable    string          `yaml:"deliverable" json:"deliverable,omitempty" jsonschema_description:"Of a question: the one file that may be written."`
	Limits         Limits          `yaml:"limits" json:"limits,omitempty" jsonschema_description:"What a bout on this task may use."`
	ReferencePatch string          `yaml:"reference_patch" json:"reference_patch,omitempty" jsonschema_description:"A file with a known good change, as git diff prints it."`
	// AlsoGood are further good changes.
	AlsoGood []string `yaml:"also_good" json:"also_good,omitempty" jsonschema_description:"Files with further known good changes for the brief; edit measures look at the nearest."`
	// ReferenceAnswer is to a question what the reference patch is to a change.
	ReferenceAnswer string `yaml:"reference_answer" json:"reference_answer,omitempty" jsonschema_description:"Of a question: a file with a known good reply."`
}

// BriefDrafted marks a brief that nobody has confirmed. DraftedRemark begins the remark to
// its author, which is never handed over.
const (
	BriefDrafted  = "drafted"
	DraftedRemark = "<!-- Rewrite this:"
)

// DraftedWords say what that means to whom the task belongs.
const DraftedWords = "its brief is a commit's message, which says what was done: rewrite it to say what is wanted, then take out brief: drafted and the remark"

// Drafted tells whether the brief is as it was drafted.
func (t *Task) Drafted() bool { return t.BriefState == BriefDrafted || t.remarked }

// Measures say what a task wants of the edit measures.
type Measures struct {
	Off    []string           `yaml:"off" json:"off,omitempty" jsonschema_description:"Measures that are left out: footprint, strays, noise, leftovers, losses, tests, repetition, fit, docs, nearness, claims."`
	AtMost map[string]float64 `yaml:"at_most" json:"at_most,omitempty" jsonschema_description:"Figures, by name, above which a bout that passed its checks fails, such as leftovers: 0."`
}

// Task is a task file, read and found valid.
type Task struct {
	FrontMatter
	// File is the absolute path on the machine where it was written.
	File string
	// Brief is the prose, without blank lines around it: the first of the wordings.
	Brief string
	// Wordings are the ways in which the brief is said: one without a name, or
	// several with names.
	Wordings []Wording
	// Attached are the files that go with the brief.
	Attached []Attached
	// Source is the file as it was read.
	Source []byte
	// Stages are the brief and the follow-ups, with all that belongs to each.
	Stages   []Stage
	remarked bool // the remark to the author stands in it still
	// CanaryFiles are the task's own canary, by slash path in the repository; nil for none.
	CanaryFiles map[string][]byte
	// Answer is the reference answer of a question, or nil.
	Answer []byte
	// files are those that the task names, by the key that names them.
	named [][]byte
}

// RepositoryAddress is the repository as git is told: an absolute path, or the URL as it stands.
func (t *Task) RepositoryAddress() string {
	if IsURL(t.Repository) {
		return t.Repository
	}
	return specfile.Resolve(t.File, t.Repository)
}

// IsURL tells a git URL (scheme://…, or host:path as ssh has it) from a path.
func IsURL(s string) bool {
	if strings.Contains(s, "://") {
		return true
	}
	colon, slash := strings.Index(s, ":"), strings.Index(s, "/")
	return colon > 0 && (slash < 0 || colon < slash)
}
