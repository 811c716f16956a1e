package drive

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/specfile"
)

// MissingError says that something that the contender needs is not on this machine.
type MissingError struct{ What string }

func (e *MissingError) Error() string { return e.What }

// HandshakeError says that a tool was started and did not begin to work: by its own
// word, or because it said nothing. What it says may be true.
type HandshakeError struct{ What string }

func (e *HandshakeError) Error() string { return e.What }

// command starts the contender's program for each round and waits for its end.
type command struct{}

func (command) Freeze() {}
func (command) Thaw()   {}
func (command) Close()  {}

func (command) HandOver(ctx context.Context, h HandOver) (Ended, error) {
	run := h.Contender.Run
	if h.Again && len(h.Contender.RunAgain) > 0 {
		run = h.Contender.RunAgain
	}
	args, env, err := h.start(run)
	if err != nil {
		return Ended{}, err
	}
	if h.Stdout == nil {
		h.Stdout = h.Output
	}
	if h.Contender.PTY {
		return h.inTerminal(ctx, args, env)
	}
	streams := confine.IO{Stdout: h.Stdout, Stderr: h.Output}
	if h.Contender.Stdin == contender.StdinBrief {
		streams.Stdin = strings.NewReader(h.Brief)
	}
	var asks *answerer
	if len(h.Contender.Replies) > 0 {
		in, out, err := os.Pipe()
		if err != nil {
			return Ended{}, err
		}
		defer out.Close()
		asks = newAnswerer(&h, out, "\n")
		streams = confine.IO{Stdin: in, Stdout: io.MultiWriter(h.Stdout, asks), Stderr: io.MultiWriter(h.Output, asks)}
		defer in.Close()
	}
	p, err := confine.Start(ctx, h.World.Spec(args, env), streams)
	if err != nil {
		return Ended{}, err
	}
	h.started(p, p.Began)
	res, err := p.Wait(h.Limit, h.Stop)
	return Ended{Result: res, LastLine: asks.lastLine()}, err
}

// start is the command line and the environment with which a program of the
// contender is started.
func (h *HandOver) start(run []string) (args []string, env map[string]string, err error) {
	values := h.Values()
	args = h.Contender.Arguments(run, values, h.Attachments)
	if args[0], err = find(h.Contender, run[0], h.World.Path); err != nil {
		return nil, nil, err
	}
	if strings.HasPrefix(args[0], "/") { // the program is on the list of what is shown, for all that this world starts
		h.World.Reads = append(slices.Clip(h.World.Reads), args[0])
	}
	env = map[string]string{}
	for name, v := range h.Contender.Env {
		env[string(name)] = contender.Expand(v, values)
	}
	for _, name := range h.Contender.KeepEnv {
		if v, ok := os.LookupEnv(string(name)); ok {
			env[string(name)] = v
		}
	}
	return args, env, nil
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

// fill replaces placeholders in a carried file, or in those of a carried folder.
func fill(home *beneath.Dir, name string, values map[contender.Placeholder]string, owner *beneath.Owner) error {
	one := func(dir *beneath.Dir, base string, st *unix.Stat_t) error {
		if beneath.Kind(st) != unix.S_IFREG || st.Size > maxFilled {
			return nil
		}
		text, err := dir.ReadFile(base, maxFilled)
		if err != nil || !utf8.Valid(text) {
			return err
		}
		if filled := contender.Expand(string(text), values); filled != string(text) {
			return dir.WriteFile(base, []byte(filled), st.Mode&0o777, owner)
		}
		return nil
	}
	st, err := home.Lstat(name)
	if err != nil {
		return err
	}
	if beneath.Kind(&st) != unix.S_IFDIR {
		return one(home, name, &st)
	}
	dir, err := home.Sub(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Walk(func(dir *beneath.Dir, base, _ string, st *unix.Stat_t) (bool, error) { return true, one(dir, base, st) })
}

// Carry copies what a contender carries into the private HOME of a bout, in which a
// first use may have left whatever it wanted. values stand for the placeholders in files
// that are to be filled in.
func Carry(c *contender.Contender, home string, opt workspace.CopyOptions, values map[contender.Placeholder]string) error {
	if len(c.Carry) == 0 {
		return nil
	}
	into, err := beneath.Open(home)
	if err != nil {
		return err
	}
	defer into.Close()
	var owner *beneath.Owner
	if opt.Owned {
		owner = &beneath.Owner{UID: opt.UID, GID: opt.GID}
	}
	for _, item := range c.Carry {
		from, err := Place(c, item.From)
		if err != nil {
			return err
		}
		real, err := filepath.EvalSymlinks(from)
		if err != nil {
			return &MissingError{fmt.Sprintf("%s, which the contender carries, is not on the service's machine", item.From)}
		}
		target := path.Clean(item.Target())
		above, err := into.MkdirAll(path.Dir(target), 0o700, owner)
		if err != nil {
			return fmt.Errorf("carry %s: %w", item.From, err)
		}
		above.Close()
		opt := opt
		opt.Skip = func(name string, _ bool) bool {
			for _, pattern := range item.Except {
				if ok, _ := doublestar.Match(pattern, name); ok {
					return true
				}
			}
			return false
		}
		if err := workspace.CopyInto(real, into, target, opt); err != nil {
			return fmt.Errorf("carry %s: %w", item.From, err)
		}
		if item.Fill {
			if err := fill(into, target, values, owner); err != nil {
				return fmt.Errorf("fill in %s: %w", item.From, err)
			}
		}
	}
	return nil
}
