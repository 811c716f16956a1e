package testlog

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var (
	tapTestRE = regexp.MustCompile(`^(not )?ok\b(?:\s+([0-9]{1,9}))?(?:\s+-)?(.*)$`)
	tapPlanRE = regexp.MustCompile(`^1\.\.([0-9]{1,9})\s*(?:#.*)?$`)
	// The time of a test, as several producers write it: in the diagnostics, or
	// behind the test's description.
	tapTimeRE = regexp.MustCompile(`^(?:duration_ms|time):\s*([0-9.eE+-]+)\s*$`)
	tapTailRE = regexp.MustCompile(`#\s*time=([0-9.]+)\s*(ms|s)\b`)
)

// maxTAPDepth is how deep subtests may lie in each other.
const maxTAPDepth = 64

// tapPoint is a test point that waits for the point around it: in TAP the
// subtests come first.
type tapPoint struct {
	path    []string // the names below the waiting level, outermost first
	outcome Outcome
	elapsed *int64
	message strings.Builder
	cut     bool
	// around is the point whose braces it stands in; nil for none.
	around *tapPoint
	// suite is set for a point that only sums up those in it: kids of them, failed some.
	suite        bool
	kids, failed int
}

// sumsUp tells whether a point is no test: a suite says what those in it came to. One that
// failed by itself is one.
func (p *tapPoint) sumsUp() bool {
	return p.suite && (p.kids > 0 || p.outcome != Failed) && (p.outcome != Failed || p.failed > 0)
}

// readTAP reads TAP 13 and 14, also several streams one after the other.
// Subtests are indented by four spaces for each level and stand before the point
// that sums them up. Where a stream begins with a remark behind its version, remarks name
// the test that the points behind them are assertions of. Lines that are none of TAP's are passed over. What is
// marked TODO counts as skipped, whether it passed or not.
func readTAP(c *collector, r io.Reader) (Report, error) {
	// levels[d] holds what was seen at depth d and has no parent yet.
	levels := make([][]*tapPoint, maxTAPDepth+1)
	opened := make([]*tapPoint, maxTAPDepth+1) // the point whose braces are open, by depth
	waiting, held := 0, 0                      // points, and bytes of their names and messages
	var last *tapPoint                         // diagnostics belong to it
	diagnostics := -1                          // the indentation of an open YAML block, or -1
	planned, seen := -1, 0
	points, recognised := 0, false
	var remarks []string
	fresh, grouped, group := false, false, "" // the stream has just begun; remarks name tests; the present one's name
	emit := func(p *tapPoint) {
		if p.sumsUp() {
			return
		}
		t := c.fresh(strings.Join(p.path, " > "))
		if t == nil {
			return
		}
		t.ended, t.outcome, t.elapsed = 1, p.outcome, p.elapsed
		if p.outcome != Passed {
			c.say(t, p.message.String())
			t.cut = t.cut || p.cut
		}
		c.done(t, false)
	}
	flushLevel := func(d int) {
		for _, p := range levels[d] {
			emit(p)
			waiting--
		}
		levels[d] = nil
		if waiting == 0 {
			held = 0
		}
	}
	// flush gives the points at depth d and deeper to the tests as they are.
	flush := func(d int) {
		for ; d < len(levels); d++ {
			flushLevel(d)
		}
	}
	endStream := func() {
		flush(0)
		if planned >= 0 && planned != seen {
			remarks = append(remarks, fmt.Sprintf("the plan was %d tests, and %d were seen", planned, seen))
		}
		planned, seen, last, diagnostics = -1, 0, nil, -1
		fresh, grouped, group = false, false, ""
		clear(opened)
	}
	readErr := eachLine(r, func(raw []byte) {
		line := string(raw)
		trimmed := strings.TrimLeft(line, " ")
		indent := len(line) - len(trimmed)
		if diagnostics >= 0 {
			if indent >= diagnostics && strings.TrimSpace(trimmed) != "..." {
				if last != nil && last.message.Len()+len(line) <= MaxMessage {
					if last.elapsed == nil {
						if m := tapTimeRE.FindStringSubmatch(trimmed); m != nil {
							last.elapsed = milliseconds(m[1])
						}
					}
					switch trimmed { // how one runner says that a point is none
					case "type: 'suite'":
						last.suite = true
					case "failureType: 'subtestsFailed'":
						last.kids, last.failed = last.kids+1, last.failed+1
					}
					last.message.WriteString(line[diagnostics:] + "\n")
					held += len(line) - diagnostics
				} else if last != nil {
					last.cut = true
				}
				return
			}
			diagnostics = -1
			if strings.TrimSpace(trimmed) == "..." {
				return
			}
		}
		depth := indent / 4
		if depth > maxTAPDepth {
			return
		}
		switch {
		case strings.HasPrefix(line, "TAP version 1"):
			endStream()
			recognised, fresh = true, true
		case strings.HasPrefix(trimmed, "Bail out!"):
			recognised = true
			why := strings.TrimSpace(strings.TrimPrefix(trimmed, "Bail out!"))
			if len(why) > 200 {
				why = why[:200]
			}
			remarks = append(remarks, strings.TrimSpace("the runner bailed out "+why))
		case trimmed == "---" && last != nil:
			diagnostics = indent
		case strings.HasPrefix(trimmed, "# Subtest"): // of a runner whose other remarks are what tests printed
			fresh, grouped, group = false, false, ""
		case strings.HasPrefix(line, "# ") && (fresh || grouped):
			fresh, grouped = false, true
			group = strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(line[2:], "SKIP "), "TODO "))
			group = strings.Clone(short(group))
		case strings.HasPrefix(trimmed, "# ") && last != nil && last.outcome == Failed && last.elapsed == nil:
			if last.message.Len()+len(trimmed) <= MaxMessage { // output of the test, as producers without diagnostics show it
				last.message.WriteString(trimmed[2:] + "\n")
				held += len(trimmed)
			}
		case trimmed == "}" && indent%4 == 0:
			opened[depth] = nil
		case indent%4 == 0 && tapPlanRE.MatchString(trimmed):
			recognised, fresh = true, false
			if depth == 0 {
				n, _ := strconv.Atoi(tapPlanRE.FindStringSubmatch(trimmed)[1])
				planned = max(planned, 0) + n
			}
		case indent%4 == 0:
			m := tapTestRE.FindStringSubmatch(trimmed)
			if m == nil || m[3] != "" && m[3][0] != ' ' && m[3][0] != '#' {
				return
			}
			points++
			fresh = false
			if depth == 0 {
				seen++
			}
			p := &tapPoint{outcome: Passed}
			if m[1] != "" {
				p.outcome = Failed
			}
			// Some producers put the subtests behind their point, in braces.
			said, braces := strings.CutSuffix(strings.TrimSpace(m[3]), " {")
			name, directive := splitTAP(said)
			switch upper := strings.ToUpper(directive); {
			case strings.HasPrefix(upper, "SKIP"), strings.HasPrefix(upper, "TODO"):
				p.outcome = Skipped
				p.message.WriteString(directive + "\n")
			}
			if t := tapTailRE.FindStringSubmatch(said); t != nil {
				p.elapsed = milliseconds(t[1])
				if t[2] == "s" && p.elapsed != nil {
					*p.elapsed *= 1000
				}
			}
			if name == "" {
				name = "test " + m[2]
				if m[2] == "" {
					name = fmt.Sprintf("test %d", points)
				}
			}
			name = strings.Clone(short(name)) // not the line that it stood in
			p.path = []string{name}
			if depth == 0 && group != "" && group != name {
				p.path = []string{group, name}
			}
			p.suite = braces
			last = p
			waiting++
			held += len(name)
			if inside := opened[max(depth-1, 0)]; depth > 0 && inside != nil {
				p.path = append(slices.Clone(inside.path), name)
				p.around = inside
				for up := inside; up != nil; up = up.around {
					up.kids++
					if p.outcome == Failed {
						up.failed++
					}
				}
				levels[0] = append(levels[0], p)
				if braces {
					opened[depth] = p
				}
				return
			}
			clear(opened[depth:])
			if braces {
				opened[depth] = p
			}
			if depth == 0 { // earlier points at the top are whole now, with their diagnostics
				flushLevel(0)
			}
			// What waits one level deeper are its subtests.
			if depth < maxTAPDepth {
				for _, child := range levels[depth+1] {
					child.path = append([]string{name}, child.path...)
					levels[depth] = append(levels[depth], child)
				}
				levels[depth+1] = nil
				flush(depth + 2)
			}
			levels[depth] = append(levels[depth], p)
			if waiting > MaxTests || held > maxMessages {
				flush(0)
				held = 0
			}
		}
	})
	endStream()
	out := c.report(nil)
	out.Remarks = append(out.Remarks, remarks...)
	if readErr == nil && !recognised && points == 0 {
		readErr = errors.New("no TAP in the output")
	}
	return out, readErr
}

// splitTAP takes the directive off a description: what follows a "#" that is
// not escaped, where it is SKIP, TODO or a time.
func splitTAP(s string) (name, directive string) {
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '#':
			rest := strings.TrimSpace(s[i+1:])
			upper := strings.ToUpper(rest)
			if strings.HasPrefix(upper, "SKIP") || strings.HasPrefix(upper, "TODO") || strings.HasPrefix(rest, "time=") {
				return unescapeTAP(strings.TrimSpace(s[:i])), rest
			}
		}
	}
	return unescapeTAP(s), ""
}

func unescapeTAP(s string) string {
	return strings.NewReplacer(`\\`, `\`, `\#`, `#`).Replace(s)
}

func milliseconds(s string) *int64 {
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || v < 0 || v > 1e12 {
		return nil
	}
	ms := int64(v + 0.5)
	return &ms
}
