// Package testlog turns the output of a check into test outcomes: the events of
// `go test -json`, JUnit XML, TAP 13 and 14, or a figure. It streams, tolerates
// what real runners print in between, and bounds what it keeps.
package testlog

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"sort"
	"strings"
)

// Outcome is how one test ended.
type Outcome string

const (
	Passed  Outcome = "passed"
	Failed  Outcome = "failed"
	Skipped Outcome = "skipped"
	// Missing is a test that is known from another run and was not seen in this
	// one. No reader reports it: it comes from comparing.
	Missing Outcome = "missing"
)

// Test is one test as the runner reported it.
type Test struct {
	// Name tells the test from all others of the same output. For go test it is
	// "package TestName/subtest"; a package that failed as a whole (a build
	// failure, say) is there under its own name. For JUnit it is the suites, the
	// class and the name; for TAP the subtests around it, joined by " > ". Where
	// TAP or JUnit give several tests one name, the later ones end in " #2", " #3".
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	// ElapsedMS is the runner's own figure, in milliseconds; nil where it gave none.
	ElapsedMS *int64 `json:"elapsed_ms,omitempty"`
	// Message is the test's output, shortened; only for tests that did not pass.
	Message string `json:"message,omitempty"`
	// Repeated is set when the test was reported as ended more than once. That
	// happens with `-count`, and when a test prints lines that look like results.
	Repeated bool `json:"repeated,omitempty"`
}

// Summary counts a list of tests.
type Summary struct {
	Passed   int `json:"passed"`
	Failed   int `json:"failed"`
	Skipped  int `json:"skipped"`
	Repeated int `json:"repeated"`
}

// Ran is the number of tests that ended one way or the other.
func (s Summary) Ran() int { return s.Passed + s.Failed }

// Report is what a reader made of an output.
type Report struct {
	// Tests are sorted by name, and names are unique. They are not all where there were
	// too many to be kept: then those that were asked for and those that failed come first.
	Tests []Test
	// Summary counts all tests, also those that were not kept; Dropped are these.
	Summary Summary
	Dropped int
	// Cached is set when the runner said that it took results from a cache.
	Cached bool
	// Remarks say in words what was odd: a bail-out, a plan that was not kept,
	// an output that is cut off, tests that were too many to be kept.
	Remarks []string
}

// What is kept at most: tests that nobody asked for (see Options) and, beyond those, tests
// that failed; names of all tests, output per test, and output of all tests, in bytes.
// Several runs' tests are in memory at once.
const (
	MaxTests    = 200_000
	moreFailed  = 5_000
	MaxMessage  = 8 << 10
	maxNames    = 40 << 20
	maxMessages = 12 << 20
	maxLine     = 1 << 20
	maxSameName = 100_000
	maxName     = 1 << 10
)

// Format names a reader.
type Format string

const (
	GoTestJSON Format = "go-test-json"
	JUnit      Format = "junit"
	TAP        Format = "tap"
)

// Options say what is kept of an output that has very many tests. All of them are counted.
type Options struct {
	// Asked names tests that are kept in any case; nil for none.
	Asked map[string]bool
	// Others is how many further tests are kept; 0 for MaxTests.
	Others int
}

// Read reads an output of a format. An error means that nothing of that format
// was found, or that reading failed; what was read until then comes with it.
func Read(f Format, r io.Reader, o Options) (Report, error) {
	c := newCollector(o)
	switch f {
	case GoTestJSON:
		return readGoTest(c, r)
	case JUnit:
		return readJUnit(c, r)
	case TAP:
		return readTAP(c, r)
	}
	return Report{}, fmt.Errorf("no reader for %q", f)
}

// collector gathers the tests of one output.
type collector struct {
	options Options
	tests   map[string]*test
	names   map[uint64]int32 // how many tests were given a name that fresh numbers, by its hash
	seed    maphash.Seed
	crowded bool // there were more tests of one name, or more names, than are distinguished
	others  int  // tests that are kept and that nobody asked for
	over    int  // tests beyond those that are kept until they have passed
	failed  int  // of those, what failed and stays
	kept    int  // bytes of messages
	named   int  // bytes of names
	// past are tests that are not kept; gone is what became of them, by the hash of their
	// names, for readers that may hear of one again.
	past Summary
	gone map[uint64]Outcome
}

type test struct {
	name    string
	outcome Outcome
	elapsed *int64
	output  strings.Builder
	cut     bool
	ended   int
	over    bool
}

// maxGone bounds how many names are distinguished among tests that are not kept.
const maxGone = 2_000_000

func newCollector(o Options) *collector {
	if o.Others == 0 {
		o.Others = MaxTests
	}
	return &collector{options: o, tests: map[string]*test{}, names: map[uint64]int32{}, seed: maphash.MakeSeed(), gone: map[uint64]Outcome{}}
}

// get returns the test of a name, made now if it is not there; nil when there
// are too many at once. A test of which no end comes counts as failed.
func (c *collector) get(name string) *test {
	t := c.tests[name]
	if t != nil {
		return t
	}
	t = &test{outcome: Failed}
	switch {
	case c.options.Asked[name]:
	case c.others < c.options.Others && c.named+len(name) <= maxNames:
		c.others++
	case c.over >= MaxTests:
		c.crowded = true
		return nil
	default:
		c.over++
		t.over = true
		if was, again := c.gone[c.hash(name)]; again {
			t.ended, t.outcome = 1, was
		}
	}
	t.name = strings.Clone(name) // not the line that it stood in
	c.named += len(name)
	c.tests[t.name] = t
	return t
}

func (c *collector) hash(name string) uint64 { return maphash.String(c.seed, name) }

// done is called when a test has ended. One beyond those that are kept is counted, and
// kept only where it failed. again tells that the reader may hear of it again.
func (c *collector) done(t *test, again bool) {
	if !t.over {
		return
	}
	h := c.hash(t.name)
	was, known := c.gone[h]
	if known && again {
		c.count(was, -1)
		if was == Failed {
			t.outcome = Failed
		}
		delete(c.gone, h)
	}
	if t.outcome == Failed && c.failed < moreFailed && c.named <= maxNames {
		c.failed++
		c.over--
		t.over = false
		return
	}
	c.count(t.outcome, 1)
	if again && len(c.gone) < maxGone {
		c.gone[h] = t.outcome
	}
	c.forget(t)
	c.named -= len(t.name)
	c.over--
	delete(c.tests, t.name)
}

func (c *collector) count(o Outcome, n int) {
	switch o {
	case Passed:
		c.past.Passed += n
	case Failed:
		c.past.Failed += n
	case Skipped:
		c.past.Skipped += n
	}
}

// fresh makes a test of its own, numbered where the name is taken; nil when there are too
// many of one name.
func (c *collector) fresh(name string) *test {
	name = short(name)
	h := c.hash(name)
	n := c.names[h]
	if n >= maxSameName || n == 0 && len(c.names) >= maxGone {
		c.crowded = true
		return nil
	}
	full := name
	if n > 0 {
		full = fmt.Sprintf("%s #%d", name, n+1)
	}
	for c.tests[full] != nil { // a test may be called "a #2" by itself
		n++
		full = fmt.Sprintf("%s #%d", name, n+1)
	}
	c.names[h] = n + 1
	return c.get(full)
}

// short cuts a name. What two cut names have in common they share: so a digest of the
// whole stands at the end.
func short(name string) string {
	if len(name) <= maxName {
		return name
	}
	sum := sha256.Sum256([]byte(name))
	return strings.ToValidUTF8(name[:maxName], "") + "… " + hex.EncodeToString(sum[:6])
}

// say adds to a test's output, within the bounds.
func (c *collector) say(t *test, s string) {
	room := min(MaxMessage-t.output.Len(), maxMessages-c.kept)
	if room < len(s) {
		t.cut = true
		s = s[:max(room, 0)]
	}
	c.kept += len(s)
	t.output.WriteString(s)
}

func (c *collector) forget(t *test) {
	c.kept -= t.output.Len()
	t.output.Reset()
	t.cut = false
}

// report lists the tests for which keep holds (nil: all).
func (c *collector) report(keep func(name string, t *test) bool) Report {
	out := Report{Tests: make([]Test, 0, len(c.tests))}
	for name, t := range c.tests {
		if keep != nil && !keep(name, t) {
			continue
		}
		if t.over { // it never ended
			c.count(t.outcome, 1)
			continue
		}
		one := Test{Name: strings.ToValidUTF8(name, "\ufffd"), Outcome: t.outcome, ElapsedMS: t.elapsed, Repeated: t.ended > 1}
		if t.outcome != Passed {
			one.Message = strings.ToValidUTF8(t.output.String(), "\ufffd")
			if t.cut {
				one.Message += "\n… (cut)"
			}
			if t.ended == 0 {
				one.Message = strings.TrimSpace("it began, and no end of it was seen\n" + one.Message)
			}
		}
		out.Tests = append(out.Tests, one)
	}
	sort.Slice(out.Tests, func(i, j int) bool { return out.Tests[i].Name < out.Tests[j].Name })
	out.Summary = Count(out.Tests)
	out.Dropped = c.past.Passed + c.past.Failed + c.past.Skipped
	out.Summary.Passed += c.past.Passed
	out.Summary.Failed += c.past.Failed
	out.Summary.Skipped += c.past.Skipped
	if c.crowded {
		out.Remarks = append(out.Remarks, fmt.Sprintf("one name was given to more than %d tests, or there were more than %d; the others are not counted", maxSameName, maxGone))
	}
	return out
}

// Count sums a list of tests up.
func Count(tests []Test) Summary {
	var s Summary
	for _, t := range tests {
		switch t.Outcome {
		case Passed:
			s.Passed++
		case Failed:
			s.Failed++
		case Skipped:
			s.Skipped++
		}
		if t.Repeated {
			s.Repeated++
		}
	}
	return s
}

// eachLine calls f for every line, without its end. A line longer than maxLine is passed over.
func eachLine(r io.Reader, f func([]byte)) error {
	br := bufio.NewReaderSize(r, 64<<10)
	var long []byte
	skipping := false
	for {
		part, err := br.ReadSlice('\n')
		switch {
		case skipping:
			skipping = errors.Is(err, bufio.ErrBufferFull)
		case errors.Is(err, bufio.ErrBufferFull):
			long = append(long, part...)
			if len(long) > maxLine {
				long, skipping = long[:0], true
			}
		default:
			if len(long) > 0 {
				part = append(long, part...)
				long = long[:0]
			}
			f(trimEnd(part))
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
}

func trimEnd(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == '\r') {
		b = b[:len(b)-1]
	}
	return b
}
