package task

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/specfile"
)

// Wording is one way to say a brief.
type Wording struct {
	// Name is "" where a task has but one.
	Name  specfile.Slug `json:"name"`
	Words string        `json:"words"`
}

var wordingRE = regexp.MustCompile(`^##[ \t]+wording:[ \t]*(.*?)[ \t]*$`)

// readWordings splits the prose of a task at its headings `## wording: name`,
// code fences aside. What stands before the first heading stands before every
// wording. A plain brief is one wording without a name.
func readWordings(prose string) (out []Wording, badNames []string) {
	var shared strings.Builder
	into, fence := &shared, ""
	var bodies []*strings.Builder
	for line := range strings.SplitAfterSeq(prose, "\n") {
		text := strings.TrimSuffix(line, "\n")
		switch mark := fenceOf(text); {
		case fence == "" && mark != "":
			fence = mark
		case fence != "" && strings.HasPrefix(mark, fence) && strings.TrimLeft(strings.TrimSpace(text), fence[:1]) == "":
			fence = ""
		}
		m := wordingRE.FindStringSubmatch(text)
		if m == nil || fence != "" {
			into.WriteString(line)
			continue
		}
		var name specfile.Slug
		if name.ParseScalar(m[1]) != nil || slices.ContainsFunc(out, func(w Wording) bool { return w.Name == name }) {
			badNames = append(badNames, m[1])
		}
		out = append(out, Wording{Name: name})
		into = &strings.Builder{}
		bodies = append(bodies, into)
	}
	if len(out) == 0 {
		return []Wording{{Words: strings.TrimSpace(prose)}}, nil
	}
	for i := range out {
		words := strings.TrimSpace(bodies[i].String())
		if s := strings.TrimSpace(shared.String()); s != "" && words != "" {
			words = s + "\n\n" + words
		}
		out[i].Words = words
	}
	return out, badNames
}

// fenceOf is the mark of a line that opens or closes a code fence, or "".
func fenceOf(line string) string {
	t := strings.TrimLeft(line, " ")
	for _, c := range []string{"`", "~"} {
		if n := len(t) - len(strings.TrimLeft(t, c)); n >= 3 && len(line)-len(t) <= 3 {
			return t[:n]
		}
	}
	return ""
}

// Words are those of one wording; ok is false where there is none of the name.
// The empty name means the first.
func (t *Task) Words(wording string) (words string, ok bool) {
	for _, w := range t.Wordings {
		if string(w.Name) == wording || wording == "" {
			return w.Words, true
		}
	}
	return "", false
}

// readBrief reads the prose of a task.
func (t *Task) readBrief(doc *specfile.Document, shown string, data []byte, prose string) {
	if before, rest, found := strings.Cut(prose, DraftedRemark); found {
		if _, after, ended := strings.Cut(rest, "-->"); ended {
			prose, t.remarked = before+after, true
		}
	}
	wordings, bad := readWordings(prose)
	t.Wordings = wordings
	t.Brief = wordings[0].Words
	lines := strings.Count(string(data), "\n") + 1
	for _, name := range bad {
		doc.Problems = append(doc.Problems, specfile.Problem{File: shown, Line: headingLine(data, name), Found: "the wording " + specfile.Quote(name), Expected: "a name of its own of lower-case letters, digits and hyphens"})
	}
	for _, w := range wordings {
		if w.Words != "" {
			continue
		}
		found, line := "no brief", lines
		if w.Name != "" {
			found, line = "no words under the wording "+string(w.Name), headingLine(data, string(w.Name))
		}
		doc.Problems = append(doc.Problems, specfile.Problem{File: shown, Line: line, Found: found, Expected: "the words for the contender below the front matter"})
	}
}

func headingLine(data []byte, name string) int {
	n := 0
	for line := range strings.SplitSeq(string(data), "\n") {
		n++
		if m := wordingRE.FindStringSubmatch(strings.TrimSuffix(line, "\r")); m != nil && m[1] == name {
			return n
		}
	}
	return 0
}

// Attached is a file that goes with a brief.
type Attached struct {
	// Name is the file's base name, under which it lies beside the brief.
	Name string
	Data []byte
}

// The bounds of attachments.
const (
	MaxAttachments = 20
	maxAttachment  = 32 << 20
)

// readAttachments takes the attached files from the bundle.
func (t *Task) readAttachments(doc *specfile.Document, files map[string][]byte) {
	if len(t.Attachments) > MaxAttachments {
		doc.Add("attachments", fmt.Sprint(len(t.Attachments)), fmt.Sprintf("at most %d files", MaxAttachments))
		return
	}
	for i, name := range t.Attachments {
		key := fmt.Sprintf("attachments[%d]", i)
		data, ok := files[specfile.Resolve(t.File, name)]
		base := path.Base(name)
		switch {
		case name == "" || !ok:
			doc.Add(key, specfile.Quote(name)+" (no such file)", "a file that exists, its path relative to "+path.Base(t.File))
		case len(data) > maxAttachment:
			doc.Add(key, fmt.Sprintf("%d bytes", len(data)), fmt.Sprintf("at most %d", maxAttachment))
		case slices.ContainsFunc(t.Attached, func(a Attached) bool { return a.Name == base }):
			doc.Add(key, specfile.Quote(base)+" a second time", "a name of its own")
		default:
			t.Attached = append(t.Attached, Attached{base, data})
			t.named = append(t.named, []byte(base), data)
		}
	}
}

// Mention adds to words a line that names the files that go with them.
func Mention(words string, paths []string) string {
	if len(paths) == 0 {
		return words
	}
	return words + "\n\nWith it go these files: " + strings.Join(paths, ", ")
}
