package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"agonometer/internal/core/protect"
)

// Logged is a commit as a history lists it.
type Logged struct {
	Commit  string
	Parents int
	Subject string
	// Files are what it changed, with the lines added and removed; -1 for what is no text.
	Files []LoggedFile
}

// LoggedFile is a changed file of a commit.
type LoggedFile struct {
	Path           string
	Added, Removed int
}

// Bounds say how large the source change of a commit may be that makes a task.
type Bounds struct {
	MinLines, MaxLines, MaxFiles int
}

// DefaultBounds are those of a task that a contender can do in a sitting.
var DefaultBounds = Bounds{MinLines: 3, MaxLines: 400, MaxFiles: 15}

// Candidate is a commit that may make a task, or why it does not.
type Candidate struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
	// Kind is the kind of work (fix, feature, refactoring, performance, other), Folder where
	// most of it happened, Size what the task's size would be.
	Kind   string `json:"kind"`
	Folder string `json:"folder"`
	Size   string `json:"size"`
	Lines  int    `json:"lines"`
	// LeftOut says why it makes no task; "" where it may.
	LeftOut string `json:"left_out"`
}

var (
	revertRE = regexp.MustCompile(`(?i)^(revert|back ?out|undo)\b`)
	bumpRE   = regexp.MustCompile(`(?i)\b(bump|upgrade|update) (dep|version|to v?\d|[\w./@-]+ (from|to) v?\d)|^(chore|build)\(deps|^release\b|^v?\d+\.\d+|prepare (for )?(the )?(next |new )?(release|version)`)
	formatRE = regexp.MustCompile(`(?i)\b(gofmt|go fmt|clang-format|prettier|rustfmt|black|lint(er|ing)?|formatting|reformat|re-?indent|whitespace|typos?|spelling|copyright|licen[cs]e header)\b|^(style|docs?|chore|ci)(\(|:)`)
	kinds    = []struct {
		name string
		said *regexp.Regexp
	}{
		{"fix", regexp.MustCompile(`(?i)\b(fix(es|ed)?|bug|repair|correct(s|ed)?|wrong|crash|panic|leak|race|regression|issue)\b|^fix(\(|:)`)},
		{"performance", regexp.MustCompile(`(?i)\b(perf(ormance)?|faster|speed ?up|optimi[sz]e|allocations?|cache)\b|^perf(\(|:)`)},
		{"refactoring", regexp.MustCompile(`(?i)\b(refactor|rename|move|extract|simplif(y|ies)|clean ?up|split)\b|^refactor(\(|:)`)},
		{"feature", regexp.MustCompile(`(?i)\b(add(s|ed)?|support|implement(s|ed)?|new|introduce|allow|feature)\b|^feat(\(|:)`)},
	}
)

// Consider says whether a commit may make a task, and what kind of one.
func Consider(c Logged, within Bounds) Candidate {
	out := Candidate{Commit: c.Commit, Subject: plain(c.Subject), Kind: "other", Folder: "."}
	for _, k := range kinds {
		if k.said.MatchString(c.Subject) {
			out.Kind = k.name
			break
		}
	}
	tests, source, folders := 0, 0, map[string]int{}
	for _, f := range c.Files {
		switch {
		case protect.IsTest(nil, f.Path):
			tests++
		case isSource(f.Path):
			source++
			n := max(f.Added, 0) + max(f.Removed, 0)
			out.Lines += n
			folders[path.Dir(f.Path)] += n
		}
	}
	most := -1
	for _, dir := range sortedKeys(folders) {
		if folders[dir] > most {
			most, out.Folder = folders[dir], dir
		}
	}
	switch {
	case out.Lines <= 30:
		out.Size = "small"
	case out.Lines <= 120:
		out.Size = "medium"
	default:
		out.Size = "large"
	}
	switch {
	case c.Parents > 1:
		out.LeftOut = "a merge"
	case c.Parents == 0:
		out.LeftOut = "the first commit"
	case revertRE.MatchString(c.Subject):
		out.LeftOut = "a revert"
	case bumpRE.MatchString(c.Subject):
		out.LeftOut = "a release, or a change of versions"
	case formatRE.MatchString(c.Subject):
		out.LeftOut = "formatting, or words for people"
	case source == 0:
		out.LeftOut = "it changes no code"
	case tests == 0:
		out.LeftOut = "it changes no tests"
	case out.Lines < within.MinLines:
		out.LeftOut = fmt.Sprintf("too small: %d lines of code", out.Lines)
	case out.Lines > within.MaxLines:
		out.LeftOut = fmt.Sprintf("too large: %d lines of code", out.Lines)
	case source > within.MaxFiles:
		out.LeftOut = fmt.Sprintf("too large: %d files of code", source)
	}
	return out
}

// isSource tells whether a file is code of one of the ecosystems that drafts know.
func isSource(name string) bool {
	if strings.Contains("/"+name, "/vendor/") || strings.Contains("/"+name, "/node_modules/") || strings.Contains("/"+name, "/dist/") {
		return false
	}
	return slices.ContainsFunc(ecosystems, func(e ecosystem) bool { return slices.Contains(e.sources, path.Ext(name)) })
}

func sortedKeys(m map[string]int) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// Spread puts candidates into an order in which neighbours differ: the kinds of work,
// sizes and folders take turns, the newest of each first.
func Spread(all []Candidate) []Candidate {
	type bucket struct{ kind, size, folder string }
	var order []bucket
	by := map[bucket][]Candidate{}
	for _, c := range all {
		if c.LeftOut != "" {
			continue
		}
		top, _, _ := strings.Cut(c.Folder, "/")
		b := bucket{c.Kind, c.Size, top}
		if by[b] == nil {
			order = append(order, b)
		}
		by[b] = append(by[b], c)
	}
	var out []Candidate
	for len(order) > 0 {
		var left []bucket
		for _, b := range order {
			out = append(out, by[b][0])
			if by[b] = by[b][1:]; len(by[b]) > 0 {
				left = append(left, b)
			}
		}
		order = left
	}
	return out
}

// Label puts labels and a size into a drafted task's front matter.
func Label(main []byte, c Candidate) []byte {
	labels := []string{c.Kind}
	if top, _, _ := strings.Cut(c.Folder, "/"); top != "." {
		if s := strings.Trim(notSlug.ReplaceAllString(strings.ToLower(top), "-"), "-"); s != "" && s != c.Kind {
			labels = append(labels, s)
		}
	}
	return []byte(strings.Replace(string(main), "\nrepository: ", "\nlabels: ["+strings.Join(labels, ", ")+"]\nsize: "+c.Size+"\nrepository: ", 1))
}
