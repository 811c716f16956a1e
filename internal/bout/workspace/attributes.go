package workspace

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"

	"golang.org/x/sys/unix"

	"agonometer/internal/bout/beneath"
)

// A workspace is what git clone gives, so .gitattributes decide about line ends, encodings
// and idents in it. What a contender makes of its files is turned back as git would turn
// it before it is compared, or a file that a tool put back by git would differ in every
// line. The attributes are those of the start: a contender that writes others changes a
// file, and nothing of what is done to files. They are kept as one file, which stands
// above whatever a work tree says.

// noAttributes takes back all that is said elsewhere. Attributes of comparing are always
// taken back: a change cannot hide what it is.
const (
	noAttributes    = "* !text !eol !crlf !ident !filter !working-tree-encoding !export-subst\n"
	ownAttributes   = noAttributes + plainCompare
	plainCompare    = "* !diff !merge\n"
	maxAttributes   = 1 << 20
	maxAttributesIn = 1000
)

func (p *Prepared) attributesFile() string { return filepath.Join(p.Dir, "attributes") }

// attributes are those of the start as one file, and whether they say anything.
func (p *Prepared) attributes() (text string, any bool) {
	data, err := os.ReadFile(p.attributesFile())
	if err != nil {
		return ownAttributes, false
	}
	return string(data), true
}

// gatherAttributes writes the attributes of the start down.
func (g *Git) gatherAttributes(ctx context.Context, p *Prepared, files []string) error {
	var names []string
	for _, name := range files {
		if path.Base(name) == ".gitattributes" {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	// Those further down stand above the others.
	sort.SliceStable(names, func(i, j int) bool { return strings.Count(names[i], "/") < strings.Count(names[j], "/") })
	root, err := beneath.Open(p.Template())
	if err != nil {
		return err
	}
	defer root.Close()
	var out strings.Builder
	out.WriteString(noAttributes)
	for _, name := range names[:min(len(names), maxAttributesIn)] {
		data, err := root.ReadFile(name, maxAttributes)
		if err != nil {
			continue // a link, which git does not follow either, or one that is too large
		}
		out.WriteString(attributesBelow(path.Dir(name), string(data)))
	}
	out.WriteString(plainCompare)
	return os.WriteFile(p.attributesFile(), []byte(out.String()), 0o644)
}

var globs = strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`)

// attributesBelow are the lines of a folder's .gitattributes as they are said at the top.
func attributesBelow(dir, text string) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' || line[0] == '!' || strings.HasPrefix(line, `"!`) {
			continue
		}
		if dir != "." && !strings.HasPrefix(line, "[attr]") {
			quote := ""
			if line[0] == '"' {
				quote, line = `"`, line[1:]
			}
			pattern := line
			if end := strings.IndexAny(line, " \t"); quote == "" && end >= 0 {
				pattern = line[:end]
			} else if end := strings.IndexByte(line, '"'); quote != "" && end >= 0 {
				pattern = line[:end]
			}
			rest := line[len(pattern):]
			between := "/**/" // a name alone holds at any depth
			if inner := strings.TrimSuffix(pattern, "/"); strings.Contains(inner, "/") {
				between, pattern = "/", strings.TrimPrefix(pattern, "/")
			}
			prefix := globs.Replace(dir) + between
			if quote == "" && strings.ContainsAny(prefix, " \t\"") {
				quote = `"`
				pattern = strings.ReplaceAll(pattern, `\`, `\\`)
				rest = `"` + rest
			}
			if quote != "" {
				prefix = strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(prefix)
			}
			line = quote + prefix + pattern + rest
		}
		out.WriteString(line + "\n")
	}
	return out.String()
}

// cleaned are the files among some that git would store otherwise than they lie in the
// work tree, as it would store them. Where git cannot say, there are none: then they are
// stored as they are.
func (g *Git) cleaned(ctx context.Context, c *collector, names []string) (map[string]entry, error) {
	text, any := c.prepared.attributes()
	if !any || len(names) == 0 {
		return nil, nil
	}
	dir := c.scratch + "-clean"
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, err
	}
	defer beneath.RemoveTree(dir)
	if err := os.WriteFile(filepath.Join(c.gitDir, "info", "attributes"), []byte(text), 0o644); err != nil {
		return nil, err
	}
	tree, index := filepath.Join(dir, "tree"), filepath.Join(dir, "index")
	if err := os.Mkdir(tree, 0o700); err != nil {
		return nil, err
	}
	var ask bytes.Buffer
	for _, name := range names {
		if c.modeOf(name)&unix.S_IFMT == unix.S_IFREG {
			ask.WriteString(name + "\x00")
		}
	}
	limited, cancel := context.WithTimeout(ctx, ignoreTime) // patterns can be written so that matching takes for ever
	defer cancel()
	env := []string{"GIT_DIR=" + c.gitDir, "GIT_WORK_TREE=" + tree, "GIT_INDEX_FILE=" + index}
	said, err := g.run(limited, call{dir: tree, env: env, stdin: &ask, args: []string{"check-attr", "-z", "--stdin", "text", "eol", "crlf", "ident", "working-tree-encoding"}})
	if err != nil {
		return nil, ctx.Err()
	}
	type wanted struct{ lines, ident, encoding bool }
	want := map[string]wanted{}
	for parts := splitNUL(said); len(parts) > 2; parts = parts[3:] { // path, attribute, value
		if parts[2] == "unspecified" || parts[2] == "unset" {
			continue
		}
		w := want[parts[0]]
		switch parts[1] {
		case "ident":
			w.ident = true
		case "working-tree-encoding":
			w.encoding = true
		default:
			w.lines = true
		}
		want[parts[0]] = w
	}
	scratch, err := beneath.Open(tree)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	ask.Reset()
	var placed []string
	for _, name := range names {
		w, ok := want[name]
		if !ok {
			continue
		}
		data, err := c.content(name)
		if err != nil || !(w.encoding || w.lines && bytes.Contains(data, []byte("\r\n")) || w.ident && bytes.Contains(data, []byte("$Id"))) {
			continue
		}
		if !c.take(int64(len(data))) {
			continue // what stores it as it is says so
		}
		if struck := Strike(data, c.limits.Secrets); struck != nil {
			c.out.Struck++
			data = struck
		}
		up, err := scratch.MkdirAll(path.Dir(name), 0o700, nil)
		if err != nil {
			return nil, err
		}
		up.Close()
		if err := scratch.WriteFile(name, data, 0o600|c.modeOf(name)&0o100, nil); err != nil {
			return nil, err
		}
		ask.WriteString(name + "\x00")
		placed = append(placed, name)
	}
	if len(placed) == 0 {
		return nil, nil
	}
	if err := CopyTree(c.prepared.index(), index, CopyOptions{}); err != nil {
		return nil, err
	}
	limited, cancel = context.WithTimeout(ctx, ignoreTime)
	defer cancel()
	if _, err := g.run(limited, call{dir: tree, env: env, stdin: &ask, args: []string{"update-index", "-z", "--add", "--replace", "--stdin"}}); err != nil {
		return nil, ctx.Err() // an encoding that it does not have, or not this content
	}
	list, err := g.run(ctx, call{dir: tree, env: env, args: []string{"ls-files", "-s", "-z"}})
	if err != nil {
		return nil, fmt.Errorf("see what was stored: %w", err)
	}
	ids := map[string]entry{}
	for _, line := range splitNUL(list) { // mode, id, stage, a tab, path
		meta, name, _ := strings.Cut(line, "\t")
		if fields := strings.Fields(meta); len(fields) == 3 {
			ids[name] = entry{mode: fields[0], id: fields[1]}
		}
	}
	out := map[string]entry{}
	for _, name := range placed {
		if e, ok := ids[name]; ok {
			out[name] = e
		}
	}
	return out, nil
}

// modeOf is the mode of a new or changed file.
func (c *collector) modeOf(name string) uint32 {
	if mode, ok := c.changed[name]; ok {
		return mode
	}
	return c.fresh[name]
}
