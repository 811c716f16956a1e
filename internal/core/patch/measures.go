package patch

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"agonometer/internal/core/lex"
)

// MeasuresVersion changes whenever a measure counts otherwise than before. Figures
// of different versions are not compared.
const MeasuresVersion = 3

// Side is a tree: before or after the change.
type Side string

const (
	Before Side = "before"
	After  Side = "after"
)

// Place is a stretch of lines in a file, Line to End, from 1; 0 for a file as a whole.
type Place struct {
	Side Side   `json:"side"`
	Path string `json:"path"`
	Line int    `json:"line,omitempty"`
	End  int    `json:"end,omitempty"`
}

// Finding is one piece of evidence.
type Finding struct {
	// ID stays the same while the finding does, wherever its line moves: it is made
	// of measure, kind, path and text.
	ID      string `json:"id"`
	Measure string `json:"measure"`
	Kind    string `json:"kind"`
	Place
	// Text is the line, or the name, that was found; cut after 200 bytes.
	Text string `json:"text,omitempty"`
	// Why says in words what is the matter.
	Why string `json:"why"`
	// Other is a second place, such as where a repeated block stands already.
	Other *Place `json:"other,omitempty"`
}

// Figure is one value of a measure.
type Figure struct {
	Name string `json:"name"`
	// Value is absent where it cannot be told; Why says then why not.
	Value *float64 `json:"value"`
	Why   string   `json:"why,omitempty"`
	// Where are the places that it comes from, where they are not findings: at most
	// 200. More is how many there are beside these.
	Where []Place `json:"where,omitempty"`
	More  int     `json:"more,omitempty"`
}

// Measures are all that is worked out from a change.
type Measures struct {
	Version  int       `json:"version"`
	Figures  []Figure  `json:"figures"`
	Findings []Finding `json:"findings"`
	// Notes say what could not be seen in this change.
	Notes []string `json:"notes"`
	// Off are measures that the task switches off.
	Off []string `json:"off,omitempty"`
}

// Figure is the value of a figure, and whether there is one.
func (m *Measures) Figure(name string) (float64, bool) {
	for _, f := range m.Figures {
		if f.Name == name && f.Value != nil {
			return *f.Value, true
		}
	}
	return 0, false
}

// Input is what a change is measured from.
type Input struct {
	// Diff is the change as git prints it, with renames found.
	Diff []byte
	// Read gives the content of a file that the diff names, nil where there is none.
	// Several goroutines call it.
	Read func(side Side, path string) []byte
	// Ahead is told, where it is given, which files will be read next, in this order.
	Ahead func([]Place)
	// Start lists the files of the start; nil where they are not known.
	Start []string
	// Scope are patterns of files that may be touched, Never of those that may not.
	Scope, Never []string
	// IsTest tells test files.
	IsTest func(path string) bool
	// Brief is what was asked for, as text.
	Brief string
	// References are known good changes; the nearest counts.
	References []Reference
	// Earlier are files that earlier rounds had changed.
	Earlier []string
	// Covered is which lines the project's tests, with the contender's own, executed;
	// nil where no check writes it.
	Covered Coverage
	// Start and result findings of linters; nil where no check writes them.
	Lint *Lint
	// Index are the repeated stretches of the start repository; nil leaves repetition in it out.
	Index *Index
	// Off are measures that are not wanted.
	Off []string
}

// Reference is a known good change with what it leads to.
type Reference struct {
	Diff  []byte
	Read  func(side Side, path string) []byte
	Ahead func([]Place)
}

// Class is what a file is for.
type Class string

const (
	ClassCode      Class = "code"
	ClassTest      Class = "test"
	ClassDocs      Class = "docs"
	ClassData      Class = "data"
	ClassGenerated Class = "generated"
)

// text is one side of a changed file.
type text struct {
	*lex.Text
	kinds []lex.LineKind
	decls []lex.Decl
	// touched are the lines that the change removes or adds, by number.
	touched map[int]bool
	// moved are those of them that stand in the other tree elsewhere.
	moved map[int]bool
	// long are the literals and remarks of several lines, in their order.
	long []lex.Token
	// asked is how often it was asked what stands around a token; see onlyIf.
	asked int
	around
	counted map[string]int // see count
}

// change is one changed file with both sides; a side is nil where there is no text.
type change struct {
	File
	lang          *lex.Language
	class         Class
	before, after *text
	// given are the names that the result declares in one way or another; see givenOtherwise.
	given map[string]bool
	// unread is a file whose texts were too much.
	unread bool
	// odd is a file whose diff is not one of its two sides, so that only lines are counted.
	odd bool
}

// work is one measuring.
type work struct {
	in       *Input
	files    []*change
	out      *Measures
	off      map[string]bool
	asked    asked
	names    map[string]bool      // see touchedNames
	said     map[*change]*said    // see saidBy
	more     map[string]int       // findings beyond the most that are kept, by measure and kind
	declares map[string]*declared // see declaredIn
	left     int                  // see afford
	words    [2]map[string]int    // see mentioned
	python   *python              // see pythonWithout
}

// Measure works out every measure of a change. It errs only where the diff cannot be read.
func MeasureEdits(in *Input) (*Measures, error) {
	w := &work{in: in, out: &Measures{Version: MeasuresVersion, Figures: []Figure{}, Findings: []Finding{}, Notes: []string{}, Off: in.Off}, off: map[string]bool{}}
	for _, o := range in.Off {
		w.off[o] = true
	}
	var err error
	if w.files, err = read(in.Diff, in.Read, in.Ahead, in.IsTest); err != nil {
		return nil, err
	}
	unread := 0
	for _, f := range w.files {
		if f.unread {
			unread++
		}
		if f.odd {
			w.note("the diff of %s does not fit the file; only its lines were counted", f.Path)
		}
		if f.Cut > 0 || f.before != nil && len(f.before.Src) == lex.MaxBytes || f.after != nil && len(f.after.Src) == lex.MaxBytes {
			w.note("%s is longer than %d MiB; the rest was not looked at", f.Path, lex.MaxBytes>>20)
		}
	}
	if unread > 0 {
		w.note("the change touches more than %d MiB of texts; of %d files only the lines were counted", maxTexts>>20, unread)
	}
	w.asked = w.whatWasAsked()
	w.findMoves(w.files)
	// Each measure writes to a page of its own, so that several run at once.
	var all sync.WaitGroup
	pages, faults := make([]work, len(steps)), make([]error, len(steps))
	for i, m := range steps {
		if w.off[m.name] {
			continue
		}
		pages[i] = *w
		pages[i].out = &Measures{}
		all.Go(func() {
			defer Catch(&faults[i], m.name)
			m.run(&pages[i])
		})
	}
	all.Wait()
	if err := errors.Join(faults...); err != nil {
		return nil, err
	}
	for i := range pages {
		if o := pages[i].out; o != nil {
			w.out.Figures, w.out.Findings, w.out.Notes = append(w.out.Figures, o.Figures...), append(w.out.Findings, o.Findings...), append(w.out.Notes, o.Notes...)
		}
	}
	w.out.settle()
	return w.out, nil
}

// ErrFault says that the measuring itself went wrong: a change must not end the service
// that measures it.
var ErrFault = errors.New("the edit measures have a fault")

// Catch makes an error of a fault that a deferred call of it finds.
func Catch(into *error, what string) {
	if r := recover(); r != nil {
		*into = fmt.Errorf("%w in %s: %v", ErrFault, what, r)
	}
}

// steps are the measures that are worked out here; claims come from elsewhere.
var steps = []struct {
	name string
	run  func(*work)
}{
	{"footprint", (*work).footprint}, {"strays", (*work).strays}, {"noise", (*work).noise}, {"leftovers", (*work).leftovers}, {"losses", (*work).losses}, {"tests", (*work).tests},
	{"repetition", (*work).repetition}, {"fit", (*work).fit}, {"docs", (*work).docs}, {"nearness", (*work).nearness},
}

// Add takes in what was found elsewhere.
func (m *Measures) Add(findings []Finding, figures []Figure) {
	for i := range findings {
		findings[i].Text = cut(findings[i].Text)
	}
	m.Findings, m.Figures = append(m.Findings, findings...), append(m.Figures, figures...)
	m.settle()
}

// settle puts findings in order and names them.
func (m *Measures) settle() {
	slices.SortStableFunc(m.Findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(slices.Index(MeasureNames, a.Measure), slices.Index(MeasureNames, b.Measure)), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Text, b.Text))
	})
	seen := map[string]int{}
	for i := range m.Findings {
		f := &m.Findings[i]
		sum := sha256.Sum256([]byte(strings.Join([]string{f.Measure, f.Kind, f.Path, f.Text}, "\x00")))
		f.ID = hex.EncodeToString(sum[:6])
		if n := seen[f.ID]; n > 0 { // the same line several times
			seen[f.ID]++
			f.ID += fmt.Sprintf("-%d", n+1)
			continue
		}
		seen[f.ID] = 1
	}
}

// read parses a diff and takes the texts of its files apart.
func read(diff []byte, content func(Side, string) []byte, ahead func([]Place), isTest func(string) bool) ([]*change, error) {
	files, err := Parse(diff, 0)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(files, func(a, b File) int { return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.OldPath, b.OldPath)) })
	places := make([][]Place, len(files))
	for i := range files {
		f := &files[i]
		if f.Binary || f.link() != "" {
			continue
		}
		if f.Status != Added {
			places[i] = append(places[i], Place{Side: Before, Path: cmp.Or(f.OldPath, f.Path)})
		}
		if f.Status != Deleted {
			places[i] = append(places[i], Place{Side: After, Path: f.Path})
		}
	}
	if ahead != nil {
		ahead(slices.Concat(places...))
	}
	out, faults := make([]*change, len(files)), make([]error, len(files))
	var all sync.WaitGroup
	free := make(chan struct{}, runtime.GOMAXPROCS(0)) // so that not all contents wait at once
	texts := 0
	for i, f := range files {
		var before, after []byte
		unread := texts > maxTexts && len(places[i]) > 0
		for _, p := range places[i] {
			if unread {
				break
			}
			if p.Side == Before {
				before = content(Before, p.Path)
			} else {
				after = content(After, p.Path)
			}
		}
		texts += len(before) + len(after)
		free <- struct{}{}
		all.Go(func() {
			defer func() { <-free }()
			defer Catch(&faults[i], f.Path)
			out[i] = takeApart(f, before, after, isTest)
			out[i].unread = unread
		})
	}
	all.Wait()
	return out, errors.Join(faults...)
}

// maxTexts is how many bytes of texts are read of a change, about: who deletes a large
// repository must not bring the service down that measures it. Set lower in a test.
var maxTexts = 128 << 20

// takeApart reads both sides of a changed file.
func takeApart(f File, before, after []byte, isTest func(string) bool) *change {
	c := &change{File: f}
	c.lang = lex.Of(f.Path, after)
	if c.lang == lex.Plain {
		c.lang = lex.Of(f.Path, before)
	}
	// What a file is for, it says itself where it was there before: else a change could call
	// what it touches generated, and nothing would be looked for in it.
	c.class = classOf(f.Path, c.lang, cmp.Or(string(before[:min(len(before), 2000)]), string(after[:min(len(after), 2000)])), isTest)
	if c.lang.Name == "C" && bytes.Contains(after, []byte("\nclass ")) {
		c.lang = lex.Named("C++")
	}
	lines := func(kind LineKind) map[int]bool {
		n := map[int]bool{}
		for _, h := range f.Hunks {
			for _, l := range h.Lines {
				if l.Kind == kind && kind == LineAdded {
					n[int(l.New)] = true
				} else if l.Kind == kind {
					n[int(l.Old)] = true
				}
			}
		}
		return n
	}
	if before != nil && isText(before) {
		c.before = textOf(c.lang, before, lines(LineRemoved))
	}
	if after != nil && isText(after) {
		c.after = textOf(c.lang, after, lines(LineAdded))
	}
	for _, h := range f.Hunks {
		for _, l := range h.Lines {
			if l.Kind != LineAdded && !c.before.has(l.Old) || l.Kind != LineRemoved && !c.after.has(l.New) {
				c.before, c.after, c.odd = nil, nil, before != nil || after != nil
				return c
			}
		}
	}
	return c
}

// has tells whether a text has a line of this number; one that was not read may have any.
func (t *text) has(n int64) bool {
	return t == nil || n >= 1 && (n <= int64(min(t.Lines(), len(t.kinds))) || len(t.Src) == lex.MaxBytes)
}

// link tells that a file is a symbolic link or a submodule, and which.
func (f *File) link() string {
	mode := cmp.Or(f.NewMode, f.OldMode)
	switch {
	case strings.HasPrefix(mode, "120"):
		return "link"
	case strings.HasPrefix(mode, "160"):
		return "submodule"
	}
	return ""
}

func isText(src []byte) bool { return bytes.IndexByte(src[:min(len(src), 8000)], 0) < 0 }

func textOf(lang *lex.Language, src []byte, touched map[int]bool) *text {
	t := &text{Text: lex.New(lang, src), touched: touched, moved: map[int]bool{}}
	t.kinds, t.decls = t.Kinds(), t.Outline()
	for _, k := range t.Tokens {
		if (k.Kind == lex.String || k.Kind == lex.Comment) && t.Last(k) > int(k.Line) {
			t.long = append(t.long, k)
		}
	}
	for n := range touched {
		if n < 1 || n > min(t.Lines(), len(t.kinds)) {
			delete(touched, n)
		}
	}
	t.findAround()
	return t
}

var generatedNames = []string{"package-lock.json", "yarn.lock", "pnpm-lock.yaml", "go.sum", "Cargo.lock", "poetry.lock", "Pipfile.lock", "uv.lock", "Gemfile.lock", "composer.lock"}

// classOf tells what a file is for, by its path, language and beginning.
func classOf(name string, lang *lex.Language, begin string, isTest func(string) bool) Class {
	base := path.Base(name)
	in := func(folders ...string) bool {
		return slices.ContainsFunc(folders, func(f string) bool { return strings.Contains("/"+name, "/"+f+"/") })
	}
	lower := strings.ToLower(begin[:min(len(begin), 600)])
	minified := func() bool { // nobody writes lines of this length
		if !slices.Contains([]string{"JavaScript", "CSS", "HTML"}, lang.Name) {
			return false
		}
		for line := range strings.SplitSeq(begin, "\n") {
			if len(line) > 500 {
				return true
			}
		}
		return false
	}
	switch {
	case slices.Contains(generatedNames, base), in("vendor", "node_modules", "third_party", "bower_components", "dist"), strings.Contains(base, ".min."), strings.HasSuffix(base, ".pb.go"),
		strings.Contains(lower, "code generated"), strings.Contains(lower, "@generated"), strings.Contains(lower, "automatically generated"), strings.Contains(lower, "do not edit"), minified():
		return ClassGenerated
	case isTest != nil && isTest(name):
		return ClassTest
	case lang.Prose, in("docs", "doc"):
		return ClassDocs
	case lang.Data, lang == lex.Plain && !strings.HasPrefix(begin, "#!"):
		return ClassData
	}
	return ClassCode
}

func (w *work) note(format string, args ...any) {
	w.out.Notes = append(w.out.Notes, fmt.Sprintf(format, args...))
}

func (w *work) figure(name string, value float64) {
	w.out.Figures = append(w.out.Figures, Figure{Name: name, Value: &value})
}

// figureAt is a figure with the places that it comes from.
func (w *work) figureAt(name string, value float64, at places) {
	w.out.Figures = append(w.out.Figures, Figure{Name: name, Value: &value, Where: at.list, More: at.more})
}

func (w *work) absent(name, why string) {
	w.out.Figures = append(w.out.Figures, Figure{Name: name, Why: why})
}

const (
	maxFindingText = 200
	maxFindings    = 2000
)

// found notes a finding; the text is that of its line where none is given.
func (w *work) found(f Finding) {
	if len(w.out.Findings) >= maxFindings { // counted all the same
		if w.more == nil {
			w.more = map[string]int{}
			w.note("there are more than %d findings of %s; the others are counted and not listed", maxFindings, f.Measure)
		}
		w.more[f.Measure+"/"+f.Kind]++
		return
	}
	f.Text = cut(f.Text)
	w.out.Findings = append(w.out.Findings, f)
}

func cut(text string) string {
	text = strings.ToValidUTF8(strings.TrimSpace(text), "�")
	if len(text) > maxFindingText {
		text = strings.ToValidUTF8(text[:maxFindingText], "") + "…"
	}
	return text
}

// at notes a finding in a line of a file's side.
func (w *work) at(measure, kind string, c *change, side Side, line int, why string) {
	t := c.after
	if side == Before {
		t = c.before
	}
	w.found(Finding{Measure: measure, Kind: kind, Place: Place{Side: side, Path: c.name(side), Line: line}, Text: string(t.Line(line)), Why: why})
}

// count is how many findings there are of a measure, of one of the kinds (none: all).
func (w *work) count(measure string, kinds ...string) float64 {
	n := 0
	for _, f := range w.out.Findings {
		if f.Measure == measure && (len(kinds) == 0 || slices.Contains(kinds, f.Kind)) {
			n++
		}
	}
	for key, more := range w.more {
		if m, kind, _ := strings.Cut(key, "/"); m == measure && (len(kinds) == 0 || slices.Contains(kinds, kind)) {
			n += more
		}
	}
	return float64(n)
}

// squeezed is a line without space at its ends and with single spaces in it.
func squeezed(line []byte) string {
	line = bytes.TrimSpace(line)
	for i, c := range line {
		if c == '\t' || c == '\r' || c == '\n' || c == '\v' || c == '\f' || c >= 0x80 || c == ' ' && line[i-1] == ' ' {
			return string(bytes.Join(bytes.Fields(line), []byte{' '}))
		}
	}
	return string(line)
}

// weight is how many letters and digits a line holds: what says something.
func weight(s string) int {
	n := 0
	for i := range len(s) {
		if c := s[i]; c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80 {
			n++
		}
	}
	return n
}

const (
	minMoved       = 3 // lines
	minMovedWeight = 24
	minFirstWeight = 3
)

type spot struct {
	t    *text
	line int
}

// findMoves marks removed stretches of at least three lines that were added elsewhere.
func (w *work) findMoves(files []*change) {
	// The removed lines in their order, blank ones left out.
	var removed []spot
	var texts []string
	where := map[string][]int{}
	for _, c := range files {
		if c.before == nil || c.Binary {
			continue
		}
		for n := 1; n <= c.before.Lines(); n++ {
			if !c.before.touched[n] {
				continue
			}
			if s := squeezed(c.before.Line(n)); s != "" {
				where[s] = append(where[s], len(removed))
				removed, texts = append(removed, spot{c.before, n}), append(texts, s)
			}
		}
	}
	used := make([]bool, len(removed))
	for _, c := range files {
		if c.after == nil {
			continue
		}
		var lines []int
		var added []string
		for n := 1; n <= c.after.Lines(); n++ {
			if !c.after.touched[n] {
				continue
			}
			if s := squeezed(c.after.Line(n)); s != "" {
				lines, added = append(lines, n), append(added, s)
			}
		}
		for i := 0; i < len(added); {
			if weight(added[i]) < minFirstWeight { // such as braces, of which there are many
				i++
				continue
			}
			best, at := 0, 0
			for _, r := range where[added[i]][:min(len(where[added[i]]), 50)] {
				n, letters := 0, 0
				for i+n < len(added) && r+n < len(removed) && !used[r+n] && texts[r+n] == added[i+n] && (n == 0 || removed[r+n].t == removed[r].t) {
					letters += weight(added[i+n])
					n++
				}
				if n >= minMoved && letters >= minMovedWeight && n > best {
					best, at = n, r
				}
			}
			for n := range best {
				used[at+n] = true
				removed[at+n].t.moved[removed[at+n].line] = true
				c.after.moved[lines[i+n]] = true
			}
			i += max(best, 1)
		}
	}
}

// asked is what of a change was asked for: names that the brief names, and what a reference does.
type asked struct {
	words map[string]bool
	refs  [][]*change
	// added and removed are the lines that references add and take away, without space.
	added, removed map[string]bool
}

func (w *work) whatWasAsked() asked {
	a := asked{words: map[string]bool{}, added: map[string]bool{}, removed: map[string]bool{}}
	t := lex.New(lex.Plain, []byte(w.in.Brief))
	for _, k := range t.Tokens {
		if k.Kind == lex.Word {
			a.words[string(t.Of(k))] = true
		}
	}
	for _, r := range w.in.References {
		files, err := read(r.Diff, r.Read, r.Ahead, w.in.IsTest)
		if err != nil {
			w.note("a reference cannot be read: %v", err)
			continue
		}
		a.refs = append(a.refs, files)
		for _, c := range files {
			for _, side := range []struct {
				t    *text
				into map[string]bool
			}{{c.before, a.removed}, {c.after, a.added}} {
				if side.t == nil {
					continue
				}
				for n := range side.t.touched {
					side.into[squeezed(side.t.Line(n))] = true
				}
			}
		}
	}
	return a
}

// name tells whether a name was asked about, or a reference declares it no more.
func (a asked) name(full string) bool {
	short := full[strings.LastIndexByte(full, '.')+1:]
	if a.words[short] {
		return true
	}
	for _, files := range a.refs {
		had, has := false, false
		for _, c := range files {
			had = had || declares(c.before, full)
			has = has || declares(c.after, full)
		}
		if had && !has {
			return true
		}
	}
	return false
}

func declares(t *text, full string) bool {
	return t != nil && slices.ContainsFunc(t.decls, func(d lex.Decl) bool { return d.Full() == full })
}

// within tells whether a line lies in a literal of several lines, or in a remark of several where remarks is set.
func (t *text) within(line int, remarks bool) bool {
	if t == nil {
		return false
	}
	i, found := slices.BinarySearchFunc(t.long, int32(line), func(k lex.Token, line int32) int { return cmp.Compare(k.Line, line) })
	for _, at := range []int{i - 1, i} { // they do not overlap, but one may end where the next begins
		if at >= 0 && at < len(t.long) && (at < i || found) && t.Last(t.long[at]) >= line && (remarks || t.long[at].Kind == lex.String) {
			return true
		}
	}
	return false
}
