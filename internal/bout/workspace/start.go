package workspace

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// key is a short name for a folder, made from the things that it depends on.
func key(parts ...string) string {
	h := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(h, "%d:%s", len(p), p)
	}
	return hex.EncodeToString(h.Sum(nil))[:20]
}

// A start repository is a bare repository that holds one commit and its past,
// and nothing later: not in its references, not among its objects.
//
// It is packed straight from the origin with `git pack-objects --revs --stdout`,
// which sends exactly the objects that the commit reaches.

// StartRepository returns the folder of the start repository of a commit below
// `dir`, made now if it is not there. The commit is a full id.
func (r *Repositories) StartRepository(ctx context.Context, dir, address, commit string) (string, error) {
	dest := filepath.Join(dir, key(address, commit)+".git")
	if _, err := os.Stat(filepath.Join(dest, "HEAD")); err == nil {
		return dest, nil
	}
	origin, err := r.Local(ctx, address)
	if err != nil {
		return "", err
	}
	part, err := os.MkdirTemp(dir, "part-")
	if err != nil {
		return "", err
	}
	defer beneath.RemoveTree(part)
	g := r.Git
	format, err := g.line(ctx, call{dir: "/", env: []string{"GIT_DIR=" + origin}, args: []string{"rev-parse", "--show-object-format"}})
	if err != nil {
		return "", err
	}
	if _, err := g.run(ctx, call{dir: part, args: []string{"init", "--quiet", "--bare", "--template=", "--object-format=" + format, "."}}); err != nil {
		return "", err
	}
	// A shallow origin ends at its own borders; the start repository ends there too.
	if shallow, err := os.ReadFile(filepath.Join(origin, "shallow")); err == nil && len(shallow) > 0 {
		if err := os.WriteFile(filepath.Join(part, "shallow"), shallow, 0o644); err != nil {
			return "", err
		}
	}
	env := []string{"GIT_DIR=" + part}
	if commit == nothing[format] {
		for _, object := range [][2]string{{"tree", ""}, {"commit", nothingText(emptyTree[format])}} {
			if _, err := g.run(ctx, call{dir: part, env: env, stdin: strings.NewReader(object[1]), args: []string{"hash-object", "-t", object[0], "-w", "--stdin"}}); err != nil {
				return "", fmt.Errorf("make a start with nothing in it: %w", err)
			}
		}
	} else if err := g.copyHistory(ctx, origin, part, commit); err != nil {
		return "", fmt.Errorf("pack the start commit: %w", err)
	}
	if _, err := g.run(ctx, call{dir: part, env: env, args: []string{"update-ref", "refs/heads/main", commit}}); err != nil {
		return "", fmt.Errorf("the start commit did not arrive: %w", err)
	}
	if _, err := g.run(ctx, call{dir: part, env: env, args: []string{"cat-file", "-e", commit + "^{tree}"}}); err != nil {
		return "", fmt.Errorf("the start commit's tree did not arrive: %w", err)
	}
	if err := os.Rename(part, dest); err != nil && !exists(dest) {
		return "", err
	}
	return dest, nil
}

// copyHistory copies what a commit reaches from one git directory into another.
// The pack goes through a pipe: with a file name, pack-objects makes its temporary
// file in the repository that it reads from, which may be read-only, may be on
// another file system, and is never written to.
func (g *Git) copyHistory(ctx context.Context, from, to, commit string) error {
	read, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer read.Close()
	pack := g.command(ctx, call{dir: "/", env: []string{"GIT_DIR=" + from}, stdin: strings.NewReader(commit + "\n"),
		args: []string{"pack-objects", "--quiet", "--revs", "--delta-base-offset", "--stdout"}})
	var packErrs bytes.Buffer
	pack.Stdout, pack.Stderr = write, &packErrs
	err = pack.Start()
	write.Close() // the copy that git has is the only one now
	if err != nil {
		return err
	}
	_, indexErr := g.run(ctx, call{dir: to, env: []string{"GIT_DIR=" + to}, stdin: read, args: []string{"index-pack", "--stdin"}})
	read.Close() // a git that still writes ends
	if err := pack.Wait(); err != nil && packErrs.Len() > 0 {
		return &GitError{Args: pack.Args[1:], Says: strings.TrimSpace(packErrs.String()), Err: err}
	} else if err != nil && indexErr == nil {
		return err
	}
	return indexErr
}

func exists(name string) bool { _, err := os.Lstat(name); return err == nil }

// Prepared is the state of which every workspace and every judging copy is
// made: the start commit checked out, the task's prepare command run in it once.
type Prepared struct {
	// Dir is the folder that holds everything below.
	Dir string `json:"-"`
	// Commit is the full start commit id; Tree the snapshot taken after prepare.
	Commit string `json:"commit"`
	Tree   string `json:"tree"`
	// ObjectFormat is sha1 or sha256.
	ObjectFormat string `json:"object_format"`
	// EmptySubmodules are those that could not be reached, with the reason of each.
	EmptySubmodules []EmptySubmodule `json:"empty_submodules,omitempty"`
	// PrepareMS is how long the prepare command ran, in milliseconds.
	PrepareMS int64 `json:"prepare_ms"`
	// HomeBytes is the size of the prepared HOME.
	HomeBytes int64 `json:"home_bytes"`
	// DiskBytes and DiskFiles are what a workspace with its HOME begins with, on disk.
	DiskBytes int64 `json:"disk_bytes"`
	DiskFiles int64 `json:"disk_files"`
}

// The parts of a prepared state.
func (p *Prepared) Template() string    { return filepath.Join(p.Dir, "tree") }
func (p *Prepared) Home() string        { return filepath.Join(p.Dir, "home") }
func (p *Prepared) harness() string     { return filepath.Join(p.Dir, "harness.git") }
func (p *Prepared) index() string       { return filepath.Join(p.Dir, "index") }
func (p *Prepared) listingFile() string { return filepath.Join(p.Dir, "listing") }

// RunPrepare runs a task's prepare command with the given workspace, HOME and
// TMPDIR, and returns how long it took.
type RunPrepare func(ctx context.Context, workspace, home, tmp string) (time.Duration, error)

// preparedVersion changes with what a prepared state is made of; those that an earlier
// version made are not used again.
const preparedVersion = "2"

// Prepare returns the prepared state below `dir` for a start repository and a
// prepare command (empty: none), made now if it is not there. reference is a patch whose
// manifests say what the command fetches; nil for none. subs are the start's submodules. owner is to whom the prepared HOME
// belongs.
func (g *Git) Prepare(ctx context.Context, dir, start, commit, command string, reference []byte, subs []Submodule, owner CopyOptions, prepare RunPrepare) (*Prepared, error) {
	depends := []string{preparedVersion, filepath.Base(start), command}
	if changed, added := manifestsIn(reference); command != "" && len(changed)+len(added) > 0 {
		depends = append(depends, string(reference))
	}
	depends = append(depends, unreached(subs)...)
	dest := filepath.Join(dir, key(depends...))
	if p, err := loadPrepared(dest); err == nil {
		return p, nil
	}
	part, err := os.MkdirTemp(dir, "part-")
	if err != nil {
		return nil, err
	}
	defer beneath.RemoveTree(part)
	if err := os.Chmod(part, 0o755); err != nil {
		return nil, err
	}
	p := &Prepared{Dir: part, Commit: commit}
	if p.ObjectFormat, err = g.line(ctx, call{dir: "/", env: []string{"GIT_DIR=" + start}, args: []string{"rev-parse", "--show-object-format"}}); err != nil {
		return nil, err
	}
	if err := g.makeTemplate(ctx, p, start); err != nil {
		return nil, err
	}
	if p.EmptySubmodules, err = g.placeSubmodules(ctx, p.Template(), "", subs); err != nil {
		return nil, err
	}
	for _, d := range []string{p.Home(), filepath.Join(part, "tmp")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			return nil, err
		}
	}
	gitconfig := "[user]\n\tname = Contender\n\temail = contender@localhost\n[init]\n\tdefaultBranch = main\n[advice]\n\tdetachedHead = false\n"
	if err := os.WriteFile(filepath.Join(p.Home(), ".gitconfig"), []byte(gitconfig), 0o644); err != nil {
		return nil, err
	}
	if command != "" {
		took, err := prepare(ctx, p.Template(), p.Home(), filepath.Join(part, "tmp"))
		if err != nil {
			return nil, err
		}
		back, err := g.layManifests(ctx, p, reference)
		if err != nil {
			return nil, err
		}
		if back != nil {
			again, err := prepare(ctx, p.Template(), p.Home(), filepath.Join(part, "tmp"))
			if err != nil {
				return nil, fmt.Errorf("with what the reference needs: %w", err)
			}
			if err := back(); err != nil {
				return nil, err
			}
			took += again
		}
		p.PrepareMS = took.Milliseconds()
	}
	if err := beneath.RemoveTree(filepath.Join(part, "tmp")); err != nil {
		return nil, err
	}
	if err := settleHome(ctx, p.Home(), owner); err != nil {
		return nil, err
	}
	if err := g.snapshot(ctx, p, start, command != ""); err != nil {
		return nil, err
	}
	if p.HomeBytes, err = TreeBytes(p.Home()); err != nil {
		return nil, err
	}
	for _, dir := range []string{p.Template(), p.Home()} {
		d, err := beneath.Open(dir)
		if err != nil {
			return nil, err
		}
		bytes, files, err := beneath.Usage(d)
		d.Close()
		if err != nil {
			return nil, err
		}
		p.DiskBytes, p.DiskFiles = p.DiskBytes+bytes, p.DiskFiles+files
	}
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(part, "prepared.json"), data, 0o644); err != nil {
		return nil, err
	}
	if err := os.Rename(part, dest); err != nil {
		if p, loadErr := loadPrepared(dest); loadErr == nil {
			return p, nil
		}
		return nil, err
	}
	p.Dir = dest
	return p, nil
}

// settleHome makes a prepared HOME ready to lie under private layers: it
// belongs to whom the layers do, and the files of Go's build cache are dated
// ahead. Go touches cache entries older than an hour when it uses them, and each
// touch would copy the entry into the layer.
func settleHome(ctx context.Context, home string, owner CopyOptions) error {
	if owner.Owned {
		if err := beneath.ChownTree(ctx, home, owner.UID, owner.GID); err != nil {
			return err
		}
	}
	ahead := time.Now().AddDate(10, 0, 0).UnixNano()
	d, err := beneath.Open(home)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Walk(func(dir *beneath.Dir, base, name string, st *unix.Stat_t) (bool, error) {
		if beneath.Kind(st) != unix.S_IFREG || !strings.Contains("/"+name, "/go-build/") {
			return true, nil
		}
		return true, dir.SetTimes(base, ahead)
	})
}

func loadPrepared(dir string) (*Prepared, error) {
	data, err := os.ReadFile(filepath.Join(dir, "prepared.json"))
	if err != nil {
		return nil, err
	}
	p := &Prepared{Dir: dir}
	return p, json.Unmarshal(data, p)
}

// makeTemplate checks the start commit out into a repository that has only the
// start's objects, no remotes, no hooks, and nothing that names the origin.
func (g *Git) makeTemplate(ctx context.Context, p *Prepared, start string) error {
	tree := p.Template()
	if err := os.Mkdir(tree, 0o755); err != nil {
		return err
	}
	if _, err := g.run(ctx, call{dir: tree, args: []string{"init", "--quiet", "--template=", "--object-format=" + p.ObjectFormat, "."}}); err != nil {
		return err
	}
	gitDir := filepath.Join(tree, ".git")
	if err := CopyTree(filepath.Join(start, "objects"), filepath.Join(gitDir, "objects"), CopyOptions{}); err != nil {
		return err
	}
	if shallow, err := os.ReadFile(filepath.Join(start, "shallow")); err == nil {
		if err := os.WriteFile(filepath.Join(gitDir, "shallow"), shallow, 0o644); err != nil {
			return err
		}
	}
	// The copies of a workspace have other inode numbers and change times: with
	// these two the tool's first `git status` need not read every file again.
	for _, kv := range [][2]string{{"core.checkStat", "minimal"}, {"core.trustctime", "false"}} {
		if _, err := g.run(ctx, call{dir: tree, args: []string{"config", kv[0], kv[1]}}); err != nil {
			return err
		}
	}
	env := []string{"GIT_DIR=" + gitDir, "GIT_WORK_TREE=" + tree}
	if _, err := g.run(ctx, call{dir: tree, env: env, args: []string{"update-ref", "--no-deref", "refs/heads/main", p.Commit}}); err != nil {
		return err
	}
	if _, err := g.run(ctx, call{dir: tree, env: env, args: []string{"read-tree", "--reset", "-u", p.Commit}}); err != nil {
		return err
	}
	_ = os.RemoveAll(filepath.Join(gitDir, "logs"))
	list, err := g.run(ctx, call{dir: tree, env: env, args: []string{"ls-tree", "-r", "-z", p.Commit}})
	if err != nil {
		return err
	}
	var files []string
	for _, e := range splitNUL(list) {
		_, name, _ := strings.Cut(e, "\t")
		files = append(files, name)
	}
	return g.gatherAttributes(ctx, p, files)
}

// snapshot records the prepared tree: what the captured diff is taken against.
// It is taken as a contender's change is, with nothing known to be unchanged.
func (g *Git) snapshot(ctx context.Context, p *Prepared, start string, prepared bool) error {
	if err := p.initHarness(p.harness(), filepath.Join(start, "objects")); err != nil {
		return err
	}
	env := []string{"GIT_DIR=" + p.harness(), "GIT_INDEX_FILE=" + p.index()}
	if _, err := g.run(ctx, call{dir: p.Dir, env: env, args: []string{"read-tree", p.Commit}}); err != nil {
		return err
	}
	if err := g.writeListing(ctx, p, p.Commit); err != nil {
		return err
	}
	// While p.Tree is empty the listing is that of the commit, and not kept.
	tree := p.Commit + "^{tree}"
	if prepared {
		cap, err := g.collect(ctx, collection{prepared: p, tree: p.Template(), gitDir: p.harness(),
			scratch: filepath.Join(p.Dir, "ignore"), limits: Limits{File: 1 << 30, Total: 4 << 30}, base: tree})
		if err != nil {
			return fmt.Errorf("take a snapshot after prepare: %w", err)
		}
		tree = cap.Tree
		if _, err := g.run(ctx, call{dir: p.Dir, env: env, args: []string{"read-tree", tree}}); err != nil {
			return err
		}
	}
	var err error
	if p.Tree, err = g.line(ctx, call{dir: p.Dir, env: env, args: []string{"rev-parse", "--verify", tree}}); err != nil {
		return err
	}
	return g.writeListing(ctx, p, p.Tree)
}

func (g *Git) writeListing(ctx context.Context, p *Prepared, treeish string) error {
	list, err := g.run(ctx, call{dir: "/", env: []string{"GIT_DIR=" + p.harness()}, args: []string{"ls-tree", "-r", "-t", "-z", "--full-tree", treeish}})
	if err != nil {
		return err
	}
	return os.WriteFile(p.listingFile(), list, 0o644)
}

// initHarness makes a git directory of the harness's own that borrows objects:
// the few files that git asks for, without starting it.
func (p *Prepared) initHarness(dir string, borrowFrom ...string) error {
	attributes, _ := p.attributes()
	config := "[core]\n\trepositoryformatversion = 0\n\tbare = true\n"
	if p.ObjectFormat == "sha256" {
		config = "[core]\n\trepositoryformatversion = 1\n\tbare = true\n[extensions]\n\tobjectformat = sha256\n"
	}
	for _, d := range []string{"info", "objects/info", "refs"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return err
		}
	}
	for name, text := range map[string]string{"HEAD": "ref: refs/heads/main\n", "config": config} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "objects", "info", "alternates"), []byte(strings.Join(borrowFrom, "\n")+"\n"), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "info", "attributes"), []byte(attributes), 0o644)
}

func splitNUL(b []byte) []string {
	s := strings.TrimSuffix(string(b), "\x00")
	if s == "" {
		return nil
	}
	return strings.Split(s, "\x00")
}
