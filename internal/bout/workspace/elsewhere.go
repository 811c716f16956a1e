package workspace

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// A tool may leave its work where nobody looks: committed on a branch that is not checked
// out, or in a work tree of its own inside the workspace. It is no part of the change, which
// is what lies in the workspace; but whoever reads the verdict should know. The files of
// the workspace's .git are read as what they are, a contender's.

const (
	maxRefs     = 500
	maxRefBytes = 1 << 20
	maxWorkDirs = 20
)

var refIDRE = regexp.MustCompile(`^[0-9a-f]{40}([0-9a-f]{24})?$`)

// elsewhere says in words where else in a workspace work was left.
func elsewhere(w *Workspace) []string {
	tree, err := beneath.Open(w.Tree())
	if err != nil {
		return nil
	}
	defer tree.Close()
	git, err := tree.Sub(".git")
	if err != nil {
		return nil
	}
	defer git.Close()
	branches := map[string]string{}
	if packed, err := git.ReadFile("packed-refs", maxRefBytes); err == nil {
		for line := range strings.Lines(string(packed)) {
			id, name, _ := strings.Cut(strings.TrimSpace(line), " ")
			if rest, ok := strings.CutPrefix(name, "refs/heads/"); ok && refIDRE.MatchString(id) && len(branches) < maxRefs {
				branches[rest] = id
			}
		}
	}
	if heads, err := git.Sub("refs/heads"); err == nil {
		_ = heads.Walk(func(in *beneath.Dir, base, name string, st *unix.Stat_t) (bool, error) {
			if beneath.Kind(st) == unix.S_IFREG && len(branches) < maxRefs {
				if text, err := in.ReadFile(base, 100); err == nil && refIDRE.MatchString(strings.TrimSpace(string(text))) {
					branches[name] = strings.TrimSpace(string(text))
				}
			}
			return true, nil
		})
		heads.Close()
	}
	head, _ := git.ReadFile("HEAD", 1<<10)
	at := strings.TrimSpace(string(head))
	if name, ok := strings.CutPrefix(at, "ref: refs/heads/"); ok {
		at = branches[name]
	}
	var out []string
	for name, id := range branches {
		if id != at && id != w.Prepared.Commit {
			out = append(out, fmt.Sprintf("commits on the branch %s, which is not checked out", name))
		}
	}
	if trees, err := git.Sub("worktrees"); err == nil {
		entries, _ := trees.Entries(".")
		for i, e := range entries {
			if i >= maxWorkDirs {
				break
			}
			where := e.Name()
			if text, err := trees.ReadFile(e.Name()+"/gitdir", 4<<10); err == nil {
				where = path.Dir(strings.TrimSpace(string(text)))
			}
			out = append(out, "a work tree of its own at "+where)
		}
		trees.Close()
	}
	slices.Sort(out)
	return out
}
