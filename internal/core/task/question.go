package task

import (
	"fmt"
	"math"
	"path"
	"regexp"
	"strconv"
	"strings"

	"agonometer/internal/core/specfile"
)

// Figure is a plain finite number in a file.
type Figure float64

// FigurePattern is the regular expression of a Figure.
const FigurePattern = `^-?[0-9]+(\.[0-9]+)?$`

var figureRE = regexp.MustCompile(FigurePattern)

func (f *Figure) ParseScalar(text string) error {
	v, err := strconv.ParseFloat(text, 64)
	if !figureRE.MatchString(text) || err != nil || math.IsInf(v, 0) {
		return fmt.Errorf("not a number")
	}
	*f = Figure(v)
	return nil
}

func (*Figure) Expected() string { return "a number such as 7.4" }

// Fact is something that the reply to a question must hold, or must not.
type Fact struct {
	Name    specfile.Slug `yaml:"name" spec:"required" json:"name" jsonschema_description:"The fact's name, used in verdicts."`
	Text    string        `yaml:"text" json:"text,omitempty" jsonschema_description:"Words that must stand in the reply; case and line breaks do not matter."`
	AnyOf   []string      `yaml:"any_of" json:"any_of,omitempty" jsonschema_description:"Words of which at least one must stand there."`
	Matches string        `yaml:"matches" json:"matches,omitempty" jsonschema_description:"A regular expression (RE2)."`
	Number  *Figure       `yaml:"number" json:"number,omitempty" jsonschema_description:"A number that must stand there."`
	Within  *Figure       `yaml:"within" json:"within,omitempty" jsonschema_description:"How far from number the reply's may be; default 0."`
	// References asks for places in files, as path:line.
	References *int `yaml:"references" json:"references,omitempty" jsonschema_description:"How many places in files (path:line) must be named at least. Every one that is named must exist at the start commit, its line in range."`
	Absent     bool `yaml:"absent" json:"absent,omitempty" jsonschema_description:"true: it must not stand there."`
}

func (t *Task) parseQuestion(doc *specfile.Document, files map[string][]byte) {
	for key, given := range map[string]bool{"checks": len(t.Checks) > 0, "goal": len(t.Goal) > 0, "guard": len(t.Guard) > 0, "sealed": t.Sealed != nil, "canary": t.Canary != "",
		"follow_ups": len(t.FollowUps) > 0, "reference_patch": t.ReferencePatch != ""} {
		if given {
			doc.Add(key, "a key of changes", "kind: change, or the key left out")
		}
	}
	if len(t.Facts) == 0 {
		found := "no such key"
		if doc.Has("facts") {
			found = "an empty list"
		}
		doc.Add("facts", found, "at least one fact; without one no reply could be judged")
	}
	if t.Deliverable != "" && !insideRepository(t.Deliverable) {
		doc.Add("deliverable", specfile.Quote(t.Deliverable), "a path inside the repository")
	}
	seen := map[specfile.Slug]bool{}
	for i, f := range t.Facts {
		key := fmt.Sprintf("facts[%d]", i)
		ways := 0
		for _, given := range []bool{f.Text != "", len(f.AnyOf) > 0, f.Matches != "", f.Number != nil, f.References != nil} {
			if given {
				ways++
			}
		}
		if ways != 1 {
			doc.Add(key, fmt.Sprintf("%d ways to tell it", ways), "one of text, any_of, matches, number and references")
		}
		if _, err := regexp.Compile(f.Matches); err != nil {
			doc.Add(key+".matches", specfile.Quote(f.Matches), "a regular expression (RE2)")
		}
		if f.Within != nil && (f.Number == nil || *f.Within < 0) {
			doc.Add(key+".within", fmt.Sprint(*f.Within), "a number from 0, together with number")
		}
		if f.References != nil && (*f.References < 0 || f.Absent) {
			doc.Add(key+".references", fmt.Sprint(*f.References), "a whole number from 0, without absent")
		}
		for j, words := range f.AnyOf {
			if strings.TrimSpace(words) == "" {
				doc.Add(fmt.Sprintf("%s.any_of[%d]", key, j), specfile.Quote(words), "words")
			}
		}
		if seen[f.Name] && f.Name != "" {
			doc.Add(key+".name", specfile.Quote(string(f.Name)), "a name of its own")
		}
		seen[f.Name] = true
	}
	if t.ReferenceAnswer != "" {
		answer, ok := files[specfile.Resolve(t.File, t.ReferenceAnswer)]
		if !ok {
			doc.Add("reference_answer", specfile.Quote(t.ReferenceAnswer)+" (no such file)", "a file that exists, its path relative to "+path.Base(t.File))
		}
		t.Answer = answer
		t.named = append(t.named, answer)
	}
	t.Stages = []Stage{{Brief: t.Brief}}
}
