package workspace

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/core/task"
)

// Submodules arrive as a recursive clone gives them, where they can be reached: from what
// the origin itself has of them, from a path on this machine, or over the network. Each is
// packed into a start repository of its own first, so that a workspace holds its commit and
// what lies before it, and nothing later.

// Submodule is a submodule of a start commit.
type Submodule struct {
	Path, Name, URL, Commit string
	// Start is its start repository; "" where it cannot be had, for which Why gives the reason.
	Start, Why string
	// Inner are its own.
	Inner []Submodule
}

// EmptySubmodule is one that arrives empty.
type EmptySubmodule struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// How deep submodules are looked for, how many, and how long one may take to be fetched.
const (
	maxSubmoduleDepth = 5
	maxSubmodules     = 200
	submoduleTime     = 2 * time.Minute
)

// Submodules finds those of a commit; start repositories are made below dir.
func (r *Repositories) Submodules(ctx context.Context, dir, address, commit string) ([]Submodule, error) {
	left := maxSubmodules
	return r.submodules(ctx, dir, address, commit, 0, &left)
}

func (r *Repositories) submodules(ctx context.Context, dir, address, commit string, depth int, left *int) ([]Submodule, error) {
	if depth >= maxSubmoduleDepth {
		return nil, nil
	}
	origin, err := r.Local(ctx, address)
	if err != nil {
		return nil, err
	}
	env := []string{"GIT_DIR=" + origin}
	if _, err := r.Git.line(ctx, call{dir: "/", env: env, args: []string{"cat-file", "-e", commit + ":.gitmodules"}}); err != nil {
		return nil, nil // none, or a start that holds nothing
	}
	list, err := r.Git.run(ctx, call{dir: "/", env: env, args: []string{"ls-tree", "-r", "-z", commit}})
	if err != nil {
		return nil, err
	}
	said, err := r.Git.run(ctx, call{dir: "/", env: env, args: []string{"config", "-z", "--blob", commit + ":.gitmodules", "--get-regexp", `^submodule\..*\.(path|url)$`}})
	if err != nil {
		said = nil // a file that git cannot read says nothing
	}
	names, urls := map[string]string{}, map[string]string{} // by path, and by name
	for _, pair := range splitNUL(said) {
		key, value, _ := strings.Cut(pair, "\n")
		name, field := strings.TrimPrefix(key[:strings.LastIndexByte(key, '.')], "submodule."), key[strings.LastIndexByte(key, '.')+1:]
		if field == "path" {
			names[value] = name
		} else {
			urls[name] = value
		}
	}
	var out []Submodule
	for _, line := range splitNUL(list) {
		meta, at, _ := strings.Cut(line, "\t")
		f := strings.Fields(meta)
		if len(f) != 3 || f[0] != "160000" || *left <= 0 {
			continue
		}
		*left--
		s := Submodule{Path: at, Name: names[at], Commit: f[2]}
		s.URL = urls[s.Name]
		if s.Name == "" || s.URL == "" || strings.HasPrefix(s.Name, "-") || strings.HasPrefix(s.URL, "-") || strings.Contains("/"+s.Name+"/", "/../") {
			s.Why = ".gitmodules does not say where it comes from"
			out = append(out, s)
			continue
		}
		r.reach(ctx, dir, address, origin, &s, depth, left)
		out = append(out, s)
	}
	return out, nil
}

// reach makes the start repository of a submodule from the first place that has it.
func (r *Repositories) reach(ctx context.Context, dir, address, origin string, s *Submodule, depth int, left *int) {
	places := []string{filepath.Join(origin, "modules", filepath.FromSlash(s.Name))}
	if at, err := r.submoduleAddress(ctx, address, origin, s.URL); err == nil {
		places = append(places, at)
	} else {
		s.Why = err.Error()
	}
	for _, at := range places {
		if !task.IsURL(at) {
			if _, err := os.Stat(at); err != nil {
				if s.Why == "" {
					s.Why = "there is no " + at
				}
				continue
			}
		}
		limited, cancel := context.WithTimeout(ctx, submoduleTime)
		start, err := r.StartRepository(limited, dir, at, s.Commit)
		if err == nil {
			s.Inner, err = r.submodules(limited, dir, at, s.Commit, depth+1, left)
		}
		cancel()
		if err == nil {
			s.Start, s.Why = start, ""
			return
		}
		s.Why = firstWords(err)
	}
}

func firstWords(err error) string {
	line, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
	return line
}

// submoduleAddress is where a submodule's URL leads: one that begins with ./ or ../ is
// relative to where its superproject comes from.
func (r *Repositories) submoduleAddress(ctx context.Context, address, origin, of string) (string, error) {
	if !strings.HasPrefix(of, "./") && !strings.HasPrefix(of, "../") {
		return allowedAddress(of)
	}
	base, err := r.Git.line(ctx, call{dir: "/", env: []string{"GIT_DIR=" + origin}, args: []string{"config", "--get", "remote.origin.url"}})
	if err != nil || base == "" {
		base = address
	}
	if u, err := url.Parse(base); err == nil && u.Scheme != "" && u.Host != "" {
		u.Path = path.Join(u.Path, of)
		return allowedAddress(u.String())
	}
	if task.IsURL(base) && !strings.Contains(base, "://") { // host:path
		host, at, _ := strings.Cut(base, ":")
		return host + ":" + path.Join(at, of), nil
	}
	return filepath.Join(strings.TrimPrefix(base, "file://"), of), nil
}

// allowedAddress lets through what names a place, and nothing that runs a program.
func allowedAddress(of string) (string, error) {
	if rest, ok := strings.CutPrefix(of, "file://"); ok {
		of = rest
	}
	if scheme, _, found := strings.Cut(of, "://"); found {
		switch scheme {
		case "https", "http", "ssh", "git":
			return of, nil
		}
		return "", errors.New("addresses of the kind " + scheme + " are not followed")
	}
	if strings.Contains(of, "::") {
		return "", errors.New("it comes from a program, which is not run")
	}
	if !task.IsURL(of) && !filepath.IsAbs(of) {
		return "", errors.New(of + " is no address")
	}
	return of, nil
}

// placeSubmodules checks submodules out in a work tree, and lists those that stay empty.
func (g *Git) placeSubmodules(ctx context.Context, tree, below string, subs []Submodule) ([]EmptySubmodule, error) {
	var empty []EmptySubmodule
	for _, s := range subs {
		if s.Start == "" {
			empty = append(empty, EmptySubmodule{path.Join(below, s.Path), s.Why})
			continue
		}
		key := "submodule." + s.Name
		steps := [][]string{
			{"config", key + ".url", s.Start},
			{"config", key + ".active", "true"},
			{"-c", "protocol.file.allow=always", "submodule", "--quiet", "update", "--checkout", "--", s.Path},
			{"config", key + ".url", s.URL},
		}
		for _, args := range steps {
			if _, err := g.run(ctx, call{dir: tree, args: args}); err != nil {
				return nil, fmt.Errorf("check out the submodule %s: %w", s.Path, err)
			}
		}
		at := filepath.Join(tree, filepath.FromSlash(s.Path))
		// As in the superproject: nothing names where it was packed, and copies are known.
		for _, kv := range [][2]string{{"remote.origin.url", s.URL}, {"core.checkStat", "minimal"}, {"core.trustctime", "false"}} {
			if _, err := g.run(ctx, call{dir: at, args: []string{"config", kv[0], kv[1]}}); err != nil {
				return nil, err
			}
		}
		own, err := g.line(ctx, call{dir: at, args: []string{"rev-parse", "--absolute-git-dir"}})
		if err != nil {
			return nil, err
		}
		for _, name := range []string{"logs", "hooks", "FETCH_HEAD", "description"} {
			if err := beneath.RemoveTree(filepath.Join(own, name)); err != nil {
				return nil, err
			}
		}
		inner, err := g.placeSubmodules(ctx, at, path.Join(below, s.Path), s.Inner)
		if err != nil {
			return nil, err
		}
		empty = append(empty, inner...)
	}
	return empty, nil
}

// unreached names the submodules that stay empty: when they can be reached, another state
// is prepared.
func unreached(subs []Submodule) []string {
	var out []string
	for _, s := range subs {
		if s.Start == "" {
			out = append(out, "empty "+s.Path)
		}
		out = append(out, unreached(s.Inner)...)
	}
	return out
}

// StartsAreThere tells whether the start repositories of submodules that were found are
// still on disk.
func StartsAreThere(subs []Submodule) bool {
	for _, s := range subs {
		if s.Start != "" && !exists(filepath.Join(s.Start, "HEAD")) || !StartsAreThere(s.Inner) {
			return false
		}
	}
	return true
}
