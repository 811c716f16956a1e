// Package workspace makes the copies of a repository that contenders and the
// judge work on, and takes the change out of them again.
//
// It uses the git program, and lets no repository, workspace or user
// configuration decide what that program runs: git directories of its own
// outside the workspace, no hooks, no file system monitor, no external diff or
// text conversion, no attributes but its own.
package workspace

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"

	"agonometer/internal/core/contest"
	"agonometer/internal/core/task"
)

// Git runs the git program without anybody's configuration.
type Git struct {
	program string
	config  string // a file of our own: upload-pack reads safe.directory from nowhere else

	mu       sync.Mutex
	listings map[string]*listing
}

// NewGit finds git and writes the configuration file that it uses into dir.
func NewGit(dir string) (*Git, error) {
	program, err := exec.LookPath("git")
	if err != nil {
		return nil, errors.New("the program git is not on the PATH; Agonometer needs git 2.30 or newer (Debian: apt-get install git)")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	config := filepath.Join(dir, "gitconfig")
	text := "[safe]\n\tdirectory = *\n[core]\n\thooksPath = /dev/null\n\tfsmonitor = false\n\texcludesFile = /dev/null\n\tattributesFile = /dev/null\n" +
		"\tautocrlf = false\n\tsymlinks = true\n\tfileMode = true\n\tprotectNTFS = false\n\tprotectHFS = false\n\tquotePath = true\n\tprecomposeUnicode = false\n" +
		"[gc]\n\tauto = 0\n[maintenance]\n\tauto = false\n[protocol \"ext\"]\n\tallow = never\n[init]\n\tdefaultBranch = main\n[advice]\n\tdetachedHead = false\n[diff]\n\tnoprefix = false\n\tmnemonicPrefix = false\n"
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		return nil, err
	}
	return &Git{program: program, config: config, listings: map[string]*listing{}}, nil
}

// call is one run of git.
type call struct {
	dir   string   // working directory
	env   []string // GIT_DIR and the like
	stdin io.Reader
	args  []string
}

func (g *Git) command(ctx context.Context, c call) *exec.Cmd {
	cmd := exec.CommandContext(ctx, g.program, c.args...)
	cmd.Dir = c.dir
	cmd.Stdin = c.stdin
	cmd.Env = append([]string{
		"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "LC_ALL=C", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=" + g.config,
		"GIT_ATTR_NOSYSTEM=1", "GIT_NO_REPLACE_OBJECTS=1", "GIT_TERMINAL_PROMPT=0", "GIT_CEILING_DIRECTORIES=/", "GIT_OPTIONAL_LOCKS=0",
		"GIT_AUTHOR_NAME=start", "GIT_AUTHOR_EMAIL=start@localhost", "GIT_COMMITTER_NAME=start", "GIT_COMMITTER_EMAIL=start@localhost",
	}, c.env...)
	return cmd
}

// run runs git and returns what it printed; the error carries what it complained of.
func (g *Git) run(ctx context.Context, c call) ([]byte, error) {
	cmd := g.command(ctx, c)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &GitError{Args: c.args, Says: strings.TrimSpace(errs.String()), Err: err}
	}
	return out.Bytes(), nil
}

func (g *Git) line(ctx context.Context, c call) (string, error) {
	out, err := g.run(ctx, c)
	return strings.TrimSpace(string(out)), err
}

// GitError is a git command that failed.
type GitError struct {
	Args []string
	Says string
	Err  error
}

func (e *GitError) Error() string {
	says := e.Says
	if len(says) > 400 {
		says = says[:400] + "…"
	}
	return fmt.Sprintf("git %s: %s (%v)", e.Args[0], says, e.Err)
}

func (e *GitError) Unwrap() error { return e.Err }

var fullID = regexp.MustCompile(`^([0-9a-f]{40}|[0-9a-f]{64})$`)

// nothing is the id, by object format, of a commit of our own that holds no file
// and has no past: where a task starts that begins before the first commit. Its
// content is that of nothingText.
var nothing = map[string]string{
	"sha1":   gitID(sha1.New(), "commit", nothingText(emptyTree["sha1"])),
	"sha256": gitID(sha256.New(), "commit", nothingText(emptyTree["sha256"])),
}

var emptyTree = map[string]string{"sha1": gitID(sha1.New(), "tree", ""), "sha256": gitID(sha256.New(), "tree", "")}

func nothingText(tree string) string {
	return "tree " + tree + "\nauthor start <start@localhost> 0 +0000\ncommitter start <start@localhost> 0 +0000\n\nnothing\n"
}

func gitID(h hash.Hash, kind, content string) string {
	fmt.Fprintf(h, "%s %d\x00%s", kind, len(content), content)
	return hex.EncodeToString(h.Sum(nil))
}

// Repositories finds commits in local repositories, and in mirrors of remote
// ones that it keeps below a folder.
type Repositories struct {
	Git *Git
	// Mirrors is where copies of remote repositories are kept.
	Mirrors string
	mu      sync.Mutex
	fetched map[string]bool
}

// Local is the path of the repository's git directory on this machine. A remote
// one is mirrored first, or brought up to date (once in a process's life).
func (r *Repositories) Local(ctx context.Context, address string) (string, error) {
	if !task.IsURL(address) {
		dir, err := r.own(ctx, address)
		if err != nil {
			return "", err
		}
		common, err := r.Git.line(ctx, call{dir: "/", args: []string{"-C", address, "rev-parse", "--path-format=absolute", "--git-common-dir"}})
		if err != nil {
			return dir, nil
		}
		return common, nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.fetched == nil {
		r.fetched = map[string]bool{}
	}
	mirror := filepath.Join(r.Mirrors, key(address)+".git")
	if r.fetched[address] {
		return mirror, nil
	}
	// For a remote repository the user's own git configuration counts: it holds
	// the credentials, and nothing of a contender's is near.
	remote := func(args ...string) error {
		cmd := exec.CommandContext(ctx, r.Git.program, args...)
		for _, kv := range os.Environ() {
			if !strings.HasPrefix(kv, "GIT_") {
				cmd.Env = append(cmd.Env, kv)
			}
		}
		cmd.Env = append(cmd.Env, "GIT_TERMINAL_PROMPT=0", "LC_ALL=C")
		if out, err := cmd.CombinedOutput(); err != nil {
			return &contest.NoRepositoryError{Why: fmt.Sprintf("%s cannot be fetched: %s", address, strings.TrimSpace(string(out)))}
		}
		return nil
	}
	if _, err := os.Stat(filepath.Join(mirror, "HEAD")); err == nil {
		if err := remote("-C", mirror, "fetch", "--quiet", "--prune", "origin"); err != nil {
			return "", err
		}
	} else {
		part := mirror + ".part"
		if err := os.RemoveAll(part); err != nil {
			return "", err
		}
		if err := remote("clone", "--quiet", "--mirror", "--", address, part); err != nil {
			return "", err
		}
		if err := os.Rename(part, mirror); err != nil {
			return "", err
		}
	}
	r.fetched[address] = true
	return mirror, nil
}

// ResolveCommit finds the full id of the commit that a revision names.
func (r *Repositories) ResolveCommit(address, revision string) (string, error) {
	return r.Resolve(context.Background(), address, revision)
}

// own is the git directory of a repository on this machine: of a linked work tree, or of
// a submodule that is checked out, its own.
func (r *Repositories) own(ctx context.Context, address string) (string, error) {
	dir, err := r.Git.line(ctx, call{dir: "/", args: []string{"-C", address, "rev-parse", "--absolute-git-dir"}})
	if err != nil {
		if _, statErr := os.Stat(address); statErr != nil {
			return "", &contest.NoRepositoryError{Why: "no such folder on the service's machine: " + address}
		}
		return "", &contest.NoRepositoryError{Why: address + " is not a git repository"}
	}
	// git searches the parent folders; a subfolder of a repository is not one.
	top, err := r.Git.line(ctx, call{dir: "/", args: []string{"-C", address, "rev-parse", "--show-toplevel"}})
	if err != nil { // a bare one, or within a .git
		top = strings.TrimSuffix(dir, "/.git")
	}
	if real, err := filepath.EvalSymlinks(address); err == nil && real != top && real != dir {
		return "", &contest.NoRepositoryError{Why: address + " is not a git repository, only a folder inside " + top}
	}
	return dir, nil
}

// Resolve is ResolveCommit with a context.
func (r *Repositories) Resolve(ctx context.Context, address, revision string) (string, error) {
	dir, err := r.Local(ctx, address)
	if err != nil {
		return "", err
	}
	if revision == task.Nothing {
		format, err := r.Git.line(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: []string{"rev-parse", "--show-object-format"}})
		return nothing[format], err
	}
	if !task.IsURL(address) { // a linked work tree has a HEAD of its own
		if dir, err = r.own(ctx, address); err != nil {
			return "", err
		}
	}
	id, err := r.Git.line(ctx, call{dir: "/", env: []string{"GIT_DIR=" + dir}, args: []string{"rev-parse", "--verify", "--quiet", "--end-of-options", revision + "^{commit}"}})
	if err != nil || !fullID.MatchString(id) {
		return "", fmt.Errorf("no such commit in %s", address)
	}
	return id, nil
}

// Empty makes an empty repository in a folder.
func (g *Git) Empty(ctx context.Context, dir string) error {
	_, err := g.run(ctx, call{dir: dir, args: []string{"init", "--quiet", "--template=", "."}})
	return err
}

// FastImport makes a bare repository in dir of a stream as git fast-import reads it.
func (g *Git) FastImport(ctx context.Context, dir string, stream []byte) error {
	if _, err := g.run(ctx, call{args: []string{"init", "--quiet", "--bare", dir}}); err != nil {
		return err
	}
	_, err := g.run(ctx, call{dir: dir, stdin: bytes.NewReader(stream), args: []string{"fast-import", "--quiet"}})
	return err
}
