// Package drive hands a brief to a contender and waits until it is done. Here
// is the one way that exists so far: a command that runs to its end.
package drive

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/specfile"
)

// HandOver is everything that one hand-over needs.
type HandOver struct {
	Contender *contender.Contender
	// Again is set in later rounds: the contender may have another command for them.
	Again bool
	Brief string
	Seed  specfile.Seed
	World confine.World
	Limit time.Duration
	// MeterURL stands for the model service; "" where the contender has no meter.
	MeterURL string
	// Started is called with the process once it runs; Stop, where something is
	// received from it, ends the tool.
	Started func(*confine.Process)
	Stop    <-chan struct{}
	// Output takes what the tool prints; Stdout, where it is not nil, its standard output in Output's place.
	Output, Stdout io.Writer
}

// MissingError says that something that the contender needs is not on this machine.
type MissingError struct{ What string }

func (e *MissingError) Error() string { return e.What }

// Command starts the contender's program with the brief and waits for its end.
func Command(ctx context.Context, h HandOver) (confine.Result, error) {
	ws, _, _, brief := h.World.Paths()
	values := map[contender.Placeholder]string{contender.Brief: h.Brief, contender.BriefFile: brief,
		contender.Workspace: ws, contender.Seed: fmt.Sprint(h.Seed), contender.MeterURL: h.MeterURL}
	run := h.Contender.Run
	if h.Again && len(h.Contender.RunAgain) > 0 {
		run = h.Contender.RunAgain
	}
	args := make([]string, len(run))
	for i, a := range run {
		args[i] = contender.Expand(a, values)
	}
	program, err := find(h.Contender, run[0], h.World.Path)
	if err != nil {
		return confine.Result{}, err
	}
	args[0] = program
	env := map[string]string{}
	for name, v := range h.Contender.Env {
		env[string(name)] = contender.Expand(v, values)
	}
	for _, name := range h.Contender.KeepEnv {
		if v, ok := os.LookupEnv(string(name)); ok {
			env[string(name)] = v
		}
	}
	var stdin io.Reader
	if h.Contender.Stdin == contender.StdinBrief {
		stdin = strings.NewReader(h.Brief)
	}
	if h.Stdout == nil {
		h.Stdout = h.Output
	}
	p, err := confine.Start(ctx, h.World.Spec(args, env), confine.IO{Stdin: stdin, Stdout: h.Stdout, Stderr: h.Output})
	if err != nil {
		return confine.Result{}, err
	}
	if h.Started != nil {
		h.Started(p)
	}
	return p.Wait(h.Limit, h.Stop)
}

// Program finds the contender's program: an absolute path, a path relative to
// the contender's file, or a name on the service's PATH.
func Program(c *contender.Contender, path string) (string, error) { return find(c, c.Run[0], path) }

func find(c *contender.Contender, name, path string) (string, error) {
	if strings.HasPrefix(name, "~/") {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", &MissingError{"the service has no home folder for " + name}
		}
		name = filepath.Join(home, name[2:])
	} else if strings.Contains(name, "/") && !strings.HasPrefix(name, "/") {
		name = specfile.Resolve(c.Path, name)
	}
	if strings.HasPrefix(name, "/") {
		st, err := os.Stat(name)
		if err != nil {
			return "", &MissingError{"the program " + name + " is not on the service's machine"}
		}
		if st.IsDir() || st.Mode()&0o111 == 0 {
			return "", &MissingError{name + " is not a program that can be run"}
		}
		return name, nil
	}
	for _, dir := range filepath.SplitList(path) {
		if full, err := exec.LookPath(filepath.Join(dir, name)); err == nil && filepath.IsAbs(full) {
			return full, nil
		}
	}
	return "", &MissingError{"the program " + name + " is not on the service's PATH"}
}

// Secrets are the values of the variables that pass through to a contender; none for nil.
func Secrets(c *contender.Contender) []string {
	var out []string
	if c == nil {
		return nil
	}
	for _, name := range c.KeepEnv {
		if v := os.Getenv(string(name)); v != "" {
			out = append(out, v)
		}
	}
	return out
}

// Place makes a path of a contender's file absolute on this machine: ~/ is the service's home.
func Place(c *contender.Contender, name string) (string, error) {
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", &MissingError{"the service has no home folder for " + name}
		}
		return filepath.Join(home, rest), nil
	}
	return specfile.Resolve(c.Path, name), nil
}

// maxFilled is how large a carried file may be in which placeholders are replaced.
const maxFilled = 1 << 20

// fill replaces placeholders in the text files below a carried copy.
func fill(target string, values map[contender.Placeholder]string) error {
	return filepath.WalkDir(target, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		st, err := d.Info()
		if err != nil || st.Size() > maxFilled {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil || !utf8.Valid(text) {
			return err
		}
		if filled := contender.Expand(string(text), values); filled != string(text) {
			return os.WriteFile(name, []byte(filled), st.Mode().Perm()) // in place: the owner stays
		}
		return nil
	})
}

// Carry copies what a contender carries into the private HOME of a bout. values
// stand for the placeholders in files that are to be filled in.
func Carry(c *contender.Contender, home string, opt workspace.CopyOptions, values map[contender.Placeholder]string) error {
	for _, item := range c.Carry {
		from, err := Place(c, item.From)
		if err != nil {
			return err
		}
		real, err := filepath.EvalSymlinks(from)
		if err != nil {
			return &MissingError{fmt.Sprintf("%s, which the contender carries, is not on the service's machine", item.From)}
		}
		target := filepath.Join(home, filepath.FromSlash(item.Target()))
		for dir := filepath.Dir(target); strings.HasPrefix(dir, home+"/"); dir = filepath.Dir(dir) {
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return err
			}
			if opt.Owned {
				if err := os.Lchown(dir, opt.UID, opt.GID); err != nil {
					return err
				}
			}
		}
		opt := opt
		opt.Skip = func(name string, _ bool) bool {
			for _, pattern := range item.Except {
				if ok, _ := doublestar.Match(pattern, name); ok {
					return true
				}
			}
			return false
		}
		if err := workspace.CopyTree(real, target, opt); err != nil {
			return fmt.Errorf("carry %s: %w", item.From, err)
		}
		if item.Fill {
			if err := fill(target, values); err != nil {
				return fmt.Errorf("fill in %s: %w", item.From, err)
			}
		}
	}
	return nil
}
