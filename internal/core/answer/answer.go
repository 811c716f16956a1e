// Package answer examines the reply to a question: which of the wanted facts it
// holds, and which of those that must not be there.
package answer

import (
	"fmt"
	"math"
	"path"
	"regexp"
	"strconv"
	"strings"

	"agonometer/internal/core/task"
)

// Examined is one fact, looked for in a reply.
type Examined struct {
	Fact string `json:"fact"`
	// Reached tells whether the reply is as wanted.
	Reached bool `json:"reached"`
	// Words say what was found, or what was not.
	Words string `json:"words"`
}

// Lines tells how many lines a file of the start commit has; false where there
// is no such file. A path without a folder may be found in any.
type Lines func(name string) (int, bool)

// Examine looks for every fact. Case, and how lines are broken, do not matter
// for words; numbers may be written with a decimal comma or with separators of
// thousands left out.
func Examine(facts []task.Fact, reply string, lines Lines) []Examined {
	out := make([]Examined, 0, len(facts))
	plain := fold(reply)
	for i := range facts {
		f := &facts[i]
		found, words := look(f, reply, plain, lines)
		e := Examined{Fact: string(f.Name), Reached: found != f.Absent, Words: words}
		if f.Absent && found {
			e.Words = "must not be there: " + words
		}
		out = append(out, e)
	}
	return out
}

func fold(s string) string { return strings.Join(strings.Fields(strings.ToLower(s)), " ") }

func look(f *task.Fact, reply, plain string, lines Lines) (bool, string) {
	switch {
	case f.Text != "":
		return strings.Contains(plain, fold(f.Text)), fmt.Sprintf("%q", f.Text)
	case len(f.AnyOf) > 0:
		for _, words := range f.AnyOf {
			if strings.Contains(plain, fold(words)) {
				return true, fmt.Sprintf("%q", words)
			}
		}
		return false, fmt.Sprintf("none of %q", f.AnyOf)
	case f.Matches != "":
		re, err := regexp.Compile(f.Matches)
		if err != nil {
			return false, err.Error()
		}
		if at := re.FindString(reply); at != "" {
			return true, fmt.Sprintf("%.80q", at)
		}
		return re.MatchString(reply), "/" + f.Matches + "/"
	case f.Number != nil:
		within := 0.0
		if f.Within != nil {
			within = float64(*f.Within)
		}
		return number(reply, float64(*f.Number), within)
	case f.References != nil:
		return references(reply, *f.References, lines)
	}
	return false, "nothing to look for"
}

var numberRE = regexp.MustCompile(`[-−]?[0-9]+(?:[.,][0-9]+)*`)

// number looks for a number within a tolerance of want.
func number(reply string, want, within float64) (bool, string) {
	nearest, found := math.Inf(1), ""
	for _, at := range numberRE.FindAllStringIndex(reply, 10_000) {
		text := strings.ReplaceAll(reply[at[0]:at[1]], "−", "-")
		if at[0] > 0 && text[0] == '-' && isWord(reply[at[0]-1]) {
			text = text[1:] // a hyphen inside a word or a date
		}
		for _, v := range readings(text) {
			if d := math.Abs(v - want); d < nearest {
				nearest, found = d, text
			}
		}
	}
	tolerance := within + 1e-9*math.Max(1, math.Abs(want))
	if nearest <= tolerance {
		return true, found
	}
	words := fmt.Sprintf("no number within %g of %g", within, want)
	if found != "" {
		words += "; the nearest is " + found
	}
	return false, words
}

func isWord(b byte) bool {
	return b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
}

// readings are the numbers that a text can mean: 1,234 is a thousand or a bit more than one.
func readings(text string) []float64 {
	var out []float64
	add := func(s string) {
		if v, err := strconv.ParseFloat(s, 64); err == nil {
			out = append(out, v)
		}
	}
	add(text)
	if strings.Contains(text, ",") {
		add(strings.ReplaceAll(text, ",", ""))
		if strings.Count(text, ",") == 1 && !strings.Contains(text, ".") {
			add(strings.Replace(text, ",", ".", 1))
		}
	}
	return out
}

// referenceRE finds places in files: path:12, path:12-20, path:12:3, path#L12.
var referenceRE = regexp.MustCompile(`([A-Za-z0-9_][A-Za-z0-9_./-]*\.[A-Za-z0-9]{1,10})(?::|#L)([0-9]{1,7})(?:-L?([0-9]{1,7}))?`)

func references(reply string, least int, lines Lines) (bool, string) {
	seen := map[string]bool{}
	for _, m := range referenceRE.FindAllStringSubmatch(reply, 2000) {
		if seen[m[0]] {
			continue
		}
		name := path.Clean(m[1])
		n, ok := lines(name)
		if !ok {
			if !strings.Contains(name, "/") && !strings.Contains(m[1], "/") && looksLikeHost(name) {
				continue // a host and a port, or a time
			}
			return false, m[0] + ": there is no such file"
		}
		seen[m[0]] = true
		for _, text := range m[2:] {
			if line, err := strconv.Atoi(text); err == nil && (line < 1 || line > n) {
				return false, fmt.Sprintf("%s: the file has %d lines", m[0], n)
			}
		}
	}
	if len(seen) < least {
		return false, fmt.Sprintf("%d places in files are named, %d were wanted", len(seen), least)
	}
	return true, fmt.Sprintf("%d places in files, all of them there", len(seen))
}

// looksLikeHost tells names whose ending is no file's: 127.0.0.1:80.
func looksLikeHost(name string) bool {
	ending := name[strings.LastIndexByte(name, '.')+1:]
	return strings.Trim(ending, "0123456789") == ""
}
