package patch

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"agonometer/internal/core/lex"
)

// hiddenFromOthers tells whether nobody outside the module can use what a file exports.
func hiddenFromOthers(name string) bool {
	return strings.HasSuffix(name, ".go") && (strings.HasPrefix(name, "internal/") || strings.Contains(name, "/internal/"))
}

// fit is how a change sits in its surroundings: dependencies, imports, exported names,
// how long and deep its functions are, what linters find newly.
func (w *work) fit() {
	for _, c := range w.files {
		w.dependencies(c)
	}
	w.figure("dependencies_added", w.count("fit", "dependency"))
	w.imports()
	w.figure("undeclared_imports", w.count("fit", "undeclared-import"))
	had, has := map[string]Place{}, map[string]Place{}
	longest, deepest := 0, 0
	var long, deep places
	exported := func(into map[string]Place, side Side, c *change, d lex.Decl) {
		// Packages are folders: a name that is new in one may be there in another.
		name := path.Dir(c.name(side)) + "\x00" + d.Full()
		if _, known := into[name]; !known && d.Exported && d.Kind != lex.Extension && !hiddenFromOthers(c.name(side)) {
			into[name] = Place{Side: side, Path: c.name(side), Line: d.Line}
		}
	}
	for _, c := range w.files {
		if c.class != ClassCode {
			continue
		}
		if c.before != nil {
			for _, d := range c.before.decls {
				exported(had, Before, c, d)
			}
		}
		if c.after == nil {
			continue
		}
		for _, d := range c.after.decls {
			exported(has, After, c, d)
			if d.Kind != lex.Function || !touches(c.after, d.Line, d.End) {
				continue
			}
			if n := d.End - d.Line + 1; n > longest {
				longest, long = n, places{}
				long.decl(After, c.Path, d)
			}
			if !w.afford(d.To - d.From) {
				continue
			}
			if n, line := depth(c.after, d); n > deepest {
				deepest, deep = n, places{list: []Place{{Side: After, Path: c.Path, Line: line}}}
			}
		}
	}
	only := func(figure string, these, those map[string]Place) {
		var at places
		n := 0
		for _, name := range slices.Sorted(maps.Keys(these)) {
			if _, there := those[name]; !there {
				n++
				at.add(these[name])
			}
		}
		w.figureAt(figure, float64(n), at)
	}
	only("exports_added", has, had)
	only("exports_removed", had, has)
	w.figureAt("longest_function", float64(longest), long)
	w.figureAt("deepest_nesting", float64(deepest), deep)
	w.lint()
}

// depth is how deep the touched lines of a function are nested in blocks within it, and
// the first line that is as deep.
func depth(t *text, d lex.Decl) (best, line int) {
	reach := func(n, at int) {
		if n > best {
			best, line = n, at
		}
	}
	if t.Lang.Blocks == lex.Braces {
		n := 0
		for i := d.Body; i < d.To; i++ {
			switch {
			case t.Is(i, "{"):
				n++
			case t.Is(i, "}"):
				n--
			}
			if at := int(t.Tokens[i].Line); t.touched[at] {
				reach(n-1, at)
			}
		}
		return best, line
	}
	// By indentation: the steps that are in use.
	var columns []int
	for i := d.From; i < d.To; i++ {
		k := t.Tokens[i]
		if !k.First || k.Kind == lex.Comment {
			continue
		}
		column := t.Column(k)
		for len(columns) > 0 && columns[len(columns)-1] >= column {
			columns = columns[:len(columns)-1]
		}
		columns = append(columns, column)
		if t.touched[int(k.Line)] {
			reach(len(columns)-2, int(k.Line))
		}
	}
	return best, line
}

// Lint are the findings of linters before and after a change, as SARIF 2.1.0.
type Lint struct {
	Start, Result [][]byte
}

// sarif is what is read of a SARIF 2.1.0 file.
type sarif struct {
	Runs []struct {
		Tool struct {
			Driver struct {
				Name string `json:"name"`
			} `json:"driver"`
		} `json:"tool"`
		Results []struct {
			RuleID  string `json:"ruleId"`
			Level   string `json:"level"`
			Message struct {
				Text string `json:"text"`
			} `json:"message"`
			Fingerprints map[string]string `json:"fingerprints"`
			Partial      map[string]string `json:"partialFingerprints"`
			Suppressions []any             `json:"suppressions"`
			Locations    []struct {
				Physical struct {
					Artifact struct {
						URI string `json:"uri"`
					} `json:"artifactLocation"`
					Region struct {
						StartLine int `json:"startLine"`
						Snippet   struct {
							Text string `json:"text"`
						} `json:"snippet"`
					} `json:"region"`
				} `json:"physicalLocation"`
			} `json:"locations"`
		} `json:"results"`
	} `json:"runs"`
}

// lintFinding is one result, with what it is known by: its fingerprints, or rule, file
// and the text of its line, never the line's number.
type lintFinding struct {
	print, rule, file, text string
	line                    int
}

func readSARIF(data []byte, line func(file string, n int) string) ([]lintFinding, error) {
	var s sarif
	if err := json.Unmarshal(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), &s); err != nil {
		return nil, fmt.Errorf("the SARIF file cannot be read: %w", err)
	}
	var out []lintFinding
	for _, r := range s.Runs {
		for _, x := range r.Results {
			if len(x.Suppressions) > 0 {
				continue
			}
			f := lintFinding{rule: x.RuleID, text: x.Message.Text}
			if len(x.Locations) > 0 && x.Locations[0].Physical.Artifact.URI != "" {
				p := x.Locations[0].Physical
				f.file = path.Clean(strings.TrimPrefix(p.Artifact.URI, "file://"))
				f.line = max(p.Region.StartLine, 0)
			}
			marks := x.Fingerprints
			if len(marks) == 0 {
				marks = x.Partial
			}
			f.print = r.Tool.Driver.Name + "\x00" + x.RuleID + "\x00" + f.file + "\x00"
			if len(marks) > 0 {
				for _, k := range slices.Sorted(maps.Keys(marks)) {
					f.print += k + "=" + marks[k] + "\x00"
				}
			} else {
				f.print += squeezed([]byte(line(f.file, f.line))) + "\x00" + x.Message.Text
			}
			out = append(out, f)
		}
	}
	return out, nil
}

func (w *work) lint() {
	if w.in.Lint == nil {
		w.absent("lint_new", "no check wrote findings as SARIF")
		return
	}
	liner := func(side Side) func(string, int) string {
		texts := map[string][][]byte{}
		return func(file string, n int) string {
			if _, known := texts[file]; !known {
				texts[file] = bytes.Split(w.in.Read(side, file), []byte{'\n'})
			}
			if n < 1 || n > len(texts[file]) {
				return ""
			}
			return string(texts[file][n-1])
		}
	}
	all := func(files [][]byte, line func(string, int) string) (out []lintFinding, err error) {
		for _, data := range files {
			one, err := readSARIF(data, line)
			if err != nil {
				return nil, err
			}
			out = append(out, one...)
		}
		return out, nil
	}
	start, err := all(w.in.Lint.Start, liner(Before))
	if err != nil {
		w.absent("lint_new", "at the start: "+err.Error())
		return
	}
	result, err := all(w.in.Lint.Result, liner(After))
	if err != nil {
		w.absent("lint_new", err.Error())
		return
	}
	had := map[string]int{}
	for _, f := range start {
		had[f.print]++
	}
	slices.SortStableFunc(result, func(a, b lintFinding) int {
		return cmp.Or(cmp.Compare(a.file, b.file), cmp.Compare(a.line, b.line))
	})
	for _, f := range result {
		if had[f.print] > 0 {
			had[f.print]--
			continue
		}
		w.found(Finding{Measure: "fit", Kind: "lint", Place: Place{Side: After, Path: f.file, Line: f.line}, Text: f.rule, Why: cmp.Or(cut(f.text), "a finding of a linter that says nothing")})
	}
	w.figure("lint_new", w.count("fit", "lint"))
	gone := 0
	var at places
	for _, f := range start {
		if had[f.print] > 0 {
			had[f.print]--
			gone++
			at.add(Place{Side: Before, Path: f.file, Line: f.line})
		}
	}
	w.figureAt("lint_gone", float64(gone), at)
}
