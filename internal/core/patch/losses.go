package patch

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/lex"
)

// lossKind is something that may be lost in a line, by how it reads.
type lossKind struct {
	kind string
	// hints are words of which a line holds one, in small letters, where the pattern fits:
	// they are much faster to look for.
	hints   []string
	pattern *regexp.Regexp
	why     string
}

var lossKinds = []lossKind{
	{"error-handler", []string{"catch", "except", "rescue", "!= nil", "!=nil", "err(", "onerror", "recover()", "||", "set -e"}, regexp.MustCompile(`\b(catch|except|rescue)\b|\b\w*[eE]rr(or)?\s*!=\s*nil\b|\.catch\(|\brecover\(\)|\.on_?[eE]rror\s*=[^=]|\bif let Err\(|=> Err\(|\bErr\(\w+\)\s*=>|\|\|\s*(exit|die|return|fail)\b|\bset -e\b`), "an error is not handled any more"},
	{"guard", []string{"if ", "if(", "unless", "guard", "assert", "ensure", "precondition", "nonnull"}, regexp.MustCompile(`^\s*(\}\s*else\s+)?(if|unless|guard)\b.*\b(return\s*;?\s*\}?$|return\s*\(?((nil|null|None|undefined|false|False)\b|-1|-E[A-Z]+|[\w.]*[eE]rr\w*|fmt\.Errorf|[\w.]*Err(or)?\w*\(|(\w+|""|\w+\{\}),\s*([\w.]*[eE]rr\w*|fmt\.|false\b|nil\b))|(throw|raise|panic|exit|abort|fail|die)\b)|^\s*(assert|ensure|precondition|Preconditions|requireNonNull|Objects\.requireNonNull)\w*!?\s*[.(]|^\s*assert\s+\S|\b(raise|throw)\b.*\b(if|unless)\b|\breturn\s*(nil|false)?\s+(if|unless)\b`), "a check is gone"},
	{"log", []string{"log", "metric", "counter", "histogram", "gauge", "stats", "debug!", "info!", "warn!", "trace!"}, regexp.MustCompile(`(?i)\b(log|logger|logging|slog|klog|glog|zap|logr)\w*\.\w*(debug|info|warn|warning|error|fatal|trace|print|printf|println|log)\w*\(|\b(metrics?|counter|histogram|gauge|stats|statsd)\w*\.\w*(inc|add|observe|count|record|set|timing|gauge|increment|measure)\w*\(|\b(debug|info|warn|error|trace)!\(`), "a line that logs or counts is gone"},
}

// conditional begins a condition.
var conditional = regexp.MustCompile(`^\s*(\}\s*else\s+)?(if|unless|guard)\b`)

// guarded joins a condition, on however many lines it stands, with the line below it,
// where the early end stands in most styles. code are the lines without comments and texts.
func guarded(code []string, n int) string {
	line := strings.TrimRight(code[n], " \t")
	if !conditional.MatchString(line) {
		return line
	}
	for end := n; end < min(n+8, len(code)-1); end++ {
		if end > n {
			line += " " + strings.TrimSpace(code[end])
		}
		if open := strings.Count(line, "(") > strings.Count(line, ")"); open {
			continue
		}
		if strings.HasSuffix(line, "{") || strings.HasSuffix(line, ":") || strings.HasSuffix(line, ")") || strings.HasSuffix(line, "then") {
			line += " " + strings.TrimSpace(code[end+1])
		}
		break
	}
	return line
}

// holds is a line with something that can be lost.
type holds struct {
	c    *change
	line int
	text string
	in   string // the file and the function around it, with a NUL between
}

// inventory lists for each of the kinds the lines of it that the change takes away or
// adds; what it moved, and what stays, is neither lost nor new.
func (w *work) inventory(side Side) [][]holds {
	out := make([][]holds, len(lossKinds))
	for _, c := range w.files {
		t := c.after
		if side == Before {
			t = c.before
		}
		if t == nil || c.class != ClassCode || len(t.touched) == 0 {
			continue
		}
		around := make([]string, t.Lines()+2)
		for _, d := range t.decls {
			if d.Kind == lex.Function || d.Kind == lex.Case {
				for n := d.Line; n <= min(d.End, t.Lines()); n++ {
					around[n] = d.Full()
				}
			}
		}
		code := codeOnly(t)
		for n := 1; n <= t.Lines(); n++ {
			if !t.touched[n] || t.moved[n] || t.kinds[n-1] != lex.Code || len(code[n]) > 2000 {
				continue
			}
			lower := strings.ToLower(code[n])
			for k, kind := range lossKinds {
				hands := side == After && kind.kind != "log" && t.Lang.Name == "Go" && handsOn.MatchString(code[n])
				if !hands && !slices.ContainsFunc(kind.hints, func(h string) bool { return strings.Contains(lower, h) }) {
					continue
				}
				line := code[n]
				if kind.kind == "guard" {
					line = guarded(code, n)
				}
				if hands || kind.pattern.MatchString(line) {
					out[k] = append(out[k], holds{c, n, squeezed([]byte(line)), c.Path + "\x00" + around[n]})
				}
			}
		}
	}
	return out
}

// handsOn ends a function with what a call returns: the error is the caller's then.
var handsOn = regexp.MustCompile(`^\s*return\b.*\w\(`)

// survivors tells for each function of the start, by path and name, which function of the
// result it is now: that of the same name in the same file, or the one that it seems to be
// called now. Code outside of functions survives with its file.
func (w *work) survivors(renamed map[string]string) map[string]string {
	out := map[string]string{}
	for _, c := range w.files {
		if c.before == nil || c.after == nil {
			continue
		}
		out[c.Path+"\x00"] = c.Path + "\x00"
		here := map[string]bool{}
		for _, d := range c.after.decls {
			here[d.Full()] = true
		}
		for _, d := range c.before.decls {
			if now := d.Full(); here[now] || here[renamed[now]] {
				if !here[now] {
					now = renamed[now]
				}
				out[c.Path+"\x00"+d.Full()] = c.Path + "\x00" + now
			}
		}
	}
	return out
}

// maxLooked is how many missing handlers, or checks, of a change are looked for in other
// words, and maxSpan how long the function may be, in tokens, in which they are: who
// loses more has lost them. maxAsked is the like for tests that are left out.
const (
	maxLooked = 500
	maxSpan   = 50_000
	maxAsked  = 2000
)

// leastMoved is how long a line's text must be, in bytes, to be known again elsewhere.
const leastMoved = 24

// stillCalled tells whether the function that a handler or a check stood in still calls
// something of what stood right above it: else both went together. In Go, where nothing
// is called above, it tells whether the same words are gone from the function.
func (w *work) stillCalled(h holds, now span) bool {
	t := h.c.before
	above, last := 8, h.line-1 // what its own line calls is how it ends
	if t.Lang.Name == "Go" {
		above, last = 1, h.line
	}
	calls := t.callsIn(h.line-above, last)
	if len(calls) > 0 {
		for j := now.from; j < now.to; j++ {
			if calls[now.t.Word(j)] && (now.t.Is(j+1, "(") || now.from == 0 && now.to == len(now.t.Tokens)) {
				return true
			}
		}
		return false
	}
	if t.Lang.Name != "Go" || now.from >= now.to {
		return true
	}
	if types := t.asserted(h.line - 1); len(types) > 0 && t.touched[h.line-1] {
		return now.names(types)
	}
	same := squeezed(t.Line(h.line))
	for n := int(now.t.Tokens[now.from].Line); n <= int(now.t.Tokens[now.to-1].Line); n++ {
		if squeezed(now.t.Line(n)) == same {
			return false
		}
	}
	return true
}

// codeOnly are the lines of a text without comments and with empty literals; index 1 is line 1.
func codeOnly(t *text) []string {
	out := make([]string, t.Lines()+2)
	src := slices.Clone(t.Src)
	for _, k := range t.Tokens {
		if k.Kind == lex.Comment || k.Kind == lex.String {
			for i := k.Start; i < k.End; i++ {
				if src[i] != '\n' && (k.Kind == lex.Comment || i > k.Start && i < k.End-1) {
					src[i] = ' '
				}
			}
		}
	}
	for i, line := range bytes.Split(src, []byte{'\n'}) {
		if i+1 < len(out) {
			out[i+1] = string(line)
		}
	}
	return out
}

// maxCompared is how many pairs of functions, or of tests, are compared to find what has
// another name; beyond, only those of the same file.
const maxCompared = 200_000

// losses are things that went away although nobody asked for it, net of what was moved.
func (w *work) losses() {
	type named struct {
		c *change
		d lex.Decl
	}
	list := func(side Side) (out []named) {
		for _, c := range w.files {
			t := c.after
			if side == Before {
				t = c.before
			}
			if t == nil || c.class != ClassCode || strings.HasSuffix(c.Path, ".d.ts") { // declarations follow the code
				continue
			}
			for _, d := range t.decls {
				if d.Name != "" && d.Kind != lex.Extension {
					out = append(out, named{c, d})
				}
			}
		}
		return out
	}
	before, after := list(Before), list(After)
	has := map[string]bool{}
	for _, n := range after {
		has[n.d.Full()] = true
	}
	had := map[string]bool{}
	for _, n := range before {
		had[n.d.Full()] = true
	}
	// A function that is gone while one much like it is new was renamed.
	renamed, fresh := map[string]string{}, map[string]bool{}
	type body struct {
		named
		name  string
		runs  map[uint64]int
		taken bool
	}
	var fresher []*body
	compared := 0
	for _, n := range after {
		if full := n.d.Full(); n.d.Kind == lex.Function && !had[full] {
			fresh[full] = true
			fresher = append(fresher, &body{named: n, name: full})
		}
	}
	for _, n := range before {
		if n.d.Kind != lex.Function || has[n.d.Full()] {
			continue
		}
		var mine map[uint64]int
		size := n.d.To - n.d.Body
		for _, other := range fresher {
			if compared++; compared > maxCompared && other.c != n.c {
				continue // so many functions are renamed by no change that a person reads
			}
			if theirs := other.d.To - other.d.Body; other.taken || size > 3*theirs+shingle || theirs > 3*size+shingle {
				continue // too different in size to be alike
			}
			if mine == nil {
				mine = bodyOf(n.c.before, n.d)
			}
			if other.runs == nil {
				other.runs = bodyOf(other.c.after, other.d)
			}
			sameName := other.c == n.c && other.d.Name == n.d.Name // a method that became a function, or another's
			if sameName || likeness(mine, other.runs) >= 0.6 {
				renamed[n.d.Full()], other.taken = other.name, true
				break
			}
		}
	}
	functions, names := 0, 0
	for _, n := range before {
		full := n.d.Full()
		if has[full] || w.asked.name(full) || n.c.Status == Deleted && w.deletedByReference(n.c.Path) {
			continue
		}
		if n.d.Kind == lex.Value && !n.d.Exported || n.d.Kind == lex.Type && !n.d.Exported {
			continue
		}
		place := Place{Side: Before, Path: n.c.name(Before), Line: n.d.Line, End: n.d.End}
		switch {
		case n.d.Exported:
			why := "a name that others may use is gone"
			if to := renamed[full]; to != "" {
				why += "; it seems to be called " + to + " now"
			}
			w.found(Finding{Measure: "losses", Kind: "exported-name", Place: place, Text: full, Why: why})
			names++
		case n.d.Kind == lex.Function && renamed[full] == "" && !w.calledNoMore(full, n.d.Name):
			w.found(Finding{Measure: "losses", Kind: "function", Place: place, Text: full, Why: "a whole function is gone"})
			functions++
		}
	}
	stays := w.survivors(renamed)
	left, right := w.inventory(Before), w.inventory(After)
	for k, kind := range lossKinds {
		have := map[string]int{} // by function and text
		for _, h := range right[k] {
			have[h.in+"\x00"+h.text]++
		}
		var missing []holds
		for _, h := range left[k] {
			in, ok := stays[h.in]
			if !ok {
				continue // all of its function is gone, which is told already
			}
			if have[in+"\x00"+h.text] > 0 {
				have[in+"\x00"+h.text]--
				continue
			}
			missing = append(missing, h)
		}
		// What came new in the place of what went is no loss: in the same function, or in a
		// new one of the same file.
		spare, moved := map[string]int{}, map[string]int{}
		for _, h := range right[k] {
			if have[h.in+"\x00"+h.text] > 0 {
				have[h.in+"\x00"+h.text]--
				spare[h.in]++
				moved[h.text]++
				if fresh[h.in[strings.IndexByte(h.in, 0)+1:]] { // a part of an old function that became one of its own
					spare[h.c.Path]++
				}
			}
		}
		took := func(key string) bool {
			spare[key]--
			return spare[key] >= 0
		}
		looked := 0
		for _, h := range missing {
			if took(stays[h.in]) || took(h.c.Path) || w.asked.removed[squeezed(h.c.before.Line(h.line))] {
				continue
			}
			if len(h.text) >= leastMoved && moved[h.text] > 0 { // it stands in another function now
				moved[h.text]--
				continue
			}
			looked++
			if now, ok := w.functionNow(stays[h.in]); ok && kind.kind != "log" && looked <= maxLooked && now.to-now.from <= maxSpan &&
				(!w.stillCalled(h, now) || h.askedOtherwise(now) || h.handledStill(now) || h.wentTogether(now) || h.subjectGone(now) || h.protectedGone(now)) {
				continue
			}
			w.at("losses", kind.kind, h.c, Before, h.line, kind.why)
		}
	}
	w.unused()
	w.figure("losses", w.count("losses")-w.count("losses", "unused"))
	w.figure("unused", w.count("losses", "unused"))
}

// calledNoMore tells whether a lost function that nobody may use from outside was called
// in the changed files before and is not now: its work went elsewhere.
func (w *work) calledNoMore(full, name string) bool {
	before, after := 0, 0
	for _, c := range w.files {
		before += mentions(c.before, name)
		after += mentions(c.after, name)
	}
	return before > 1 && after == 0
}

func mentions(t *text, name string) int {
	n := 0
	if t == nil {
		return 0
	}
	for _, k := range t.Tokens {
		switch k.Kind {
		case lex.Word:
			if int(k.End-k.Start) == len(name) && string(t.Of(k)) == name {
				n++
			}
		case lex.String:
			if bytes.Contains(t.Of(k), []byte(name)) {
				n++
			}
		}
	}
	return n
}

func (w *work) deletedByReference(name string) bool {
	for _, files := range w.asked.refs {
		if slices.ContainsFunc(files, func(c *change) bool { return c.Path == name && c.Status == Deleted }) {
			return true
		}
	}
	return false
}

// bodyOf are the runs of four tokens of a declaration's body, counted.
func bodyOf(t *text, d lex.Decl) map[uint64]int {
	out := map[uint64]int{}
	var run tokenRun
	for _, k := range t.Tokens[d.Body:d.To] {
		if k.Kind != lex.Comment && run.add(t.Of(k)) {
			out[run.sum()]++
		}
	}
	return out
}

// tokenRun is the last four tokens, by their hashes.
type tokenRun struct {
	last [shingle]uint64
	n    int
}

// add takes a token in, and tells whether there are four.
func (r *tokenRun) add(token []byte) bool {
	const offset, prime = 14695981039346656037, 1099511628211 // FNV-1a
	var h uint64 = offset
	for _, c := range token {
		h = (h ^ uint64(c)) * prime
	}
	copy(r.last[:], r.last[1:])
	r.last[shingle-1] = h
	r.n++
	return r.n >= shingle
}

func (r *tokenRun) sum() uint64 {
	var h uint64
	for _, one := range r.last {
		h = h*0x9E3779B97F4A7C15 + one
	}
	return h
}

var entryPoint = regexp.MustCompile(`^(main|init|setup|teardown|setUp|tearDown|constructor|run|handler|default|_|__\w+__|[a-z_]*test\w*|Test\w*)$`)

// unused are functions that the change adds, that no other package may use, and that no
// changed file names again. Files that were not changed cannot know them.
func (w *work) unused() {
	had := map[string]bool{}
	for _, c := range w.files {
		if c.before != nil {
			for _, d := range c.before.decls {
				had[d.Name] = true
			}
		}
	}
	type candidate struct {
		c *change
		d lex.Decl
	}
	var candidates []candidate
	seen := map[string]int{} // how often each candidate's name stands in the changed files
	for _, c := range w.files {
		if c.after == nil || c.class != ClassCode || c.lang.Blocks == lex.NoBlocks || c.lang.Name == "Shell" || c.lang.Name == "C" && c.before == nil {
			continue
		}
		for i, d := range c.after.decls {
			if d.Kind != lex.Function || d.Exported || d.Owner != "" || had[d.Name] || !c.after.touched[d.Line] || c.after.moved[d.Line] || entryPoint.MatchString(d.Name) || w.asked.words[d.Name] ||
				inside(c.after.decls, i) || c.after.decorated(d) {
				continue
			}
			candidates = append(candidates, candidate{c, d})
			seen[d.Name] = 0
		}
	}
	if len(candidates) == 0 {
		return
	}
	for _, c := range w.files {
		if c.after == nil {
			continue
		}
		for _, k := range c.after.Tokens {
			switch k.Kind {
			case lex.Word:
				if n, is := seen[string(c.after.Of(k))]; is {
					seen[string(c.after.Of(k))] = n + 1
				}
			case lex.String: // where things are called by their names
				for _, part := range aWord.FindAll(c.after.Of(k), -1) {
					if n, is := seen[string(part)]; is {
						seen[string(part)] = n + 1
					}
				}
			}
		}
	}
	for _, one := range candidates {
		if seen[one.d.Name] == 1 {
			w.found(Finding{Measure: "losses", Kind: "unused", Place: Place{Side: After, Path: one.c.Path, Line: one.d.Line, End: one.d.End}, Text: one.d.Name, Why: "added, and nothing in the change uses it"})
		}
	}
}

var aWord = regexp.MustCompile(`\w+`)

// inside tells whether a declaration lies within another.
func inside(all []lex.Decl, i int) bool {
	for j := range all[:i] {
		if all[j].To > all[i].From && all[j].Kind != lex.Value {
			return true
		}
	}
	return false
}

// decorated tells whether the line above a declaration is an annotation: something calls it by that.
func (t *text) decorated(d lex.Decl) bool {
	above := bytes.TrimSpace(t.Line(d.Line - 1))
	return bytes.HasPrefix(above, []byte("@")) || bytes.HasPrefix(above, []byte("#[")) || bytes.HasPrefix(above, []byte("//go:")) || bytes.HasPrefix(above, []byte("//export"))
}

var (
	assertion = regexp.MustCompile(`^(assert\w*|require\w*|expect\w*|should\w*|must\w*|Equal\w*|NotEqual\w*|Error\w*|Errorf|Fatal|Fatalf|Fail|ASSERT_\w+|EXPECT_\w+|CHECK\w*|deepEqual|strictEqual|deepStrictEqual|rejects|throws)$`)
	loose     = regexp.MustCompile(`^(NotNil|NotEmpty|NotZero|Contains|Subset|True|assertTrue|assertIsNotNone|assertIn|assertNotNull|toBeDefined|toBeTruthy|toBeFalsy|toContain|toMatch|ok|Ok|be_truthy|be_present|include)$`)
	strict    = regexp.MustCompile(`^(Equal|Equalf|JSONEq|Len|EqualError|ErrorIs|assertEqual|assertEquals|assertListEqual|toBe|toEqual|toStrictEqual|toHaveLength|strictEqual|deepEqual|deepStrictEqual|eq|eql|assert_eq|assertSame|assertArrayEquals|ASSERT_EQ|EXPECT_EQ)$`)
	compares  = regexp.MustCompile(`^(bytes|reflect|slices|maps|strings|proto|cmp|errors)$`)
	truth     = regexp.MustCompile(`^([tT]rue|[fF]alse|None|nil|null|undefined)$`)
	helper    = regexp.MustCompile(`^(want|check|verify|ensure|validate|test)[A-Z_]?\w*$`) // a project's own
	skipWords = regexp.MustCompile(`^(Skip|Skipf|SkipNow|skip|skipTest|pending|xit|xtest|todo|ignore|Ignore|Disabled|only)$`)
)

// caseOf is a test with what counts in it.
type caseOf struct {
	c *change
	t *text
	d lex.Decl
	counts
	// helped is what functions do that it calls and that this side alone has.
	helped counts
	runs   map[uint64]int // of its body, once it was needed
}

// counts are what a stretch of a test does.
type counts struct{ asserts, strict, loose, skips int }

func (w *work) cases(side Side) map[string]*caseOf {
	type helping struct {
		t *text
		d lex.Decl
	}
	out, helpers := map[string]*caseOf{}, map[string]helping{}
	var all []*caseOf
	elsewhere := map[string]bool{} // what the other side has too
	for _, c := range w.files {
		t, other := c.after, c.before
		if side == Before {
			t, other = other, t
		}
		if other != nil {
			for _, d := range other.decls {
				elsewhere[d.Name] = true
			}
		}
		if t == nil || c.class != ClassTest && !hasCases(t) {
			continue
		}
		for _, d := range t.decls {
			switch d.Kind {
			case lex.Function:
				helpers[d.Name] = helping{t, d}
			case lex.Case:
				one := &caseOf{c: c, t: t, d: d, counts: t.countsIn(d)}
				key := c.name(side) + "\x00" + d.Full()
				for n := 2; out[key] != nil; n++ {
					key = fmt.Sprintf("%s\x00%s\x00%d", c.name(side), d.Full(), n)
				}
				out[key] = one
				all = append(all, one)
			}
		}
	}
	for name := range elsewhere {
		delete(helpers, name)
	}
	// What a test leaves to functions that are new is not lost.
	calledBy := func(t *text, d lex.Decl) (names []string) {
		had := map[string]bool{d.Name: true}
		for i := d.Body; i < d.To && len(names) < maxHelpers; i++ {
			if name := t.Word(i); !had[name] {
				if _, is := helpers[name]; is {
					names = append(names, name)
					had[name] = true
				}
			}
		}
		return names
	}
	type done struct {
		counts
		calls []string
	}
	known := map[string]done{}
	for _, one := range all {
		seen := map[string]bool{}
		for next := calledBy(one.t, one.d); len(next) > 0 && len(seen) < maxHelpers; next = next[1:] {
			name := next[0]
			if seen[name] {
				continue
			}
			seen[name] = true
			n, counted := known[name]
			if !counted {
				h := helpers[name]
				n = done{h.t.countsIn(h.d), calledBy(h.t, h.d)}
				known[name] = n
			}
			one.helped.asserts, one.helped.strict, one.helped.loose = one.helped.asserts+n.asserts, one.helped.strict+n.strict, one.helped.loose+n.loose
			next = append(next, n.calls...)
		}
	}
	return out
}

// maxHelpers is how many functions are followed from one test.
const maxHelpers = 32

// countsIn counts what a test, or a function that tests call, does.
func (t *text) countsIn(d lex.Decl) (out counts) {
	for i := d.From; i < d.To; i++ {
		word := t.Word(i)
		switch {
		case word == "":
			if t.Lang.Name == "Rust" && t.Is(i, "!") {
				continue
			}
		case i > d.From+1 && t.Is(i-1, ".") && (assertion.MatchString(t.Word(i-2)) || compares.MatchString(t.Word(i-2))):
			// the word before counts already, or the call only compares
		case (assertion.MatchString(word) || helper.MatchString(word) && t.Is(i+1, "(")) && (t.Is(i+1, "(") || t.Is(i+1, ".") || t.Is(i+1, "!") || t.Lang.Name == "Python" || t.Lang.Name == "Ruby"):
			out.asserts++
		case i > d.Body && t.Lang.Name == "Go" && t.Is(i+1, "(") && (t.Word(i+2) == "t" || t.Word(i+2) == "tb") && (t.Is(i+3, ",") || t.Is(i+3, ")")):
			out.asserts++ // what is handed the test may fail it
		}
		if strict.MatchString(word) && !comparesTruth(t, i, d.To) {
			out.strict++
		}
		if loose.MatchString(word) {
			out.loose++
		}
		if i > d.From && skipWords.MatchString(word) && (t.Is(i+1, "(") || t.Lang.Name == "Ruby") && !t.onlyIf(i) {
			out.skips++
		}
	}
	if d.Skipped {
		out.skips++
	}
	return out
}

var onCondition = regexp.MustCompile(`^(if|elif|elsif|else|unless|switch|case|match|when|except|catch)$`)

// onlyIf tells whether a token stands under a condition: in its line, or around its
// block. A text with very many of them is not looked at for ever.
func (t *text) onlyIf(i int) bool {
	if t.asked++; t.asked > maxAsked {
		return false
	}
	line := int(t.Tokens[i].Line)
	lines := []int{line}
	if first, _, ok := t.blockAround(line); ok {
		lines = append(lines, first)
	}
	for _, n := range lines {
		from, to := t.tokensOf(n, n)
		for ; from < to; from++ {
			if onCondition.MatchString(t.Word(from)) {
				return true
			}
		}
	}
	return false
}

// comparesTruth tells whether an assertion of equality is one with true, false or nothing:
// a looser form says the same.
func comparesTruth(t *text, i, end int) bool {
	depth := 0
	for j := i + 1; j < min(end, i+40); j++ {
		switch {
		case t.Is(j, "("):
			depth++
		case t.Is(j, ")"):
			if depth--; depth <= 0 {
				return false
			}
		case depth == 1 && truth.MatchString(t.Word(j)) && (t.Is(j-1, ",") || t.Is(j-1, "(")) && (t.Is(j+1, ",") || t.Is(j+1, ")")):
			return true
		}
	}
	return false
}

func hasCases(t *text) bool {
	return slices.ContainsFunc(t.decls, func(d lex.Decl) bool { return d.Kind == lex.Case })
}

// tests are cases that were added, removed, changed, skipped or weakened, and what of
// the change the tests execute.
func (w *work) tests() {
	before, after := w.cases(Before), w.cases(After)
	note := func(kind string, c *caseOf, side Side, why string) {
		w.found(Finding{Measure: "tests", Kind: kind, Place: Place{Side: side, Path: c.c.name(side), Line: c.d.Line, End: c.d.End}, Text: c.d.Full(), Why: why})
	}
	rename := func(key string) string { // the key that a file had before
		name, rest, _ := strings.Cut(key, "\x00")
		for _, c := range w.files {
			if c.Path == name && c.OldPath != "" {
				return c.OldPath + "\x00" + rest
			}
		}
		return key
	}
	// A case that is gone while one much like it is new was renamed or moved.
	var lone []*caseOf
	matched := map[string]*caseOf{}
	for _, key := range sortedKeys(after) {
		if was := before[rename(key)]; was != nil {
			matched[rename(key)] = after[key]
			continue
		}
		lone = append(lone, after[key])
	}
	changed, compared := 0, 0
	var others places
	for _, key := range sortedKeys(before) {
		was := before[key]
		now := matched[key]
		if now == nil {
			mine := bodyOf(was.t, was.d)
			for i, other := range lone {
				if compared++; other == nil || compared > maxCompared && other.c != was.c {
					continue
				}
				if other.runs == nil {
					other.runs = bodyOf(other.t, other.d)
				}
				if likeness(mine, other.runs) >= 0.6 || other.d.Full() == was.d.Full() {
					now, lone[i] = other, nil
					break
				}
			}
		}
		if now == nil {
			if !w.asked.name(was.d.Full()) {
				note("removed", was, Before, "a test is gone")
			}
			continue
		}
		if likeness(bodyOf(was.t, was.d), bodyOf(now.t, now.d)) < 1 || was.skips != now.skips {
			changed++
			others.decl(After, now.c.Path, now.d)
		}
		switch {
		case now.skips > was.skips:
			note("skipped", now, After, "a test is left out now")
		case now.asserts < was.asserts && now.asserts+now.helped.asserts < was.asserts+was.helped.asserts:
			note("weakened", now, After, fmt.Sprintf("it had %d assertions and has %d", was.asserts, now.asserts))
		case now.strict < was.strict && now.loose > was.loose && now.asserts <= was.asserts && now.strict+now.helped.strict < was.strict+was.helped.strict:
			note("weakened", now, After, "an assertion of equality became a looser one")
		}
	}
	for _, one := range lone {
		if one != nil {
			kind, why := "added", "a new test"
			if one.skips > 0 {
				kind, why = "skipped", "a new test that is left out"
			}
			note(kind, one, After, why)
		}
	}
	w.figure("tests_added", w.count("tests", "added"))
	w.figure("tests_removed", w.count("tests", "removed"))
	w.figureAt("tests_changed", float64(changed), others)
	w.figure("tests_skipped", w.count("tests", "skipped"))
	w.figure("tests_weakened", w.count("tests", "weakened"))
	w.coverage()
}

// coverage is the share of added and changed lines of code that the tests execute.
func (w *work) coverage() {
	if w.in.Covered == nil {
		w.absent("covered_share", "no check wrote which lines were executed")
		return
	}
	known, hit := 0, 0
	for _, c := range w.files {
		if c.after == nil || c.class != ClassCode {
			continue
		}
		lines := w.in.Covered.Lines(c.Path)
		if lines == nil {
			continue
		}
		first := 0
		flush := func(end int) {
			if first > 0 {
				f := Finding{Measure: "tests", Kind: "not-executed", Place: Place{Side: After, Path: c.Path, Line: first}, Text: string(c.after.Line(first)), Why: "no test of the project executes it"}
				if end > first {
					f.End = end
				}
				w.found(f)
			}
			first = 0
		}
		last := 0
		for n := 1; n <= c.after.Lines(); n++ {
			count, there := lines[n]
			if !there || !c.after.touched[n] || c.after.moved[n] || c.after.kinds[n-1] != lex.Code {
				continue
			}
			known++
			if count > 0 {
				hit++
				flush(last)
				continue
			}
			if first == 0 || n > last+1 {
				flush(last)
				first = n
			}
			last = n
		}
		flush(last)
	}
	if known == 0 {
		w.absent("covered_share", "no changed line of code is one that the tests' coverage knows")
		return
	}
	w.figure("covered_share", float64(hit)/float64(known))
}
