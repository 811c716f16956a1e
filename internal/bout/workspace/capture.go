package workspace

import (
	"bytes"
	"compress/zlib"
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// Workspace is one contender's copy, with what is needed to take its change out again.
type Workspace struct {
	Prepared *Prepared
	// Dir holds everything of this workspace; the rest lies in it.
	Dir string
	// PrepareMS and HomeMS are what making the copies cost, in milliseconds.
	PrepareMS, HomeMS int64
	layered           bool
	stats             map[string]map[string]stat // by folder and name
	taken             time.Time
}

// The parts of a workspace.
func (w *Workspace) Tree() string { return filepath.Join(w.Dir, "workspace") }
func (w *Workspace) Home() string { return filepath.Join(w.Dir, "home") }
func (w *Workspace) Tmp() string  { return filepath.Join(w.Dir, "tmp") }
func (w *Workspace) Root() string { return filepath.Join(w.Dir, "root") }

// HomeLayer is the pristine HOME and the work folder of an overlay, where HOME
// is not a copy; else both are empty.
func (w *Workspace) HomeLayer() (lower, work string) {
	if !w.layered {
		return "", ""
	}
	return w.Prepared.Home(), filepath.Join(w.Dir, "homework")
}

// Remove frees the workspace.
func (w *Workspace) Remove() error { return beneath.RemoveTree(w.Dir) }

// stat is what tells that a file was not touched. The change time cannot be
// set by a tool, so an edit of the same size with its time put back is seen.
type stat struct {
	size, mtime, ctime int64
	inode              uint64
	mode               uint32
}

func statOfSys(st *unix.Stat_t) stat {
	return stat{size: st.Size, mtime: st.Mtim.Nano(), ctime: st.Ctim.Nano(), inode: st.Ino, mode: st.Mode}
}

// racy is how close to the baseline a change time may lie to be trusted.
const racy = 20 * time.Millisecond

// Maker makes workspaces and judging copies from a prepared state. Copier is
// the plain way; a mounted overlay can be another.
type Maker interface {
	// Make makes a workspace in dir, a folder that is not there yet.
	Make(ctx context.Context, p *Prepared, dir string, opt CopyOptions) (*Workspace, error)
}

// Copier makes workspaces by copying files.
type Copier struct {
	// LayerHome leaves HOME out: the machine can lay a private layer over the prepared one.
	LayerHome bool
}

// Make copies the prepared tree and HOME, and notes what each file looks like.
func (c Copier) Make(ctx context.Context, p *Prepared, dir string, opt CopyOptions) (*Workspace, error) {
	w := &Workspace{Prepared: p, Dir: dir, stats: map[string]map[string]stat{}}
	if err := os.Mkdir(dir, 0o711); err != nil {
		return nil, err
	}
	began := time.Now()
	opt.Ctx = ctx
	var mu sync.Mutex
	noting := opt
	noting.noted = func(name string, st stat) {
		if !strings.HasPrefix(name, ".git/") {
			folder, base := splitPath(name)
			mu.Lock()
			if w.stats[folder] == nil {
				w.stats[folder] = map[string]stat{}
			}
			w.stats[folder][base] = st
			mu.Unlock()
		}
	}
	if err := CopyTree(p.Template(), w.Tree(), noting); err != nil {
		return nil, fmt.Errorf("copy the workspace: %w", err)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	w.taken = time.Now()
	w.PrepareMS = time.Since(began).Milliseconds()
	began = time.Now()
	fresh := []string{w.Tmp(), w.Root()}
	if c.LayerHome {
		w.layered = true
		_, work := w.HomeLayer()
		fresh = append(fresh, w.Home(), work)
	} else if err := CopyTree(p.Home(), w.Home(), opt); err != nil {
		return nil, fmt.Errorf("copy the prepared HOME: %w", err)
	}
	w.HomeMS = time.Since(began).Milliseconds()
	for _, d := range fresh {
		if err := os.Mkdir(d, 0o700); err != nil {
			return nil, err
		}
		if opt.Owned {
			if err := os.Chown(d, opt.UID, opt.GID); err != nil {
				return nil, err
			}
		}
	}
	return w, ctx.Err()
}

// Limits bound a capture, in bytes.
type Limits struct {
	// File is the largest single file; Total all changed files together.
	File, Total int64
	// Secrets are texts that are struck out of the change before it is stored.
	Secrets []string
	// Except tells the new files that are no part of the change; nil for none.
	Except func(name string) bool
	// Placed are files that were written into the workspace before the work began,
	// with their contents: no part of the change as long as they are as they were.
	Placed map[string][]byte
}

// maxCapturedFiles bounds how many new or changed files are captured.
const maxCapturedFiles = 40_000

// Captured is a contender's change.
type Captured struct {
	// Diff is what is stored and applied: binary, full ids, no renames.
	Diff []byte
	// Shown is the same change with renames found, for people.
	Shown []byte
	// Tree is the id of the tree that the diff leads to.
	Tree string
	// Ignored is how many new or changed files the ignore rules left out.
	Ignored int
	// TooLarge are files over the size caps, Special how many were neither
	// file, folder nor link, Unreadable how many paths could not be read.
	TooLarge   []string
	Special    int
	Unreadable int
	// NestedGit is how many .git below the top, or written otherwise, were passed over.
	NestedGit int
	// InSubmodules is how many files lie where a submodule would be.
	InSubmodules int
	// Struck is how many files held a secret, which was struck out.
	Struck int
	// Elsewhere says in words where else in the workspace work was left: on branches that
	// are not checked out, in work trees of their own.
	Elsewhere []string
	// mayRename is set when files went and others came: only then is there a rename to find.
	mayRename bool
}

// Changed tells whether there is any change.
func (c *Captured) Changed() bool { return len(c.Diff) > 0 }

// Capture takes the change out of a workspace in which nothing runs any more.
// Nothing of the workspace is executed, and its .git is not looked at: whatever
// was committed, staged, packed away or deleted there makes no difference.
func (g *Git) Capture(ctx context.Context, w *Workspace, limits Limits) (*Captured, error) {
	gitDir := filepath.Join(w.Dir, "capture.git")
	p := w.Prepared
	if err := p.initHarness(gitDir, filepath.Join(p.harness(), "objects"), startObjects(p)); err != nil {
		return nil, err
	}
	c, err := g.collect(ctx, collection{prepared: p, tree: w.Tree(), gitDir: gitDir,
		scratch: filepath.Join(w.Dir, "ignore"), limits: limits, stats: w.stats, taken: w.taken, base: p.Tree})
	if err != nil {
		return nil, err
	}
	c.Elsewhere = elsewhere(w)
	return c, g.diffs(ctx, p, w.Dir, gitDir, c)
}

// startObjects is where the harness's git directory borrows from itself; git
// follows alternates of alternates, but only so deep.
func startObjects(p *Prepared) string {
	b, err := os.ReadFile(filepath.Join(p.harness(), "objects", "info", "alternates"))
	if err != nil {
		return filepath.Join(p.harness(), "objects")
	}
	line, _, _ := strings.Cut(string(b), "\n")
	return line
}

type collection struct {
	prepared *Prepared
	tree     string
	gitDir   string
	scratch  string
	limits   Limits
	stats    map[string]map[string]stat // nil: nothing is known to be unchanged
	base     string                     // the snapshot's tree
	taken    time.Time
}

// collector walks a work tree and gathers what differs from the snapshot.
type collector struct {
	collection
	root       *beneath.Dir // the work tree
	known      *listing
	submodules []string
	out        *Captured
	newHash    func() hash.Hash
	budget     int64

	mu      sync.Mutex        // guards what follows, while several goroutines walk
	looked  map[string]bool   // folders that were looked through
	gone    []string          // files of the snapshot that are not there any more
	changed map[string]uint32 // files of the snapshot that look different, with their modes
	fresh   map[string]uint32 // files that the snapshot does not have
	ignores []string          // .gitignore files
}

// collect looks through the work tree, stores what differs from the snapshot
// as git objects, and works out the tree that it comes to.
func (g *Git) collect(ctx context.Context, in collection) (*Captured, error) {
	tree, err := g.listing(in.prepared)
	if err != nil {
		return nil, err
	}
	known := tree.files
	c := &collector{collection: in, known: tree, looked: map[string]bool{}, changed: map[string]uint32{}, fresh: map[string]uint32{},
		out: &Captured{}, newHash: sha1.New, budget: in.limits.Total}
	if in.prepared.ObjectFormat == "sha256" {
		c.newHash = sha256.New
	}
	for name, e := range known {
		if e.mode == modeSubmodule {
			c.submodules = append(c.submodules, name)
		}
	}
	c.root, err = beneath.Open(in.tree)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read the workspace: %w", err)
	}
	if err == nil { // a folder that is gone, all of it, is a change too
		defer c.root.Close()
		if err := c.walkAll(ctx); err != nil {
			return nil, err
		}
	}
	if err := g.dropIgnored(ctx, c); err != nil {
		return nil, err
	}
	c.dropPlaced()
	deleted := c.deleted()
	c.out.mayRename = len(deleted) > 0 && len(c.fresh) > 0
	set := map[string]entry{}
	names := make([]string, 0, len(c.changed)+len(c.fresh))
	for _, m := range []map[string]uint32{c.changed, c.fresh} {
		for name := range m {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	cleaned, err := g.cleaned(ctx, c, names[:min(len(names), maxCapturedFiles)])
	if err != nil {
		return nil, err
	}
	for name, one := range cleaned {
		if known[name] != one {
			set[name] = one
		}
	}
	names = slices.DeleteFunc(names, func(name string) bool { _, done := cleaned[name]; return done })
	if err := c.storeAll(ctx, names, set); err != nil {
		return nil, err
	}
	if c.out.Tree = in.base; len(set)+len(deleted) > 0 {
		if c.out.Tree, err = tree.edited(set, deleted, c.object); err != nil {
			return nil, fmt.Errorf("write the changed tree: %w", err)
		}
	}
	return c.out, nil
}

// storeAll stores what changed, with a few goroutines that have ended when it returns,
// and puts what it comes to into set.
func (c *collector) storeAll(ctx context.Context, names []string, set map[string]entry) error {
	if len(names) > maxCapturedFiles {
		for _, name := range names[maxCapturedFiles:] {
			c.out.TooLarge = append(c.out.TooLarge, name)
		}
		names = names[:maxCapturedFiles]
	}
	next := make(chan string)
	var workers sync.WaitGroup
	for range max(2, runtime.NumCPU()) {
		workers.Add(1)
		go func() { // ends when there is nothing next
			defer workers.Done()
			for name := range next {
				c.storeOne(name, set)
			}
		}()
	}
	var err error
	for _, name := range names {
		if err = ctx.Err(); err != nil {
			break
		}
		next <- name
	}
	close(next)
	workers.Wait()
	sort.Strings(c.out.TooLarge)
	return err
}

func (c *collector) storeOne(name string, set map[string]entry) {
	struck := Strike([]byte(name), c.limits.Secrets) != nil
	mode, isKnown := c.changed[name]
	if !isKnown {
		mode = c.fresh[name]
	}
	known := c.known.files[name]
	one := entry{mode: gitModeOf(mode)}
	var err error
	if !struck {
		one.id, err = c.store(name, mode, known.id)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case struck:
		c.out.Struck++ // a file's name cannot be changed: the file is left out
	case errors.Is(err, errTooLarge):
		c.out.TooLarge = append(c.out.TooLarge, name)
	case err != nil:
		c.out.Unreadable++
	case !isKnown || known != one:
		set[name] = one
	}
}

func gitModeOf(m uint32) string {
	switch {
	case m&unix.S_IFMT == unix.S_IFLNK:
		return "120000"
	case m&0o100 != 0:
		return "100755"
	}
	return "100644"
}

const maxWalkDepth = 200

// folder is a folder that is still to be looked through.
type folder struct {
	rel   string // "" or with a slash at the end
	depth int
}

// walkAll looks through the work tree with a few goroutines; all have ended
// when it returns.
func (c *collector) walkAll(ctx context.Context) error {
	var pending sync.WaitGroup
	var workers sync.WaitGroup
	queue := make(chan folder, 256)
	var failed error
	var push func(f folder)
	push = func(f folder) {
		pending.Add(1)
		select {
		case queue <- f:
		default: // the queue is full: this goroutine does it itself
			if err := c.look(ctx, f, push); err != nil {
				c.mu.Lock()
				failed = err
				c.mu.Unlock()
			}
			pending.Done()
		}
	}
	for range max(2, runtime.NumCPU()) {
		workers.Add(1)
		go func() { // ends when the queue is closed
			defer workers.Done()
			for f := range queue {
				if err := c.look(ctx, f, push); err != nil {
					c.mu.Lock()
					failed = err
					c.mu.Unlock()
				}
				pending.Done()
			}
		}()
	}
	push(folder{})
	pending.Wait()
	close(queue)
	workers.Wait()
	if failed != nil {
		return failed
	}
	return ctx.Err()
}

// found is what one folder holds that matters.
type found struct {
	gone, ignores  []string
	changed, fresh map[string]uint32
	special        int
	unreadable     int
	nested         int
	submodules     int
}

// look looks through one folder. Names are resolved below its descriptor, and
// no link is followed.
func (c *collector) look(ctx context.Context, f folder, push func(folder)) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	rel := strings.TrimSuffix(f.rel, "/")
	if rel == "" {
		rel = "."
	}
	dir, err := c.root.Sub(rel)
	if err != nil && !errors.Is(err, fs.ErrNotExist) && c.unlock(rel) {
		dir, err = c.root.Sub(rel)
	}
	if err != nil || f.depth > maxWalkDepth {
		if err == nil {
			dir.Close()
		}
		c.mu.Lock()
		c.out.Unreadable++
		c.mu.Unlock()
		return nil
	}
	defer dir.Close()
	list, err := dir.Entries(".")
	var got found
	if err != nil {
		got.unreadable++
	}
	taken := c.taken.Add(-racy).UnixNano()
	folderName := strings.TrimSuffix(f.rel, "/")
	children, stats := c.known.folders[folderName], c.stats[folderName]
	fd := dir.FD()
	met := 0
	for _, e := range list {
		base := e.Name()
		if strings.EqualFold(base, ".git") { // git takes no path with it, however it is written
			var sys unix.Stat_t
			then, noted := stats[base]
			if f.rel != "" && noted && unix.Fstatat(fd, base, &sys, unix.AT_SYMLINK_NOFOLLOW) == nil && then == statOfSys(&sys) {
				continue // a submodule's own, as it was
			}
			if f.rel != "" || base != ".git" {
				got.nested++
			}
			continue
		}
		if e.IsDir() {
			push(folder{f.rel + base + "/", f.depth + 1})
			continue
		}
		var sys unix.Stat_t
		if err := unix.Fstatat(fd, base, &sys, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			got.unreadable++
			continue
		}
		kind := sys.Mode & unix.S_IFMT
		if kind != unix.S_IFREG && kind != unix.S_IFLNK || kind == unix.S_IFLNK && strings.EqualFold(base, ".gitmodules") {
			got.special++ // git takes no link of that name either
			continue
		}
		if base == ".gitignore" && kind == unix.S_IFREG && sys.Size <= 1<<20 {
			got.ignores = append(got.ignores, f.rel+base)
		}
		was, isKnown := children[base]
		isKnown = isKnown && was.mode != modeTree && was.mode != modeSubmodule
		if isKnown {
			met++
		}
		if then, ok := stats[base]; ok && then == statOfSys(&sys) && (!isKnown || then.ctime < taken) {
			continue // untouched; what is not of the snapshot is an ignored file of the prepared state
		}
		rel := f.rel + base
		switch {
		case isKnown:
			put(&got.changed, rel, sys.Mode)
		case c.inSubmodule(rel):
			got.submodules++
		case c.limits.Except != nil && c.limits.Except(rel):
		default:
			put(&got.fresh, rel, sys.Mode)
		}
	}
	if met < filesIn(children) {
		there := map[string]bool{}
		for _, e := range list {
			there[e.Name()] = e.Type().IsRegular() || e.Type()&fs.ModeSymlink != 0
		}
		got.gone = absent(f.rel, children, there)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.looked[folderName] = true
	c.gone = append(c.gone, got.gone...)
	maps.Copy(c.changed, got.changed)
	maps.Copy(c.fresh, got.fresh)
	c.ignores = append(c.ignores, got.ignores...)
	c.out.Special += got.special
	c.out.Unreadable += got.unreadable
	c.out.NestedGit += got.nested
	c.out.InSubmodules += got.submodules
	return nil
}

// unlock gives the folders on the way to one back the permissions that a tool has taken
// from them, where they are the service's own user's; it tells whether that changed anything.
func (c *collector) unlock(rel string) bool {
	did := false
	for i := range len(rel) + 1 {
		if i > 0 && (i == len(rel) || rel[i] == '/') {
			st, err := c.root.Lstat(rel[:i])
			if err == nil && st.Mode&unix.S_IFMT == unix.S_IFDIR && st.Mode&0o700 != 0o700 && c.root.Chmod(rel[:i], 0o700) == nil {
				did = true
			}
		}
	}
	return did
}

func put(m *map[string]uint32, name string, mode uint32) {
	if *m == nil {
		*m = map[string]uint32{}
	}
	(*m)[name] = mode
}

// filesIn counts the files among a folder's children.
func filesIn(children map[string]entry) int {
	n := 0
	for _, e := range children {
		if e.mode != modeTree && e.mode != modeSubmodule {
			n++
		}
	}
	return n
}

// absent lists the files among a folder's children that are not there.
func absent(rel string, children map[string]entry, there map[string]bool) []string {
	var out []string
	for base, e := range children {
		if e.mode != modeTree && e.mode != modeSubmodule && !there[base] {
			out = append(out, rel+base)
		}
	}
	return out
}

// deleted lists the files of the snapshot that are not there any more, those of
// folders that are gone as a whole too.
// dropPlaced leaves out the files that are as they were placed.
func (c *collector) dropPlaced() {
	for name, content := range c.limits.Placed {
		if data, err := c.root.ReadFile(name, int64(len(content))); err == nil && bytes.Equal(data, content) {
			delete(c.changed, name)
			delete(c.fresh, name)
		}
	}
}

func (c *collector) deleted() []string {
	out := c.gone
	for folder, children := range c.known.folders {
		if !c.looked[folder] {
			rel := folder + "/"
			if folder == "" {
				rel = ""
			}
			out = append(out, absent(rel, children, nil)...)
		}
	}
	sort.Strings(out)
	return out
}

func (c *collector) inSubmodule(name string) bool {
	for _, s := range c.submodules {
		if strings.HasPrefix(name, s+"/") || name == s {
			return true
		}
	}
	return false
}

// ignoreTime is how long git may take to say which files are ignored.
const ignoreTime = 30 * time.Second

// dropIgnored leaves out the new files that the workspace's present .gitignore
// files name. git is asked in an empty work tree that holds only those files.
func (g *Git) dropIgnored(ctx context.Context, c *collector) error {
	if len(c.fresh) == 0 || len(c.ignores) == 0 {
		return nil
	}
	if err := os.Mkdir(c.scratch, 0o700); err != nil {
		return err
	}
	defer beneath.RemoveTree(c.scratch)
	for _, name := range c.ignores {
		data, err := c.read(name)
		if err != nil {
			continue
		}
		to := filepath.Join(c.scratch, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(to, data, 0o600); err != nil {
			return err
		}
	}
	var ask bytes.Buffer
	for name := range c.fresh {
		ask.WriteString("./" + name + "\x00")
	}
	// Patterns can be written so that matching takes for ever: then nothing is ignored.
	ctx, cancel := context.WithTimeout(ctx, ignoreTime)
	defer cancel()
	out, err := g.run(ctx, call{dir: c.scratch, env: []string{"GIT_DIR=" + c.gitDir, "GIT_WORK_TREE=" + c.scratch}, stdin: &ask,
		args: []string{"check-ignore", "--no-index", "-z", "--stdin"}})
	var gitErr *GitError
	if errors.As(err, &gitErr) || errors.Is(err, context.DeadlineExceeded) {
		return nil // exit status 1, none of them; or rules that git itself cannot read
	}
	if err != nil {
		return fmt.Errorf("ask which files are ignored: %w", err)
	}
	for _, name := range splitNUL(out) {
		delete(c.fresh, strings.TrimPrefix(name, "./"))
		c.out.Ignored++
	}
	return nil
}

var errTooLarge = errors.New("over the size cap")

// read reads a small regular file of the work tree; links are not followed.
func (c *collector) read(name string) ([]byte, error) {
	f, err := c.root.OpenFile(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, 1<<20))
}

// content reads a regular file that is not too large to be captured.
func (c *collector) content(name string) ([]byte, error) { return c.root.ReadFile(name, c.limits.File) }

// store hashes a file as git does, and writes it as a loose object unless its
// id is `known`. It returns the id.
func (c *collector) store(name string, mode uint32, known string) (string, error) {
	var body io.Reader
	var size, took int64
	if mode&unix.S_IFMT == unix.S_IFLNK {
		target, err := c.root.Readlink(name)
		if err != nil {
			return "", err
		}
		body, size = strings.NewReader(target), int64(len(target))
	} else {
		f, err := c.root.OpenFile(name)
		if err != nil {
			return "", err
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return "", err
		}
		if size = st.Size(); size > c.limits.File || !c.take(size) {
			return "", errTooLarge
		}
		body, took = f, size
	}
	data, err := io.ReadAll(io.LimitReader(body, size+1))
	if err != nil {
		return "", err
	}
	if int64(len(data)) != size {
		return "", errors.New("its size changed while it was read")
	}
	if struck := Strike(data, c.limits.Secrets); struck != nil {
		data = struck
		c.mu.Lock()
		c.out.Struck++
		c.mu.Unlock()
	}
	id, isNew, err := c.write("blob", data, known)
	if !isNew { // it takes no room
		c.take(-took)
	}
	return id, err
}

// take takes room for a content out of what may be captured in all.
func (c *collector) take(n int64) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if n > c.budget {
		return false
	}
	c.budget -= n
	return true
}

// deflaters are compressors for loose objects: one is a megabyte, an object mostly a few
// hundred bytes.
var deflaters = sync.Pool{New: func() any { z, _ := zlib.NewWriterLevel(io.Discard, zlib.BestSpeed); return z }}

// object stores a git object of some kind and returns its id.
func (c *collector) object(kind string, data []byte) (string, error) {
	id, _, err := c.write(kind, data, "")
	return id, err
}

// write stores a loose object, unless its id is `known` or it is there already.
func (c *collector) write(kind string, data []byte, known string) (id string, isNew bool, err error) {
	header := kind + " " + strconv.Itoa(len(data)) + "\x00"
	h := c.newHash()
	io.WriteString(h, header)
	h.Write(data)
	id = hex.EncodeToString(h.Sum(nil))
	dir := filepath.Join(c.gitDir, "objects", id[:2])
	object := filepath.Join(dir, id[2:])
	if id == known || exists(object) {
		return id, false, nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", false, err
	}
	var packed bytes.Buffer
	z := deflaters.Get().(*zlib.Writer)
	defer deflaters.Put(z)
	z.Reset(&packed)
	io.WriteString(z, header)
	z.Write(data)
	if err := z.Close(); err != nil {
		return "", false, err
	}
	// Two files may have one content, and be stored at once.
	if err := os.WriteFile(object, packed.Bytes(), 0o644); err != nil {
		return "", false, err
	}
	return id, true, nil
}

// minSecret is the shortest text that is struck out: shorter ones stand
// everywhere by chance.
const minSecret = 6

// Strike returns data with every secret replaced by as many asterisks, or nil
// when it holds none.
func Strike(data []byte, secrets []string) []byte {
	var out []byte
	for _, s := range secrets {
		if len(s) < minSecret || !bytes.Contains(data, []byte(s)) {
			continue
		}
		data = bytes.ReplaceAll(data, []byte(s), bytes.Repeat([]byte("*"), len(s)))
		out = data
	}
	return out
}

// treeOf applies a diff to the start's index in dir and returns the tree that
// comes out; want is what it must be ("" when that is not known).
func (g *Git) treeOf(ctx context.Context, p *Prepared, dir string, diff []byte, want string) (string, error) {
	gitDir := filepath.Join(dir, "apply.git")
	if err := p.initHarness(gitDir, filepath.Join(p.harness(), "objects"), startObjects(p)); err != nil {
		return "", err
	}
	target := filepath.Join(dir, "apply.index")
	if err := CopyTree(p.index(), target, CopyOptions{}); err != nil {
		return "", err
	}
	env := []string{"GIT_DIR=" + gitDir, "GIT_INDEX_FILE=" + target}
	if len(diff) > 0 {
		apply := func(strip string) error {
			_, err := g.run(ctx, call{dir: dir, env: env, stdin: bytes.NewReader(diff), args: []string{"apply", "--cached", "--binary", "--whitespace=nowarn", "--allow-empty", strip, "-"}})
			return err
		}
		err := apply("-p1")
		if err != nil && want == "" && apply("-p0") == nil { // a patch that was made without prefixes
			err = nil
		}
		if err != nil {
			return "", fmt.Errorf("the diff does not apply to the start: %w", err)
		}
	}
	tree, err := g.line(ctx, call{dir: dir, env: env, args: []string{"write-tree"}})
	if err != nil {
		return "", err
	}
	if want != "" && tree != want {
		return "", fmt.Errorf("the diff leads to tree %s, and the capture had %s", tree, want)
	}
	return tree, nil
}
