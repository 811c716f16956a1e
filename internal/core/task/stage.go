package task

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bluekeyes/go-gitdiff/gitdiff"
	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/specfile"
)

// Nothing is the start commit of a task that begins before the repository's
// first commit. No git revision can be written so.
const Nothing = ":nothing"

// Kind says what a task wants.
type Kind string

const (
	// Change wants the repository changed.
	Change Kind = "change"
	// Question wants a reply, and nothing changed.
	Question Kind = "question"
	// Typing is a change that a person types with a tool's suggestions.
	Typing Kind = "typing"
)

func (k *Kind) ParseScalar(text string) error { return oneOf(k, text, Change, Question, Typing) }
func (*Kind) Expected() string                { return "change, question or typing" }

// Protect says what a weakened test means.
type Protect string

const (
	Report Protect = "report"
	Strict Protect = "strict"
)

func (p *Protect) ParseScalar(text string) error { return oneOf(p, text, Report, Strict) }
func (*Protect) Expected() string                { return "report or strict" }

// Network says whether judging copies need the network.
type Network string

const (
	NoNetwork     Network = "none"
	NetworkNeeded Network = "needed"
)

func (n *Network) ParseScalar(text string) error { return oneOf(n, text, NoNetwork, NetworkNeeded) }
func (*Network) Expected() string                { return "none or needed" }

func oneOf[T ~string](into *T, text string, values ...T) error {
	if !slices.Contains(values, T(text)) {
		return fmt.Errorf("unknown")
	}
	*into = T(text)
	return nil
}

// Sealed are files that are kept from the contender and laid over its result
// only when it is judged.
type Sealed struct {
	Folder string   `yaml:"folder" json:"folder,omitempty" jsonschema_description:"A folder, relative to the task file, whose files are laid over the result."`
	Delete []string `yaml:"delete" json:"delete,omitempty" jsonschema_description:"Files of the repository that are deleted there."`
}

// FollowUp is a further brief, handed over when the one before is done.
type FollowUp struct {
	Name           specfile.Slug `yaml:"name" spec:"required" json:"name" jsonschema_description:"The stage's name, used in verdicts and tables."`
	Brief          string        `yaml:"brief" spec:"required" json:"brief" jsonschema_description:"The words that are handed over."`
	Checks         []Check       `yaml:"checks" json:"checks,omitempty" jsonschema_description:"What decides; default: the task's own checks."`
	Goal           []string      `yaml:"goal" json:"goal,omitempty" jsonschema_description:"As the task's."`
	Guard          []string      `yaml:"guard" json:"guard,omitempty" jsonschema_description:"As the task's."`
	Sealed         *Sealed       `yaml:"sealed" json:"sealed,omitempty" jsonschema_description:"As the task's; default: the task's own."`
	ReferencePatch string        `yaml:"reference_patch" json:"reference_patch,omitempty" jsonschema_description:"A known good change for everything up to and with this stage, from the start commit."`
}

// Stage is one brief with everything that judges what comes of it. The first
// one is the task's own; the others are its follow-ups.
type Stage struct {
	// Name is empty for the first stage.
	Name   string
	Brief  string
	Checks []Check
	// Goal and Guard are patterns; nil where the task does not say.
	Goal, Guard []string
	// Sealed maps slash paths in the repository to contents; Delete lists paths.
	Sealed map[string][]byte
	Delete []string
	// Reference is a patch, or nil.
	Reference []byte
	// AlsoGood are further patches.
	AlsoGood [][]byte
}

// HasSealed tells whether anything is laid over the result or deleted there.
func (s *Stage) HasSealed() bool { return len(s.Sealed)+len(s.Delete) > 0 }

// RepairRoundsOr is how often what failed is handed back; other where the task does not say.
func (t *Task) RepairRoundsOr(other int) int {
	if t.RepairRounds == nil {
		return other
	}
	return *t.RepairRounds
}

// MaxRepairRounds bounds repair rounds.
const MaxRepairRounds = 20

// Digest names this version of the task: the SHA-256, in hexadecimal, over the
// file, everything that it names, and the full start commit.
func (t *Task) Digest(fullStartCommit string) string {
	h := sha256.New()
	for _, part := range append([][]byte{t.Source, []byte(fullStartCommit)}, t.named...) {
		fmt.Fprintf(h, "%d\n", len(part))
		h.Write(part)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Names reads just enough of a task file to tell which further files and
// folders it names, as absolute paths. A file with mistakes names what can be
// made out.
func Names(file string, data []byte) (files, folders []string) {
	var fm FrontMatter
	specfile.DecodeFrontMatter(file, data, &fm)
	add := func(list *[]string, name string) {
		if name != "" {
			*list = append(*list, specfile.Resolve(file, name))
		}
	}
	add(&files, fm.ReferencePatch)
	add(&files, fm.ReferenceAnswer)
	for _, name := range append(fm.AlsoGood, fm.Attachments...) {
		add(&files, name)
	}
	sealed := func(s *Sealed) {
		if s != nil {
			add(&folders, s.Folder)
		}
	}
	sealed(fm.Sealed)
	add(&folders, fm.Canary)
	for _, f := range fm.FollowUps {
		add(&files, f.ReferencePatch)
		sealed(f.Sealed)
	}
	return files, folders
}

// Parse reads a task file. `files` holds what the file names (see Names);
// `shown` is the path for messages. All problems are returned together.
func Parse(file, shown string, data []byte, files map[string][]byte) (*Task, *specfile.Document) {
	t := &Task{File: file, Source: data}
	doc, brief := specfile.DecodeFrontMatter(shown, data, &t.FrontMatter)
	if len(doc.Problems) > 0 && !doc.Has("task") && !doc.Has("title") {
		return t, doc // not a task file at all: nothing more can be said about it
	}
	t.readBrief(doc, shown, data, brief)
	t.readAttachments(doc, files)
	if doc.Has("title") && (strings.TrimSpace(t.Title) == "" || strings.Contains(t.Title, "\n")) {
		doc.Add("title", specfile.Quote(t.Title), "one line of text")
	}
	if doc.Has("start_commit") && (t.StartCommit == "" || strings.HasPrefix(t.StartCommit, "-") || strings.ContainsAny(t.StartCommit, "\n ")) {
		doc.Add("start_commit", specfile.Quote(t.StartCommit), "a tag, branch or commit")
	}
	if doc.Has("repository") && (t.Repository == "" || strings.HasPrefix(t.Repository, "-") || strings.HasPrefix(t.Repository, "ext::")) {
		doc.Add("repository", specfile.Quote(t.Repository), "a path or a git URL")
	}
	if t.Kind == "" {
		t.Kind = Change
	}
	if t.Protect == "" {
		t.Protect = Report
	}
	if t.Network == "" {
		t.Network = NoNetwork
	}
	if t.RepairRounds != nil && (*t.RepairRounds < 0 || *t.RepairRounds > MaxRepairRounds) {
		doc.Add("repair_rounds", fmt.Sprint(*t.RepairRounds), fmt.Sprintf("a whole number from 0 to %d", MaxRepairRounds))
	}
	for key, patterns := range map[string][]string{"scope": t.Scope, "protected": t.Protected, "unprotected": t.Unprotected, "test_files": t.TestFiles, "never": t.Never} {
		for i, p := range patterns {
			if p == "" || strings.HasPrefix(p, "/") || !doublestar.ValidatePattern(p) {
				doc.Add(fmt.Sprintf("%s[%d]", key, i), specfile.Quote(p), "a glob pattern relative to the repository's top, such as src/**")
			}
		}
	}
	if t.BriefState != "" && t.BriefState != BriefDrafted {
		doc.Add("brief", specfile.Quote(t.BriefState), BriefDrafted+", or the key left out; the brief itself stands below the second ---")
	}
	for i, name := range t.Reads {
		if !strings.HasPrefix(name, "/") && !strings.HasPrefix(name, "~/") || path.Clean(name) == "/" {
			doc.Add(fmt.Sprintf("reads[%d]", i), specfile.Quote(name), "an absolute folder, or one below ~/")
		}
	}
	if t.Kind == Question {
		t.parseQuestion(doc, files)
		return t, doc
	}
	for key, given := range map[string]bool{"facts": len(t.Facts) > 0, "deliverable": t.Deliverable != "", "reference_answer": t.ReferenceAnswer != ""} {
		if given {
			doc.Add(key, "a key of questions", "kind: question, or the key left out")
		}
	}
	if len(t.Checks) == 0 {
		found := "no such key"
		if doc.Has("checks") {
			found = "an empty list"
		}
		doc.Add("checks", found, "at least one check; without one no result could be judged")
	}
	validateChecks(doc, "checks", t.Checks)
	first := Stage{Brief: t.Brief, Checks: t.Checks, Goal: t.Goal, Guard: t.Guard, Reference: t.patch(doc, "reference_patch", t.ReferencePatch, files)}
	t.seal(doc, "sealed", t.Sealed, &first, files)
	for i, name := range t.AlsoGood {
		first.AlsoGood = append(first.AlsoGood, t.patch(doc, fmt.Sprintf("also_good[%d]", i), name, files))
	}
	if t.Canary != "" {
		t.CanaryFiles = t.folder(doc, "canary", t.Canary, files)
	}
	t.checkMeasures(doc)
	t.Stages = []Stage{first}
	seen := map[specfile.Slug]bool{}
	for i, f := range t.FollowUps {
		key := fmt.Sprintf("follow_ups[%d]", i)
		validateChecks(doc, key+".checks", t.FollowUps[i].Checks)
		if seen[f.Name] {
			doc.Add(key+".name", specfile.Quote(string(f.Name)), "a name of its own")
		}
		seen[f.Name] = true
		if doc.Has(key+".brief") && strings.TrimSpace(f.Brief) == "" {
			doc.Add(key+".brief", specfile.Quote(f.Brief), "the words for the contender")
		}
		s := Stage{Name: string(f.Name), Brief: strings.TrimSpace(f.Brief), Checks: t.FollowUps[i].Checks, Goal: f.Goal, Guard: f.Guard,
			Reference: t.patch(doc, key+".reference_patch", f.ReferencePatch, files)}
		if len(s.Checks) == 0 {
			s.Checks = t.Checks
		}
		if f.Sealed == nil {
			s.Sealed, s.Delete = first.Sealed, first.Delete
		} else {
			t.seal(doc, key+".sealed", f.Sealed, &s, files)
		}
		t.Stages = append(t.Stages, s)
	}
	return t, doc
}

// checkMeasures reports names that no measure and no figure has.
func (t *Task) checkMeasures(doc *specfile.Document) {
	if t.Measures == nil {
		return
	}
	for i, name := range t.Measures.Off {
		if !slices.Contains(patch.MeasureNames, name) {
			doc.Add(fmt.Sprintf("measures.off[%d]", i), specfile.Quote(name), "one of "+strings.Join(patch.MeasureNames, ", "))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(t.Measures.AtMost)) {
		switch most := t.Measures.AtMost[name]; {
		case patch.FindFigure(name) == nil:
			doc.Add("measures.at_most."+name, specfile.Quote(name), "the name of a figure, such as leftovers or strays (agonometer bout measures lists them)")
		case most < 0:
			doc.Add("measures.at_most."+name, fmt.Sprint(most), "a number from 0")
		}
	}
}

func (t *Task) patch(doc *specfile.Document, key, name string, files map[string][]byte) []byte {
	if name == "" {
		return nil
	}
	text, ok := files[specfile.Resolve(t.File, name)]
	if !ok {
		doc.Add(key, specfile.Quote(name)+" (no such file)", "a file that exists, its path relative to "+path.Base(t.File))
		return nil
	}
	parsed, _, err := gitdiff.Parse(bytes.NewReader(text))
	if err != nil || len(parsed) == 0 {
		why := "no changes in it"
		if err != nil {
			why = err.Error()
		}
		doc.Add(key, specfile.Quote(name)+" ("+why+")", "a patch as git diff prints it")
	}
	t.named = append(t.named, text)
	return text
}

// seal reads the sealed files of a stage from the bundle.
func (t *Task) seal(doc *specfile.Document, key string, given *Sealed, into *Stage, files map[string][]byte) {
	if given == nil {
		return
	}
	for i, name := range given.Delete {
		if !insideRepository(name) {
			doc.Add(fmt.Sprintf("%s.delete[%d]", key, i), specfile.Quote(name), "a path inside the repository")
		}
	}
	into.Delete = given.Delete
	if given.Folder == "" {
		if len(given.Delete) == 0 {
			doc.Add(key, "neither folder nor delete", "a folder, a list of files to delete, or both")
		}
		return
	}
	into.Sealed = t.folder(doc, key+".folder", given.Folder, files)
}

// folder reads the files of a folder that the task names under a key from the bundle, by
// their slash paths in it.
func (t *Task) folder(doc *specfile.Document, key, given string, files map[string][]byte) map[string][]byte {
	dir := strings.TrimSuffix(specfile.Resolve(t.File, given), "/") + "/"
	out := map[string][]byte{}
	for name := range files {
		if rest, ok := strings.CutPrefix(name, dir); ok {
			out[rest] = files[name]
			if !insideRepository(rest) {
				doc.Add(key, specfile.Quote(rest), "files that can lie in a repository")
			}
		}
	}
	if len(out) == 0 {
		doc.Add(key, specfile.Quote(given)+" (no files in it)", "a folder with files, its path relative to "+path.Base(t.File))
	}
	for _, name := range slices.Sorted(maps.Keys(out)) {
		t.named = append(t.named, []byte(name), out[name])
	}
	return out
}

// insideRepository tells whether a slash path stays inside a repository and out of its .git.
func insideRepository(name string) bool {
	if name == "" || path.Clean(name) != name || strings.HasPrefix(name, "/") || name == "." || name == ".." || strings.HasPrefix(name, "../") {
		return false
	}
	for part := range strings.SplitSeq(name, "/") {
		if strings.EqualFold(part, ".git") {
			return false
		}
	}
	return true
}

// MatchName tells whether a test's name fits a pattern, in which * stands for anything.
func MatchName(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == name
	}
	first, last := parts[0], parts[len(parts)-1]
	if len(name) < len(first)+len(last) || !strings.HasPrefix(name, first) || !strings.HasSuffix(name, last) {
		return false
	}
	name = name[len(first) : len(name)-len(last)]
	for _, p := range parts[1 : len(parts)-1] {
		_, rest, ok := strings.Cut(name, p)
		if !ok {
			return false
		}
		name = rest
	}
	return true
}
