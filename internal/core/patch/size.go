package patch

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/core/lex"
)

// footprint counts files, hunks, and lines by kind.
func (w *work) footprint() {
	files, at := map[Status]int{}, map[Status]*places{Added: {}, Deleted: {}, Renamed: {}}
	var all, hunks places
	stretches := 0
	for _, c := range w.files {
		files[c.Status]++
		at[c.Status].file(c)
		all.file(c)
		stretches += len(c.Hunks)
		for i := range c.Hunks {
			hunks.add(c.placeOf(&c.Hunks[i]))
		}
	}
	w.figureAt("files", float64(len(w.files)), all)
	w.figureAt("files_added", float64(files[Added]), *at[Added])
	w.figureAt("files_deleted", float64(files[Deleted]), *at[Deleted])
	w.figureAt("files_renamed", float64(files[Renamed]), *at[Renamed])
	w.figureAt("hunks", float64(stretches), hunks)
	total := 0
	added, removed := w.lineKinds(w.files, true)
	for _, side := range []struct {
		name  string
		lines map[string]*kindLines
	}{{"added", added}, {"removed", removed}} {
		sum := side.lines[anyKind]
		total += sum.n
		w.figureAt("lines_"+side.name, float64(sum.n), sum.places)
		for _, kind := range lineKindNames {
			w.figureAt("lines_"+side.name+"_"+kind, float64(side.lines[kind].n), side.lines[kind].places)
		}
	}
	w.moved()
	best := 0
	for _, r := range w.asked.refs {
		a, b := w.lineKinds(r, false)
		n := a[anyKind].n + b[anyKind].n
		if n > 0 && (best == 0 || abs(total-n) < abs(total-best)) {
			best = n
		}
	}
	if best == 0 {
		w.absent("size_to_reference", "the task has no reference")
	} else {
		w.figure("size_to_reference", float64(total)/float64(best))
	}
}

// Extent are the figures of a change that its diff alone tells: files, hunks and lines.
func Extent(files []File) map[string]float64 {
	out := map[string]float64{"files": float64(len(files)), "files_added": 0, "files_deleted": 0, "files_renamed": 0, "hunks": 0, "lines_added": 0, "lines_removed": 0}
	for _, f := range files {
		if _, there := out["files_"+string(f.Status)]; there {
			out["files_"+string(f.Status)]++
		}
		out["hunks"] += float64(len(f.Hunks))
		out["lines_added"] += float64(f.Added)
		out["lines_removed"] += float64(f.Removed)
	}
	return out
}

func abs(n int) int { return max(n, -n) }

var lineKindNames = []string{"code", "comment", "blank", "test", "docs", "data", "generated"}

// anyKind stands for all kinds of lines together.
const anyKind = ""

// kindLines are the changed lines of a kind.
type kindLines struct {
	n int
	places
}

// lineKinds counts the lines that files add and remove, by kind, and notes where they
// are if that is wanted.
func (w *work) lineKinds(files []*change, where bool) (added, removed map[string]*kindLines) {
	added, removed = map[string]*kindLines{anyKind: {}}, map[string]*kindLines{anyKind: {}}
	for _, kind := range lineKindNames {
		added[kind], removed[kind] = &kindLines{}, &kindLines{}
	}
	take := func(k *kindLines, side Side, name string, n int64) {
		if k.n++; where {
			k.line(side, name, int(n))
		}
	}
	for _, c := range files {
		before := c.name(Before)
		for _, h := range c.Hunks {
			for _, l := range h.Lines {
				switch l.Kind {
				case LineAdded:
					take(added[kindOfLine(c.class, c.after, int(l.New), l.Text)], After, c.Path, l.New)
					take(added[anyKind], After, c.Path, l.New)
				case LineRemoved:
					take(removed[kindOfLine(c.class, c.before, int(l.Old), l.Text)], Before, before, l.Old)
					take(removed[anyKind], Before, before, l.Old)
				}
			}
		}
	}
	return added, removed
}

// placeOf is where the changed lines of a hunk are: on the side of the result, or where
// it only removes lines, on that of the start.
func (c *change) placeOf(h *Hunk) Place {
	before, after := Place{Side: Before, Path: c.name(Before)}, Place{Side: After, Path: c.Path}
	for _, l := range h.Lines {
		switch l.Kind {
		case LineAdded:
			after.Line, after.End = cmp.Or(after.Line, int(l.New)), int(l.New)
		case LineRemoved:
			before.Line, before.End = cmp.Or(before.Line, int(l.Old)), int(l.Old)
		}
	}
	if after.Line == 0 {
		after = before
	}
	if after.End <= after.Line {
		after.End = 0
	}
	return after
}

func kindOfLine(class Class, t *text, n int, line string) string {
	if class != ClassCode {
		return string(class)
	}
	if t == nil || n > len(t.kinds) {
		if strings.TrimSpace(line) == "" {
			return "blank"
		}
		return "code"
	}
	return [...]string{lex.Blank: "blank", lex.Remark: "comment", lex.Code: "code"}[t.kinds[n-1]]
}

func (w *work) moved() {
	n := 0
	var at places
	for _, c := range w.files {
		if c.after != nil {
			n += len(c.after.moved)
			for _, line := range slices.Sorted(maps.Keys(c.after.moved)) {
				at.line(After, c.Path, line)
			}
		}
	}
	w.figureAt("lines_moved", float64(n), at)
}

func matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool { ok, _ := doublestar.Match(p, name); return ok })
}

// strays are files that the task did not ask to touch: outside its scope, or, without
// a scope, not touched by a reference and not needed by another changed file.
func (w *work) strays() {
	switch {
	case len(w.in.Scope)+len(w.in.Never) > 0:
		for _, c := range w.files {
			switch {
			case matches(w.in.Never, c.Path):
				w.stray(c, "inside what the task forbids to touch")
			case len(w.in.Scope) > 0 && !matches(w.in.Scope, c.Path):
				w.stray(c, "outside the scope that the task gives")
			}
		}
	case len(w.asked.refs) > 0:
		known := map[string]bool{}
		for _, r := range w.asked.refs {
			for _, c := range r {
				known[c.Path] = true
			}
		}
		for _, c := range w.files {
			if !known[c.Path] && !w.needed(c) {
				w.stray(c, "no reference touches it, and no other changed file names it")
			}
		}
	default:
		w.absent("strays", "the task has neither a scope nor a reference")
		return
	}
	w.figure("strays", w.count("strays"))
}

func (w *work) stray(c *change, why string) {
	side := After
	if c.Status == Deleted {
		side = Before
	}
	w.found(Finding{Measure: "strays", Kind: "file", Place: Place{Side: side, Path: c.Path}, Text: fmt.Sprintf("%s, +%d -%d", c.Status, c.Added, c.Removed), Why: why})
}

// needed tells whether another changed file names a file in its added lines, by its
// name without ending or by a name that the file newly declares, or whether it is the
// test or the documentation of one.
func (w *work) needed(c *change) bool {
	stem := func(name string) string {
		s := path.Base(name)
		s = strings.TrimSuffix(s, path.Ext(s))
		for _, cut := range []string{"_test", ".test", ".spec", "_spec", "Test", "Tests"} {
			s = strings.TrimSuffix(s, cut)
		}
		return strings.TrimPrefix(s, "test_")
	}
	names := map[string]bool{stem(c.Path): true}
	if c.after != nil {
		for _, d := range c.after.decls {
			if c.after.touched[d.Line] {
				names[d.Name] = true
			}
		}
	}
	for _, other := range w.files {
		if other == c || other.after == nil {
			continue
		}
		if c.class == ClassTest && stem(other.Path) == stem(c.Path) {
			return true
		}
		said := w.saidBy(other)
		if strings.Contains(said.texts, stem(c.Path)) {
			return true
		}
		for name := range names {
			if said.words[name] {
				return true
			}
		}
	}
	return false
}

// said are the words and the literals of the lines that a change adds to a file.
type said struct {
	words map[string]bool
	texts string
}

func (w *work) saidBy(c *change) *said {
	if w.said == nil {
		w.said = map[*change]*said{}
	}
	if known := w.said[c]; known != nil {
		return known
	}
	out := &said{words: map[string]bool{}}
	var texts strings.Builder
	for _, k := range c.after.Tokens {
		switch {
		case !c.after.touched[int(k.Line)]:
		case k.Kind == lex.Word:
			out.words[string(c.after.Of(k))] = true
		case k.Kind == lex.String:
			texts.Write(c.after.Of(k))
			texts.WriteByte('\n')
		}
	}
	out.texts = texts.String()
	w.said[c] = out
	return out
}

// nearness compares with the references: files in common and the likeness of what is
// added and removed, as sequences of tokens.
func (w *work) nearness() {
	if len(w.asked.refs) == 0 {
		for _, f := range []string{"nearness_precision", "nearness_recall", "nearness_likeness"} {
			w.absent(f, "the task has no reference")
		}
		return
	}
	mine := shingles(w.files)
	paths := func(files []*change) map[string]bool {
		out := map[string]bool{}
		for _, c := range files {
			out[c.Path] = true
		}
		return out
	}
	type near struct {
		precision, recall, likeness float64
		common                      places
	}
	var all []near
	own := paths(w.files)
	for _, r := range w.asked.refs {
		theirs := paths(r)
		common := 0
		n := near{likeness: likeness(mine, shingles(r))}
		for _, c := range w.files {
			if theirs[c.Path] {
				common++
				n.common.file(c)
			}
		}
		if len(own) > 0 {
			n.precision = float64(common) / float64(len(own))
		}
		if len(theirs) > 0 {
			n.recall = float64(common) / float64(len(theirs))
		}
		all = append(all, n)
	}
	best := slices.MaxFunc(all, func(a, b near) int {
		return cmp.Or(cmp.Compare(a.likeness, b.likeness), cmp.Compare(a.precision+a.recall, b.precision+b.recall))
	})
	w.figureAt("nearness_precision", best.precision, best.common)
	w.figureAt("nearness_recall", best.recall, best.common)
	w.figure("nearness_likeness", best.likeness)
}

const shingle = 4

// shingles are the runs of four tokens in the changed lines of files, counted; those of
// removed lines and of added lines are different.
func shingles(files []*change) map[uint64]int {
	out := map[uint64]int{}
	for _, c := range files {
		for side, t := range []*text{c.before, c.after} {
			if t == nil {
				continue
			}
			var run tokenRun
			for _, k := range t.Tokens {
				if t.touched[int(k.Line)] && k.Kind != lex.Comment && run.add(t.Of(k)) {
					out[run.sum()^uint64(side)]++
				}
			}
			if run.n > 0 && run.n < shingle {
				out[run.sum()^uint64(side)]++
			}
		}
	}
	return out
}

// likeness is the share of runs in common (the Dice coefficient of the two multisets), 0 to 1.
func likeness[K comparable](a, b map[K]int) float64 {
	common, total := 0, 0
	for k, n := range a {
		common += min(n, b[k])
		total += n
	}
	for _, n := range b {
		total += n
	}
	if total == 0 {
		return 0
	}
	return 2 * float64(common) / float64(total)
}

// docs tells whether what people read was touched.
func (w *work) docs() {
	var readme, changelog, docs, commented, named places
	comments, changed := 0, 0
	for _, c := range w.files {
		base := strings.ToLower(path.Base(c.Path))
		switch {
		case c.Status == Deleted || c.class == ClassCode || c.class == ClassTest: // changes.go logs no changes
		case strings.HasPrefix(base, "readme"):
			readme.file(c)
		case strings.HasPrefix(base, "change") || strings.HasPrefix(base, "news") || strings.HasPrefix(base, "history"):
			changelog.file(c)
		case c.class == ClassDocs:
			docs.file(c)
		}
		if c.after == nil || c.class != ClassCode {
			continue
		}
		for _, d := range c.after.decls {
			if !d.Exported || !touches(c.after, d.Line, d.End) && !(c.before == nil) {
				continue
			}
			changed++
			named.decl(After, c.Path, d)
			if docTouched(c.after, d) {
				comments++
				commented.decl(After, c.Path, d)
			}
		}
	}
	yes := func(name string, at places) {
		w.figureAt(name, float64(min(1, len(at.list))), at)
	}
	yes("docs_readme", readme)
	yes("docs_changelog", changelog)
	yes("docs_other", docs)
	w.figureAt("docs_comments", float64(comments), commented)
	w.figureAt("docs_names", float64(changed), named)
	yes("docs", places{list: slices.Concat(readme.list, changelog.list, docs.list, commented.list)})
}

// docTouched tells whether the comment above a declaration, or the first one in it, was touched.
func docTouched(t *text, d lex.Decl) bool {
	for n := d.Line - 1; n > 0 && t.kinds[n-1] == lex.Remark; n-- {
		if t.touched[n] {
			return true
		}
	}
	if t.Lang.Blocks == lex.Indented {
		for n := d.Line + 1; n <= min(d.End, d.Line+6); n++ {
			if t.kinds[n-1] == lex.Remark {
				return t.touched[n]
			}
		}
	}
	return false
}
