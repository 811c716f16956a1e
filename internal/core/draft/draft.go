// Package draft writes a task from a commit of a repository's own history: what
// its message says becomes the brief, its tests are sealed, the rest of it is
// the reference patch.
package draft

import (
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"

	"agonometer/internal/core/protect"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
)

// From is a commit with what a draft needs of it.
type From struct {
	// Repository is its address as the task is to name it.
	Repository string
	// Start is the full id of its parent, or task.Nothing; Commit is its own.
	Start, Commit string
	Message       string
	// Changed maps the paths that it changed to what it left there; nil for what it deleted.
	Changed map[string][]byte
	// Files are the paths of its tree.
	Files []string
	// Reference is the patch of Source.
	Reference []byte
	// Name is the task's slug; "" makes one of the message.
	Name string
	// Read gives the content of a file of its tree, Find tells whether a program is on the
	// machine; nil where neither is known.
	Read func(name string) []byte
	Find func(program string) bool
}

// Draft is a task as it was drafted: files by their path below its folder.
type Draft struct {
	Name  string
	Main  string
	Files map[string][]byte
	Notes []string
}

// Source lists the changed paths that are no tests, sorted.
func (f *From) Source() []string { return f.pick(false) }

func (f *From) pick(tests bool) []string {
	var out []string
	for name := range f.Changed {
		if protect.IsTest(nil, name) == tests {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

func (f *From) name() string {
	if f.Name != "" {
		return f.Name
	}
	subject, _, _ := strings.Cut(f.Message, "\n")
	s := strings.Trim(notSlug.ReplaceAllString(strings.ToLower(subject), "-"), "-")
	if len(s) > 48 {
		s = strings.Trim(s[:48], "-")
		if cut := strings.LastIndexByte(s, '-'); cut > 20 {
			s = s[:cut]
		}
	}
	if s == "" {
		s = "commit-" + f.Commit[:min(12, len(f.Commit))]
	}
	return s
}

// Write writes the draft. Which tests are goals is left to be found out by
// running both sides.
func Write(f From) Draft {
	out := Draft{Name: f.name(), Files: map[string][]byte{}}
	out.Main = out.Name + ".md"
	f.Message = plain(f.Message)
	subject, body, _ := strings.Cut(f.Message, "\n")
	if strings.TrimSpace(subject) == "" {
		subject = "What commit " + f.Commit[:min(12, len(f.Commit))] + " did"
	}
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("---")
	line("task: %s", out.Name)
	line("title: %s", quote(subject))
	line("repository: %s", quote(f.Repository))
	line("start_commit: %s", quote(f.Start))
	if source := f.Source(); len(source) > 0 {
		line("scope: %s", list(scope(source)))
		line("reference_patch: %s.patch", out.Name)
		out.Files[out.Name+".patch"] = f.Reference
	} else {
		out.Notes = append(out.Notes, "the commit changed nothing but tests: there is no reference patch, and the task cannot be proved")
	}
	f.sealed(&out, line)
	p := f.projectOf()
	if p.prepare != "" && f.Start != task.Nothing {
		line("prepare: %s", quote(p.prepare))
	}
	line("brief: %s", task.BriefDrafted)
	line("checks:")
	for _, c := range p.checks {
		line("  - name: %s", c[0])
		line("    run: %s", quote(c[1]))
		if c[2] != "" {
			line("    reads: %s", c[2])
		}
		if c[3] != "" {
			line("    report: %s", c[3])
		}
	}
	out.Notes = append(out.Notes, p.how)
	for _, program := range p.needs {
		if f.Find != nil && !f.Find(program) {
			out.Notes = append(out.Notes, program+" is not on the service's PATH: install it, or nothing can be tested")
		}
	}
	line("---")
	line("%s it is the message of commit %s, which says what was done.", task.DraftedRemark, f.Commit[:min(12, len(f.Commit))])
	line("     A brief says what is wanted, to somebody who has not seen the answer. Then take out this and `brief: %s`. -->", task.BriefDrafted)
	line("")
	line("%s", strings.TrimSpace(subject))
	if body = strings.TrimSpace(body); body != "" {
		line("")
		line("%s", body)
	}
	out.Files[out.Main] = []byte(b.String())
	return out
}

func (f *From) sealed(out *Draft, line func(string, ...any)) {
	var deleted []string
	laid := 0
	for _, name := range f.pick(true) {
		if f.Changed[name] == nil {
			deleted = append(deleted, name)
			continue
		}
		laid++
		out.Files[out.Name+".sealed/"+name] = f.Changed[name]
	}
	if laid+len(deleted) == 0 {
		out.Notes = append(out.Notes, "the commit changed no tests: the goals can only be checks that you add")
		return
	}
	line("sealed:")
	if laid > 0 {
		line("  folder: %s.sealed", out.Name)
	}
	if len(deleted) > 0 {
		line("  delete: %s", list(deleted))
	}
}

// scope makes patterns of the folders that were touched.
func scope(names []string) []string {
	var out []string
	for _, name := range names {
		p := name
		if dir := path.Dir(name); dir != "." {
			p = dir + "/**"
		}
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

// WithGoals puts the names of the goal tests into a drafted task's front matter,
// and says how many guards there are.
func WithGoals(main []byte, goals []string, guards int) []byte {
	var b strings.Builder
	if len(goals) > 0 {
		b.WriteString("goal:\n")
		for _, n := range goals {
			fmt.Fprintf(&b, "  - %s\n", quote(n))
		}
	}
	fmt.Fprintf(&b, "# guards: the %d tests that pass before and after; name some under guard: to narrow them down\n", guards)
	return []byte(strings.Replace(string(main), "\nchecks:\n", "\n"+b.String()+"checks:\n", 1))
}

func list(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = quote(n)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

// plain takes what is no text out of a message: bytes that are not UTF-8 and
// control characters.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}

// quote writes a text as YAML: JSON strings are YAML's double-quoted ones.
func quote(s string) string {
	s = strings.ToValidUTF8(strings.TrimSpace(s), "\ufffd")
	var b strings.Builder
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(s); err != nil {
		return specfile.Quote(s)
	}
	return strings.TrimSpace(b.String())
}
