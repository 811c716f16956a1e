package patch

import (
	"bytes"
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/lex"
)

// A handler or a check that is not there any more in its words may still be done: put
// otherwise, moved with the code around it, or gone together with it. What is left after
// all of that is a loss.

// span is a stretch of tokens of a text.
type span struct {
	t        *text
	from, to int
}

// functionNow is a function of the result, by path and name with a NUL between; a file as
// a whole where the name is empty.
func (w *work) functionNow(in string) (span, bool) {
	name, function, _ := strings.Cut(in, "\x00")
	for _, c := range w.files {
		if c.Path != name || c.after == nil {
			continue
		}
		if function == "" {
			return span{c.after, 0, len(c.after.Tokens)}, true
		}
		for _, d := range c.after.decls {
			if d.Full() == function {
				return span{c.after, d.From, d.To}, true
			}
		}
	}
	return span{}, false
}

// tokensOf are the tokens of some lines.
func (t *text) tokensOf(first, last int) (from, to int) {
	at := func(n int) int {
		i, _ := slices.BinarySearchFunc(t.Tokens, int32(n), func(k lex.Token, line int32) int { return cmp.Compare(k.Line, line) })
		return i
	}
	return at(first), at(last + 1)
}

// plainWords are words that say nothing of what a condition is about.
var plainWords = map[string]bool{"self": true, "this": true, "nil": true, "null": true, "None": true, "undefined": true, "true": true, "false": true, "True": true, "False": true, "len": true, "not": true, "and": true, "or": true, "is": true, "in": true}

// condition begins at a token that asks something: its words, whether it is turned round
// by a negation, and the token behind it. It ends where its block begins.
func (s span) condition(i int) (words map[string]bool, negations, end int) {
	t, words := s.t, map[string]bool{}
	line, depth := t.Tokens[i].Line, 0
	for end = i + 1; end < min(s.to, i+120); end++ {
		k := t.Tokens[end]
		switch {
		case t.Is(end, "(") || t.Is(end, "["):
			depth++
		case t.Is(end, ")") || t.Is(end, "]"):
			depth--
		}
		if depth <= 0 && (t.Is(end, "{") || t.Is(end, ":") && t.Lang.Blocks == lex.Indented || t.Is(end, "then")) || depth < 0 || k.Line > line+8 || leaves.MatchString(t.Word(end)) {
			break
		}
		if depth == 0 && k.Line > line && t.Lang.Blocks == lex.Ended {
			break
		}
		switch word := t.Word(end); {
		case t.Is(end, "!") || word == "not":
			negations++
		case word != "" && !plainWords[word] && !t.Lang.Keyword([]byte(word)):
			words[word] = true
		}
	}
	return words, negations, end
}

var (
	asks = regexp.MustCompile(`^(if|elif|elsif|unless|while|switch|match|when|guard|assert|require|ensure)$`)
	// leaves ends a function, a round of a loop or the program early.
	leaves = regexp.MustCompile(`^(return|throw|raise|panic|break|continue|exit|abort|die|fail|fatal|Fatal|reject|goto)$`)
)

// lineOf is the first token of a token's line.
func (s span) lineOf(i int) int {
	for i > s.from && s.t.Tokens[i-1].Line == s.t.Tokens[i].Line {
		i--
	}
	return i
}

// leavesSoon tells whether something is left early within a few lines behind a token.
func (s span) leavesSoon(i int) bool {
	if i >= s.to {
		return false
	}
	last := s.t.Tokens[i].Line + 12
	for ; i < s.to && s.t.Tokens[i].Line <= last; i++ {
		if leaves.MatchString(s.t.Word(i)) {
			return true
		}
	}
	return false
}

// question is the condition of a lost line: its stretch of tokens, its words, and how often
// it is turned round. The stretch is empty where the line asks nothing.
func (h *holds) question() (from int, words map[string]bool, negations, end int) {
	t := h.c.before
	from, to := t.tokensOf(h.line, h.line)
	for from < to && !asks.MatchString(t.Word(from)) {
		from++
	}
	if from == to {
		return from, nil, 0, from
	}
	words, negations, end = span{t, from, len(t.Tokens)}.condition(from)
	return from, words, negations, end
}

// askedOtherwise tells whether a new condition of the same function asks what a lost one
// asked: with most of its words, and leaving early too or turned round.
func (h *holds) askedOtherwise(now span) bool {
	_, words, negations, _ := h.question()
	if len(words) == 0 || len(words) == 1 && plainErrors[slices.Sorted(maps.Keys(words))[0]] {
		return false
	}
	for i := now.from; i < now.to; i++ {
		if !asks.MatchString(now.t.Word(i)) {
			continue
		}
		theirs, turned, end := now.condition(i)
		last := now.t.Tokens[min(end, len(now.t.Tokens)-1)].Line
		fresh := false
		for n := now.t.Tokens[i].Line; n <= last; n++ {
			fresh = fresh || now.t.touched[int(n)]
		}
		if !fresh {
			continue
		}
		common := 0
		for word := range words {
			if theirs[word] {
				common++
			}
		}
		if 5*common >= 3*len(words) && (turned != negations || now.leavesSoon(now.lineOf(i))) {
			return true
		}
	}
	return false
}

// handledStill tells whether what stood above a Go handler is still called in the
// function, and its error looked at right below.
func (h *holds) handledStill(now span) bool {
	if h.c.before.Lang.Name != "Go" {
		return false
	}
	calls := h.c.before.callsIn(h.line-1, h.line)
	for i := now.from; i < now.to; i++ {
		if !calls[now.t.Word(i)] || !now.t.Is(i+1, "(") {
			continue
		}
		end, depth := i+1, 0
		for ; end < now.to; end++ {
			if now.t.Is(end, "(") {
				depth++
			} else if now.t.Is(end, ")") {
				if depth--; depth == 0 {
					break
				}
			}
		}
		line := now.t.Tokens[min(end, now.to-1)].Line
		for j, asked := end, false; j < now.to && now.t.Tokens[j].Line <= line+1; j++ {
			asked = asked || now.t.Is(j, "if") || now.t.Is(j, ";")
			if asked && now.t.Is(j, "!") && now.t.Is(j+1, "=") && now.t.Is(j+2, "nil") {
				return true
			}
		}
	}
	return false
}

// awaitedNow tells whether a handler of a promise is gone from a function of a script that
// awaits what it looked after: what goes wrong is its caller's then.
func (h *holds) awaitedNow(now span) bool {
	if !strings.Contains(h.text, ".catch(") {
		return false
	}
	calls := h.c.before.callsIn(h.line-8, h.line)
	for i := now.from; i < now.to; i++ {
		line := now.t.Tokens[i].Line
		if now.t.Word(i) != "await" || !now.t.touched[int(line)] {
			continue
		}
		for ; i < now.to && now.t.Tokens[i].Line == line; i++ {
			if calls[now.t.Word(i)] && now.t.Is(i+1, "(") {
				return true
			}
		}
	}
	return false
}

// defaulted tells whether the one thing that a lost check asked for has another value in
// its stead now, as in a = b || c.
func (h *holds) defaulted(now span) bool {
	_, words, _, _ := h.question()
	if len(words) != 1 {
		return false
	}
	for i := now.from; i < now.to; i++ {
		line := now.t.Tokens[i].Line
		if !words[now.t.Word(i)] || !now.t.Is(i+1, "=") || now.t.Is(i+2, "=") || !now.t.touched[int(line)] {
			continue
		}
		for j := i + 2; j < now.to && now.t.Tokens[j].Line == line; j++ {
			if now.t.Word(j) == "or" || now.t.Is(j, "|") && now.t.Is(j+1, "|") || now.t.Is(j, "?") && now.t.Is(j+1, "?") {
				return true
			}
		}
	}
	return false
}

// saysNothing are calls that stand anywhere, in Go and elsewhere.
var saysNothing = map[bool]*regexp.Regexp{true: regexp.MustCompile(`^(require|len|cap|make|append|min|max)$`), false: regexp.MustCompile(`^(require|catch|len|min|max)$`)}

// callsIn are the functions that the changed lines of a stretch call.
func (t *text) callsIn(first, last int) map[string]bool {
	out := map[string]bool{}
	nothing := saysNothing[t.Lang.Name == "Go"]
	from, to := t.tokensOf(first, last)
	for i := from; i < to; i++ {
		if word := t.Word(i); word != "" && t.Is(i+1, "(") && t.touched[int(t.Tokens[i].Line)] && !t.Lang.Keyword([]byte(word)) && !nothing.MatchString(word) {
			out[word] = true
		}
	}
	return out
}

// asserted are the types that are asked for in a Go line, as in x.(io.Reader).
func (t *text) asserted(line int) map[string]bool {
	out := map[string]bool{}
	from, to := t.tokensOf(line, line)
	for i := from; i < to; i++ {
		if t.Is(i, ".") && t.Is(i+1, "(") {
			for j := i + 2; j < to && !t.Is(j, ")"); j++ {
				if word := t.Word(j); word != "" && !t.Is(j+1, ".") {
					out[word] = true
				}
			}
		}
	}
	return out
}

// names tells whether one of some words stands in a stretch.
func (s span) names(words map[string]bool) bool {
	for i := s.from; i < s.to; i++ {
		if words[s.t.Word(i)] {
			return true
		}
	}
	return false
}

// makesErrors are calls of handlers and checks themselves.
var makesErrors = regexp.MustCompile(`^(\w*Err(or)?\w*|\w*Exception|panic|len|New|append|String|repr|str|isinstance|format)$`)

// wentTogether tells whether the block that a handler or a check stood in is gone as a
// whole, did something else as well, and none of what it called is called in the
// function now: then what was looked after is gone too.
func (h *holds) wentTogether(now span) bool {
	t := h.c.before
	first, last, ok := t.blockAround(h.line)
	if !ok {
		return false
	}
	others := 0
	for n := first; n <= last; n++ {
		if t.kinds[n-1] != lex.Code {
			continue
		}
		if !t.touched[n] {
			return false
		}
		if n > first && n != h.line && !slices.ContainsFunc(lossKinds, func(k lossKind) bool { return k.kind != "log" && k.pattern.Match(t.Line(n)) }) && weight(squeezed(t.Line(n))) >= 4 {
			if from, to := t.tokensOf(n, n); from < to && !leaves.MatchString(t.Word(from)) {
				others++
			}
		}
	}
	if others < 2 {
		return false
	}
	calls := t.callsIn(first, last)
	for i := now.from; i < now.to; i++ {
		if word := now.t.Word(i); calls[word] && now.t.Is(i+1, "(") && !makesErrors.MatchString(word) {
			return false
		}
	}
	return true
}

// maxBlock is how far the ends of a block are looked for, in tokens.
const maxBlock = 10_000

// blockAround are the lines of the innermost block around a line, within its function:
// from the line that opens it to its last.
func (t *text) blockAround(line int) (first, last int, ok bool) {
	in := t.functionAround(line)
	if in == nil {
		return 0, 0, false
	}
	at, _ := t.tokensOf(line, line)
	switch t.Lang.Blocks {
	case lex.Braces:
		depth := 0
		for open := at - 1; open > max(in.Body, at-maxBlock); open-- {
			switch {
			case t.Is(open, "}"):
				depth++
			case t.Is(open, "{"):
				if depth--; depth < 0 {
					for end, depth := open+1, 1; end < min(in.To, open+maxBlock); end++ {
						if t.Is(end, "{") {
							depth++
						} else if t.Is(end, "}") {
							if depth--; depth == 0 {
								return int(t.Tokens[open].Line), int(t.Tokens[end].Line), true
							}
						}
					}
					return 0, 0, false
				}
			}
		}
	case lex.Indented:
		if at >= len(t.Tokens) {
			return 0, 0, false
		}
		column := t.Column(t.Tokens[at])
		for open := at - 1; open > max(in.From, at-maxBlock); open-- {
			if k := t.Tokens[open]; !k.First || k.Kind == lex.Comment || t.Column(k) >= column || int(k.Line) <= in.Line {
				continue
			} else if outer := t.Column(k); true {
				last = int(k.Line)
				for end := open + 1; end < min(in.To, open+maxBlock); end++ {
					if e := t.Tokens[end]; int(e.Line) > int(k.Line) && e.First && t.Column(e) <= outer && e.Kind != lex.Comment {
						break
					}
					last = int(t.Tokens[end].Line)
				}
				return int(k.Line), last, true
			}
		}
	}
	return 0, 0, false
}

// subjectGone tells whether a condition asks for a parameter that its function does not
// have any more, or for a field of which its file knows nothing any more.
func (h *holds) subjectGone(now span) bool {
	t := h.c.before
	d := t.functionAround(h.line)
	from, words, _, end := h.question()
	if d == nil || from == end || now.from >= now.to {
		return false
	}
	if changed(t, d.Line, d.End) >= 0.5 && changed(now.t, int(now.t.Tokens[now.from].Line), now.t.Last(now.t.Tokens[now.to-1])) >= 0.3 { // rewritten: then it may ask for what is worked out otherwise now
		gone := 0
		for word := range words {
			if !plainErrors[word] && !now.names(map[string]bool{word: true}) {
				gone++
			}
		}
		if 2*gone > len(words) {
			return true
		}
	}
	head, whole := t.parameters(d), now.t
	for i := from; i < end; i++ {
		word := map[string]bool{t.Word(i): t.Word(i) != ""}
		if head.names(word) && !now.names(word) {
			return true
		}
		if t.Is(i-1, ".") && whole.count(t.Word(i)) == 0 {
			here := 0
			for j := from; j < end; j++ {
				if t.Word(j) == t.Word(i) {
					here++
				}
			}
			if t.count(t.Word(i)) > here { // and not in this condition alone
				return true
			}
		}
	}
	return false
}

// count is how often a word stands in a text.
func (t *text) count(word string) int {
	if t.counted == nil {
		t.counted = map[string]int{}
		for i := range t.Tokens {
			if w := t.Word(i); w != "" {
				t.counted[w]++
			}
		}
	}
	return t.counted[word]
}

// plainErrors are names of what only says whether something went well.
var plainErrors = map[string]bool{"err": true, "ok": true, "error": true, "e": true}

// changed is the share of the lines of code of a stretch that the change touches, 0 to 1.
func changed(t *text, first, last int) float64 {
	all, touched := 0.0, 0.0
	for n := first; n <= min(last, len(t.kinds)); n++ {
		if t.kinds[n-1] == lex.Code {
			all++
			if t.touched[n] {
				touched++
			}
		}
	}
	return touched / max(all, 1)
}

// parameters is the stretch of a function's parameters.
func (t *text) parameters(d *lex.Decl) span {
	if t.Lang.Blocks == lex.Braces {
		return span{t, d.From, d.Body}
	}
	depth := 0
	for i := d.From; i < d.To; i++ {
		switch {
		case t.Is(i, "("):
			depth++
		case t.Is(i, ")"):
			if depth--; depth == 0 {
				return span{t, d.From, i}
			}
		}
	}
	return span{t, d.From, d.From}
}

// protectedGone tells whether what a handler of exceptions looked after is not done in
// these words any more: then the handler is not what was lost.
func (h *holds) protectedGone(now span) bool {
	body := h.c.before.protected(h.line)
	if len(body) == 0 || now.from >= now.to {
		return false
	}
	was, is := map[string]int{}, map[string]int{}
	if d := h.c.before.functionAround(h.line); d != nil {
		for n := d.Line; n <= d.End; n++ {
			was[squeezed(h.c.before.Line(n))]++
		}
	}
	at := map[string]int{} // where a line stands first
	for n := int(now.t.Tokens[now.from].Line); n <= int(now.t.Tokens[now.to-1].Line); n++ {
		line := squeezed(now.t.Line(n))
		is[line]++
		at[line] = cmp.Or(at[line], n)
	}
	still := 0
	for _, line := range body {
		if is[line] > 0 && is[line] >= was[line] { // not one of several that became one
			still++
		}
	}
	if 2*still <= len(body) {
		return true
	}
	// A condition that was put before it asks what the handler caught.
	for _, line := range body {
		if n := at[line]; n > 0 {
			from, to := now.t.tokensOf(n-1, n)
			for i := from; i < to; i++ {
				if asks.MatchString(now.t.Word(i)) && now.t.touched[int(now.t.Tokens[i].Line)] && squeezed(now.t.Line(int(now.t.Tokens[i].Line))) != line {
					return true
				}
			}
			break
		}
	}
	return false
}

// protected are the lines of code, squeezed, that the handler of exceptions in a line
// looks after; none where that cannot be told.
func (t *text) protected(line int) []string {
	from, to := t.tokensOf(line, line)
	for from < to && t.Word(from) != "catch" && t.Word(from) != "except" {
		from++
	}
	if from == to {
		return nil
	}
	first, last := 0, 0
	switch {
	case t.Lang.Blocks == lex.Braces && t.Is(from-1, "}"):
		depth := 0
		for open := from - 1; open >= max(0, from-maxBlock); open-- {
			if t.Is(open, "}") {
				depth++
			} else if t.Is(open, "{") {
				if depth--; depth == 0 {
					first, last = int(t.Tokens[open].Line)+1, int(t.Tokens[from-1].Line)-1
					break
				}
			}
		}
	case t.Lang.Blocks == lex.Indented:
		column := t.Column(t.Tokens[from])
		for open := from - 1; open >= max(0, from-maxBlock); open-- {
			k := t.Tokens[open]
			if !k.First || k.Kind == lex.Comment || t.Column(k) > column {
				continue
			}
			if word := t.Word(open); t.Column(k) < column || word != "try" && word != "except" {
				return nil
			} else if word == "try" {
				first = int(k.Line)
				break
			}
			last = int(k.Line) - 1 // of another handler of the same
		}
		if last == 0 {
			last = line - 1
		}
	}
	var out []string
	for n := first; n > 0 && n <= last; n++ {
		text := t.Line(n)
		if n == first && t.Lang.Blocks == lex.Indented {
			_, text, _ = bytes.Cut(text, []byte(":"))
		}
		if s := squeezed(text); t.kinds[n-1] == lex.Code && weight(s) >= 4 {
			out = append(out, s)
		}
	}
	return out
}
