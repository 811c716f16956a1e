package workspace

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/core/task"
)

// Between turns any patch that applies to the start of a prepared state into a
// change as a capture takes it.
func (g *Git) Between(ctx context.Context, p *Prepared, scratch string, diff []byte) (*Captured, error) {
	dir, err := os.MkdirTemp(scratch, "between-")
	if err != nil {
		return nil, err
	}
	defer beneath.RemoveTree(dir)
	c := &Captured{mayRename: true}
	if c.Tree, err = g.treeOf(ctx, p, dir, diff, ""); err != nil {
		return nil, err
	}
	return c, g.diffs(ctx, p, dir, filepath.Join(dir, "apply.git"), c)
}

// diffs fills in a capture's two diffs from its tree.
func (g *Git) diffs(ctx context.Context, p *Prepared, dir, gitDir string, c *Captured) error {
	if c.Tree == p.Tree {
		return nil
	}
	diff := func(extra ...string) ([]byte, error) {
		args := append([]string{"diff-tree", "-r", "-p", "--binary", "--full-index", "--no-ext-diff", "--no-textconv", "--no-color", "--src-prefix=a/", "--dst-prefix=b/"}, extra...)
		return g.run(ctx, call{dir: dir, env: []string{"GIT_DIR=" + gitDir}, args: append(args, p.Tree, c.Tree)})
	}
	var err error
	if c.Diff, err = diff("--no-renames"); err != nil {
		return err
	}
	c.Shown = c.Diff
	if c.mayRename {
		c.Shown, err = diff("-M", "-l1000")
	}
	return err
}

// Step is what changed between two trees that were captured from one workspace,
// for people.
func (g *Git) Step(ctx context.Context, w *Workspace, from, to string) ([]byte, error) {
	if from == to {
		return nil, nil
	}
	return g.run(ctx, call{dir: w.Dir, env: []string{"GIT_DIR=" + filepath.Join(w.Dir, "capture.git")},
		args: []string{"diff-tree", "-r", "-p", "-M", "-l1000", "--full-index", "--no-ext-diff", "--no-textconv", "--no-color", "--src-prefix=a/", "--dst-prefix=b/", from, to}})
}

// Branch is what a branch brought since it left a start commit.
type Branch struct {
	// Commit is the branch's full commit id, Base where it left: the start commit,
	// or an older one where it is not based on it; empty where they share nothing.
	Commit, Base string
	Diff         []byte
	// Between are commits that lie between the start commit and the branch's own, the newest
	// first: other branches have them too, so the branch was made from a later one. At most ten
	// of them, as id and subject; BetweenAll is how many there are.
	Between    []string
	BetweenAll int
}

// between finds the commits of a branch that others have too.
func (r *Repositories) between(ctx context.Context, git call, b *Branch, from string) error {
	git.args = []string{"for-each-ref", "--format=%(objecttype) %(objectname) %(*objecttype) %(*objectname)"}
	refs, err := r.Git.run(ctx, git)
	if err != nil {
		return err
	}
	revisions := b.Commit + "\n^" + from + "\n"
	all, err := r.Git.run(ctx, call{dir: git.dir, env: git.env, stdin: strings.NewReader(revisions), args: []string{"rev-list", "--stdin"}})
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(refs)) {
		f := strings.Fields(line)
		for i := 0; i+1 < len(f); i += 2 {
			if f[i] == "commit" && f[i+1] != b.Commit { // a name of the branch itself says nothing
				revisions += "^" + f[i+1] + "\n"
			}
		}
	}
	own, err := r.Git.run(ctx, call{dir: git.dir, env: git.env, stdin: strings.NewReader(revisions), args: []string{"rev-list", "--stdin"}})
	if err != nil {
		return err
	}
	mine := map[string]bool{}
	for _, id := range strings.Fields(string(own)) {
		mine[id] = true
	}
	for _, id := range strings.Fields(string(all)) {
		if mine[id] {
			continue
		}
		if b.BetweenAll++; len(b.Between) < 10 {
			git.args = []string{"log", "-1", "--no-color", "--format=%h %s", id}
			line, err := r.Git.line(ctx, git)
			if err != nil {
				return err
			}
			b.Between = append(b.Between, line)
		}
	}
	return nil
}

// Branch finds the change of a branch of a repository against a start commit.
func (r *Repositories) Branch(ctx context.Context, address, branch, start string) (*Branch, error) {
	dir, err := r.Local(ctx, address)
	if err != nil {
		return nil, err
	}
	out := &Branch{}
	if out.Commit, err = r.Resolve(ctx, address, branch); err != nil {
		return nil, fmt.Errorf("there is no branch or commit %q in %s", branch, address)
	}
	git := call{dir: "/", env: []string{"GIT_DIR=" + dir}}
	line := func(args ...string) (string, error) { c := git; c.args = args; return r.Git.line(ctx, c) }
	if _, err := line("cat-file", "-e", start+"^{commit}"); err != nil {
		return nil, fmt.Errorf("%s does not have the start commit %s; fetch it there, or give the change as a patch", address, start)
	}
	out.Base, _ = line("merge-base", start, out.Commit) // an error is: none
	from := out.Base
	if from == "" {
		from = start
	}
	if err := r.between(ctx, git, out, from); err != nil {
		return nil, err
	}
	git.args = []string{"diff-tree", "-r", "-p", "--binary", "--full-index", "--no-renames", "--no-ext-diff", "--no-textconv", "--no-color", "--src-prefix=a/", "--dst-prefix=b/", from, out.Commit}
	out.Diff, err = r.Git.run(ctx, git)
	return out, err
}

// CommitFacts is a commit of a history, with what it changed against its parent.
type CommitFacts struct {
	Commit string
	// Parent is its parent, task.Nothing for a first commit.
	Parent  string
	Message string
	// Changed maps the paths that it changed to what it left there; nil for what it deleted.
	Changed map[string][]byte
	// Files are the paths of its tree.
	Files []string
}

// Commit reads a commit. A merge is refused.
func (r *Repositories) Commit(ctx context.Context, address, revision string) (*CommitFacts, error) {
	dir, err := r.Local(ctx, address)
	if err != nil {
		return nil, err
	}
	out := &CommitFacts{Changed: map[string][]byte{}}
	if out.Commit, err = r.Resolve(ctx, address, revision); err != nil {
		return nil, err
	}
	run := func(args ...string) ([]byte, error) {
		return r.Git.run(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: args})
	}
	text, err := run("log", "-1", "--no-color", "--no-show-signature", "--format=%P%x00%B", out.Commit)
	if err != nil {
		return nil, err
	}
	parents, message, _ := strings.Cut(string(text), "\x00")
	from := ""
	switch p := strings.Fields(parents); len(p) {
	case 1:
		out.Parent, from = p[0], p[0]
	case 0: // the first commit: the task starts from nothing
		format, err := run("rev-parse", "--show-object-format")
		if err != nil {
			return nil, err
		}
		out.Parent = task.Nothing
		from = emptyTree[strings.TrimSpace(string(format))]
	default:
		return nil, fmt.Errorf("%s is a merge of %d commits: which of them the task should start from is not clear; draft from one of them", revision, len(p))
	}
	out.Message = strings.TrimSpace(message)
	names, err := run("diff-tree", "-r", "-z", "--no-renames", "--name-status", from, out.Commit)
	if err != nil {
		return nil, err
	}
	parts := splitNUL(names)
	for i := 0; i+1 < len(parts); i += 2 {
		name := parts[i+1]
		if parts[i] == "D" {
			out.Changed[name] = nil
			continue
		}
		content, err := run("cat-file", "blob", out.Commit+":"+name)
		if err != nil {
			continue // a submodule
		}
		out.Changed[name] = append([]byte{}, content...)
	}
	list, err := run("ls-tree", "-r", "-z", "--name-only", out.Commit)
	out.Files = splitNUL(list)
	return out, err
}

// Logged is a commit as a history lists it; see draft.Logged.
type Logged struct {
	Commit, Subject string
	Parents         int
	Files           []LoggedFile
}

// LoggedFile is a changed file; -1 lines are those of what is no text.
type LoggedFile struct {
	Path           string
	Added, Removed int
}

// Log lists commits, the newest first: of a revision, since a date as git reads it ("" for
// all), at most so many.
func (r *Repositories) Log(ctx context.Context, address, revision, since string, most int) ([]Logged, error) {
	dir, err := r.Local(ctx, address)
	if err != nil {
		return nil, err
	}
	id, err := r.Resolve(ctx, address, revision)
	if err != nil {
		return nil, err
	}
	args := []string{"log", "-z", "--numstat", "--no-renames", "--no-color", "--no-show-signature", "--format=%x01%H%x02%P%x02%s", "--max-count=" + strconv.Itoa(most)}
	if since != "" {
		args = append(args, "--since="+since)
	}
	text, err := r.Git.run(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: append(args, id, "--")})
	if err != nil {
		return nil, err
	}
	var out []Logged
	for _, piece := range strings.Split(string(text), "\x01") {
		head, files, _ := strings.Cut(piece, "\x00")
		f := strings.SplitN(strings.TrimSpace(head), "\x02", 3)
		if len(f) != 3 {
			continue
		}
		one := Logged{Commit: f[0], Parents: len(strings.Fields(f[1])), Subject: f[2]}
		for _, line := range strings.Split(files, "\x00") {
			n := strings.SplitN(strings.TrimLeft(line, "\n"), "\t", 3)
			if len(n) != 3 {
				continue
			}
			count := func(s string) int {
				if v, err := strconv.Atoi(s); err == nil {
					return v
				}
				return -1
			}
			one.Files = append(one.Files, LoggedFile{Path: n[2], Added: count(n[0]), Removed: count(n[1])})
		}
		out = append(out, one)
	}
	return out, nil
}

// Content is a file of a commit, of a megabyte at most; nil where there is none.
func (r *Repositories) Content(ctx context.Context, address, commit, name string) []byte {
	dir, err := r.Local(ctx, address)
	if err != nil {
		return nil
	}
	object := commit + ":" + name
	env := []string{"GIT_DIR=" + dir}
	size, err := r.Git.line(ctx, call{dir: "/", env: env, args: []string{"cat-file", "-s", object}})
	if n, numErr := strconv.Atoi(size); err != nil || numErr != nil || n > 1<<20 {
		return nil
	}
	text, err := r.Git.run(ctx, call{dir: "/", env: env, args: []string{"cat-file", "blob", object}})
	if err != nil {
		return nil
	}
	return text
}

// Patch is the change from one commit to another, of some paths only.
func (r *Repositories) Patch(ctx context.Context, address, from, to string, paths []string) ([]byte, error) {
	if len(paths) == 0 {
		return nil, nil
	}
	dir, err := r.Local(ctx, address)
	if err != nil {
		return nil, err
	}
	if from == task.Nothing {
		format, err := r.Git.line(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: []string{"rev-parse", "--show-object-format"}})
		if err != nil {
			return nil, err
		}
		from = emptyTree[format]
	}
	args := []string{"--literal-pathspecs", "diff-tree", "-r", "-p", "--binary", "--full-index", "--no-renames", "--no-ext-diff", "--no-textconv", "--no-color",
		"--src-prefix=a/", "--dst-prefix=b/", from, to, "--"}
	return r.Git.run(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: append(args, paths...)})
}
