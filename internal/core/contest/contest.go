// Package contest holds the contest file - some tasks, some contenders, repeats
// and limits - and unfolds it into bouts in a fair order.
//
// Load is the one place that reads all three kinds of files together. The
// client and the service call it with the same bundle, so their messages are
// the same.
package contest

import (
	"fmt"
	"path"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
)

// File is the YAML of a contest.
type File struct {
	Contest    specfile.Slug  `yaml:"contest" spec:"required" json:"contest" jsonschema_description:"The contest's name, a slug."`
	Title      string         `yaml:"title" json:"title,omitempty" jsonschema_description:"One line for people; default: the name."`
	Tasks      []string       `yaml:"tasks" spec:"required" json:"tasks" jsonschema_description:"Task files: glob patterns, relative to this file."`
	Contenders []string       `yaml:"contenders" spec:"required" json:"contenders" jsonschema_description:"Contender files: glob patterns, relative to this file."`
	Repeats    *int           `yaml:"repeats" json:"repeats,omitempty" jsonschema_description:"How often each contender meets each task; default 1."`
	Seed       *specfile.Seed `yaml:"seed" json:"seed,omitempty" jsonschema_description:"0 to 2^53-1. The order of the bouts follows from it; drawn and recorded when absent."`
	AtOnce     *int           `yaml:"at_once" json:"at_once,omitempty" jsonschema_description:"How many bouts may run at the same time; default 1. Bouts that ran beside others are marked."`
	Limits     task.Limits    `yaml:"limits" json:"limits,omitempty" jsonschema_description:"Limits that override those of the tasks."`
	// RepairRounds holds for tasks that do not say.
	RepairRounds *int   `yaml:"repair_rounds" json:"repair_rounds,omitempty" jsonschema_description:"How often what failed is handed back to a contender, where the task does not say; default 0."`
	RepairWords  string `yaml:"repair_words" json:"repair_words,omitempty" jsonschema_description:"The words of a repair round; {output} is what the failing visible checks printed, shortened."`
	// Prices are price lists.
	Prices        []string          `yaml:"prices" json:"prices,omitempty" jsonschema_description:"Price list files: glob patterns, relative to this file. Money is worked out by them; of several the first that knows a model decides."`
	OnRefused     OnEvent           `yaml:"on_refused" json:"on_refused,omitempty" jsonschema_description:"What a refusal of the model service does to a bout: count (default) lets the bout stand as it comes out; void ends it and runs it again after a pause."`
	OnOtherModel  OnEvent           `yaml:"on_other_model" json:"on_other_model,omitempty" jsonschema_description:"What it does to a bout when a model replies that its contender does not expect: flag (default) or void."`
	RefusedPause  specfile.Duration `yaml:"refused_pause" json:"refused_pause,omitempty" jsonschema_description:"How long to wait before a refused bout is run again; twice as long each further time; default 30s."`
	Wordings      []string          `yaml:"wordings" json:"wordings,omitempty" jsonschema_description:"Which wordings of its tasks' briefs are used: names, or [all]; a task without a named one uses its first. Default: the first of each task."`
	Walls         Walls             `yaml:"walls" json:"walls,omitempty" jsonschema_description:"What must stand around the bouts: required does not start the contest where the confinement is not full (see agonometer doctor); any (default) starts it and marks the bouts."`
	Guidance      string            `yaml:"guidance" json:"guidance,omitempty" jsonschema_description:"One guidance text for all contenders that name a file for it (guidance: as) and have no text of their own."`
	HourlyRate    *ledger.Money     `yaml:"hourly_rate" json:"hourly_rate,omitempty" jsonschema_description:"What an hour of the person is worth, such as 60 AVM; with it money is shown with and without the person's time."`
	NotRightWords string            `yaml:"not_right_words" json:"not_right_words,omitempty" jsonschema_description:"The words of a repair round when only something sealed was missed."`
}

// Walls says what must stand around a contest's bouts.
type Walls string

const (
	WallsAny      Walls = "any"
	WallsRequired Walls = "required"
)

func (w *Walls) ParseScalar(text string) error {
	if Walls(text) != WallsAny && Walls(text) != WallsRequired {
		return fmt.Errorf("unknown")
	}
	*w = Walls(text)
	return nil
}

func (*Walls) Expected() string { return "any or required" }

// The words of repair rounds where a contest has none of its own.
const (
	DefaultRepairWords   = "This does not work yet:\n\n{output}\n\nPlease mend it."
	DefaultNotRightWords = "This is not yet right. Please look at the wishes again, and mend it."
)

// RepairWordsOr and NotRightWordsOr are the contest's words, or the usual ones.
func (c *Contest) RepairWordsOr() string {
	if c.RepairWords == "" {
		return DefaultRepairWords
	}
	return c.RepairWords
}

func (c *Contest) NotRightWordsOr() string {
	if c.NotRightWords == "" {
		return DefaultNotRightWords
	}
	return c.NotRightWords
}

// RepairRoundsOf is how often what failed on a task is handed back.
func (c *Contest) RepairRoundsOf(t *task.Task) int {
	if c.RepairRounds != nil {
		return t.RepairRoundsOr(*c.RepairRounds)
	}
	return t.RepairRoundsOr(0)
}

// Contest is a contest with everything that it names, read and found valid.
type Contest struct {
	File
	Path       string
	Source     []byte
	Tasks      []*task.Task
	Contenders []*contender.Contender
	Repeats    int
	AtOnce     int
	// PriceLists are those that the contest names, in their order.
	PriceLists ledger.Prices
	// PriceSources are the files they were read from.
	PriceSources [][]byte
	// Takes maps a task's slug to the wordings that are used, in order.
	Takes map[specfile.Slug][]string
	// Commits maps a task's slug to the full id of its start commit.
	Commits map[specfile.Slug]string
}

// The bounds of a contest.
const (
	MaxRepeats = 1000
	MaxAtOnce  = 256
	MaxBouts   = 100_000
)

// CommitResolver finds the full commit id of a revision of a repository, or an
// error that says in words why it cannot.
type CommitResolver interface {
	ResolveCommit(repository, revision string) (string, error)
}

// Kind is what a file is meant to be.
type Kind string

const (
	KindTask      Kind = "task"
	KindContender Kind = "contender"
	KindContest   Kind = "contest"
	KindPrices    Kind = "prices"
)

// KindOf tells what a file is meant to be: Markdown is a task; YAML is a
// contest, a contender or a price list, by the key that names it; "" when it is neither.
func KindOf(file string, data []byte) Kind {
	switch strings.ToLower(path.Ext(file)) {
	case ".md", ".markdown":
		return KindTask
	case ".yaml", ".yml":
		var c File
		if specfile.DecodeYAML(file, data, &c).Has("contest") {
			return KindContest
		}
		var d contender.File
		if specfile.DecodeYAML(file, data, &d).Has("contender") {
			return KindContender
		}
		if specfile.DecodeYAML(file, data, &ledger.PriceList{}).Has("price_list") {
			return KindPrices
		}
	}
	return ""
}

// Globs reads just enough of a contest file to tell which patterns it names,
// as absolute patterns; a file with mistakes names what can be made out.
func Globs(file string, data []byte) (tasks, contenders, prices []string) {
	var f File
	specfile.DecodeYAML(file, data, &f)
	return absolute(file, f.Tasks), absolute(file, f.Contenders), absolute(file, f.Prices)
}

func absolute(file string, patterns []string) []string {
	out := make([]string, 0, len(patterns))
	for _, p := range patterns {
		out = append(out, specfile.Resolve(file, p))
	}
	return out
}

// Load reads the contest that is the bundle's main file with everything that
// it names. Every problem in every file is returned at once, sorted, as a
// specfile.Problems error; the contest is then nil.
func Load(b *specfile.Bundle, commits CommitResolver) (*Contest, error) {
	var problems specfile.Problems
	c := &Contest{Path: b.Main, Source: b.Files[b.Main], Repeats: 1, AtOnce: 1, Commits: map[specfile.Slug]string{}, Takes: map[specfile.Slug][]string{}}
	doc := specfile.DecodeYAML(b.Short(b.Main), c.Source, &c.File)
	if c.Title == "" {
		c.Title = string(c.Contest)
	}
	number := func(key string, given *int, into *int, most int) {
		if given == nil {
			return
		}
		if *given < 1 || *given > most {
			doc.Add(key, fmt.Sprint(*given), fmt.Sprintf("a whole number from 1 to %d", most))
			return
		}
		*into = *given
	}
	number("repeats", c.File.Repeats, &c.Repeats, MaxRepeats)
	number("at_once", c.File.AtOnce, &c.AtOnce, MaxAtOnce)
	if n := c.RepairRounds; n != nil && (*n < 0 || *n > task.MaxRepairRounds) {
		doc.Add("repair_rounds", fmt.Sprint(*n), fmt.Sprintf("a whole number from 0 to %d", task.MaxRepairRounds))
	}
	if doc.Has("repair_words") && !strings.Contains(c.RepairWords, "{output}") {
		doc.Add("repair_words", specfile.Quote(c.RepairWords), "words with {output} in them")
	}

	taskDocs := map[string]*specfile.Document{}
	firstTask := map[specfile.Slug]string{}
	for _, name := range match(b, doc, "tasks", c.File.Tasks) {
		t, d := task.Parse(name, b.Short(name), b.Files[name], b.Files)
		taskDocs[name] = d
		if first, dup := firstTask[t.Task]; dup && t.Task != "" {
			d.Add("task", specfile.Quote(string(t.Task)), "a slug of its own ("+first+" has it already)")
		} else {
			firstTask[t.Task] = b.Short(name)
		}
		c.Tasks = append(c.Tasks, t)
	}
	for _, t := range c.Tasks {
		d := taskDocs[t.File]
		checkStart(t, d, commits, c.Commits)
		problems = append(problems, d.Problems...)
	}
	firstContender := map[specfile.Slug]string{}
	for _, name := range match(b, doc, "contenders", c.File.Contenders) {
		con, d := contender.Parse(name, b.Short(name), b.Files[name])
		if first, dup := firstContender[con.Contender]; dup && con.Contender != "" {
			d.Add("contender", specfile.Quote(string(con.Contender)), "a slug of its own ("+first+" has it already)")
		} else {
			firstContender[con.Contender] = b.Short(name)
		}
		c.Contenders = append(c.Contenders, con)
		problems = append(problems, d.Problems...)
	}
	for _, name := range match(b, doc, "prices", c.File.Prices) {
		list, d := ledger.ParsePrices(b.Short(name), b.Files[name])
		if have := c.PriceLists.Currency(); have != "" && list.Currency != "" && have != list.Currency {
			d.Add("currency", string(list.Currency), string(have)+", as in the contest's other price lists")
		}
		c.PriceLists.Lists = append(c.PriceLists.Lists, list)
		c.PriceSources = append(c.PriceSources, b.Files[name])
		problems = append(problems, d.Problems...)
	}
	c.checkMeter(doc)
	c.takeWordings(doc)
	c.checkKinds(doc)
	if n := c.Bouts(); n > MaxBouts {
		doc.Add("repeats", fmt.Sprintf("%d bouts in all", n), fmt.Sprintf("at most %d", MaxBouts))
	}
	problems = append(problems, doc.Problems...)
	if len(problems) > 0 {
		problems.Sort()
		return nil, problems
	}
	return c, nil
}

// LoadOne checks a single task or contender file, as `validate` does.
func LoadOne(b *specfile.Bundle, kind Kind, commits CommitResolver) specfile.Problems {
	switch kind {
	case KindTask:
		t, d := task.Parse(b.Main, b.Main, b.Files[b.Main], b.Files)
		checkStart(t, d, commits, map[specfile.Slug]string{})
		return d.Problems
	case KindContender:
		_, d := contender.Parse(b.Main, b.Main, b.Files[b.Main])
		return d.Problems
	case KindPrices:
		_, d := ledger.ParsePrices(b.Main, b.Files[b.Main])
		return d.Problems
	}
	return specfile.Problems{{File: b.Main, Found: "a file that is none of the four kinds",
		Expected: "a task (.md with front matter), or YAML with the key contest, contender or price_list"}}
}

// checkStart resolves the start commit, where the file says enough for that.
func checkStart(t *task.Task, d *specfile.Document, commits CommitResolver, into map[specfile.Slug]string) {
	if commits == nil || t.Repository == "" || t.StartCommit == "" || hasProblem(d, "repository") || hasProblem(d, "start_commit") {
		return
	}
	full, err := commits.ResolveCommit(t.RepositoryAddress(), t.StartCommit)
	if err != nil {
		key, found := "start_commit", specfile.Quote(t.StartCommit)
		expected := "a tag, branch or commit of " + t.RepositoryAddress()
		if _, isRepo := err.(*NoRepositoryError); isRepo {
			key, found, expected = "repository", specfile.Quote(t.Repository), "a git repository that the service's machine can read"
		}
		d.Add(key, found+" ("+err.Error()+")", expected)
		return
	}
	into[t.Task] = full
}

// NoRepositoryError says that the repository itself cannot be read.
type NoRepositoryError struct{ Why string }

func (e *NoRepositoryError) Error() string { return e.Why }

func hasProblem(d *specfile.Document, key string) bool {
	for _, p := range d.Problems {
		if p.Key == key {
			return true
		}
	}
	return false
}

// match expands glob patterns against the bundle's files: in the order of the
// patterns, each file once, sorted within a pattern.
func match(b *specfile.Bundle, doc *specfile.Document, key string, patterns []string) []string {
	names := make([]string, 0, len(b.Files))
	for name := range b.Files {
		names = append(names, name)
	}
	sort.Strings(names)
	var out []string
	taken := map[string]bool{}
	if doc.Has(key) && len(patterns) == 0 && key != "prices" {
		doc.Add(key, "an empty list", "at least one file or glob pattern")
	}
	for i, p := range patterns {
		at := fmt.Sprintf("%s[%d]", key, i)
		if !doublestar.ValidatePattern(p) {
			doc.Add(at, specfile.Quote(p), "a path or glob pattern such as tasks/*.md")
			continue
		}
		found := false
		for _, name := range names {
			if ok, _ := doublestar.Match(specfile.Resolve(b.Main, p), name); ok {
				found = true
				if !taken[name] {
					taken[name] = true
					out = append(out, name)
				}
			}
		}
		if !found {
			doc.Add(at, specfile.Quote(p)+" (no such file)", "a file that exists, or a pattern that matches one, relative to "+path.Base(b.Main))
		}
	}
	return out
}
