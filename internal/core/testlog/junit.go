package testlog

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// maxSuites is how deep suites may lie in each other.
const maxSuites = 100

// readJUnit reads JUnit XML: one document, or several one after the other, with
// whatever a runner printed before the first tag. Suites may be nested. There
// is no binding standard for the format; what is understood is what its writers
// have in common: testsuites, testsuite, testcase, failure, error, skipped.
//
// A test's name is the suites around it, its class and its name; a suite that
// only repeats the class is left out. A suite that failed by itself is a test
// under its own name. What is marked as skipped is skipped, whatever else is said of it: so
// runners report tests that may fail, and those that are still to be done.
func readJUnit(c *collector, r io.Reader) (Report, error) {
	clean := &cleaner{r: r}
	d := xml.NewDecoder(clean)
	d.Strict = false
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // the cleaner has made it UTF-8
	var suites []string
	var class string
	var current *test
	known := false
	// text is gathered while a failure, an error or a skipped is open.
	capturing := 0
	var remark string
	end := func() {
		if current != nil {
			c.done(current, false)
		}
		current, capturing = nil, 0
	}
	for {
		clean.taken = d.InputOffset()
		token, err := d.RawToken()
		if err != nil {
			if !errors.Is(err, io.EOF) {
				remark = "the report cannot be read to its end: " + err.Error()
			} else if len(suites) > 0 || current != nil {
				remark = "the report is cut off"
			}
			var readErr *readError
			if errors.As(err, &readErr) {
				return c.report(nil), readErr.err
			}
			break
		}
		switch e := token.(type) {
		case xml.StartElement:
			switch e.Name.Local {
			case "testsuites":
				known = true
			case "testsuite":
				known = true
				if len(suites) >= maxSuites {
					remark = fmt.Sprintf("suites lie more than %d deep in each other", maxSuites)
					suites = suites[:maxSuites-1]
				}
				suites = append(suites, short(attribute(e, "name")))
			case "testcase":
				known = true
				end() // of one that is cut off
				class = attribute(e, "classname")
				current = c.fresh(caseName(suites, class, attribute(e, "name")))
				if current == nil {
					break
				}
				current.ended, current.outcome, current.elapsed = 1, Passed, seconds(attribute(e, "time"))
				switch strings.ToLower(attribute(e, "status")) {
				case "notrun", "disabled", "skipped", "ignored":
					current.outcome = Skipped
				}
			case "failure", "error", "skipped":
				t := current
				if t == nil {
					if e.Name.Local == "skipped" || len(suites) == 0 {
						break
					}
					if t = c.fresh(strings.Join(suites, " ")); t == nil {
						break
					}
					t.ended = 1
					current = t
				}
				switch {
				case e.Name.Local == "skipped" && notRunRE.MatchString(attribute(e, "message")):
					t.outcome = Failed // one runner reports so what it could not start, and counts it as failed
				case e.Name.Local == "skipped":
					t.outcome = Skipped
				case t.outcome != Skipped:
					t.outcome = Failed
				}
				if m := attribute(e, "message"); m != "" {
					c.say(t, m+"\n")
				}
				capturing++
			}
		case xml.EndElement:
			switch e.Name.Local {
			case "testsuite":
				end()
				if len(suites) > 0 {
					suites = suites[:len(suites)-1]
				}
			case "testcase":
				end()
			case "failure", "error", "skipped":
				capturing = max(capturing-1, 0)
			}
		case xml.CharData:
			if capturing > 0 && current != nil {
				c.say(current, string(e))
			}
		}
	}
	end()
	out := c.report(nil)
	if remark != "" {
		out.Remarks = append(out.Remarks, remark)
	}
	if !known {
		why := "no JUnit XML in the output"
		if remark != "" {
			why += " (" + remark + ")"
		}
		return out, errors.New(why)
	}
	return out, nil
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return strings.TrimSpace(a.Value)
		}
	}
	return ""
}

// notRunRE finds why a test was not run that was to run.
var notRunRE = regexp.MustCompile(`^(Unable to find (executable|required file)|Failed test dependencies|Missing Configuration)`)

// datedRE is what one runner puts behind a suite's name: when it ran.
var datedRE = regexp.MustCompile(`-[0-9]{14}$`)

func caseName(suites []string, class, name string) string {
	var parts []string
	for _, s := range suites {
		s = datedRE.ReplaceAllString(s, "")
		if s != "" && s != class && !strings.HasPrefix(class, s+".") && (len(parts) == 0 || parts[len(parts)-1] != s) {
			parts = append(parts, s)
		}
	}
	if class != "" {
		parts = append(parts, class)
	}
	if name == "" {
		name = "(without a name)"
	}
	return strings.Join(append(parts, name), " ")
}

// seconds reads a time attribute; nil where there is none that makes sense.
func seconds(s string) *int64 {
	v, err := strconv.ParseFloat(strings.ReplaceAll(s, ",", ""), 64)
	if err != nil || math.IsNaN(v) || v < 0 || v > 1e9 {
		return nil
	}
	ms := int64(math.Round(v * 1000))
	return &ms
}

// cleaner makes a stream fit for an XML reader: what stands before the first
// tag is dropped, bytes that are not UTF-8 and control characters that XML does
// not allow are replaced. Runners let colours and binary output through.
type cleaner struct {
	r       io.Reader
	started bool
	buf     [32 << 10]byte
	rest    []byte // the beginning of a character that is not whole yet
	out     []byte
	err     error
	// run is how many bytes the present tag, or the present text between two tags, has.
	// What is longer than maxToken is left out: the XML reader holds each of them as a whole.
	run int
	// given is how many bytes the XML reader got, taken how many of them were in whole
	// pieces: a comment or a CDATA section is one piece, whatever stands in it.
	given, taken int64
}

const (
	maxToken = 256 << 10
	maxPiece = 32 << 20
)

// readError is a failure of the stream, told apart from one of the XML.
type readError struct{ err error }

func (e *readError) Error() string { return e.err.Error() }

func (c *cleaner) Read(p []byte) (int, error) {
	for len(c.out) == 0 {
		if c.err != nil {
			if len(c.rest) > 0 {
				c.out, c.rest = []byte("\ufffd"), nil
				break
			}
			if errors.Is(c.err, io.EOF) {
				return 0, io.EOF
			}
			return 0, &readError{c.err}
		}
		n, err := c.r.Read(c.buf[:])
		c.err = err
		c.clean(append(c.rest, c.buf[:n]...))
	}
	if c.given-c.taken > maxPiece {
		return 0, fmt.Errorf("a piece of it is longer than %d MiB", maxPiece>>20)
	}
	n := copy(p, c.out)
	c.out = c.out[n:]
	c.given += int64(n)
	return n, nil
}

func (c *cleaner) clean(b []byte) {
	c.rest = nil
	out := make([]byte, 0, len(b))
	for len(b) > 0 {
		if !c.started {
			// A tag begins with a letter, "?" or "!": "<<<" of a log is none.
			if b[0] == '<' && len(b) > 1 && (b[1] == '?' || b[1] == '!' || b[1] == 't') {
				c.started = true
			} else if b[0] == '<' && len(b) == 1 && c.err == nil {
				c.rest = []byte{'<'}
				return
			} else {
				b = b[1:]
				continue
			}
		}
		switch b[0] {
		case '<', '>':
			c.run = 0
		default:
			if c.run++; c.run > maxToken {
				b = b[1:]
				continue
			}
		}
		switch {
		case b[0] < 0x20 && b[0] != '\t' && b[0] != '\n' && b[0] != '\r':
			out = append(out, ' ')
			b = b[1:]
		case b[0] < utf8.RuneSelf:
			out = append(out, b[0])
			b = b[1:]
		case !utf8.FullRune(b):
			c.rest = append([]byte(nil), b...)
			b = nil
		default:
			r, n := utf8.DecodeRune(b)
			if r == 0xFFFE || r == 0xFFFF {
				r = utf8.RuneError
			}
			out = utf8.AppendRune(out, r)
			b = b[n:]
		}
	}
	c.out = out
}
