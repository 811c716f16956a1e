// Package specfile reads the files that people write for Agonometer: strict
// YAML (alone, or as the front matter of a Markdown file) into Go structs.
//
// Reading never stops at the first mistake. Every problem is collected with its
// file, line, key, what was found and what was expected, so that a file can be
// mended in one go. The package computes only: it is given bytes and names.
package specfile

import (
	"fmt"
	"sort"
	"strings"
)

// Problem is one thing that is wrong with a file, in words for its author.
type Problem struct {
	// File is the path as the author named it.
	File string `json:"file"`
	// Line counts from 1; 0 when the problem belongs to the file as a whole.
	Line int `json:"line,omitempty"`
	// Key is the dotted path of the key, such as "checks[1].run"; empty for the whole file.
	Key string `json:"key,omitempty"`
	// Found is what stands there, shortened; Expected is what would be right.
	Found    string `json:"found"`
	Expected string `json:"expected"`
}

// String is the one-line form: file:line: key: found …, expected ….
func (p Problem) String() string {
	var b strings.Builder
	b.WriteString(p.File)
	if p.Line > 0 {
		fmt.Fprintf(&b, ":%d", p.Line)
	}
	b.WriteString(": ")
	if p.Key != "" {
		fmt.Fprintf(&b, "%s: ", p.Key)
	}
	fmt.Fprintf(&b, "found %s, expected %s", p.Found, p.Expected)
	return b.String()
}

// Problems is the error that carries everything found wrong.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

// Sort orders problems by file, line and key.
func (ps Problems) Sort() {
	sort.SliceStable(ps, func(i, j int) bool {
		a, b := ps[i], ps[j]
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Key < b.Key
	})
}

// Err returns the problems as an error, or nil when there are none.
func (ps Problems) Err() error {
	if len(ps) == 0 {
		return nil
	}
	return ps
}

// maxShown is how many bytes of a found value a message repeats.
const maxShown = 60

// Quote renders a found value for a message: quoted, control characters
// escaped, and shortened.
func Quote(s string) string {
	if len(s) > maxShown {
		cut := maxShown
		for cut > 0 && s[cut]&0xC0 == 0x80 {
			cut--
		}
		return fmt.Sprintf("%q…", s[:cut])
	}
	return fmt.Sprintf("%q", s)
}
