package patch

import (
	"bytes"
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

// ends is how a block ends early.
var ends = regexp.MustCompile(`\b(return|throw|panic|exit|abort|fail|die)\b`)

// guarded joins a condition, on however many lines it stands, with the line below it,
// where the early end stands in most styles. code are the lines without comments and texts.
//
// Where wide is set, one line that tells something may stand before the end: what came new
// is taken for a check more readily than what went.
func guarded(code func(n int) string, n, last int, wide bool) string {
	line := strings.TrimRight(code(n), " \t")
	if !conditional.MatchString(line) {
		return line
	}
	for end := n; end < min(n+8, last+1); end++ {
		if end > n {
			line += " " + strings.TrimSpace(code(end))
		}
		if open := strings.Count(line, "(") > strings.Count(line, ")"); open {
			continue
		}
		if strings.HasSuffix(line, "{") || strings.HasSuffix(line, ":") || strings.HasSuffix(line, ")") || strings.HasSuffix(line, "then") {
			line += " " + strings.TrimSpace(code(end+1))
			if wide && strings.Contains(line, "{") && !ends.MatchString(line) && ends.MatchString(code(end+2)) {
				line += " " + strings.TrimSpace(code(end+2))
			}
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

// lead is how a line begins, up to the first parenthesis.
func (h *holds) lead() string {
	lead, _, _ := strings.Cut(h.text, "(")
	return lead
}

// catches is a handler of exceptions.
var catches = regexp.MustCompile(`\b(catch|except|rescue)\b`)

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
		code := codeOnly(t)
		var within *lex.Decl
		function := "" // its name
		for n := 1; n <= t.Lines(); n++ {
			if !t.touched[n] || t.moved[n] || t.kinds[n-1] != lex.Code || len(t.Line(n)) > 2000 {
				continue
			}
			full := code(n)
			if d := t.functionAround(n); d != within {
				within, function = d, ""
				if d != nil {
					function = d.Full()
				}
			}
			lower := strings.ToLower(full)
			handsOver := side == After && t.Lang.Name == "Go" && strings.Contains(full, "return") && handsOn.MatchString(full)
			for k, kind := range lossKinds {
				hands := handsOver && kind.kind != "log"
				if !hands && !slices.ContainsFunc(kind.hints, func(h string) bool { return strings.Contains(lower, h) }) {
					continue
				}
				line := full
				if kind.kind == "guard" {
					line = guarded(code, n, t.Lines(), side == After)
				}
				if hands || kind.pattern.MatchString(line) {
					out[k] = append(out[k], holds{c, n, squeezed([]byte(line)), c.Path + "\x00" + function})
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

// codeOnly gives the lines of a text without comments and with empty literals.
func codeOnly(t *text) func(n int) string {
	plain := *t.Text
	plain.Src = slices.Clone(t.Src)
	for _, k := range t.Tokens {
		if k.Kind == lex.Comment || k.Kind == lex.String {
			for i := k.Start; i < k.End; i++ {
				if plain.Src[i] != '\n' && (k.Kind == lex.Comment || i > k.Start && i < k.End-1) {
					plain.Src[i] = ' '
				}
			}
		}
	}
	return func(n int) string { return string(plain.Line(n)) }
}

// maxCompared is how many pairs of functions, or of tests, are compared to find what has
// another name; beyond, only those of the same file.
const maxCompared = 200_000

// losses are things that went away although nobody asked for it, net of what was moved.
func (w *work) losses() {
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
				mine = w.bodyOf(n.c.before, n.d)
			}
			if other.runs == nil {
				other.runs = w.bodyOf(other.c.after, other.d)
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
		if has[full] || w.asked.name(full) || n.c.Status == Deleted && w.deletedByReference(n.c.Path) || n.c.givenOtherwise(n.d.Name) {
			continue
		}
		if n.d.Kind == lex.Value && !n.d.Exported || n.d.Kind == lex.Type && !n.d.Exported {
			continue
		}
		place := Place{Side: Before, Path: n.c.name(Before), Line: n.d.Line, End: n.d.End}
		switch {
		case n.d.Exported && !hiddenFromOthers(n.c.name(Before)):
			why := "a name that others may use is gone"
			if to := renamed[full]; to != "" {
				why += "; it seems to be called " + to + " now"
			}
			w.found(Finding{Measure: "losses", Kind: "exported-name", Place: place, Text: full, Why: why})
			names++
		case n.d.Kind == lex.Function && renamed[full] == "" && !w.calledNoMore(full, n.d.Name) && !w.movedInto(n.c.before, n.d, after):
			w.found(Finding{Measure: "losses", Kind: "function", Place: place, Text: full, Why: "a whole function is gone"})
			functions++
		}
	}
	stays := w.survivors(renamed)
	left, right := w.inventory(Before), w.inventory(After)
	var caught map[string]int // new handlers of exceptions, by function: each may do what a check did
	told := map[Place]bool{}  // who asks for an error checks as well, and loses one thing
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
		// new one of the same file. What begins alike goes first.
		spare, alike, moved := map[string]int{}, map[string]int{}, map[string]int{}
		for _, h := range right[k] {
			if have[h.in+"\x00"+h.text] > 0 {
				have[h.in+"\x00"+h.text]--
				places := []string{h.in}
				if fresh[h.in[strings.IndexByte(h.in, 0)+1:]] { // a part of an old function that became one of its own
					places = append(places, h.c.Path)
				}
				for _, at := range places {
					spare[at]++
					alike[at+"\x00"+h.lead()]++
				}
				moved[h.text]++
			}
		}
		took := func(from map[string]int, key string) bool {
			from[key]--
			return from[key] >= 0
		}
		missing = slices.DeleteFunc(missing, func(h holds) bool {
			for _, at := range []string{stays[h.in], h.c.Path} {
				if took(alike, at+"\x00"+h.lead()) && took(spare, at) {
					return true
				}
			}
			return false
		})
		looked := 0
		for _, h := range missing {
			if took(spare, stays[h.in]) || took(spare, h.c.Path) || kind.kind == "guard" && took(caught, stays[h.in]) || w.asked.removed[squeezed(h.c.before.Line(h.line))] {
				continue
			}
			if len(h.text) >= leastMoved && moved[h.text] > 0 { // it stands in another function now
				moved[h.text]--
				continue
			}
			looked++
			line := Place{Side: Before, Path: h.c.name(Before), Line: h.line}
			if told[line] {
				continue
			}
			if kind.kind == "log" || looked > maxLooked {
				w.at("losses", kind.kind, h.c, Before, h.line, kind.why)
				continue
			}
			if now, ok := w.functionNow(stays[h.in]); ok && now.to-now.from <= maxSpan &&
				(!w.stillCalled(h, now) || h.askedOtherwise(now) || h.handledStill(now) || h.wentTogether(now) || h.subjectGone(now) || h.protectedGone(now) || h.awaitedNow(now) || h.defaulted(now)) {
				continue
			}
			w.at("losses", kind.kind, h.c, Before, h.line, kind.why)
			told[line] = true
		}
		if kind.kind == "error-handler" {
			caught = spare
			for _, h := range right[k] {
				if !catches.MatchString(h.text) { // who asks for an error asks nothing else with it
					delete(caught, h.in)
				}
			}
		}
	}
	w.unused()
	w.figure("losses", w.count("losses")-w.count("losses", "unused"))
	w.figure("unused", w.count("losses", "unused"))
}

// givesName stands before a name that it declares or brings in.
var givesName = regexp.MustCompile(`^(get|set|static|async|function|def|class|object|fn|func|fun|const|let|var|val|import|as)$`)

// builtInNow are functions that projects of Go had of their own before the language did.
var builtInNow = map[string]bool{"min": true, "max": true, "clear": true}

// givenOtherwise tells whether what a file declared is declared there in another way now:
// as a property, a value, a method of something else, an import.
func (c *change) givenOtherwise(name string) bool {
	if c.after == nil {
		return false
	}
	if c.given == nil {
		c.given = c.after.gives(c.lang)
	}
	return c.given[name]
}

// gives are the names that a text declares, and that its touched lines give in another way.
func (t *text) gives(lang *lex.Language) map[string]bool {
	out := map[string]bool{}
	for _, d := range t.decls {
		out[d.Name] = true
	}
	script := lang.Name == "JavaScript" || lang.Name == "TypeScript"
	line, brings := int32(0), false // whether the line is an import
	for i, k := range t.Tokens {
		if k.Kind != lex.Word {
			continue
		}
		if k.Line != line {
			line, brings = k.Line, t.touched[int(k.Line)] && importLine.Match(t.Line(int(k.Line)))
		}
		name := t.Word(i)
		if lang.Name == "Go" && builtInNow[name] {
			out[name] = true
		}
		if !t.touched[int(k.Line)] || out[name] {
			continue
		}
		property := script && t.Is(i+1, ":") && (t.Is(i+2, "(") || t.Word(i+2) == "function" || t.Word(i+2) == "async" || t.Is(i+3, "=") && t.Is(i+4, ">"))
		value := (k.First || t.Is(i-1, ".")) && t.Is(i+1, "=") && !t.Is(i+2, "=")
		if property || value || givesName.MatchString(t.Word(i-1)) || brings {
			out[name] = true
		}
	}
	return out
}

// calledNoMore tells whether a lost function that nobody may use from outside was called
// in the changed files before and is not now: its work went elsewhere.
func (w *work) calledNoMore(full, name string) bool {
	return w.mentioned(Before)[name] > 1 && w.mentioned(After)[name] == 0
}

// named is a declaration in a changed file.
type named struct {
	c *change
	d lex.Decl
}

// movedInto tells whether the body of a function that is gone stands in another one now.
func (w *work) movedInto(t *text, d lex.Decl, after []named) bool {
	mine := w.bodyOf(t, d)
	total := 0
	for _, n := range mine {
		total += n
	}
	if total < minMovedRuns {
		return false
	}
	for i, other := range after {
		if i >= maxMovedInto {
			break
		}
		if other.d.Kind != lex.Function || !touches(other.c.after, other.d.Line, other.d.End) || other.d.To-other.d.Body < d.To-d.Body {
			continue
		}
		theirs, common := w.bodyOf(other.c.after, other.d), 0
		for run, n := range mine {
			common += min(n, theirs[run])
		}
		if float64(common) >= 0.7*float64(total) {
			return true
		}
	}
	return false
}

// A body of fewer runs stands anywhere by chance; more functions are not looked through.
const (
	minMovedRuns = 6
	maxMovedInto = 2000
)

// mentioned is how often each word stands in the code of a side, in literals too.
func (w *work) mentioned(side Side) map[string]int {
	at := 0
	if side == After {
		at = 1
	}
	if w.words[at] != nil {
		return w.words[at]
	}
	out := map[string]int{}
	for _, c := range w.files {
		t := c.before
		if side == After {
			t = c.after
		}
		if t == nil {
			continue
		}
		for _, k := range t.Tokens {
			switch k.Kind {
			case lex.Word:
				out[string(t.Of(k))]++
			case lex.String:
				for part := range bytes.FieldsFuncSeq(t.Of(k), notOfWord) {
					out[string(part)]++
				}
			}
		}
	}
	w.words[at] = out
	return out
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
func (w *work) bodyOf(t *text, d lex.Decl) map[uint64]int {
	out := map[uint64]int{}
	if !w.afford(d.To - d.Body) {
		return out
	}
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
		reach := 0 // how far the declarations before go
		for _, d := range c.after.decls {
			inside := reach > d.From
			if d.Kind != lex.Value {
				reach = max(reach, d.To)
			}
			if d.Kind != lex.Function || d.Exported || d.Owner != "" || had[d.Name] || !c.after.touched[d.Line] || c.after.moved[d.Line] || entryPoint.MatchString(d.Name) || w.asked.words[d.Name] ||
				inside || c.after.decorated(d) {
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
				for part := range bytes.FieldsFuncSeq(c.after.Of(k), notOfWord) {
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

func notOfWord(r rune) bool {
	return r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
}

// decorated tells whether the line above a declaration is an annotation: something calls it by that.
func (t *text) decorated(d lex.Decl) bool {
	above := bytes.TrimSpace(t.Line(d.Line - 1))
	return bytes.HasPrefix(above, []byte("@")) || bytes.HasPrefix(above, []byte("#[")) || bytes.HasPrefix(above, []byte("//go:")) || bytes.HasPrefix(above, []byte("//export"))
}
