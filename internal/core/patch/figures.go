package patch

import "slices"

// MeasureInfo says what a measure is, and what it cannot see.
type MeasureInfo struct {
	Name string `json:"name"`
	// Title is what stands above its figures.
	Title string `json:"title"`
	// Misses is what it does not see, as docs/edit-measures.md has it.
	Misses string `json:"misses"`
}

// MeasureInfos lists all measures in their order.
func MeasureInfos() []MeasureInfo { return measureInfos }

var measureInfos = []MeasureInfo{
	{"footprint", "Footprint", "generated files that do not say so, and new files that say so and are not."},
	{"strays", "Strays: files not asked for", "needless changes inside a file that may be touched."},
	{"noise", "Noise: nothing that matters", "formatting within a hunk that does something too; reordered declarations (they are counted as moved)."},
	{"leftovers", "Leftovers", "placeholders in other words than ours; keys shorter than 20 characters or without digits."},
	{"losses", "Losses, and what is unused", "handlers that stay and do less; what a function lost when it moved to another file; uses in files that were not changed, so that unused speaks of the change alone."},
	{"tests", "Tests", "assertions that became rows of a table (they count as fewer); tolerances that became wider."},
	{"repetition", "Repetition", "copies with lines put in between; files longer than 1 MiB."},
	{"fit", "Fit", "imports that are built at run time; aliases of build tools."},
	{"docs", "Docs", "whether what was written is right."},
	{"nearness", "Nearness to the reference", "whether a solution that is far from every reference is as good."},
	{"claims", "Claims of the closing message", "what cannot be decided, and messages in other languages than English."},
}

// MeasureNames are the measures in their order.
var MeasureNames = func() (out []string) {
	for _, m := range measureInfos {
		out = append(out, m.Name)
	}
	return out
}()

// FigureInfo says what a figure is.
type FigureInfo struct {
	Name string `json:"name"`
	// Measure is the measure that it belongs to.
	Measure string `json:"measure"`
	// Title is for a column, Words say what is counted.
	Title string `json:"title"`
	Words string `json:"words"`
	// Unit is lines, files, share and the like; empty for a plain count.
	Unit string `json:"unit,omitempty"`
	// Kinds are the kinds of findings that it counts; none where it is no count of findings.
	Kinds []string `json:"kinds,omitempty"`
	// Shows are the kinds of findings that show what it comes from, where it is no count of them.
	Shows []string `json:"shows,omitempty"`
	// PlacesAre says what its places are, where they are not what it counts.
	PlacesAre string `json:"places_are,omitempty"`
}

// Figures lists all figures in their order.
func Figures() []FigureInfo { return figures }

// figure is one that counts findings of some kinds, or none.
func figure(name, measure, title, words, unit string, kinds ...string) FigureInfo {
	return FigureInfo{Name: name, Measure: measure, Title: title, Words: words, Unit: unit, Kinds: kinds}
}

// shownBy says what shows a figure that is no count of findings.
func (f FigureInfo) shownBy(placesAre string, kinds ...string) FigureInfo {
	f.Shows, f.PlacesAre = kinds, placesAre
	return f
}

var figures = []FigureInfo{
	figure("files", "footprint", "Files", "files that the change touches", "files"),
	figure("files_added", "footprint", "Added files", "files that are new", "files"),
	figure("files_deleted", "footprint", "Deleted files", "files that are gone", "files"),
	figure("files_renamed", "footprint", "Renamed files", "files that have another name", "files"),
	figure("hunks", "footprint", "Hunks", "stretches of changed lines", ""),
	figure("lines_added", "footprint", "Added lines", "lines added", "lines"),
	figure("lines_removed", "footprint", "Removed lines", "lines removed", "lines"),
	figure("lines_added_code", "footprint", "Added code", "lines of code added, tests not counted", "lines"),
	figure("lines_removed_code", "footprint", "Removed code", "lines of code removed, tests not counted", "lines"),
	figure("lines_added_comment", "footprint", "Added comments", "lines of comment added", "lines"),
	figure("lines_removed_comment", "footprint", "Removed comments", "lines of comment removed", "lines"),
	figure("lines_added_blank", "footprint", "Added blanks", "blank lines added in code", "lines"),
	figure("lines_removed_blank", "footprint", "Removed blanks", "blank lines removed in code", "lines"),
	figure("lines_added_test", "footprint", "Added tests", "lines added in test files", "lines"),
	figure("lines_removed_test", "footprint", "Removed tests", "lines removed in test files", "lines"),
	figure("lines_added_docs", "footprint", "Added docs", "lines added in documentation", "lines"),
	figure("lines_removed_docs", "footprint", "Removed docs", "lines removed in documentation", "lines"),
	figure("lines_added_data", "footprint", "Added data", "lines added in data and settings", "lines"),
	figure("lines_removed_data", "footprint", "Removed data", "lines removed in data and settings", "lines"),
	figure("lines_added_generated", "footprint", "Added generated", "lines added in generated or foreign files", "lines"),
	figure("lines_removed_generated", "footprint", "Removed generated", "lines removed in generated or foreign files", "lines"),
	figure("lines_moved", "footprint", "Moved", "added lines that stood elsewhere before", "lines"),
	figure("size_to_reference", "footprint", "Size to reference", "changed lines, as a multiple of the reference's", "x"),
	figure("strays", "strays", "Strays", "changed files that the task did not ask to touch", "files", "file"),
	figure("noise", "noise", "Noise", "places that change nothing that matters", "", "white-space", "line-ends", "import-order", "comments", "quotes", "rewritten", "undone", "mode"),
	figure("noise_lines", "noise", "Noise lines", "changed lines in them", "lines").shownBy("", "white-space", "line-ends", "import-order", "comments", "quotes", "rewritten"),
	figure("leftovers", "leftovers", "Leftovers", "things that should not stay behind", "", "placeholder", "conflict", "debug", "commented-out", "todo", "file", "key"),
	figure("losses", "losses", "Losses", "things that went away unasked", "", "error-handler", "guard", "log", "function", "exported-name"),
	figure("unused", "losses", "Unused", "functions that were added and nothing uses", "", "unused"),
	figure("tests_added", "tests", "New tests", "test cases added", "", "added"),
	figure("tests_removed", "tests", "Removed tests", "test cases removed", "", "removed"),
	figure("tests_changed", "tests", "Changed tests", "test cases with another body", ""),
	figure("tests_skipped", "tests", "Skipped tests", "test cases that are left out now", "", "skipped"),
	figure("tests_weakened", "tests", "Weakened tests", "test cases with fewer or looser assertions", "", "weakened"),
	figure("covered_share", "tests", "Covered", "share of added and changed lines of code that the tests execute", "share").shownBy("lines that no test executes", "not-executed"),
	figure("repeated_lines", "repetition", "Repeated", "added lines whose code stands elsewhere too", "lines").shownBy("", "block"),
	figure("dependencies_added", "fit", "Dependencies", "new dependencies", "", "dependency"),
	figure("undeclared_imports", "fit", "Undeclared", "imports that no manifest declares", "", "undeclared-import"),
	figure("exports_added", "fit", "New names", "exported names added", ""),
	figure("exports_removed", "fit", "Gone names", "exported names removed", ""),
	figure("longest_function", "fit", "Longest", "lines of the longest function that was touched", "lines"),
	figure("deepest_nesting", "fit", "Deepest", "blocks around the deepest touched line within its function", ""),
	figure("lint_new", "fit", "Lint", "findings of linters that are new", "", "lint"),
	figure("lint_gone", "fit", "Lint gone", "findings of linters that are gone", ""),
	figure("docs", "docs", "Docs", "whether README, documentation, changelog or doc comments were touched (1) or not (0)", "yes/no"),
	figure("docs_readme", "docs", "README", "whether a README was touched", "yes/no"),
	figure("docs_changelog", "docs", "Changelog", "whether a changelog was touched", "yes/no"),
	figure("docs_other", "docs", "Other docs", "whether other documentation was touched", "yes/no"),
	figure("docs_comments", "docs", "Doc comments", "changed exported names whose doc comment was touched too", ""),
	figure("docs_names", "docs", "Changed names", "changed exported names", ""),
	figure("nearness_likeness", "nearness", "Likeness", "likeness of the changed lines to the nearest reference's, 0 to 1", "share"),
	figure("nearness_precision", "nearness", "Precision", "share of the change's files that the reference touches too", "share").shownBy("files in common"),
	figure("nearness_recall", "nearness", "Recall", "share of the reference's files that the change touches too", "share").shownBy("files in common"),
	figure("claims_wrong", "claims", "Wrong claims", "claims of the closing message that are not true", "", "tests-pass", "file-not-changed"),
	figure("claims_left_out", "claims", "Unnamed files", "changed files that a closing message leaves out, although it names others", "files", "file-left-out"),
}

// FindFigure is what is known of a figure, or nil.
func FindFigure(name string) *FigureInfo {
	i := slices.IndexFunc(figures, func(f FigureInfo) bool { return f.Name == name })
	if i < 0 {
		return nil
	}
	return &figures[i]
}

// Values are the figures that there are, by name, without the findings that a person
// has set aside (by id).
func (m *Measures) Values(aside map[string]bool) map[string]float64 {
	out := map[string]float64{}
	for _, f := range m.Figures {
		if f.Value != nil {
			out[f.Name] = *f.Value
		}
	}
	for _, f := range m.Findings {
		if !aside[f.ID] {
			continue
		}
		for _, info := range figures {
			if _, there := out[info.Name]; there && info.Measure == f.Measure && slices.Contains(info.Kinds, f.Kind) {
				out[info.Name]--
			}
		}
		if f.Measure == "repetition" {
			if _, there := out["repeated_lines"]; there {
				out["repeated_lines"] = max(0, out["repeated_lines"]-float64(f.End-f.Line+1))
			}
		}
	}
	return out
}
