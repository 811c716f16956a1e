package testlog

import (
	"encoding/json"
	"errors"
	"io"
	"strings"
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

// readGoTest reads the output of `go test -json`. Lines that are not events are
// passed over.
func readGoTest(c *collector, r io.Reader) (Report, error) {
	failed := map[string]bool{}                     // packages of which a single test was seen to fail
	builds := newCollector(Options{Others: 10_000}) // what the compiler said, by import path
	cached, events := false, 0
	readErr := eachLine(r, func(line []byte) {
		if len(line) == 0 || line[0] != '{' {
			return
		}
		var e goEvent
		if json.Unmarshal(line, &e) != nil || e.Action == "" {
			return
		}
		if e.Action == "build-output" {
			if b := builds.get(short(e.ImportPath)); b != nil {
				builds.say(b, e.Output)
			}
			events++
			return
		}
		if e.Package == "" {
			return
		}
		events++
		e.Package = short(e.Package)
		name := e.Package
		if e.Test != "" {
			name += " " + short(e.Test)
		}
		switch e.Action {
		case "run":
			if e.Test != "" {
				c.get(name)
			}
			return
		case "output":
			cached = cached || e.Test == "" && strings.HasPrefix(e.Output, "ok ") && strings.HasSuffix(strings.TrimSpace(e.Output), "(cached)")
			if t := c.get(name); t != nil {
				c.say(t, e.Output)
			}
			return
		case "pass", "fail", "skip":
		default:
			return
		}
		t := c.get(name)
		if t == nil {
			return
		}
		failedBefore := t.ended > 0 && t.outcome == Failed
		t.ended++
		if e.Elapsed != nil {
			ms := int64(*e.Elapsed * 1000)
			t.elapsed = &ms
		}
		switch e.Action {
		case "pass":
			t.outcome = Passed
			c.forget(t)
		case "skip":
			t.outcome = Skipped
		case "fail":
			t.outcome = Failed
			if e.Test != "" {
				failed[e.Package] = true
			} else if b := builds.tests[short(e.FailedBuild)]; b != nil && e.FailedBuild != "" {
				c.forget(t)
				c.say(t, b.output.String())
			}
		}
		if failedBefore { // a test that failed once has failed, whatever is printed later
			t.outcome = Failed
		}
		if e.Test != "" {
			c.done(t, true)
		}
	})
	for name, t := range c.tests {
		if pkg, _, single := strings.Cut(name, " "); single && t.ended == 0 {
			failed[pkg] = true
		}
	}
	out := c.report(func(name string, t *test) bool {
		pkg, _, single := strings.Cut(name, " ")
		// A package as such is a test only when it failed without one of its tests failing.
		return single || t.ended > 0 && t.outcome == Failed && !failed[pkg]
	})
	out.Cached = cached
	if readErr == nil && events == 0 {
		readErr = errors.New("no event of go test -json in the output; does the command pass -json?")
	}
	return out, readErr
}
