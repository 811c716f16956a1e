package patch

import (
	"bytes"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/lex"
)

var (
	assertion = regexp.MustCompile(`^(assert\w*|require\w*|expect\w*|should\w*|must\w*|Equal\w*|NotEqual\w*|Error\w*|Errorf|Fatal|Fatalf|Fail|(TEST_)?ASSERT\w*|EXPECT_\w+|CHECK\w*|ck_assert\w*|deepEqual|strictEqual|deepStrictEqual|rejects|throws)$`)
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
	// looked tells whether it was looked into at all; see afford.
	looked bool
	// asserted are the tokens at which its assertions begin.
	asserted []int
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
	same := map[string]int{}       // how many tests have a name
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
				one := &caseOf{c: c, t: t, d: d}
				if one.looked = w.afford(d.To - d.From); one.looked {
					one.counts, one.asserted = t.countsIn(d)
				}
				key := c.name(side) + "\x00" + d.Full()
				if same[key]++; same[key] > 1 {
					key += fmt.Sprintf("\x00%d", same[key])
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
		if !one.looked || len(helpers) == 0 {
			continue
		}
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
				if w.afford(h.d.To - h.d.From) {
					n.calls = calledBy(h.t, h.d)
					n.counts, _ = h.t.countsIn(h.d)
				}
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

// countsIn counts what a test, or a function that tests call, does, and tells at which
// tokens it asserts something.
func (t *text) countsIn(d lex.Decl) (out counts, asserted []int) {
	for i := d.From; i < d.To; i++ {
		word := t.Word(i)
		switch {
		case t.Lang.Name == "Shell":
			if t.Tokens[i].First && i > d.From && (t.Is(i, "[") || word == "test" || assertion.MatchString(word)) {
				asserted = append(asserted, i) // each command of a test may fail it; these are there for it
			}
		case word == "":
			if t.Lang.Name == "Rust" && t.Is(i, "!") {
				continue
			}
		case i > d.From+1 && t.Is(i-1, ".") && (assertion.MatchString(t.Word(i-2)) || compares.MatchString(t.Word(i-2))):
			// the word before counts already, or the call only compares
		case t.Is(i-1, ".") && word == "Error" && t.Is(i+1, "(") && t.Is(i+2, ")"), word == "New" && t.Is(i-1, "."), t.Is(i+1, ".") && t.Word(i+2) == "New":
			// the text of an error; what will assert
		case (assertion.MatchString(word) || helper.MatchString(word) && t.Is(i+1, "(")) && (t.Is(i+1, "(") || t.Is(i+1, ".") || t.Is(i+1, "!") || t.Lang.Name == "Python" || t.Lang.Name == "Ruby"):
			asserted = append(asserted, i)
		case i > d.Body && t.Lang.Name == "Go" && t.handedTest(i):
			asserted = append(asserted, i) // what is handed the test may fail it
		}
		if strict.MatchString(word) && !comparesTruth(t, i, d.To) {
			out.strict++
		}
		if loose.MatchString(word) {
			out.loose++
		}
		if i > d.From && skipWords.MatchString(word) && (t.Is(i+1, "(") || t.Lang.Name == "Ruby") && !t.decorates(i) && t.own(d, i) && !t.onlyIf(i) {
			out.skips++
		}
	}
	if d.Skipped {
		out.skips++
	}
	out.asserts = len(asserted)
	return out, asserted
}

// handedTest tells whether a token of Go calls something with the test as its first value.
func (t *text) handedTest(i int) bool {
	return t.Is(i+1, "(") && (t.Word(i+2) == "t" || t.Word(i+2) == "tb") && (t.Is(i+3, ",") || t.Is(i+3, ")"))
}

var (
	noError   = regexp.MustCompile(`^(NoErrorf?|assertNoErr(or)?)$`)
	failsTest = regexp.MustCompile(`^(Fatalf?|Errorf?|FailNow|Fail)$`)
)

// testsOwn are helpers of Go's test handles that have the names of what they take the place of.
var (
	testsOwn   = map[string]bool{"TempDir": true, "Setenv": true, "Chdir": true}
	testHandle = map[string]bool{"t": true, "b": true, "tb": true, "f": true}
)

// excused is how many assertions are gone from a test and missing in no way: they moved to
// another test, whose new lines elsewhere counts; what they only looked after, whether a step went well, is not done any more; or
// what was handed the test is still called, without it.
func (c *caseOf) excused(now *caseOf, elsewhere map[string]int) (n int) {
	t, is := c.t, span{now.t, now.d.From, now.d.To}
	calls, plain := map[string]bool{}, map[string]bool{} // all that is called now, and what without the test
	for i := is.from; i < is.to; i++ {
		if name := is.t.Word(i); is.t.Is(i+1, "(") {
			if testsOwn[name] && is.t.Is(i-1, ".") && testHandle[is.t.Word(i-2)] {
				continue // fails the test by itself: what it stands for looked after that by hand
			}
			calls[name] = true
			plain[name] = plain[name] || !is.t.handedTest(i)
		}
	}
	for _, i := range c.asserted {
		line, word := int(t.Tokens[i].Line), t.Word(i)
		if t.Is(i+1, ".") {
			word = t.Word(i + 2)
		}
		switch {
		case !t.touched[line]:
		case t.moved[line] && elsewhere[squeezed(t.Line(line))] > 0:
			elsewhere[squeezed(t.Line(line))]--
			n++
		case t.Lang.Name == "Go" && t.handedTest(i) && plain[word]:
			n++
		case t.Lang.Name == "Go" && (noError.MatchString(word) || failsTest.MatchString(word) && lossKinds[0].pattern.Match(t.Line(line-1))):
			steps := t.callsIn(line-2, line)
			maps.DeleteFunc(steps, func(name string, _ bool) bool { return noError.MatchString(name) || failsTest.MatchString(name) })
			still := slices.ContainsFunc(slices.Collect(maps.Keys(steps)), func(name string) bool { return calls[name] })
			if len(steps) > 0 && !still {
				n++
			}
		}
	}
	return n
}

// own tells whether a token is of a declaration itself rather than of a function within it.
func (t *text) own(d lex.Decl, i int) bool {
	in := t.functionAround(int(t.Tokens[i].Line))
	return in == nil || in.From <= d.From
}

// decorates tells whether a token of a Python test stands in a decorator: of something within it.
func (t *text) decorates(i int) bool {
	return t.Lang.Name == "Python" && bytes.HasPrefix(bytes.TrimSpace(t.Line(int(t.Tokens[i].Line))), []byte("@"))
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
	old := map[string]string{} // what renamed files were called
	for _, c := range w.files {
		if c.OldPath != "" {
			old[c.Path] = c.OldPath
		}
	}
	rename := func(key string) string { // the key that a file had before
		name, rest, _ := strings.Cut(key, "\x00")
		if was := old[name]; was != "" {
			return was + "\x00" + rest
		}
		return key
	}
	// A case that is gone while one much like it is new was renamed or moved.
	var lone []*caseOf
	matched := map[string]*caseOf{}
	for _, key := range slices.Sorted(maps.Keys(after)) {
		if was := before[rename(key)]; was != nil {
			matched[rename(key)] = after[key]
			continue
		}
		lone = append(lone, after[key])
	}
	// The lines that came to tests, and run.
	elsewhere := map[string]int{}
	for _, c := range w.files {
		if c.after == nil {
			continue
		}
		for line := range c.after.moved {
			if d := c.after.functionAround(line); d != nil && d.Kind == lex.Case && !d.Skipped {
				elsewhere[squeezed(c.after.Line(line))]++
			}
		}
	}
	changed, compared := 0, 0
	var others places
	for _, key := range slices.Sorted(maps.Keys(before)) {
		was := before[key]
		now := matched[key]
		if now == nil {
			mine := w.bodyOf(was.t, was.d)
			for i, other := range lone {
				if compared++; other == nil || compared > maxCompared && other.c != was.c {
					continue
				}
				if other.runs == nil {
					other.runs = w.bodyOf(other.t, other.d)
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
		if likeness(w.bodyOf(was.t, was.d), w.bodyOf(now.t, now.d)) < 1 || was.skips != now.skips {
			changed++
			others.decl(After, now.c.Path, now.d)
		}
		if !was.looked || !now.looked {
			continue
		}
		switch fewer := now.asserts < was.asserts && (now.asserts == 0 || now.asserts < was.asserts-was.excused(now, elsewhere)); {
		case now.skips > was.skips:
			note("skipped", now, After, "a test is left out now")
		case fewer && now.asserts+now.helped.asserts < was.asserts+was.helped.asserts:
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
