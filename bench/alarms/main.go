// Command alarms runs the detectors of edit measures over two versions of a project
// that lie next to each other, such as two versions of a module in a package cache, and
// prints what they report, for a person to read: a released change has been reviewed,
// so most of what is reported in it is a false alarm, or at least nothing to act on.
//
//	go run ./bench/alarms [-each 20] [-seed 1] OLD NEW [OLD NEW ...]
//
// It prints the counts per kind and a sample of each kind with its lines. With -json
// every finding is a line of JSON.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/protect"
	"agonometer/internal/core/verdict"
)

// read counts the words of prose that claims were looked for in.
var read int

type alarm struct {
	Pair string `json:"pair"`
	patch.Finding
	around string
}

func main() {
	each := flag.Int("each", 20, "how many of each kind to print")
	seed := flag.Uint64("seed", 1, "which ones")
	asJSON := flag.Bool("json", false, "every finding as a line of JSON")
	only := flag.String("only", "", "one kind, such as leftovers/todo")
	flag.Parse()
	if flag.NArg() == 0 || flag.NArg()%2 != 0 {
		fmt.Fprintln(os.Stderr, "usage: alarms [-each N] OLD NEW [OLD NEW ...]")
		os.Exit(2)
	}
	byKind := map[string][]alarm{}
	files, lines := 0, 0
	for i := 0; i < flag.NArg(); i += 2 {
		found, m, err := measure(flag.Arg(i), flag.Arg(i+1))
		if err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", flag.Arg(i+1), err)
			os.Exit(1)
		}
		f, _ := m.Figure("files")
		added, _ := m.Figure("lines_added")
		removed, _ := m.Figure("lines_removed")
		files, lines = files+int(f), lines+int(added+removed)
		for _, a := range found {
			byKind[a.Measure+"/"+a.Kind] = append(byKind[a.Measure+"/"+a.Kind], a)
		}
	}
	kinds := make([]string, 0, len(byKind))
	for k := range byKind {
		kinds = append(kinds, k)
	}
	slices.Sort(kinds)
	if !*asJSON {
		fmt.Printf("%d pairs, %d changed files, %d changed lines, %d words of prose\n", flag.NArg()/2, files, lines, read)
	}
	dice := rand.New(rand.NewPCG(*seed, 0))
	for _, k := range kinds {
		all := byKind[k]
		if *asJSON {
			for _, a := range all {
				_ = json.NewEncoder(os.Stdout).Encode(a)
			}
			continue
		}
		fmt.Printf("%6d  %s\n", len(all), k)
		if *only != "" && *only != k {
			continue
		}
		dice.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		for _, a := range all[:min(*each, len(all))] {
			fmt.Printf("        %s %s:%d (%s) %s\n", filepath.Base(a.Pair), a.Path, a.Line, a.Why, a.Text)
			if a.around != "" && *only != "" {
				fmt.Print(a.around)
			}
		}
	}
}

// measure takes the change from one folder to another as git sees it.
func measure(before, after string) ([]alarm, *patch.Measures, error) {
	scratch, err := os.MkdirTemp("", "alarms")
	if err != nil {
		return nil, nil, err
	}
	defer os.RemoveAll(scratch)
	git := func(tree string, args ...string) ([]byte, error) {
		cmd := exec.Command("git", append([]string{"--git-dir=" + filepath.Join(scratch, "g"), "-c", "user.name=a", "-c", "user.email=a@averil.example", "-c", "core.autocrlf=false"}, args...)...)
		cmd.Dir = scratch
		if tree != "" {
			cmd.Env = append(os.Environ(), "GIT_WORK_TREE="+tree)
		}
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		if err != nil {
			return nil, fmt.Errorf("git %s: %w: %s", args[0], err, errs.Bytes())
		}
		return out, nil
	}
	if _, err := git("", "init", "--quiet", "--bare", filepath.Join(scratch, "g")); err != nil {
		return nil, nil, err
	}
	var trees []string
	for _, dir := range []string{before, after} {
		dir, err := filepath.Abs(dir)
		if err != nil {
			return nil, nil, err
		}
		if _, err := git(dir, "-C", dir, "add", "-A", "--force", "."); err != nil {
			return nil, nil, err
		}
		id, err := git("", "write-tree")
		if err != nil {
			return nil, nil, err
		}
		trees = append(trees, strings.TrimSpace(string(id)))
	}
	diff, err := git("", "diff", "--binary", "--full-index", "-M", trees[0], trees[1])
	if err != nil {
		return nil, nil, err
	}
	folder := map[patch.Side]string{patch.Before: before, patch.After: after}
	content := func(side patch.Side, name string) []byte {
		data, err := os.ReadFile(filepath.Join(folder[side], filepath.FromSlash(name)))
		if err != nil {
			return nil
		}
		return data
	}
	isTest := func(name string) bool { return protect.IsTest(nil, name) }
	names, err := git("", "ls-tree", "-r", "-z", "--name-only", trees[0])
	if err != nil {
		return nil, nil, err
	}
	start := strings.Split(string(bytes.TrimRight(names, "\x00")), "\x00")
	index := patch.NewIndex()
	for _, name := range start {
		if patch.Indexed(name) && !isTest(name) {
			index.Add(name, content(patch.Before, name))
		}
	}
	m, err := patch.MeasureEdits(&patch.Input{Diff: diff, Start: start, Read: content, IsTest: isTest, Index: index})
	if err != nil {
		return nil, nil, err
	}
	if err := claims(m, diff, after); err != nil {
		return nil, nil, err
	}
	var out []alarm
	for _, f := range m.Findings {
		a := alarm{Pair: after, Finding: f}
		if f.Measure == "claims" {
			out = append(out, a)
			continue
		}
		lines := strings.Split(string(content(f.Side, f.Path)), "\n")
		if f.Line > 0 && f.Line <= len(lines) {
			var b strings.Builder
			for n := max(1, f.Line-3); n <= min(len(lines), f.Line+4); n++ {
				mark := ' '
				if n == f.Line {
					mark = '>'
				}
				fmt.Fprintf(&b, "            %c%5d %.140s\n", mark, n, lines[n-1])
			}
			if f.Other != nil { // what is repeated, whole, and where it stands too
				b.Reset()
				for _, p := range []patch.Place{f.Place, *f.Other} {
					fmt.Fprintf(&b, "            %s:%d-%d\n", p.Path, p.Line, p.End)
					text := strings.Split(string(content(p.Side, p.Path)), "\n")
					for n := p.Line; n <= min(p.End, p.Line+30, len(text)); n++ {
						fmt.Fprintf(&b, "            %6d %.140s\n", n, text[n-1])
					}
				}
			}
			a.around = b.String()
		}
		out = append(out, a)
	}
	return out, m, nil
}

// claims reads the project's own prose as if each file were the closing message of a
// change whose tests failed: none of it is one, so whatever is found is a false alarm.
func claims(m *patch.Measures, diff []byte, folder string) error {
	files, err := patch.Parse(diff, 0)
	if err != nil {
		return err
	}
	failed := false
	said := verdict.Said{Passed: &failed, AllPassed: &failed}
	for _, f := range files {
		said.Changed = append(said.Changed, f.Path)
	}
	var prose []string
	err = filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(folder, name)
		said.Start = append(said.Start, filepath.ToSlash(rel))
		if strings.HasSuffix(name, ".md") {
			prose = append(prose, name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, name := range prose {
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		said.Message = string(data)
		read += len(bytes.Fields(data))
		found, _ := verdict.Claims(said)
		for _, f := range found {
			if f.Kind != "file-left-out" { // what prose leaves out says nothing
				m.Findings = append(m.Findings, f)
			}
		}
	}
	return nil
}
