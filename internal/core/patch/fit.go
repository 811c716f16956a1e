package patch

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"
	"golang.org/x/mod/modfile"

	"agonometer/internal/core/lex"
)

// fit is how a change sits in its surroundings: dependencies, imports, exported names,
// how long and deep its functions are, what linters find newly.
func (w *work) fit() {
	for _, c := range w.files {
		w.dependencies(c)
	}
	w.figure("dependencies_added", w.count("fit", "dependency"))
	w.imports()
	w.figure("undeclared_imports", w.count("fit", "undeclared-import"))
	had, has := map[string]Place{}, map[string]Place{}
	longest, deepest := 0, 0
	var long, deep places
	exported := func(into map[string]Place, side Side, c *change, d lex.Decl) {
		if _, known := into[d.Full()]; !known && d.Exported && d.Kind != lex.Extension {
			into[d.Full()] = Place{Side: side, Path: c.name(side), Line: d.Line}
		}
	}
	for _, c := range w.files {
		if c.class != ClassCode {
			continue
		}
		if c.before != nil {
			for _, d := range c.before.decls {
				exported(had, Before, c, d)
			}
		}
		if c.after == nil {
			continue
		}
		for _, d := range c.after.decls {
			exported(has, After, c, d)
			if d.Kind != lex.Function || !touches(c.after, d.Line, d.End) {
				continue
			}
			if n := d.End - d.Line + 1; n > longest {
				longest, long = n, places{}
				long.decl(After, c.Path, d)
			}
			if n, line := depth(c.after, d); n > deepest {
				deepest, deep = n, places{list: []Place{{Side: After, Path: c.Path, Line: line}}}
			}
		}
	}
	only := func(figure string, these, those map[string]Place) {
		var at places
		n := 0
		for _, name := range slices.Sorted(maps.Keys(these)) {
			if _, there := those[name]; !there {
				n++
				at.add(these[name])
			}
		}
		w.figureAt(figure, float64(n), at)
	}
	only("exports_added", has, had)
	only("exports_removed", had, has)
	w.figureAt("longest_function", float64(longest), long)
	w.figureAt("deepest_nesting", float64(deepest), deep)
	w.lint()
}

// depth is how deep the touched lines of a function are nested in blocks within it, and
// the first line that is as deep.
func depth(t *text, d lex.Decl) (best, line int) {
	reach := func(n, at int) {
		if n > best {
			best, line = n, at
		}
	}
	if t.Lang.Blocks == lex.Braces {
		n := 0
		for i := d.Body; i < d.To; i++ {
			switch {
			case t.Is(i, "{"):
				n++
			case t.Is(i, "}"):
				n--
			}
			if at := int(t.Tokens[i].Line); t.touched[at] {
				reach(n-1, at)
			}
		}
		return best, line
	}
	// By indentation: the steps that are in use.
	var columns []int
	for i := d.From; i < d.To; i++ {
		k := t.Tokens[i]
		if !k.First || k.Kind == lex.Comment {
			continue
		}
		column := t.Column(k)
		for len(columns) > 0 && columns[len(columns)-1] >= column {
			columns = columns[:len(columns)-1]
		}
		columns = append(columns, column)
		if t.touched[int(k.Line)] {
			reach(len(columns)-2, int(k.Line))
		}
	}
	return best, line
}

// manifest reads the names of the dependencies that a file declares; nil where it is none.
func manifest(name string, src []byte) map[string]bool {
	if src == nil {
		return nil
	}
	out := map[string]bool{}
	add := func(s string) {
		if s = strings.TrimSpace(s); s != "" {
			out[s] = true
		}
	}
	switch base := path.Base(name); {
	case base == "go.mod":
		f, err := modfile.ParseLax(name, src, nil)
		if err != nil {
			return nil
		}
		for _, r := range f.Require {
			if !r.Indirect {
				add(r.Mod.Path)
			}
		}
	case base == "package.json":
		var p map[string]json.RawMessage
		if json.Unmarshal(src, &p) != nil {
			return nil
		}
		for _, key := range []string{"dependencies", "devDependencies", "peerDependencies", "optionalDependencies"} {
			var deps map[string]any
			if json.Unmarshal(p[key], &deps) == nil {
				for d := range deps {
					add(d)
				}
			}
		}
	case base == "Cargo.toml":
		var c struct {
			Dependencies map[string]any `toml:"dependencies"`
			Dev          map[string]any `toml:"dev-dependencies"`
			Build        map[string]any `toml:"build-dependencies"`
		}
		if toml.Unmarshal(src, &c) != nil {
			return nil
		}
		for _, m := range []map[string]any{c.Dependencies, c.Dev, c.Build} {
			for d := range m {
				add(d)
			}
		}
	case base == "pyproject.toml":
		var p struct {
			Project struct {
				Dependencies []string            `toml:"dependencies"`
				Optional     map[string][]string `toml:"optional-dependencies"`
			} `toml:"project"`
			Groups map[string]any `toml:"dependency-groups"`
		}
		if toml.Unmarshal(src, &p) != nil {
			return nil
		}
		for _, d := range p.Project.Dependencies {
			add(pythonName(d))
		}
		for _, group := range p.Project.Optional {
			for _, d := range group {
				add(pythonName(d))
			}
		}
	case strings.HasPrefix(base, "requirements") && strings.HasSuffix(base, ".txt"):
		lines := bufio.NewScanner(bytes.NewReader(src))
		for lines.Scan() {
			line, _, _ := strings.Cut(lines.Text(), "#")
			if line = strings.TrimSpace(line); line != "" && line[0] != '-' {
				add(pythonName(line))
			}
		}
	case base == "Gemfile" || strings.HasSuffix(base, ".gemspec"):
		for _, m := range gem.FindAllSubmatch(src, -1) {
			add(string(m[1]))
		}
	case base == "pom.xml":
		var p struct {
			Dependencies []struct {
				Group    string `xml:"groupId"`
				Artifact string `xml:"artifactId"`
			} `xml:"dependencies>dependency"`
		}
		if xml.Unmarshal(src, &p) != nil {
			return nil
		}
		for _, d := range p.Dependencies {
			add(d.Group + ":" + d.Artifact)
		}
	case strings.HasPrefix(base, "build.gradle"):
		for _, m := range gradle.FindAllSubmatch(src, -1) {
			add(string(m[1]))
		}
	case base == "composer.json":
		var p map[string]json.RawMessage
		if json.Unmarshal(src, &p) != nil {
			return nil
		}
		for _, key := range []string{"require", "require-dev"} {
			var deps map[string]any
			if json.Unmarshal(p[key], &deps) == nil {
				for d := range deps {
					if strings.Contains(d, "/") { // else a part of the language's own installation
						add(d)
					}
				}
			}
		}
	default:
		return nil
	}
	return out
}

var (
	gem    = regexp.MustCompile(`(?m)^\s*(?:gem|\w+\.add_(?:runtime_|development_)?dependency)[ (]\s*["']([^"']+)["']`)
	gradle = regexp.MustCompile(`(?m)^\s*(?:implementation|api|compileOnly|runtimeOnly|testImplementation|annotationProcessor)[ (]+["']([^"':]+:[^"':]+)`)
)

// pythonName is the name in a requirement such as "Lamps[all]>=1.2", as it is compared.
func pythonName(requirement string) string {
	end := strings.IndexAny(requirement, " <>=!~;[@(")
	if end >= 0 {
		requirement = requirement[:end]
	}
	return strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(requirement, "_", "-"), ".", "-"))
}

func (w *work) dependencies(c *change) {
	if c.after == nil {
		return
	}
	now := manifest(c.Path, c.after.Src)
	if now == nil {
		return
	}
	var had map[string]bool
	if c.before != nil {
		had = manifest(cmp.Or(c.OldPath, c.Path), c.before.Src)
	}
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if had[name] {
			continue
		}
		line := 0
		for n := range c.after.touched {
			if bytes.Contains(c.after.Line(n), []byte(name[strings.LastIndexByte(name, ':')+1:])) && (line == 0 || n < line) {
				line = n
			}
		}
		w.found(Finding{Measure: "fit", Kind: "dependency", Place: Place{Side: After, Path: c.Path, Line: line}, Text: name, Why: "a new dependency"})
	}
}

var builtins = func() map[string]bool {
	out := map[string]bool{}
	for _, n := range strings.Fields("assert async_hooks buffer child_process cluster console constants crypto dgram diagnostics_channel dns domain events fs http http2 https inspector module net os path perf_hooks process punycode querystring readline repl stream string_decoder sys test timers tls trace_events tty url util v8 vm wasi worker_threads zlib sqlite sea") {
		out[n] = true
	}
	return out
}()

// imports looks for imports that no manifest near declares: of Go modules and of script
// packages, where the manifest can be read.
func (w *work) imports() {
	manifests := map[string]map[string]bool{}
	declared := func(file, base string) (map[string]bool, string) {
		// The nearest manifest counts, and with workspaces those above it as well.
		all := map[string]bool{}
		found := ""
		for dir := path.Dir(file); ; dir = path.Dir(dir) {
			name := path.Join(dir, base)
			m, known := manifests[name]
			if !known {
				m = manifest(name, w.in.Read(After, name))
				manifests[name] = m
			}
			if m != nil {
				found = cmp.Or(found, name)
				for d := range m {
					all[d] = true
				}
				if base == "go.mod" {
					return all, found
				}
			}
			if dir == "." || dir == "/" {
				break
			}
		}
		return all, found
	}
	for _, c := range w.files {
		if c.after == nil || c.class == ClassGenerated {
			continue
		}
		had := map[string]bool{}
		if c.before != nil {
			for _, i := range importsOf(c.before.Text) {
				had[i.name] = true
			}
		}
		for _, i := range importsOf(c.after.Text) {
			if had[i.name] || !c.after.touched[i.line] {
				continue
			}
			switch c.lang.Name {
			case "Go":
				first, _, _ := strings.Cut(i.name, "/")
				if !strings.Contains(first, ".") {
					continue // the standard library, or a module without a domain
				}
				deps, file := declared(c.Path, "go.mod")
				if file == "" {
					continue
				}
				src := w.in.Read(After, file)
				indirect, _ := modfile.ParseLax(file, src, nil)
				ok := false
				if indirect != nil {
					ok = indirect.Module != nil && under(i.name, indirect.Module.Mod.Path)
					for _, r := range indirect.Require {
						ok = ok || under(i.name, r.Mod.Path)
					}
				}
				for d := range deps {
					ok = ok || under(i.name, d)
				}
				if !ok {
					w.at("fit", "undeclared-import", c, After, i.line, file+" does not require it")
				}
			case "JavaScript", "TypeScript":
				name := i.name
				if strings.HasPrefix(name, ".") || strings.HasPrefix(name, "/") || strings.HasPrefix(name, "#") || strings.HasPrefix(name, "~") || strings.HasPrefix(name, "@/") || strings.Contains(name, ":") || strings.Contains(name, "$") {
					continue
				}
				parts := strings.SplitN(name, "/", 3)
				pkg := parts[0]
				if strings.HasPrefix(pkg, "@") && len(parts) > 1 {
					pkg += "/" + parts[1]
				}
				deps, file := declared(c.Path, "package.json")
				if file == "" || builtins[pkg] || deps[pkg] || deps["@types/"+pkg] || w.own(file, pkg) {
					continue
				}
				w.at("fit", "undeclared-import", c, After, i.line, file+" does not declare "+pkg)
			}
		}
	}
}

// own tells whether a package imports itself by its name, or names an alias in its imports.
func (w *work) own(file, pkg string) bool {
	var p struct {
		Name    string         `json:"name"`
		Imports map[string]any `json:"imports"`
	}
	_ = json.Unmarshal(w.in.Read(After, file), &p)
	return p.Name == pkg || p.Imports[pkg] != nil
}

func under(name, module string) bool {
	return name == module || strings.HasPrefix(name, module+"/")
}

type imported struct {
	name string
	line int
}

// importsOf are the imports of a Go or script text.
func importsOf(t *lex.Text) []imported {
	var out []imported
	add := func(i int) {
		if i < len(t.Tokens) && t.Tokens[i].Kind == lex.String {
			out = append(out, imported{strings.Trim(string(t.Of(t.Tokens[i])), "\"'`"), int(t.Tokens[i].Line)})
		}
	}
	switch t.Lang.Name {
	case "Go":
		for i := range t.Tokens {
			if !t.Is(i, "import") || !t.Tokens[i].First || t.Column(t.Tokens[i]) != 0 {
				continue
			}
			if !t.Is(i+1, "(") {
				add(i + 1)
				add(i + 2)
				continue
			}
			for j := i + 2; j < len(t.Tokens) && !t.Is(j, ")"); j++ {
				add(j)
			}
		}
	case "JavaScript", "TypeScript":
		for i := range t.Tokens {
			switch {
			case t.Is(i, "import") && t.Tokens[i].First:
				if t.Is(i+1, "type") {
					continue // types alone need no package when they run
				}
				for j := i + 1; j < min(i+200, len(t.Tokens)) && !t.Is(j, ";"); j++ {
					if t.Tokens[j].Kind == lex.String {
						add(j)
						break
					}
				}
			case t.Is(i, "require") && t.Is(i+1, "(") && t.Is(i+3, ")") && !t.Is(i-1, "."), t.Is(i, "import") && t.Is(i+1, "(") && t.Is(i+3, ")"):
				add(i + 2)
			case t.Is(i, "export") && t.Tokens[i].First && (t.Is(i+1, "*") || t.Is(i+1, "{")):
				for j := i + 1; j < min(i+200, len(t.Tokens)) && !t.Is(j, ";"); j++ {
					if t.Is(j, "from") {
						add(j + 1)
						break
					}
				}
			}
		}
	}
	return out
}

// Lint are the findings of linters before and after a change, as SARIF 2.1.0.
type Lint struct {
	Start, Result [][]byte
}

// sarif is what is read of a SARIF 2.1.0 file.
type sarif struct {
	Runs []struct {
		Tool struct {
			Driver struct {
				Name string `json:"name"`
			} `json:"driver"`
		} `json:"tool"`
		Results []struct {
			RuleID  string `json:"ruleId"`
			Level   string `json:"level"`
			Message struct {
				Text string `json:"text"`
			} `json:"message"`
			Fingerprints map[string]string `json:"fingerprints"`
			Partial      map[string]string `json:"partialFingerprints"`
			Suppressions []any             `json:"suppressions"`
			Locations    []struct {
				Physical struct {
					Artifact struct {
						URI string `json:"uri"`
					} `json:"artifactLocation"`
					Region struct {
						StartLine int `json:"startLine"`
						Snippet   struct {
							Text string `json:"text"`
						} `json:"snippet"`
					} `json:"region"`
				} `json:"physicalLocation"`
			} `json:"locations"`
		} `json:"results"`
	} `json:"runs"`
}

// lintFinding is one result, with what it is known by: its fingerprints, or rule, file
// and the text of its line, never the line's number.
type lintFinding struct {
	print, rule, file, text string
	line                    int
}

func readSARIF(data []byte, line func(file string, n int) string) ([]lintFinding, error) {
	var s sarif
	if err := json.Unmarshal(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), &s); err != nil {
		return nil, fmt.Errorf("the SARIF file cannot be read: %w", err)
	}
	var out []lintFinding
	for _, r := range s.Runs {
		for _, x := range r.Results {
			if len(x.Suppressions) > 0 {
				continue
			}
			f := lintFinding{rule: x.RuleID, text: x.Message.Text}
			if len(x.Locations) > 0 && x.Locations[0].Physical.Artifact.URI != "" {
				p := x.Locations[0].Physical
				f.file = path.Clean(strings.TrimPrefix(p.Artifact.URI, "file://"))
				f.line = max(p.Region.StartLine, 0)
			}
			marks := x.Fingerprints
			if len(marks) == 0 {
				marks = x.Partial
			}
			f.print = r.Tool.Driver.Name + "\x00" + x.RuleID + "\x00" + f.file + "\x00"
			if len(marks) > 0 {
				for _, k := range slices.Sorted(maps.Keys(marks)) {
					f.print += k + "=" + marks[k] + "\x00"
				}
			} else {
				f.print += squeezed([]byte(line(f.file, f.line))) + "\x00" + x.Message.Text
			}
			out = append(out, f)
		}
	}
	return out, nil
}

func (w *work) lint() {
	if w.in.Lint == nil {
		w.absent("lint_new", "no check wrote findings as SARIF")
		return
	}
	liner := func(side Side) func(string, int) string {
		texts := map[string][][]byte{}
		return func(file string, n int) string {
			if _, known := texts[file]; !known {
				texts[file] = bytes.Split(w.in.Read(side, file), []byte{'\n'})
			}
			if n < 1 || n > len(texts[file]) {
				return ""
			}
			return string(texts[file][n-1])
		}
	}
	all := func(files [][]byte, line func(string, int) string) (out []lintFinding, err error) {
		for _, data := range files {
			one, err := readSARIF(data, line)
			if err != nil {
				return nil, err
			}
			out = append(out, one...)
		}
		return out, nil
	}
	start, err := all(w.in.Lint.Start, liner(Before))
	if err != nil {
		w.absent("lint_new", "at the start: "+err.Error())
		return
	}
	result, err := all(w.in.Lint.Result, liner(After))
	if err != nil {
		w.absent("lint_new", err.Error())
		return
	}
	had := map[string]int{}
	for _, f := range start {
		had[f.print]++
	}
	slices.SortStableFunc(result, func(a, b lintFinding) int {
		return cmp.Or(cmp.Compare(a.file, b.file), cmp.Compare(a.line, b.line))
	})
	for _, f := range result {
		if had[f.print] > 0 {
			had[f.print]--
			continue
		}
		w.found(Finding{Measure: "fit", Kind: "lint", Place: Place{Side: After, Path: f.file, Line: f.line}, Text: f.rule, Why: cmp.Or(cut(f.text), "a finding of a linter that says nothing")})
	}
	w.figure("lint_new", w.count("fit", "lint"))
	gone := 0
	var at places
	for _, f := range start {
		if had[f.print] > 0 {
			had[f.print]--
			gone++
			at.add(Place{Side: Before, Path: f.file, Line: f.line})
		}
	}
	w.figureAt("lint_gone", float64(gone), at)
}
