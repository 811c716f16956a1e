// Package protect says which files a contender's judging does not take from the
// contender: tests and what the checks name. They are put back, and what was
// done to them is told.
package protect

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"mvdan.cc/sh/v3/syntax"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/task"
)

// usual are the names by which most projects tell their tests and the settings
// of their test runners.
var usual = []string{
	"**/*_test.go", "**/testdata/**",
	"**/*.{test,spec}.{js,mjs,cjs,jsx,ts,mts,cts,tsx}", "**/__tests__/**", "**/__snapshots__/**",
	"**/test_*.py", "**/*_test.py", "**/conftest.py",
	"**/*_{test,spec}.rb", "**/*Test.{java,kt,scala,php,cs}", "**/*Tests.{java,kt,cs,swift}", "**/*Spec.{scala,groovy,kt}",
	"**/*_{test,unittest}.{c,cc,cpp}", "**/*.bats", "**/*.t",
	"{test,tests,spec}/**", "**/{test,tests,spec}/**",
}

// settings are files that say which tests run, and nothing else.
var settings = []string{"**/{jest,vitest,karma,playwright,cypress}.config.*", "**/.mocharc*", "**/pytest.ini", "**/tox.ini", "**/phpunit.xml*", "**/.rspec"}

// manifests are files in which, among other things, stands which tests run.
var manifests = []string{"**/package.json", "**/{Makefile,makefile,GNUmakefile}", "**/pyproject.toml", "**/setup.cfg", "**/Cargo.toml", "**/pom.xml",
	"**/build.gradle*", "**/CMakeLists.txt", "**/Rakefile", "**/justfile", "**/meson.build"}

func anyMatch(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool { ok, _ := doublestar.Match(p, name); return ok })
}

// IsTest tells whether a path of a repository is a test file, by the task's own
// patterns or, for none, by the usual names.
func IsTest(own []string, name string) bool {
	if len(own) > 0 {
		return anyMatch(own, name)
	}
	return anyMatch(usual, name)
}

// examining are programs whose operands are what is looked at, not what looks.
var examining = strings.Fields("[ awk cat cmp comm cp cut diff echo egrep fgrep find grep head jq ls mv od printf readlink rg rm sed sha256sum sort stat tail test touch uniq wc")

// Named lists the words of checks' commands that are files of the repository:
// scripts, programs, configuration. What a command only looks at, as grep and
// test do, is not among them: it may be the very thing that is to change.
func Named(checks []task.Check, exists func(name string) bool) []string {
	var out []string
	add := func(name string) {
		name = path.Clean(strings.TrimPrefix(name, "./"))
		if name != "" && !strings.HasPrefix(name, "/") && exists(name) && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, c := range checks {
		file, err := syntax.NewParser().Parse(strings.NewReader(c.Run), "")
		if err != nil {
			continue
		}
		syntax.Walk(file, func(n syntax.Node) bool {
			if call, ok := n.(*syntax.CallExpr); ok && len(call.Args) > 0 && !slices.Contains(examining, call.Args[0].Lit()) {
				for _, w := range call.Args {
					add(w.Lit())
				}
			}
			return true
		})
	}
	return out
}

// Plan is what judging does with a change.
type Plan struct {
	// PutBack are paths of the start that are put back as they were, Remove are
	// test files that the contender added, which are left out.
	PutBack, Remove []string
}

// protected tells whether a file of the start is put back.
func protected(t *task.Task, named []string, name string) bool {
	if anyMatch(t.Unprotected, name) {
		return false
	}
	if anyMatch(t.Protected, name) || IsTest(t.TestFiles, name) || anyMatch(settings, name) {
		return true
	}
	// A file that a check names is what decides, unless the task wants it changed.
	return slices.Contains(named, name) && !anyMatch(t.Scope, name) && !inReference(t, name)
}

func inReference(t *task.Task, name string) bool {
	for _, s := range t.Stages {
		files, err := patch.Parse(patch.Prefixed(s.Reference), 1)
		if err != nil {
			continue
		}
		if slices.ContainsFunc(files, func(f patch.File) bool { return f.Path == name || f.OldPath == name }) {
			return true
		}
	}
	return false
}

// Empty tells whether nothing is put back and nothing left out.
func (p Plan) Empty() bool { return len(p.PutBack)+len(p.Remove) == 0 }

// PlanFor works out what judging does with a change. changed are the paths that
// differ from the start, on either side, shown is the change itself as far as it is
// known; exists tells the files of the start, and its folders for a name that ends in a slash.
func PlanFor(t *task.Task, checks []task.Check, changed []string, shown []patch.File, exists func(name string) bool) Plan {
	var p Plan
	named, steer := Named(checks, exists), newSteerer(t, checks, exists)
	narrows := map[string]bool{}
	for _, f := range shown {
		if _, ok := narrowedIn(t, checks, f); ok && !inReference(t, f.Path) {
			narrows[startOf(f)] = true
		}
	}
	for _, name := range changed {
		switch {
		case exists(name):
			if protected(t, named, name) || steer.steers(name) || narrows[name] {
				p.PutBack = append(p.PutBack, name)
			}
		case (IsTest(t.TestFiles, name) || anyMatch(settings, name) || steer.steers(name)) && name != t.Deliverable:
			p.Remove = append(p.Remove, name)
		}
	}
	sort.Strings(p.PutBack)
	sort.Strings(p.Remove)
	return p
}

// Kind is a way in which a test can be weakened.
type Kind string

const (
	Changed  Kind = "changed"  // lines of a protected file were changed or taken out
	Deleted  Kind = "deleted"  // a protected file is gone
	Removed  Kind = "removed"  // a test that passed at the start does not run any more
	Skipped  Kind = "skipped"  // a test is skipped now
	Narrowed Kind = "narrowed" // what says which tests run was changed
	Steered  Kind = "steered"  // a file that steers checks was changed or added
)

// Weakening is one thing that was done to what judges.
type Weakening struct {
	Kind Kind `json:"kind"`
	// What is a file or a test.
	What string `json:"what"`
	// Line is the line in the changed file, from 1; 0 where there is none.
	Line int64 `json:"line,omitempty"`
	// Text is the line itself, or more words.
	Text string `json:"text,omitempty"`
}

// Words says it in words.
func (w Weakening) Words() string {
	at := w.What
	if w.Line > 0 {
		at = fmt.Sprintf("%s:%d", w.What, w.Line)
	}
	switch w.Kind {
	case Changed:
		return at + " was changed: " + w.Text
	case Deleted:
		return at + " was deleted"
	case Removed:
		return "the test " + at + " does not run any more"
	case Skipped:
		if w.Line > 0 {
			return at + " skips a test: " + w.Text
		}
		return "the test " + at + " is skipped"
	case Steered:
		return at + ", which steers checks, was " + w.Text
	}
	return at + ", which says what is tested, was changed: " + w.Text
}

// skipRE are the ways in which test frameworks leave a test out.
var skipRE = regexp.MustCompile(`\b[a-z]+\.(Skip|Skipf|SkipNow)\(|\b(it|test|describe|context|suite)\.(skip|only|todo|failing)\b|\b(xit|xtest|xdescribe|fit|fdescribe)\(` +
	`|\b(skip|todo|only)\s*:\s*(true|'|")|@(pytest\.mark\.(skip|xfail)|unittest\.(skip|expectedFailure)|Disabled|Ignore)\b|\bpytest\.skip\(|#\[ignore|//\s*\+build\s+ignore|//go:build\s+ignore|\bprocess\.exit\(|\bos\.Exit\(`)

// testEntryRE finds a line of a manifest that says how tests are run.
var testEntryRE = regexp.MustCompile(`^\s*"?(pre|post)?(test|tests|check)"?\s*:`)

var testWordRE = regexp.MustCompile(`(?i)test|spec|check|lint`)

// settingRE finds a line that, newly said, says how tests are run wherever it stands.
var settingRE = regexp.MustCompile(`(?i)^\s*"?(addopts|testpaths|python_files|python_classes|python_functions|norecursedirs|required_plugins|script-shell|NODE_OPTIONS|PYTEST_ADDOPTS|GOFLAGS|SHELL|\.SHELLFLAGS)"?\s*:?=|^\s*"?(script-shell|testRunner|setupFiles\w*)"?\s*:`)

// Weakened lists what a change did to protected files, and to what says which
// tests run. Lines that were only added to a test file weaken nothing, unless
// they skip a test or end the run.
func Weakened(t *task.Task, checks []task.Check, changed []patch.File, exists func(name string) bool) []Weakening {
	var out []Weakening
	named, steer := Named(checks, exists), newSteerer(t, checks, exists)
	for _, f := range changed {
		start := startOf(f)
		if !exists(f.Path) && steer.steers(f.Path) {
			out = append(out, Weakening{Kind: Steered, What: f.Path, Text: "added"})
		}
		if !exists(start) {
			continue
		}
		if !protected(t, named, start) && steer.steers(start) {
			what := "changed"
			if f.Status == patch.Deleted || f.Status == patch.Renamed {
				what = "taken away"
			}
			out = append(out, Weakening{Kind: Steered, What: start, Text: what})
			continue
		}
		guarded := protected(t, named, start)
		switch {
		case guarded && (f.Status == patch.Deleted || f.Status == patch.Renamed):
			out = append(out, Weakening{Kind: Deleted, What: start})
		case guarded && f.Binary:
			out = append(out, Weakening{Kind: Changed, What: start, Text: "not a text"})
		case guarded:
			out = append(out, lines(f, start)...)
		default:
			if l, ok := narrowedIn(t, checks, f); ok {
				out = append(out, Weakening{Kind: Narrowed, What: start, Line: max(l.Old, l.New), Text: clip(l.Text)})
			}
		}
	}
	return out
}

// startOf is the path that a changed file had at the start.
func startOf(f patch.File) string {
	if f.OldPath != "" {
		return f.OldPath
	}
	return f.Path
}

// narrowedIn finds the first line of a manifest's change that is about which tests run.
func narrowedIn(t *task.Task, checks []task.Check, f patch.File) (patch.Line, bool) {
	start := startOf(f)
	if !anyMatch(manifests, start) || anyMatch(t.Unprotected, start) {
		return patch.Line{}, false
	}
	if f.Binary || f.Cut > 0 || f.Status == patch.Deleted || f.Status == patch.Renamed {
		// What cannot be looked through, or is gone, may narrow whatever it likes.
		what := map[bool]string{true: "not a text that can be looked through", false: "taken away"}[f.Binary || f.Cut > 0]
		return patch.Line{Text: what}, true
	}
	l, ok := narrowed(f)
	if !ok && makefileRE.MatchString(path.Base(start)) {
		l, ok = rewritten(f, targets(checks))
	}
	return l, ok
}

func lines(f patch.File, name string) []Weakening {
	var out []Weakening
	if l, ok := firstLine(f, func(l patch.Line) bool { return l.Kind == patch.LineRemoved && strings.TrimSpace(l.Text) != "" }); ok {
		out = append(out, Weakening{Kind: Changed, What: name, Line: l.Old, Text: clip(l.Text)})
	}
	if l, ok := firstLine(f, func(l patch.Line) bool { return l.Kind == patch.LineAdded && skipRE.MatchString(l.Text) }); ok {
		out = append(out, Weakening{Kind: Skipped, What: name, Line: l.New, Text: clip(l.Text)})
	}
	return out
}

// aboutRE finds a line of a manifest that speaks to people: a remark, or what the project
// is called and is about.
var aboutRE = regexp.MustCompile(`^\s*(#|//|<!--|"?(name|version|description|keywords|authors?|license|homepage|repository)"?\s*[:=])`)

// narrowed finds the first line of a manifest that says how tests are run and does not
// say it any more, or says it newly. What only got a comma, a brace or other white space
// where it stood says what it said.
func narrowed(f patch.File) (patch.Line, bool) {
	says := func(l patch.Line) string { return strings.Join(strings.Fields(l.Text), " ") }
	if ext := path.Ext(f.Path); ext == ".json" || ext == ".toml" {
		plain := says
		says = func(l patch.Line) string { return strings.TrimRight(plain(l), " ,}]") }
	}
	for _, h := range f.Hunks {
		for from := 0; from < len(h.Lines); {
			to := from
			balance := map[string]int{} // of what is said in these lines: how often newly, less how often before
			for ; to < len(h.Lines) && h.Lines[to].Kind != patch.LineContext; to++ {
				switch l := h.Lines[to]; l.Kind {
				case patch.LineAdded:
					balance[says(l)]++
				case patch.LineRemoved:
					balance[says(l)]--
				}
			}
			for _, l := range h.Lines[from:to] {
				if aboutRE.MatchString(l.Text) {
					continue
				}
				if b := balance[says(l)]; b < 0 && l.Kind == patch.LineRemoved && testWordRE.MatchString(l.Text) || b > 0 && l.Kind == patch.LineAdded && (testEntryRE.MatchString(l.Text) || settingRE.MatchString(l.Text)) {
					return l, true
				}
			}
			from = max(to, from+1)
		}
	}
	return patch.Line{}, false
}

var (
	makefileRE = regexp.MustCompile(`^(GNU)?[Mm]akefile$|\.mk$`)
	targetRE   = regexp.MustCompile(`^([A-Za-z0-9_.%/ -]+?)\s*:([^=]|$)`)
)

// targets are the rules of a makefile that checks ask for, and those by which most
// projects test.
func targets(checks []task.Check) map[string]bool {
	out := map[string]bool{"test": true, "tests": true, "check": true}
	for _, command := range words(checks) {
		if base := path.Base(command[0]); base != "make" && base != "gmake" {
			continue
		}
		for _, w := range command[1:] {
			if w != "" && !strings.HasPrefix(w, "-") && !strings.Contains(w, "=") {
				out[w] = true
			}
		}
	}
	return out
}

// rewritten finds the first changed line of a recipe of one of some rules.
func rewritten(f patch.File, rules map[string]bool) (patch.Line, bool) {
	for _, h := range f.Hunks {
		inside := false
		enter := func(line string) {
			if m := targetRE.FindStringSubmatch(line); m != nil {
				inside = slices.ContainsFunc(strings.Fields(m[1]), func(t string) bool { return rules[t] })
			}
		}
		enter(h.Heading)
		balance := map[string]int{} // what only got other white space, or moved, says what it said
		for _, l := range h.Lines {
			switch said := strings.Join(strings.Fields(l.Text), " "); l.Kind {
			case patch.LineAdded:
				balance[said]++
			case patch.LineRemoved:
				balance[said]--
			}
		}
		for _, l := range h.Lines {
			if strings.HasPrefix(l.Text, "\t") {
				said := strings.TrimLeft(strings.TrimSpace(l.Text), "@-+ ")
				if inside && l.Kind != patch.LineContext && balance[strings.Join(strings.Fields(l.Text), " ")] != 0 && said != "" && !strings.HasPrefix(said, "#") {
					return l, true
				}
				continue
			}
			enter(l.Text)
		}
	}
	return patch.Line{}, false
}

func firstLine(f patch.File, want func(patch.Line) bool) (patch.Line, bool) {
	for _, h := range f.Hunks {
		for _, l := range h.Lines {
			if want(l) {
				return l, true
			}
		}
	}
	return patch.Line{}, false
}

func clip(s string) string {
	s = strings.TrimSpace(s)
	if len(s) > 160 {
		s = strings.ToValidUTF8(s[:160], "") + "…"
	}
	return s
}
