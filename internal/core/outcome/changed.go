package outcome

import (
	"regexp"
	"slices"
	"strings"
)

// ChangedTests picks those of some tests, by name, whose text is not the same in two
// versions of a file of tests. It knows no language: a test's text begins in the line that
// first has its name as a word, or in quotes, and ends before the next line that is
// indented as little. What is not found in both versions is not picked, nor are single
// cases of a test.
func ChangedTests(was, now string, names []string) []string {
	before, after := strings.Split(was, "\n"), strings.Split(now, "\n")
	var out []string
	for _, name := range names {
		word := testWord(name)
		if word == "" {
			continue
		}
		old, said := textOf(before, word), textOf(after, word)
		if old != "" && said != "" && old != said {
			out = append(out, name)
		}
	}
	return out
}

var identifierRE = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// testWord is what stands in a file of tests where the test of a name does: the function's
// name, or its title.
func testWord(name string) string {
	if i := strings.LastIndex(name, " > "); i >= 0 {
		return name[i+len(" > "):]
	}
	last := name[strings.LastIndexByte(name, ' ')+1:]
	if i := strings.LastIndex(last, "::"); i >= 0 {
		last = last[i+2:]
	}
	if identifierRE.MatchString(last) {
		return last
	}
	if strings.ContainsAny(last, "/[") && !strings.Contains(name, " ") {
		return ""
	}
	if strings.ContainsAny(last, "/[") && identifierRE.MatchString(strings.FieldsFunc(last, func(r rune) bool { return r == '/' || r == '[' })[0]) {
		return "" // a single case
	}
	return name
}

func isWordByte(b byte) bool {
	return b == '_' || b >= '0' && b <= '9' || b >= 'A' && b <= 'Z' || b >= 'a' && b <= 'z'
}

// hasWord tells whether a line has a word as a whole.
func hasWord(line, word string) bool {
	for from := 0; ; {
		i := strings.Index(line[from:], word)
		if i < 0 {
			return false
		}
		i += from
		end := i + len(word)
		if (i == 0 || !isWordByte(line[i-1])) && (end == len(line) || !isWordByte(line[end])) {
			return true
		}
		from = i + 1
	}
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

// textOf is the text of the test that a word names, its white space evened out; "" for none.
func textOf(lines []string, word string) string {
	start := slices.IndexFunc(lines, func(l string) bool { return hasWord(l, word) })
	if start < 0 {
		return ""
	}
	indent := indentOf(lines[start])
	text := []string{lines[start]}
	for _, l := range lines[start+1:] {
		said := strings.TrimSpace(l)
		if said != "" && indentOf(l) <= indent {
			if strings.Trim(said, ")}];,") == "" || said == "end" {
				text = append(text, l)
			}
			break
		}
		text = append(text, l)
	}
	return strings.Join(strings.Fields(strings.Join(text, "\n")), " ")
}
