package patch

import (
	"bytes"
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"agonometer/internal/core/lex"
)

// noise are hunks that change nothing that a program or a reader would notice.
func (w *work) noise() {
	lines := 0
	for _, c := range w.files {
		if c.OldMode != "" && c.NewMode != "" && c.OldMode != c.NewMode {
			w.found(Finding{Measure: "noise", Kind: "mode", Place: Place{Side: After, Path: c.Path}, Text: c.OldMode + " to " + c.NewMode, Why: "the file's mode changed"})
		}
		if c.class == ClassGenerated || c.Status == Added || c.Status == Deleted {
			continue
		}
		for _, h := range c.Hunks {
			for _, n := range w.emptyHunk(c, h) {
				first, last := n.run[0], n.run[len(n.run)-1]
				f := Finding{Measure: "noise", Kind: n.kind, Place: Place{Side: After, Path: c.Path, Line: int(first.New), End: int(last.New)}, Text: first.Text, Why: n.why}
				if first.Kind == LineRemoved {
					f.Side, f.Path, f.Line, f.End = Before, cmp.Or(c.OldPath, c.Path), int(first.Old), 0
				}
				if f.End <= f.Line {
					f.End = 0
				}
				w.found(f)
				lines += len(n.run)
			}
		}
		w.rewritten(c)
	}
	now := map[string]bool{}
	for _, c := range w.files {
		now[c.Path], now[c.OldPath] = true, true
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(w.in.Earlier))) {
		if !now[name] {
			w.found(Finding{Measure: "noise", Kind: "undone", Place: Place{Side: After, Path: name}, Why: "an earlier round changed the file; in the end it is as it was"})
		}
	}
	w.figure("noise", w.count("noise"))
	w.figure("noise_lines", float64(lines))
}

// emptyRun is a stretch of changed lines that changes nothing that matters.
type emptyRun struct {
	run       []Line
	kind, why string
}

// emptyHunk are the stretches of a hunk in which nothing that matters changes; none where
// the hunk does anything else as well, for what surrounds a real change may follow from it.
func (w *work) emptyHunk(c *change, h Hunk) []emptyRun {
	all := runs(h)
	if len(all) > 1 && importsOnly(slices.Concat(all...)) {
		all = [][]Line{slices.Concat(all...)}
	}
	var out []emptyRun
	for _, run := range all {
		kind, why := w.emptyChange(c, run)
		if kind == "" && w.commentsOnly(c, run) {
			kind, why = "comments", "only comments differ, of code that the change leaves alone"
		}
		if kind == "" {
			return nil
		}
		out = append(out, emptyRun{run, kind, why})
	}
	return out
}

// Comments that speak to tools rather than to readers.
var directive = regexp.MustCompile(`(?i)\b(no-?lint|no-?qa|no-?check|ignore|disable|enable|pragma|go:\w+|region|@ts-|type:|coding:|use strict|noinspection|format: ?o(n|ff)|fmt: ?o(n|ff)|prettier|clang-format|allow|deny|shellcheck|deprecated)\b|\+build\b|\boutput:|@ts-|@\w+ ?\{`)

// commentsOnly tells whether a run touches comments alone, and of code that the change
// leaves as it is: it neither stands above a declaration that changed nor names one.
func (w *work) commentsOnly(c *change, run []Line) bool {
	if c.class != ClassCode && c.class != ClassTest || c.before == nil || c.after == nil || w.asked.words["comment"] || w.asked.words["comments"] || w.asked.words["document"] || w.asked.words["documentation"] {
		return false
	}
	comments := 0
	for _, l := range run {
		t, n := c.after, int(l.New)
		if l.Kind == LineRemoved {
			t, n = c.before, int(l.Old)
		}
		switch {
		case n > len(t.kinds) || t.kinds[n-1] == lex.Code || directive.MatchString(l.Text) || l.Kind == LineRemoved && w.asked.removed[squeezed([]byte(l.Text))]:
			return false
		case t.kinds[n-1] == lex.Remark:
			comments++
		}
		for _, k := range lex.New(lex.Plain, []byte(l.Text)).Tokens {
			if k.Kind == lex.Word && w.touchedNames()[l.Text[k.Start:k.End]] {
				return false
			}
		}
		if l.Kind == LineAdded && w.aboveChanged(c.after, n) {
			return false
		}
	}
	return comments > 0
}

// touchedNames are the names of the declarations that the change touches.
func (w *work) touchedNames() map[string]bool {
	if w.names == nil {
		w.names = map[string]bool{}
		for _, c := range w.files {
			for _, t := range []*text{c.before, c.after} {
				if t == nil {
					continue
				}
				for i := range t.decls {
					if d := &t.decls[i]; len(d.Name) > 2 && codeTouched(t, d) {
						w.names[d.Name] = true
					}
				}
			}
		}
	}
	return w.names
}

// aboveChanged tells whether a comment line belongs to a declaration whose code changed:
// it stands right above it or within it.
func (w *work) aboveChanged(t *text, line int) bool {
	next := int(t.behind[min(line, len(t.behind)-1)])
	if outer := t.outer[min(line, len(t.outer)-1)]; outer != nil && codeTouched(t, outer) {
		return true
	}
	return slices.ContainsFunc(t.begin(next), func(d *lex.Decl) bool { return codeTouched(t, d) })
}

// runs are the stretches of removed and added lines of a hunk, without context between them.
func runs(h Hunk) [][]Line {
	var out [][]Line
	var run []Line
	for _, l := range h.Lines {
		if l.Kind != LineContext {
			run = append(run, l)
			continue
		}
		if len(run) > 0 {
			out, run = append(out, run), nil
		}
	}
	if len(run) > 0 {
		out = append(out, run)
	}
	return out
}

var importLine = regexp.MustCompile(`^\s*(import\b|from\s+\S+\s+import\b|use\s|using\s|#include\b|require\b|require_relative\b|(const|let|var)\s+.*=\s*require\(|"[^"]+"\s*$|[\w.]+\s+"[^"]+"\s*$)`)

// importsOnly tells whether lines remove and add the same imports, in another order.
func importsOnly(lines []Line) bool {
	var old, now []string
	for _, l := range lines {
		s := strings.TrimSpace(l.Text)
		switch {
		case s == "":
		case !importLine.MatchString(l.Text):
			return false
		case l.Kind == LineRemoved:
			old = append(old, s)
		default:
			now = append(now, s)
		}
	}
	slices.Sort(old)
	slices.Sort(now)
	return len(old) > 0 && slices.Equal(old, now)
}

// emptyChange says what kind of noise a run of changed lines is; "" for none.
func (w *work) emptyChange(c *change, run []Line) (kind, why string) {
	var old, now []string
	for _, l := range run {
		if l.Kind == LineRemoved {
			old = append(old, l.Text)
		} else {
			now = append(now, l.Text)
		}
	}
	oldText, nowText := strings.Join(old, "\n"), strings.Join(now, "\n")
	if importsOnly(run) && (oldText == nowText || strings.Join(strings.Fields(oldText), "") != strings.Join(strings.Fields(nowText), "")) {
		return "import-order", "only the order of imports differs"
	}
	trimmed := func(s string) string { return strings.Join(strings.Fields(s), "") }
	if trimmed(oldText) == trimmed(nowText) {
		withoutEnds := func(lines []string) string {
			var b strings.Builder
			for _, l := range lines {
				b.WriteString(strings.TrimSuffix(l, "\r") + "\n")
			}
			return b.String()
		}
		if len(old) == len(now) && withoutEnds(old) == withoutEnds(now) {
			return "line-ends", "only the line ends differ"
		}
		indent := func(lines []string) string {
			var b strings.Builder
			for _, l := range lines {
				if strings.TrimSpace(l) != "" {
					b.WriteString(l[:len(l)-len(strings.TrimLeft(l, " \t"))] + "\n")
				}
			}
			return b.String()
		}
		if (c.lang.Blocks == lex.Indented || c.lang.Name == "YAML" || c.lang.Name == "Make") && indent(old) != indent(now) {
			return "", "" // here it means something
		}
		if w.inString(c, run) {
			return "", ""
		}
		return "white-space", "only white space differs"
	}
	if c.class != ClassCode && c.class != ClassTest || len(old) == 0 || len(now) == 0 || c.before == nil || c.after == nil {
		return "", ""
	}
	a, aComments := tokensIn(c.before, run, LineRemoved)
	b, bComments := tokensIn(c.after, run, LineAdded)
	if slices.Equal(a, b) {
		if len(a) == 0 && aComments+bComments > 0 {
			return "", "" // a comment that says something else now
		}
		if aComments+bComments > 0 && !slices.ContainsFunc(run, func(l Line) bool { return directive.MatchString(l.Text) }) {
			return "comments", "only comments behind code differ"
		}
	}
	if len(a) == len(b) && len(a) > 0 {
		quoted := false
		for i := range a {
			if a[i] == b[i] {
				continue
			}
			if !sameQuoted(c.lang, a[i], b[i]) {
				return "", ""
			}
			quoted = true
		}
		if quoted {
			return "quotes", "only the quotes around texts differ"
		}
	}
	return "", ""
}

// inString tells whether a run lies within a literal of several lines, where space counts.
func (w *work) inString(c *change, run []Line) bool {
	return slices.ContainsFunc(run, func(l Line) bool {
		return l.Kind == LineRemoved && c.before.within(int(l.Old), false) || l.Kind == LineAdded && c.after.within(int(l.New), false)
	})
}

// tokensIn are the tokens of a run's lines that are no comments, and how many are.
func tokensIn(t *text, run []Line, kind LineKind) (out []string, comments int) {
	first, last := 0, 0
	for _, l := range run {
		if l.Kind != kind {
			continue
		}
		n := int(l.New)
		if kind == LineRemoved {
			n = int(l.Old)
		}
		if first == 0 {
			first = n
		}
		last = n
	}
	i, _ := slices.BinarySearchFunc(t.Tokens, int32(first), func(k lex.Token, line int32) int { return cmp.Compare(k.Line, line) })
	for ; i < len(t.Tokens) && int(t.Tokens[i].Line) <= last; i++ {
		if t.Tokens[i].Kind == lex.Comment {
			comments++
			continue
		}
		out = append(out, string(t.Of(t.Tokens[i])))
	}
	return out, comments
}

// quoteKinds are, by language, the quotes that differ in nothing, and what a text must not
// hold for that, since one of them reads it otherwise.
var quoteKinds = map[string]struct{ marks, special string }{
	"JavaScript": {"'\"`", "$"}, "TypeScript": {"'\"`", "$"}, "Python": {`'"`, ""}, "CSS": {`'"`, ""}, "Go": {"\"`", `\`},
	"Ruby": {`'"`, `\#`}, "PHP": {`'"`, `\$`}, "Shell": {`'"`, "\\$`!"}, "Lua": {`'"`, ""},
}

// sameQuoted tells whether two literals say the same with other quotes around.
func sameQuoted(lang *lex.Language, a, b string) bool {
	kinds, known := quoteKinds[lang.Name]
	text := unquoted(a)
	return known && text != a && text == unquoted(b) && strings.IndexByte(kinds.marks, a[0]) >= 0 && strings.IndexByte(kinds.marks, b[0]) >= 0 &&
		!(kinds.special != "" && strings.ContainsAny(text, kinds.special))
}

func unquoted(s string) string {
	if len(s) >= 2 && strings.ContainsRune("\"'`", rune(s[0])) && s[len(s)-1] == s[0] {
		return s[1 : len(s)-1]
	}
	return s
}

// rewritten notes a file of which nearly every line was touched though most of them
// came back.
func (w *work) rewritten(c *change) {
	if c.before == nil || c.after == nil {
		return
	}
	total := c.before.Lines()
	if total < 20 || len(c.before.touched)*10 < total*8 {
		return
	}
	had := map[string]int{}
	for n := 1; n <= total; n++ {
		had[squeezed(c.before.Line(n))]++
	}
	kept := 0
	for n := range c.after.touched {
		s := squeezed(c.after.Line(n))
		if s != "" && had[s] > 0 {
			had[s]--
			kept++
		}
	}
	blank := had[""]
	if kept*10 >= (total-blank)*7 {
		w.found(Finding{Measure: "noise", Kind: "rewritten", Place: Place{Side: After, Path: c.Path}, Text: fmt.Sprintf("%d of %d lines", len(c.before.touched), total), Why: "nearly every line was touched, and most of them say the same as before"})
	}
}

// leftovers are things that should not stay behind.
func (w *work) leftovers() {
	for _, c := range w.files {
		w.unwanted(c)
		if c.after == nil || c.class == ClassGenerated {
			continue
		}
		w.placeholders(c)
		w.conflicts(c)
		w.keys(c)
		if c.class != ClassDocs && c.class != ClassData {
			w.debugging(c)
			w.outcommented(c)
		}
	}
	w.figure("leftovers", w.count("leftovers"))
}

var placeholder = regexp.MustCompile(`(?i)^\W*(\.{3}|…)\W*(the )?(rest|remainder) of (the |this )?(\w+ )?(code|file|function|class|method|implementation|module|body|component|logic|tests?|styles?|methods|functions)\W*$|^\W*(\.{3}|…)?\W*((the )?(rest|remainder) (of (the |this )?(\w+ )?)?(code|file|function|class|method|implementation|module|body|component|logic|tests?|styles?|methods|functions)?\s*((is|are|stays?|remains?)\s+)?(the same|unchanged|as before|as is|omitted|here|follows|goes here|continues)|(existing|previous|other|remaining|original|same) (\w+ )?(code|methods?|functions?|logic|implementation|imports|tests|fields|properties|handlers|content|routes|styles|rules|markup)( (here|above|below|unchanged|remains?|stays|omitted|goes here|as before))*\s*(\.{3}|…)?|(your|actual|real) (\w+ )?(code|logic|implementation) (goes )?here|(code|implementation|logic) (goes|comes) here|(unchanged|same) (as|from) (before|above|the original)( code)?|omitted for brevity|no changes? (here|below|above)|implement(ation)? (me|this|later|here))\W*$`)

var (
	todo     = regexp.MustCompile(`\b(TODO|FIXME)\b`)
	openWork = regexp.MustCompile(`^(XXX|HACK)\b`) // elsewhere they are other words
	// nestedRemark is a comment within a comment: an example for readers.
	nestedRemark = regexp.MustCompile(`^\s*(//+|#+|\*|--)\s+(//|#|/\*|--)`)
)

// commentText is a line of a comment without its marks.
func commentText(line []byte) []byte {
	return bytes.TrimSpace(bytes.TrimRight(bytes.TrimLeft(bytes.TrimSpace(line), "/*#-<!{%;= \t"), "*/->}% \t"))
}

func (w *work) placeholders(c *change) {
	marked := map[int]bool{}
	mark := func(line int, kind, why string) {
		if c.after.touched[line] && !marked[line] && !c.after.moved[line] {
			marked[line] = true
			w.at("leftovers", kind, c, After, line, why)
		}
	}
	had := map[string]int{} // remarks that the file had before
	if c.before != nil {
		for _, k := range c.before.Tokens {
			if k.Kind == lex.Comment {
				had[squeezed(c.before.Of(k))]++
			}
		}
	}
	for _, k := range c.after.Tokens {
		if k.Kind != lex.Comment || had[squeezed(c.after.Of(k))] > 0 {
			continue
		}
		for n := int(k.Line); n <= c.after.Last(k); n++ {
			if !c.after.touched[n] || w.asked.added[squeezed(c.after.Line(n))] {
				continue
			}
			line := c.after.Line(n)
			if n == int(k.Line) {
				line = line[min(len(line), c.after.Column(k)):]
			}
			body := commentText(line)
			switch {
			case len(body) < 200 && k.First && !c.after.docText(k) && !nestedRemark.Match(line) && placeholder.Match(body) && !c.after.goesOn(n):
				mark(n, "placeholder", "a comment stands where code should be")
			case todo.Match(body) || openWork.Match(body):
				mark(n, "todo", "work that was left for later")
			}
		}
	}
	if c.class != ClassCode && c.class != ClassTest || c.lang.Blocks == lex.NoBlocks {
		return
	}
	for n := range c.after.touched {
		if s := strings.TrimSpace(string(c.after.Line(n))); (s == "..." || s == "…") && c.lang.Name != "Python" && !c.after.within(n, true) {
			mark(n, "placeholder", "dots stand where code should be")
		}
	}
}

// goesOn tells whether a remark goes on with the sentence of the remark in the line above.
func (t *text) goesOn(line int) bool {
	if line < 2 || t.kinds[line-2] != lex.Remark {
		return false
	}
	if text := commentText(t.Line(line)); len(text) == 0 || text[0] < 'a' || text[0] > 'z' {
		return false
	}
	above := commentText(t.Line(line - 1))
	return len(above) > 0 && bytes.Count(above, []byte(" ")) > 2 && !bytes.ContainsAny(above[len(above)-1:], ".:;!?)")
}

func (w *work) conflicts(c *change) {
	open, middle := 0, 0
	for n := 1; n <= c.after.Lines(); n++ {
		line := c.after.Line(n)
		switch {
		case bytes.HasPrefix(line, []byte("<<<<<<< ")):
			open = n
		case open > 0 && bytes.Equal(line, []byte("=======")):
			middle = n
		case middle > 0 && bytes.HasPrefix(line, []byte(">>>>>>> ")):
			if c.after.touched[open] || c.after.touched[middle] || c.after.touched[n] {
				w.at("leftovers", "conflict", c, After, open, "marks of a conflict that was not settled")
			}
			open, middle = 0, 0
		}
	}
}

// Calls that write what only the author wanted to see, by language, as token sequences;
// those with a "!" say nothing else, the others count only where a file had none of the
// kind before.
var debugCalls = map[string][]string{
	"Go":         {"fmt . Println", "fmt . Printf", "fmt . Print", "! println (", "! spew . Dump", "! pp . Print"},
	"JavaScript": {"console . log (", "console . debug (", "console . trace (", "console . dir (", "! debugger ;", "alert ("},
	"TypeScript": {"console . log (", "console . debug (", "console . trace (", "console . dir (", "! debugger ;", "alert ("},
	"Python":     {"print (", "pprint (", "! breakpoint (", "! pdb . set_trace", "! ipdb . set_trace"},
	"Java":       {"System . out . println", "System . out . print", "System . out . printf", "! . printStackTrace"},
	"Kotlin":     {"println (", "print ("},
	"Swift":      {"print (", "! debugPrint (", "! dump ("},
	"C":          {"printf (", "puts ("},
	"C++":        {"printf (", "puts (", "std : : cout"},
	"C#":         {"Console . WriteLine", "! Debugger . Break"},
	"Rust":       {"! dbg ! (", "println ! (", "eprintln ! ("},
	"Ruby":       {"puts", "pp", "! binding . pry", "! byebug", "! binding . irb"},
	"PHP":        {"! var_dump (", "! print_r (", "! dd ("},
}

var speaks = regexp.MustCompile(`(?i)(^|/)(cmd|bin|cli|scripts?|tools?|examples?|samples?|demos?|bench(marks?)?|tasks)/|(^|/)(main|cli|cmd|console|repl|setup|manage|build|gulpfile|rakefile)[^/]*$|_?(script|cli|cmd)\.\w+$`)

func (w *work) debugging(c *change) {
	calls := debugCalls[c.lang.Name]
	if len(calls) == 0 || c.class == ClassTest {
		return
	}
	mayPrint := c.before == nil || speaks.MatchString(c.Path)
	for _, call := range calls {
		rest, sure := strings.CutPrefix(call, "! ")
		if !sure && mayPrint {
			continue
		}
		words := strings.Fields(rest)
		if !slices.ContainsFunc(words, func(word string) bool { return word[0] >= 'A' }) || !holdsWords(c.after.Src, words) {
			continue
		}
		if c.before != nil && len(occurrences(c.before, words)) > 0 && !sure {
			continue
		}
		had := 0
		if c.before != nil {
			had = len(occurrences(c.before, words))
		}
		now := occurrences(c.after, words)
		program := c.lang.Name == "Python" && bytes.Contains(c.after.Src, []byte("__main__")) // what it prints is its output
		for _, line := range now[min(had, len(now)):] {
			if !sure && c.lang.Name == "Python" && (program || bytes.Contains(c.after.Line(line), []byte("file="))) {
				continue
			}
			if c.after.touched[line] && !c.after.moved[line] {
				w.at("leftovers", "debug", c, After, line, "output for debugging ("+strings.ReplaceAll(strings.TrimSuffix(rest, " ("), " ", "")+"), of which the file had none")
			}
		}
	}
}

// holdsWords tells whether a source can hold a sequence of tokens, quickly.
func holdsWords(src []byte, words []string) bool {
	return !slices.ContainsFunc(words, func(word string) bool { return len(word) > 1 && !bytes.Contains(src, []byte(word)) })
}

// occurrences are the lines in which a sequence of tokens begins.
func occurrences(t *text, words []string) []int {
	var out []int
	for i, k := range t.Tokens {
		if k.Kind == lex.String || k.Kind == lex.Comment || string(t.Of(k)) != words[0] {
			continue
		}
		if i > 0 && words[0] != "." && (t.Is(i-1, ".") || t.Is(i-1, "func") || t.Is(i-1, "def") || t.Is(i-1, "function") || t.Is(i-1, ":") && t.Is(i-2, ":")) {
			continue
		}
		all := true
		for j, word := range words[1:] {
			all = all && t.Is(i+1+j, word)
		}
		if all && (len(words) > 1 || k.First) {
			out = append(out, int(k.Line))
		}
	}
	return out
}

var (
	codeEnd   = regexp.MustCompile(`[;{}]\s*$|\)\s*:\s*$|^\s*(else|try|finally|end|fi|done)\s*:?\s*$`)
	codeStart = regexp.MustCompile(`^\s*(if\s*\(|for\s*\(|while\s*\(|return\b.*[;(]|(const|let|var|final|int|auto)\s+\w+\s*=|def \w+\(|func \w*\(|import \w+|from \w+ import|\w+(\.\w+)*\s*(:=|\+=|-=|=)\s*\S+|\w+(\.\w+)*\([^)]*\)\s*;?$|@\w+\(|(if|elif|for|while|with|def|class)\b.*:$|\}\s*else|raise \w+\(|if err != nil)`)
	prose     = regexp.MustCompile(`(?i)\b(the|this|that|is|are|was|when|which|because|should|must|we|it|of|a|an|for example|e\.g\.|i\.e\.|note|see)\b`)
)

// docText tells whether a remark is a Python text for readers, with its examples.
func (t *text) docText(k lex.Token) bool {
	return t.Lang.Name == "Python" && bytes.ContainsAny(t.Of(k)[:1], `"'`)
}

var (
	leadsIn   = regexp.MustCompile(`\w+ \w+.*:$`)
	exampleOf = regexp.MustCompile(`^(?i:examples?|usage|(unordered )?output)\b|^(?i:e\.g\.|i\.e\.)`)
)

// announces tells whether a remark announces what follows, such as an example.
func announces(remark string) bool {
	if remark == "" {
		return false
	}
	return remark[len(remark)-1] == ':' && leadsIn.MatchString(remark) || strings.IndexByte("eEiIuUoO", remark[0]) >= 0 && exampleOf.MatchString(remark)
}

// outcommented are lines of code that were turned into comments: two or more in a row,
// or one that cannot be anything else.
func (w *work) outcommented(c *change) {
	if c.lang.Blocks == lex.NoBlocks {
		return
	}
	removed := sync.OnceValue(func() map[string]bool { // code lines that went away may stand as a comment now
		out := map[string]bool{}
		if c.before != nil {
			for n := range c.before.touched {
				if s := squeezed(c.before.Line(n)); c.before.kinds[n-1] == lex.Code && weight(s) >= 6 {
					out[s] = true
				}
			}
		}
		return out
	})
	type line struct {
		n     int
		exact bool
	}
	var run []line
	flush := func() {
		exact := slices.ContainsFunc(run, func(l line) bool { return l.exact })
		if len(run) >= 2 || exact {
			first, last := run[0].n, run[len(run)-1].n
			f := Finding{Measure: "leftovers", Kind: "commented-out", Place: Place{Side: After, Path: c.Path, Line: first}, Text: string(c.after.Line(first)), Why: "code that was turned into a comment"}
			if last > first {
				f.End = last
			}
			w.found(f)
		}
		run = nil
	}
	intro, before := false, 0 // whether the remarks around announced an example; the remark before
	for _, k := range c.after.Tokens {
		if k.Kind != lex.Comment {
			flush()
			continue
		}
		if int(k.Line) != before+1 {
			intro = false
		}
		before = int(k.Line)
		open := string(c.after.Of(k)[:min(3, int(k.End-k.Start))])
		if !k.First || open == "///" || open == "/**" || open == "//!" || open == `"""` || open == "'''" || strings.HasPrefix(open, "#!") || c.after.Last(k) > int(k.Line) {
			flush()
			continue
		}
		n := int(k.Line)
		raw := bytes.TrimLeft(bytes.TrimSpace(c.after.Line(n)), "/*#-")
		body := strings.TrimSpace(string(raw))
		if announces(body) && !codeStart.MatchString(body) {
			intro = true
		}
		if !c.after.touched[n] || c.after.moved[n] {
			flush()
			continue
		}
		example := bytes.HasPrefix(raw, []byte("\t")) || bytes.HasPrefix(raw, []byte("   ")) // code in a comment for readers
		exact := removed()[squeezed([]byte(body))] && !(example && !c.after.inFunction(n))
		example = example && len(run) == 0 || intro
		codey := exact || !example && weight(body) >= 3 && codeEnd.MatchString(body) && !prose.MatchString(body) || !example && codeStart.MatchString(body) && !prose.MatchString(body) && strings.ContainsAny(body, "=;({:")
		if !codey {
			flush()
			continue
		}
		if len(run) > 0 && run[len(run)-1].n != n-1 {
			flush()
		}
		run = append(run, line{n, exact})
	}
	flush()
}

// inFunction tells whether a line lies within a function.
func (t *text) inFunction(n int) bool {
	return t.functionAround(n) != nil
}

var unwantedNames = []struct {
	pattern *regexp.Regexp
	why     string
}{
	{regexp.MustCompile(`\.(orig|rej|bak|old|swp|swo|tmp)$|~$|(^|/)#[^/]*#$|\.(bak|orig|old|backup)\.\w+$|(^|/)[^/]*_(old|backup|bak|copy)\.\w+$`), "a backup, or what an editor or a patch leaves behind"},
	{regexp.MustCompile(`(^|/)(\.DS_Store|Thumbs\.db|desktop\.ini)$|(^|/)\.idea/|(^|/)\.vs/`), "a file of an editor or a system"},
	{regexp.MustCompile(`\.(log|pid|core|dmp|hprof|prof)$|(^|/)nohup\.out$|(^|/)core\.\d+$`), "a log or a dump"},
	{regexp.MustCompile(`(^|/)(node_modules|bower_components|__pycache__|\.venv|venv|\.tox|\.mypy_cache|\.pytest_cache|\.gradle)/|\.(pyc|pyo|class|o|obj|a|so|dll|dylib|exe)$|(^|/)(coverage|\.nyc_output|htmlcov)/|(^|/)(cover(age)?\.(out|xml|info)|lcov\.info|\.coverage)$`), "a dependency, or something that is built"},
}

// Binary files of these kinds are content.
var content = regexp.MustCompile(`(?i)\.(png|jpe?g|gif|ico|webp|avif|svg|bmp|woff2?|ttf|otf|eot|pdf|mp3|mp4|webm|ogg|wav|zip|gz|tgz|xz|bz2|jar|sqlite|db|bin|dat|wasm|golden|pb|der|p12|jks)$`)

func (w *work) unwanted(c *change) {
	if c.Status != Added {
		return
	}
	for _, u := range unwantedNames {
		if u.pattern.MatchString(c.Path) {
			w.found(Finding{Measure: "leftovers", Kind: "file", Place: Place{Side: After, Path: c.Path}, Why: u.why})
			return
		}
	}
	if c.Binary && !content.MatchString(c.Path) && c.class != ClassTest {
		w.found(Finding{Measure: "leftovers", Kind: "file", Place: Place{Side: After, Path: c.Path}, Why: "a binary file of an unusual kind"})
	}
}

var (
	pemKey    = regexp.MustCompile(`-----BEGIN ([A-Z]+ )*PRIVATE KEY-----`)
	keyAssign = regexp.MustCompile(`(?i)(api[_-]?key|secret|passw(or)?d|access[_-]?key|auth[_-]?token|private[_-]?key|bearer|token)["']?\s*(:=|=>|=|:)\s*["'` + "`" + `]([A-Za-z0-9+/_=.-]{20,})["'` + "`" + `]`)
	signed    = regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{15,}\.eyJ[A-Za-z0-9_-]{15,}\.[A-Za-z0-9_-]{15,}`)
	notSecret = regexp.MustCompile(`(?i)example|test|dummy|fake|sample|placeholder|your|changeme|xxxx|1234|abcd|\$\{|process\.env`)
)

// keyHints are parts of which a line holds one where something may look like a key.
var keyHints = func() (out [][]byte) {
	for _, h := range strings.Fields("key Key KEY ecret ECRET assw ASSW oken OKEN earer EARER PRIVATE eyJ") {
		out = append(out, []byte(h))
	}
	return out
}()

func (w *work) keys(c *change) {
	for n := 1; n <= c.after.Lines(); n++ {
		if !c.after.touched[n] || c.after.moved[n] {
			continue
		}
		line := c.after.Line(n)
		if len(line) > 4000 {
			continue
		}
		if !slices.ContainsFunc(keyHints, func(h []byte) bool { return bytes.Contains(line, h) }) {
			continue
		}
		m := keyAssign.FindSubmatch(line)
		switch {
		case pemKey.Match(line), signed.Match(line), m != nil && varied(m[4]) && !notSecret.Match(m[4]) && !notSecret.MatchString(c.Path):
			w.found(Finding{Measure: "leftovers", Kind: "key", Place: Place{Side: After, Path: c.Path, Line: n}, Text: "(the text is not repeated here)", Why: "a text that looks like a key or a password"})
		}
	}
}

// varied tells whether a text could come from a generator: letters and digits, many different ones.
func varied(s []byte) bool {
	seen := map[byte]bool{}
	digits, letters := 0, 0
	for _, c := range s {
		seen[c] = true
		if c >= '0' && c <= '9' {
			digits++
		} else if c != '_' && c != '-' && c != '.' {
			letters++
		}
	}
	return len(seen) >= 12 && digits >= 3 && letters >= 3
}
