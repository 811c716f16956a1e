package workspace

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"sort"
	"strings"
)

// entry is what a path of a tree is: its mode as git writes it, and its id.
type entry struct {
	mode string
	id   string
}

const (
	modeTree      = "040000"
	modeSubmodule = "160000"
)

// listing is a snapshot's tree, all of it: files and submodules by their path,
// and every folder ("" is the top) with what lies directly in it.
type listing struct {
	files   map[string]entry
	folders map[string]map[string]entry
}

// maxListings is how many snapshots' listings are kept in memory.
const maxListings = 8

// listing reads a snapshot's listing; the last few are kept. It is shared and
// must not be changed.
func (g *Git) listing(p *Prepared) (*listing, error) {
	g.mu.Lock()
	known := g.listings[p.Dir+p.Tree]
	g.mu.Unlock()
	if known != nil {
		return known, nil
	}
	known, err := p.readListing()
	if err != nil || p.Tree == "" {
		return known, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.listings) >= maxListings {
		clear(g.listings)
	}
	g.listings[p.Dir+p.Tree] = known
	return known, nil
}

func (p *Prepared) readListing() (*listing, error) {
	data, err := os.ReadFile(p.listingFile())
	if err != nil {
		return nil, err
	}
	out := &listing{files: make(map[string]entry, len(data)/80), folders: map[string]map[string]entry{"": {}}}
	for _, e := range splitNUL(data) {
		meta, name, ok := strings.Cut(e, "\t")
		fields := strings.Fields(meta)
		if !ok || len(fields) != 3 {
			return nil, errors.New("the snapshot's listing is damaged: " + p.Dir)
		}
		one := entry{mode: fields[0], id: fields[2]}
		dir, base := splitPath(name)
		if one.mode == modeTree {
			out.folders[name] = map[string]entry{}
		} else {
			out.files[name] = one
		}
		if out.folders[dir] == nil {
			return nil, errors.New("the snapshot's listing is damaged: " + p.Dir)
		}
		out.folders[dir][base] = one
	}
	return out, nil
}

// splitPath splits a slash-separated path into its folder ("" for the top) and its last part.
func splitPath(name string) (dir, base string) {
	cut := strings.LastIndexByte(name, '/')
	if cut < 0 {
		return "", name
	}
	return name[:cut], name[cut+1:]
}

// edited works out the tree that a listing becomes when files are set and
// deleted. Only folders on the way to a changed file are made anew; write
// stores each and returns its id. That is what git's own index would come to,
// without reading and writing an index as large as the repository.
func (l *listing) edited(set map[string]entry, deleted []string, write func(kind string, content []byte) (string, error)) (string, error) {
	type edits struct {
		set  map[string]entry
		gone []string
	}
	touched := map[string]*edits{}
	at := func(dir string) *edits {
		if touched[dir] == nil {
			touched[dir] = &edits{set: map[string]entry{}}
		}
		return touched[dir]
	}
	mark := func(name string) *edits {
		dir, _ := splitPath(name)
		for up := dir; up != ""; up, _ = splitPath(up) {
			at(up)
		}
		at("")
		return at(dir)
	}
	for name, e := range set {
		mark(name).set[path.Base(name)] = e
	}
	for _, name := range deleted {
		e := mark(name)
		e.gone = append(e.gone, path.Base(name))
	}
	order := make([]string, 0, len(touched))
	for dir := range touched {
		order = append(order, dir)
	}
	// Inner folders before outer ones.
	sort.Slice(order, func(i, j int) bool {
		a, b := strings.Count(order[i], "/"), strings.Count(order[j], "/")
		if (order[i] == "") != (order[j] == "") {
			return order[j] == ""
		}
		if a != b {
			return a > b
		}
		return order[i] < order[j]
	})
	made := map[string]entry{} // the folders that were made anew; the zero entry for one that is empty now
	inner := map[string][]string{}
	var top string
	for _, dir := range order {
		children := make(map[string]entry, len(l.folders[dir])+len(touched[dir].set))
		for base, e := range l.folders[dir] {
			children[base] = e
		}
		// A file may have become a folder, and a folder a file.
		for _, base := range touched[dir].gone {
			if children[base].mode != modeTree {
				delete(children, base)
			}
		}
		for _, sub := range inner[dir] {
			base := path.Base(sub)
			if made[sub] != (entry{}) {
				children[base] = made[sub]
			} else if children[base].mode == modeTree {
				delete(children, base)
			}
		}
		for base, e := range touched[dir].set {
			children[base] = e
		}
		content, err := treeContent(children)
		if err != nil {
			return "", err
		}
		if dir != "" {
			parent, _ := splitPath(dir)
			inner[parent] = append(inner[parent], dir)
			if len(children) == 0 {
				made[dir] = entry{}
				continue
			}
		}
		id, err := write("tree", content)
		if err != nil {
			return "", err
		}
		made[dir] = entry{mode: modeTree, id: id}
		top = id
	}
	return top, nil
}

// treeContent writes a folder as a git tree object: mode, name, NUL and binary
// id of each child, sorted by name as if a folder's name ended in a slash.
func treeContent(children map[string]entry) ([]byte, error) {
	names := make([]string, 0, len(children))
	for base := range children {
		names = append(names, base)
	}
	key := func(base string) string {
		if children[base].mode == modeTree {
			return base + "/"
		}
		return base
	}
	sort.Slice(names, func(i, j int) bool { return key(names[i]) < key(names[j]) })
	var b bytes.Buffer
	for _, base := range names {
		e := children[base]
		raw, err := hex.DecodeString(e.id)
		if err != nil {
			return nil, fmt.Errorf("the id of %q: %w", base, err)
		}
		b.WriteString(strings.TrimPrefix(e.mode, "0"))
		b.WriteByte(' ')
		b.WriteString(base)
		b.WriteByte(0)
		b.Write(raw)
	}
	return b.Bytes(), nil
}
