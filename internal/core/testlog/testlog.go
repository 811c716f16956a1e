// Package testlog turns the output of a check into test outcomes: the exit
// status alone, or the events of `go test -json`. It streams, tolerates what
// real runners print in between, and bounds what it keeps.
package testlog

import (
	"bufio"
	"encoding/json"
	"errors"
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
	// Unfinished is a test that began and of which no end was seen: the
	// process panicked, timed out or was ended.
	Unfinished Outcome = "unfinished"
)

// Test is one test as the runner reported it.
type Test struct {
	// Name is "package TestName/subtest"; a package that failed as a whole
	// (a build failure, say) is there under its own name.
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	// ElapsedMS is the runner's own figure, in milliseconds; nil where it gave none.
	ElapsedMS *int64 `json:"elapsed_ms,omitempty"`
	// Message is the test's output, shortened; only for tests that did not pass.
	Message string `json:"message,omitempty"`
}

// Summary counts a list of tests.
type Summary struct {
	Passed     int `json:"passed"`
	Failed     int `json:"failed"`
	Skipped    int `json:"skipped"`
	Unfinished int `json:"unfinished"`
	// Repeated is how many tests were reported as ended more than once. That
	// happens with `-count`, and when a test prints lines that look like results.
	Repeated int `json:"repeated"`
}

// Ran is the number of tests that ended one way or the other.
func (s Summary) Ran() int { return s.Passed + s.Failed }

// What is kept at most: tests, and output per test.
const (
	MaxTests   = 50_000
	MaxMessage = 8 << 10
	maxLine    = 1 << 20
)

// goEvent is a line of `go test -json`, as cmd/test2json documents it.
type goEvent struct {
	Action      string
	Package     string
	ImportPath  string
	Test        string
	Elapsed     *float64
	Output      string
	FailedBuild string
}

type goTest struct {
	outcome Outcome
	elapsed *int64
	output  strings.Builder
	cut     bool
	ended   int
}

func (t *goTest) add(s string) {
	if room := MaxMessage - t.output.Len(); room < len(s) {
		t.cut = true
		s = s[:max(room, 0)]
	}
	t.output.WriteString(s)
}

// ReadGoTest reads the output of `go test -json`. Lines that are not events are
// passed over. The returned tests are sorted by name. An error means that
// nothing that looks like an event was found, or that reading failed; what was
// read until then is returned with it.
func ReadGoTest(r io.Reader) ([]Test, Summary, error) {
	tests := map[string]*goTest{}
	get := func(name string) *goTest {
		t := tests[name]
		if t == nil && len(tests) < MaxTests {
			t = &goTest{outcome: Unfinished}
			tests[name] = t
		}
		return t
	}
	hasTests := map[string]bool{} // packages of which a single test was seen to fail
	buildOutput := map[string]*goTest{}
	events := 0
	readErr := eachLine(r, func(line []byte) {
		if len(line) == 0 || line[0] != '{' {
			return
		}
		var e goEvent
		if json.Unmarshal(line, &e) != nil || e.Action == "" {
			return
		}
		if e.Action == "build-output" {
			b := buildOutput[e.ImportPath]
			if b == nil && len(buildOutput) < MaxTests {
				b = &goTest{}
				buildOutput[e.ImportPath] = b
			}
			if b != nil {
				b.add(e.Output)
			}
			events++
			return
		}
		if e.Package == "" {
			return
		}
		events++
		name := e.Package
		if e.Test != "" {
			name += " " + e.Test
		}
		switch e.Action {
		case "run", "output", "pass", "fail", "skip":
		default:
			return
		}
		if e.Test == "" && e.Action == "run" {
			return
		}
		t := get(name)
		if t == nil {
			return
		}
		switch e.Action {
		case "output":
			t.add(e.Output)
			return
		case "run":
			return
		}
		t.ended++
		if e.Elapsed != nil {
			ms := int64(*e.Elapsed * 1000)
			t.elapsed = &ms
		}
		was := t.outcome
		switch e.Action {
		case "pass":
			t.outcome = Passed
		case "skip":
			t.outcome = Skipped
		case "fail":
			t.outcome = Failed
			if e.Test != "" {
				hasTests[e.Package] = true
			} else if b := buildOutput[e.FailedBuild]; b != nil && e.FailedBuild != "" {
				t.output.Reset()
				t.cut = false
				t.add(b.output.String())
			}
		}
		if was == Failed { // a test that failed once has failed, whatever is printed later
			t.outcome = Failed
		}
	})
	out := make([]Test, 0, len(tests))
	var sum Summary
	for name, t := range tests {
		pkg, test, single := strings.Cut(name, " ")
		_ = test
		// A package as such is a test only when it failed without one of its tests failing.
		if !single && (t.outcome != Failed || hasTests[pkg]) {
			continue
		}
		one := Test{Name: name, Outcome: t.outcome, ElapsedMS: t.elapsed}
		switch t.outcome {
		case Passed:
			sum.Passed++
		case Failed:
			sum.Failed++
		case Skipped:
			sum.Skipped++
		case Unfinished:
			sum.Unfinished++
		}
		if t.ended > 1 {
			sum.Repeated++
		}
		if t.outcome != Passed {
			one.Message = t.output.String()
			if t.cut {
				one.Message += "\n… (cut)"
			}
		}
		out = append(out, one)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	if readErr == nil && events == 0 {
		readErr = errors.New("no event of go test -json in the output; does the command pass -json?")
	}
	return out, sum, readErr
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
