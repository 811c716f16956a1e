// Package task holds the task file: one wanted change in a real repository,
// with its start commit, its brief and the checks that judge a result.
//
// A task is one Markdown file: YAML front matter, and below it the brief in
// prose. The package parses and validates; it reads no disk.
package task

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/bluekeyes/go-gitdiff/gitdiff"

	"agonometer/internal/core/specfile"
)

// Reader says how a check's output becomes test outcomes.
type Reader string

const (
	// ReadsExit looks at the exit status alone: 0 is passed.
	ReadsExit Reader = "exit"
	// ReadsGoTestJSON reads the events that `go test -json` prints, and the exit status.
	ReadsGoTestJSON Reader = "go-test-json"
)

func (r *Reader) ParseScalar(text string) error {
	switch Reader(text) {
	case ReadsExit, ReadsGoTestJSON:
		*r = Reader(text)
		return nil
	}
	return fmt.Errorf("unknown reader")
}

func (*Reader) Expected() string { return "exit or go-test-json" }

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

// Check is a command that says something about a result.
type Check struct {
	Name specfile.Slug `yaml:"name" spec:"required" json:"name" jsonschema_description:"The check's name, used in verdicts and tables."`
	// Run is handed to `sh -c` in the judging copy.
	Run   string `yaml:"run" spec:"required" json:"run" jsonschema_description:"The command, handed to sh -c in a clean copy that holds the result."`
	Reads Reader `yaml:"reads" json:"reads,omitempty" jsonschema_description:"How the output is read; the default is the exit status alone."`
}

// Limits bound what a bout may use. Zero means that nothing was said.
type Limits struct {
	Time    specfile.Duration `yaml:"time" json:"time,omitempty" jsonschema_description:"How long a contender may work on the task; default 30m."`
	Check   specfile.Duration `yaml:"check" json:"check,omitempty" jsonschema_description:"How long one check may run; default 10m."`
	Prepare specfile.Duration `yaml:"prepare" json:"prepare,omitempty" jsonschema_description:"How long the prepare command may run; default 30m."`
	Output  specfile.Size     `yaml:"output" json:"output,omitempty" jsonschema_description:"How much of each output is kept; default 4MiB. What is cut is counted and shown as cut."`
	File    specfile.Size     `yaml:"file" json:"file,omitempty" jsonschema_description:"The largest changed file that is captured; default 32MiB."`
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
	return Limits{
		Time: pick(l.Time, base.Time), Check: pick(l.Check, base.Check), Prepare: pick(l.Prepare, base.Prepare),
		Output: size(l.Output, base.Output), File: size(l.File, base.File),
	}
}

// Defaults are the limits where neither the task nor the contest says anything.
func Defaults() Limits {
	return Limits{Time: specfile.Duration(DefaultTime), Check: specfile.Duration(DefaultCheck),
		Prepare: specfile.Duration(DefaultPrepare), Output: DefaultOutput, File: DefaultFile}
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
	Checks         []Check         `yaml:"checks" spec:"required" json:"checks" jsonschema_description:"What decides, in this order; the first that fails ends the judging."`
	Limits         Limits          `yaml:"limits" json:"limits,omitempty" jsonschema_description:"What a bout on this task may use."`
	ReferencePatch string          `yaml:"reference_patch" json:"reference_patch,omitempty" jsonschema_description:"A file with a known good change, as git diff prints it."`
}

// Task is a task file, read and found valid.
type Task struct {
	FrontMatter
	// File is the absolute path on the machine where it was written.
	File string
	// Brief is the prose, without blank lines around it.
	Brief string
	// Source is the file as it was read.
	Source []byte
	// Reference is the reference patch, or nil.
	Reference []byte
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

// Digest names this version of the task: the SHA-256, in hexadecimal, over the
// file, the reference patch and the full start commit.
func (t *Task) Digest(fullStartCommit string) string {
	h := sha256.New()
	for _, part := range [][]byte{t.Source, t.Reference, []byte(fullStartCommit)} {
		fmt.Fprintf(h, "%d\n", len(part))
		h.Write(part)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Names reads just enough of a task file to tell which further files it names,
// as absolute paths. A file with mistakes names what can be made out.
func Names(file string, data []byte) []string {
	var fm FrontMatter
	specfile.DecodeFrontMatter(file, data, &fm)
	if fm.ReferencePatch == "" {
		return nil
	}
	return []string{specfile.Resolve(file, fm.ReferencePatch)}
}

// Parse reads a task file. `files` holds what the file names (see Names);
// `shown` is the path for messages. All problems are returned together.
func Parse(file, shown string, data []byte, files map[string][]byte) (*Task, *specfile.Document) {
	t := &Task{File: file, Source: data}
	doc, brief := specfile.DecodeFrontMatter(shown, data, &t.FrontMatter)
	if len(doc.Problems) > 0 && !doc.Has("task") && !doc.Has("title") {
		return t, doc // not a task file at all: nothing more can be said about it
	}
	t.Brief = strings.TrimSpace(brief)
	if t.Brief == "" {
		doc.Problems = append(doc.Problems, specfile.Problem{File: shown, Line: strings.Count(string(data), "\n") + 1,
			Found: "no brief", Expected: "the words for the contender below the front matter"})
	}
	if doc.Has("title") && (strings.TrimSpace(t.Title) == "" || strings.Contains(t.Title, "\n")) {
		doc.Add("title", specfile.Quote(t.Title), "one line of text")
	}
	if doc.Has("start_commit") && (t.StartCommit == "" || strings.HasPrefix(t.StartCommit, "-") || strings.ContainsAny(t.StartCommit, "\n ")) {
		doc.Add("start_commit", specfile.Quote(t.StartCommit), "a tag, branch or commit")
	}
	if doc.Has("repository") && (t.Repository == "" || strings.HasPrefix(t.Repository, "-") || strings.HasPrefix(t.Repository, "ext::")) {
		doc.Add("repository", specfile.Quote(t.Repository), "a path or a git URL")
	}
	if doc.Has("checks") && len(t.Checks) == 0 {
		doc.Add("checks", "an empty list", "at least one check; without one no result could be judged")
	}
	seen := map[specfile.Slug]int{}
	for i := range t.Checks {
		c := &t.Checks[i]
		key := fmt.Sprintf("checks[%d]", i)
		if c.Reads == "" {
			c.Reads = ReadsExit
		}
		if doc.Has(key+".run") && strings.TrimSpace(c.Run) == "" {
			doc.Add(key+".run", specfile.Quote(c.Run), "a command")
		}
		if c.Name == "" {
			continue
		}
		if first, dup := seen[c.Name]; dup {
			doc.Add(key+".name", specfile.Quote(string(c.Name)), fmt.Sprintf("a name of its own (checks[%d] has it already)", first))
		}
		seen[c.Name] = i
	}
	if t.ReferencePatch != "" {
		name := specfile.Resolve(file, t.ReferencePatch)
		patch, ok := files[name]
		switch {
		case !ok:
			doc.Add("reference_patch", specfile.Quote(t.ReferencePatch)+" (no such file)", "a file that exists, its path relative to "+path.Base(file))
		default:
			parsed, _, err := gitdiff.Parse(bytes.NewReader(patch))
			if err != nil || len(parsed) == 0 {
				why := "no changes in it"
				if err != nil {
					why = err.Error()
				}
				doc.Add("reference_patch", specfile.Quote(t.ReferencePatch)+" ("+why+")", "a patch as git diff prints it")
			}
			t.Reference = patch
		}
	}
	return t, doc
}
