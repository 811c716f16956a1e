package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// Has tells which files the start of a prepared state has, and which folders for names
// that end in a slash.
func (g *Git) Has(p *Prepared) (func(name string) bool, error) {
	l, err := g.listing(p)
	if err != nil {
		return nil, err
	}
	return func(name string) bool {
		if dir, is := strings.CutSuffix(name, "/"); is {
			return l.folders[dir] != nil
		}
		_, ok := l.files[name]
		return ok
	}, nil
}

// Files lists the files of the start of a prepared state, in no order.
func (g *Git) Files(p *Prepared) ([]string, error) {
	l, err := g.listing(p)
	if err != nil {
		return nil, err
	}
	out := make([]string, 0, len(l.files))
	for name := range l.files {
		out = append(out, name)
	}
	return out, nil
}

// Change is a diff, read against the start of a prepared state. Close frees it.
type Change struct {
	dir string
	// Tree is the id of the tree that it leads to, Paths what differs, on either side.
	Tree  string
	Paths []string
	// became is what each of the paths is in the result; nothing where it is gone.
	became map[string]entry
}

// Close frees what reading the diff took.
func (c *Change) Close() {
	if c.dir != "" {
		_ = beneath.RemoveTree(c.dir)
	}
}

// ReadChange reads a diff as git itself does; want is the tree that it leads to,
// "" where that is not known.
func (g *Git) ReadChange(ctx context.Context, p *Prepared, scratch string, diff []byte, want string) (*Change, error) {
	if len(diff) == 0 && (want == "" || want == p.Tree) {
		return &Change{Tree: p.Tree}, nil
	}
	dir, err := os.MkdirTemp(scratch, "change-")
	if err != nil {
		return nil, err
	}
	c := &Change{dir: dir}
	if c.Tree, err = g.treeOf(ctx, p, dir, diff, want); err == nil {
		var out []byte
		out, err = g.run(ctx, call{dir: dir, env: []string{"GIT_DIR=" + c.gitDir()}, args: []string{"diff-tree", "-r", "-z", "--no-renames", "--raw", "--no-abbrev", p.Tree, c.Tree}})
		c.became = map[string]entry{}
		for parts := splitNUL(out); err == nil && len(parts) > 1; parts = parts[2:] { // ":mode mode id id status", path
			fields := strings.Fields(parts[0])
			if len(fields) != 5 {
				err = fmt.Errorf("git diff-tree answers %.80q", parts[0])
				break
			}
			c.Paths = append(c.Paths, parts[1])
			if fields[4] != "D" {
				c.became[parts[1]] = entry{mode: fields[1], id: fields[3]}
			} else {
				c.became[parts[1]] = entry{}
			}
		}
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (c *Change) gitDir() string { return filepath.Join(c.dir, "apply.git") }

// Place turns a fresh copy of the prepared state into what the change leads to.
func (g *Git) Place(ctx context.Context, w *Workspace, c *Change) error {
	if c.Tree == w.Prepared.Tree {
		return nil
	}
	now := filepath.Join(w.Dir, "now.index")
	if err := CopyTree(w.Prepared.index(), now, CopyOptions{}); err != nil {
		return err
	}
	env := []string{"GIT_DIR=" + c.gitDir(), "GIT_INDEX_FILE=" + now, "GIT_WORK_TREE=" + w.Tree()}
	if _, err := g.run(ctx, call{dir: w.Tree(), env: env, args: []string{"read-tree", "--reset", "-u", c.Tree}}); err != nil {
		return fmt.Errorf("lay the change over the start: %w", err)
	}
	return nil
}

// Laid are files that are put over a judging copy.
type Laid struct {
	// PutBack are paths that get the content of the start again.
	PutBack []string
	// Remove are paths that are taken out.
	Remove []string
	// Files are written, by slash path. What begins with "#!" can be run.
	Files map[string][]byte
	// Private keeps Files from everybody but their owner.
	Private bool
}

// maxPutBack is how large a file may be that is put back, in bytes.
const maxPutBack = 1 << 30

// Lay puts files over a copy. A link or a file that stands where a folder is
// needed gives way; nothing outside the copy is touched.
func (w *Workspace) Lay(l Laid) error {
	root, err := os.OpenRoot(w.Tree())
	if err != nil {
		return err
	}
	defer root.Close()
	for _, name := range l.Remove {
		if real, err := realParents(root, name); err != nil || !real {
			continue // it is not there
		}
		if err := root.RemoveAll(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("take out %s: %w", name, err)
		}
	}
	start, err := beneath.Open(w.Prepared.Template())
	if err != nil {
		return err
	}
	defer start.Close()
	for _, name := range l.PutBack {
		if err := makeWay(root, name); err != nil {
			return fmt.Errorf("put back %s: %w", name, err)
		}
		st, err := start.Lstat(name)
		if err != nil {
			return fmt.Errorf("put back %s: %w", name, err)
		}
		if beneath.Kind(&st) == unix.S_IFLNK {
			target, err := start.Readlink(name)
			if err == nil {
				err = root.Symlink(target, name)
			}
			if err != nil {
				return fmt.Errorf("put back %s: %w", name, err)
			}
			continue
		}
		data, err := start.ReadFile(name, maxPutBack)
		if err == nil {
			err = write(root, name, data, fs.FileMode(st.Mode&0o777))
		}
		if err != nil {
			return fmt.Errorf("put back %s: %w", name, err)
		}
	}
	for name, data := range l.Files {
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(string(data[:min(2, len(data))]), "#!") {
			mode = 0o755
		}
		if l.Private {
			mode &^= 0o077
		}
		err := makeWay(root, name)
		if err == nil {
			err = write(root, name, data, mode)
		}
		if err != nil {
			return fmt.Errorf("lay %s over the result: %w", name, err)
		}
	}
	return nil
}

func write(root *os.Root, name string, data []byte, mode fs.FileMode) error {
	f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Chmod(mode), f.Close())
}

// realParents tells whether every folder above a path is a folder, and no link to one.
func realParents(root *os.Root, name string) (bool, error) {
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		st, err := root.Lstat(dir)
		if err != nil || !st.IsDir() {
			return false, nil
		}
	}
	return true, nil
}

// makeWay makes the folders above a path, over whatever is no folder, and takes
// away what stands at the path itself.
func makeWay(root *os.Root, name string) error {
	parts := strings.Split(path.Dir(name), "/")
	for i := range parts {
		dir := strings.Join(parts[:i+1], "/")
		if dir == "." {
			break
		}
		st, err := root.Lstat(dir)
		if err == nil && !st.IsDir() {
			if err := root.Remove(dir); err != nil {
				return err
			}
			err = fs.ErrNotExist
		}
		if err != nil || st != nil && !st.IsDir() {
			if err := root.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
				return err
			}
		}
	}
	return root.RemoveAll(name)
}
