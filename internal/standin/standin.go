// Package standin is the simulated tools that ship with Agonometer: real
// programs, started like any tool of a terminal, that read a brief, look
// through files, think for a while, edit, may run the tests, and print what
// they did. What each one does follows from a playbook, its character and a
// seed, so that repeats differ and the whole is reproducible.
package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"time"

	"github.com/bluekeyes/go-gitdiff/gitdiff"
	"go.yaml.in/yaml/v3"
)

// Character is how a stand-in works.
type Character struct {
	Name, About string
	// Think is the shortest and the longest pause between two steps.
	Think [2]time.Duration
	// Looks is the share of the playbook's files that it reads, from 0 to 1.
	Looks float64
	// Tests is how likely it runs the tests, Hangs how likely it never ends.
	Tests, Hangs float64
	// Ways are the solutions that it may choose, with their likelihoods.
	Ways []Way
}

// Way is a solution of a playbook and how likely it is chosen.
type Way struct {
	Patch string
	Share float64
}

// Characters are the stand-ins, named after shore birds.
func Characters() []Character {
	ms := func(a, b int) [2]time.Duration {
		return [2]time.Duration{time.Duration(a) * time.Millisecond, time.Duration(b) * time.Millisecond}
	}
	return []Character{
		{Name: "turnstone", About: "careful: reads before it writes, adds tests, runs them", Think: ms(70, 190), Looks: 1, Tests: 1,
			Ways: []Way{{"careful", 0.9}, {"lucky", 0.1}}},
		{Name: "sanderling", About: "hasty: quick, runs no tests, breaks something nearby, and sometimes never ends", Think: ms(40, 120), Looks: 0.4, Hangs: 0.15,
			Ways: []Way{{"hasty", 0.5}, {"lucky", 0.5}}},
		{Name: "whimbrel", About: "sprawling: right, but all over the place", Think: ms(80, 210), Looks: 0.8, Tests: 0.5,
			Ways: []Way{{"sprawling", 1}}},
	}
}

// Plan is what a stand-in will do in one bout.
type Plan struct {
	Patch        string
	Tests, Hangs bool
}

// Decide draws a plan: the same seed gives the same one.
func (c Character) Decide(seed uint64) Plan {
	rng := rand.New(rand.NewPCG(seed, 1))
	p := Plan{Hangs: rng.Float64() < c.Hangs, Tests: rng.Float64() < c.Tests, Patch: c.Ways[len(c.Ways)-1].Patch}
	roll := rng.Float64()
	for _, w := range c.Ways {
		if roll < w.Share {
			p.Patch = w.Patch
			break
		}
		roll -= w.Share
	}
	return p
}

// Find returns the character of a name.
func Find(name string) (Character, error) {
	var names []string
	for _, c := range Characters() {
		if c.Name == name {
			return c, nil
		}
		names = append(names, c.Name)
	}
	return Character{}, fmt.Errorf("there is no stand-in %q; there are %s", name, strings.Join(names, ", "))
}

// Playbook is what the stand-ins know about one task.
type Playbook struct {
	Name string `yaml:"name"`
	// Words are those by which its brief is recognised.
	Words []string `yaml:"words"`
	// LooksAt are the files worth reading.
	LooksAt []string `yaml:"looks"`
	// Test is the command that runs the project's tests.
	Test []string `yaml:"test"`
}

// Run is one stand-in at work.
type Run struct {
	Character Character
	Brief     string
	Seed      uint64
	// Dir is the workspace.
	Dir string
	Out io.Writer
	// Playbooks holds playbooks.yaml and a folder of patches for each.
	Playbooks fs.FS
	// Scale stretches all pauses; 1 is as the character has them.
	Scale float64
	// Home is where it remembers what it is working on, for a later round; "" remembers nothing.
	Home string
	// Answer is a file, relative to Dir, for its closing message; "" prints it.
	Answer string
}

// memory is what a stand-in keeps between rounds.
type memory struct {
	Book, Patch string
}

func (r Run) memoryFile() string { return filepath.Join(r.Home, ".shorebird.json") }

func (r Run) remember(m memory) error {
	if r.Home == "" {
		return nil
	}
	data, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return os.WriteFile(r.memoryFile(), data, 0o644)
}

func (r Run) recall() (memory, bool) {
	var m memory
	data, err := os.ReadFile(r.memoryFile())
	return m, r.Home != "" && err == nil && json.Unmarshal(data, &m) == nil
}

// ErrLost says that no playbook fits the brief.
var ErrLost = errors.New("the brief is none that this stand-in knows")

// Do works on the brief until it is done or the context ends.
func (r Run) Do(ctx context.Context) error {
	plan := r.Character.Decide(r.Seed)
	rng := rand.New(rand.NewPCG(r.Seed, 2))
	think := func() error {
		span := r.Character.Think
		d := time.Duration(float64(span[0]+time.Duration(rng.Int64N(int64(span[1]-span[0]+1)))) * r.Scale)
		t := time.NewTimer(d)
		defer t.Stop()
		select {
		case <-t.C:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	say := func(format string, args ...any) { fmt.Fprintf(r.Out, format+"\n", args...) }

	first, _, _ := strings.Cut(strings.TrimSpace(r.Brief), "\n")
	say("%s: reading the brief: %s", r.Character.Name, first)
	book, err := r.recognise()
	if m, ok := r.recall(); ok && errors.Is(err, ErrLost) {
		return r.again(m, think, say)
	}
	if err != nil {
		say("I do not know what to do about this.")
		return err
	}
	if err := r.remember(memory{book.Name, plan.Patch}); err != nil {
		return err
	}
	if err := think(); err != nil {
		return err
	}
	for i, name := range book.LooksAt {
		if float64(i) >= r.Character.Looks*float64(len(book.LooksAt)) {
			break
		}
		data, err := os.ReadFile(filepath.Join(r.Dir, filepath.FromSlash(name)))
		if err != nil {
			return fmt.Errorf("look at %s: %w", name, err)
		}
		say("looked at %s (%d lines)", name, bytes.Count(data, []byte("\n")))
		if err := think(); err != nil {
			return err
		}
	}
	if plan.Hangs {
		say("hm, let me think about this once more ...")
		<-ctx.Done()
		return ctx.Err()
	}
	answer, err := fs.ReadFile(r.Playbooks, book.Name+"/"+plan.Patch+".answer")
	answered := err == nil
	err = r.edit(book.Name, plan.Patch, think, say)
	if err != nil && !(answered && errors.Is(err, fs.ErrNotExist)) {
		return err
	}
	if answered {
		if r.Answer != "" {
			return os.WriteFile(filepath.Join(r.Dir, filepath.FromSlash(r.Answer)), answer, 0o644)
		}
		say("%s", answer)
		return nil
	}
	if plan.Tests {
		say("running %s", strings.Join(book.Test, " "))
		cmd := exec.CommandContext(ctx, book.Test[0], book.Test[1:]...)
		cmd.Dir = r.Dir
		cmd.WaitDelay = time.Second
		if out, err := cmd.CombinedOutput(); err != nil {
			say("the tests fail:\n%s", out)
		} else {
			say("the tests pass")
		}
	}
	say("done.")
	return nil
}

// again is a later round: it mends what it made, where it knows how.
func (r Run) again(m memory, think func() error, say func(string, ...any)) error {
	say("looking at what I made again")
	if err := think(); err != nil {
		return err
	}
	err := r.edit(m.Book, m.Patch+"-again", think, say)
	if errors.Is(err, fs.ErrNotExist) {
		say("I see nothing wrong with it.")
		return nil
	}
	if err == nil {
		say("mended.")
	}
	return err
}

func (r Run) recognise() (*Playbook, error) {
	data, err := fs.ReadFile(r.Playbooks, "playbooks.yaml")
	if err != nil {
		return nil, err
	}
	var books []Playbook
	if err := yaml.Unmarshal(data, &books); err != nil {
		return nil, err
	}
	brief := strings.Join(strings.Fields(strings.ToLower(r.Brief)), " ")
	for i := range books {
		fits := true
		for _, w := range books[i].Words {
			fits = fits && strings.Contains(brief, strings.ToLower(w))
		}
		if fits {
			return &books[i], nil
		}
	}
	return nil, ErrLost
}

// edit carries out a solution file by file, as a tool that edits files does.
func (r Run) edit(book, patch string, think func() error, say func(string, ...any)) error {
	data, err := fs.ReadFile(r.Playbooks, book+"/"+patch+".patch")
	if err != nil {
		return err
	}
	changes, _, err := gitdiff.Parse(bytes.NewReader(data))
	if err != nil {
		return err
	}
	sort.SliceStable(changes, func(i, j int) bool { return changes[i].NewName < changes[j].NewName })
	for _, change := range changes {
		name := filepath.Join(r.Dir, filepath.FromSlash(change.NewName))
		var before []byte
		if !change.IsNew {
			if before, err = os.ReadFile(name); err != nil {
				return err
			}
		} else if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		var after bytes.Buffer
		if err := gitdiff.Apply(&after, bytes.NewReader(before), change); err != nil {
			return fmt.Errorf("edit %s: %w", change.NewName, err)
		}
		if err := os.WriteFile(name, after.Bytes(), 0o644); err != nil {
			return err
		}
		verb := "edited"
		if change.IsNew {
			verb = "wrote"
		}
		say("%s %s", verb, change.NewName)
		if err := think(); err != nil {
			return err
		}
	}
	return nil
}

// Main is the stand-in as a program: it returns the exit status.
func Main(r Run) int {
	// It ends when it is asked to, but a stand-in that hangs takes its time.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := r.Do(ctx); err != nil {
		fmt.Fprintln(os.Stderr, r.Character.Name+": "+err.Error())
		return 1
	}
	return 0
}
