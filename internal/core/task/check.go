package task

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"agonometer/internal/core/specfile"
)

// Reader says how a check's output becomes outcomes.
type Reader string

const (
	// ReadsExit looks at the exit status alone: 0 is passed.
	ReadsExit Reader = "exit"
	// ReadsGoTestJSON reads the events that `go test -json` prints.
	ReadsGoTestJSON Reader = "go-test-json"
	// ReadsJUnit reads JUnit XML, from standard output or from a file.
	ReadsJUnit Reader = "junit"
	// ReadsTAP reads TAP 13 and 14.
	ReadsTAP Reader = "tap"
	// ReadsNumber reads a figure.
	ReadsNumber Reader = "number"
)

// Readers lists all of them.
func Readers() []Reader {
	return []Reader{ReadsExit, ReadsGoTestJSON, ReadsJUnit, ReadsTAP, ReadsNumber}
}

func (r *Reader) ParseScalar(text string) error {
	for _, one := range Readers() {
		if text == string(one) {
			*r = one
			return nil
		}
	}
	return fmt.Errorf("unknown reader")
}

func (*Reader) Expected() string { return "exit, go-test-json, junit, tap or number" }

// SeesTests tells whether single tests are seen through the reader.
func (r Reader) SeesTests() bool {
	return r == ReadsGoTestJSON || r == ReadsJUnit || r == ReadsTAP
}

// Check is a command that says something about a result.
type Check struct {
	Name specfile.Slug `yaml:"name" spec:"required" json:"name" jsonschema_description:"The check's name, used in verdicts and tables."`
	// Run is handed to `sh -c` in the judging copy.
	Run    string  `yaml:"run" spec:"required" json:"run" jsonschema_description:"The command, handed to sh -c in a clean copy that holds the result."`
	Reads  Reader  `yaml:"reads" json:"reads,omitempty" jsonschema_description:"How the output is read: exit (default) looks at the exit status alone; go-test-json, junit and tap see single tests; number reads a figure."`
	Report string  `yaml:"report" json:"report,omitempty" jsonschema_description:"With junit: the file that the command writes, relative to the repository's top, * allowed; default: standard output."`
	Number *Number `yaml:"number" json:"number,omitempty" jsonschema_description:"With number: where the figure stands, and what it is held against."`
	// Coverage and Findings are files that the command writes beside its output.
	Coverage string `yaml:"coverage" json:"coverage,omitempty" jsonschema_description:"A file that the command writes, relative to the repository's top, with which lines were executed: a Go cover profile, LCOV or Cobertura. It says how much of a change the tests execute."`
	Findings string `yaml:"findings" json:"findings,omitempty" jsonschema_description:"A file that the command writes, relative to the repository's top, with a linter's findings as SARIF 2.1.0. Those that are new since the start are shown."`
	// Sealed checks are run only where the contender's files are judged, in a
	// copy of their own, and nothing of them is ever handed back.
	Sealed bool `yaml:"sealed" json:"sealed,omitempty" jsonschema_description:"true: nothing of this check is handed back to the contender, and it runs in a clean copy of its own."`
}

// Number says how a figure is read from a check's output.
type Number struct {
	Pattern string `yaml:"pattern" json:"pattern,omitempty" jsonschema_description:"A regular expression whose first group is the figure; its last match counts."`
	Pointer string `yaml:"pointer" json:"pointer,omitempty" jsonschema_description:"A JSON Pointer (RFC 6901) into the output, or into its last line that is JSON."`
	Unit    string `yaml:"unit" json:"unit,omitempty" jsonschema_description:"The figure's unit, for people: ms, bytes."`
	Repeat  *int   `yaml:"repeat" json:"repeat,omitempty" jsonschema_description:"How often the command is run; default 5. The median counts."`
	AtMost  *Bound `yaml:"at_most" json:"at_most,omitempty" jsonschema_description:"A bound makes the figure a goal: a number, or one times the start's or the reference's figure, such as 0.5 x start."`
	AtLeast *Bound `yaml:"at_least" json:"at_least,omitempty" jsonschema_description:"As at_most, from below."`
}

// Times is how often the command is run.
func (n *Number) Times() int {
	if n.Repeat == nil {
		return defaultRepeat
	}
	return *n.Repeat
}

const (
	defaultRepeat = 5
	maxRepeat     = 1000
)

// Base is what a bound is a multiple of.
type Base string

const (
	Absolute    Base = ""
	OfStart     Base = "start"
	OfReference Base = "reference"
)

// Bound is a limit for a figure: a plain one, or a multiple of the figure at
// the start or with the reference patch.
type Bound struct {
	Factor float64
	Of     Base
	Text   string
}

// BoundPattern is the regular expression of a Bound.
const BoundPattern = `^-?[0-9]+(\.[0-9]+)?( ?x (start|reference))?$`

var boundRE = regexp.MustCompile(BoundPattern)

func (b *Bound) ParseScalar(text string) error {
	if !boundRE.MatchString(text) {
		return fmt.Errorf("not a bound")
	}
	number, of, _ := strings.Cut(text, "x")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil || math.IsInf(v, 0) {
		return fmt.Errorf("not a number")
	}
	*b = Bound{Factor: v, Of: Base(strings.TrimSpace(of)), Text: text}
	return nil
}

func (*Bound) Expected() string {
	return "a number such as 250, or a multiple such as 0.5 x start or 1.2 x reference"
}

// MarshalText writes the bound as it stood in the file.
func (b Bound) MarshalText() ([]byte, error) { return []byte(b.Text), nil }

// UnmarshalText reads what MarshalText wrote.
func (b *Bound) UnmarshalText(text []byte) error { return b.ParseScalar(string(text)) }

// Compiled is the pattern, ready to be used; nil where there is none. The
// reader of task files has made sure that it can be compiled.
func (n *Number) Compiled() *regexp.Regexp {
	if n.Pattern == "" {
		return nil
	}
	re, err := regexp.Compile(n.Pattern)
	if err != nil || re.NumSubexp() < 1 {
		return nil
	}
	return re
}

// validate reports what is wrong with a list of checks under a key.
func validateChecks(doc *specfile.Document, key string, checks []Check) {
	seen := map[specfile.Slug]int{}
	for i := range checks {
		c := &checks[i]
		at := fmt.Sprintf("%s[%d]", key, i)
		if c.Reads == "" {
			c.Reads = ReadsExit
			if c.Number != nil {
				c.Reads = ReadsNumber
			}
		}
		if doc.Has(at+".run") && strings.TrimSpace(c.Run) == "" {
			doc.Add(at+".run", specfile.Quote(c.Run), "a command")
		}
		if c.Report != "" && (c.Reads != ReadsJUnit || strings.HasPrefix(c.Report, "/") || strings.Contains("/"+c.Report+"/", "/../")) {
			doc.Add(at+".report", specfile.Quote(c.Report), "a path inside the repository, together with reads: junit")
		}
		for key, name := range map[string]string{"coverage": c.Coverage, "findings": c.Findings} {
			if name != "" && (strings.HasPrefix(name, "/") || strings.Contains("/"+name+"/", "/../")) {
				doc.Add(at+"."+key, specfile.Quote(name), "a path inside the repository")
			}
		}
		if (c.Reads == ReadsNumber) != (c.Number != nil) {
			doc.Add(at+".number", "only one of the two", "reads: number together with number:, which says where the figure stands")
		}
		if n := c.Number; n != nil {
			if (n.Pattern == "") == (n.Pointer == "") {
				doc.Add(at+".number", "neither or both of pattern and pointer", "one of them")
			}
			if n.Pattern != "" && n.Compiled() == nil {
				doc.Add(at+".number.pattern", specfile.Quote(n.Pattern), "a regular expression (RE2) with a group around the figure, such as took ([0-9.]+) ms")
			}
			if n.Pointer != "" && !strings.HasPrefix(n.Pointer, "/") {
				doc.Add(at+".number.pointer", specfile.Quote(n.Pointer), "a JSON Pointer, which begins with /")
			}
			if t := n.Times(); t < 1 || t > maxRepeat {
				doc.Add(at+".number.repeat", fmt.Sprint(t), fmt.Sprintf("a whole number from 1 to %d", maxRepeat))
			}
		}
		if c.Name == "" {
			continue
		}
		if first, dup := seen[c.Name]; dup {
			doc.Add(at+".name", specfile.Quote(string(c.Name)), fmt.Sprintf("a name of its own (%s[%d] has it already)", key, first))
		}
		seen[c.Name] = i
	}
}
