package patch

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"encoding/xml"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"
	"golang.org/x/mod/modfile"

	"agonometer/internal/core/lex"
)

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
				Dynamic      []string            `toml:"dynamic"`
			} `toml:"project"`
			Groups map[string][]any `toml:"dependency-groups"`
			Build  struct {
				Requires []string `toml:"requires"`
			} `toml:"build-system"`
			Tool struct {
				Poetry struct {
					Dependencies map[string]any `toml:"dependencies"`
					Dev          map[string]any `toml:"dev-dependencies"`
					Group        map[string]struct {
						Dependencies map[string]any `toml:"dependencies"`
					} `toml:"group"`
				} `toml:"poetry"`
			} `toml:"tool"`
		}
		if toml.Unmarshal(src, &p) != nil || slices.Contains(p.Project.Dynamic, "dependencies") {
			return nil
		}
		for _, group := range append(slices.Collect(maps.Values(p.Project.Optional)), p.Project.Dependencies, p.Build.Requires) {
			for _, d := range group {
				add(pythonName(d))
			}
		}
		for _, group := range p.Groups {
			for _, d := range group {
				if d, is := d.(string); is {
					add(pythonName(d))
				}
			}
		}
		tables := []map[string]any{p.Tool.Poetry.Dependencies, p.Tool.Poetry.Dev}
		for _, group := range p.Tool.Poetry.Group {
			tables = append(tables, group.Dependencies)
		}
		for _, table := range tables {
			for d := range table {
				if d != "python" {
					add(pythonName(d))
				}
			}
		}
	case isRequirements(name):
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

// isRequirements tells whether a file lists what Python is to install, a line each.
func isRequirements(name string) bool {
	base := path.Base(name)
	return strings.HasPrefix(base, "requirements") && (strings.HasSuffix(base, ".txt") || strings.HasSuffix(base, ".in")) || path.Base(path.Dir(name)) == "requirements" && strings.HasSuffix(base, ".txt")
}

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
	found := 0
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if had[name] {
			continue
		}
		line := 0
		for n := range c.after.touched {
			if found > maxLooked {
				break // who adds so many has no place for each
			}
			if bytes.Contains(c.after.Line(n), []byte(name[strings.LastIndexByte(name, ':')+1:])) && (line == 0 || n < line) {
				line = n
			}
		}
		found++
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

// declared is what a manifest gives to the folders below it, with the manifest above: with
// workspaces those count as well.
type declared struct {
	file  string
	names map[string]bool
	above *declared
}

// has tells whether a manifest, or one above it, declares a name.
func (d *declared) has(name string) bool {
	for ; d != nil; d = d.above {
		if d.names[name] {
			return true
		}
	}
	return false
}

// declaredIn is what the manifests of a kind declare for a folder of the result; nil where there is none.
func (w *work) declaredIn(dir, base string) *declared {
	name := path.Join(dir, base)
	if known, is := w.declares[name]; is {
		return known
	}
	var d *declared
	if dir != "." && dir != "/" {
		d = w.declaredIn(path.Dir(dir), base)
	}
	if names := given(name, w.in.Read(After, name)); names != nil {
		d = &declared{file: name, names: names, above: d}
		if base == "go.mod" {
			d.above = nil // a module is for itself
		}
	}
	if w.declares == nil {
		w.declares = map[string]*declared{}
	}
	w.declares[name] = d
	return d
}

// given are the names that may be imported by a manifest: what it declares, what that needs,
// and its own; nil where it is none.
func given(name string, src []byte) map[string]bool {
	out := manifest(name, src)
	switch {
	case out == nil:
	case path.Base(name) == "go.mod":
		f, err := modfile.ParseLax(name, src, nil)
		if err != nil {
			return nil
		}
		if f.Module != nil {
			out[f.Module.Mod.Path] = true
		}
		for _, r := range f.Require {
			out[r.Mod.Path] = true
		}
	case path.Base(name) == "package.json":
		var p struct {
			Name    string         `json:"name"`
			Imports map[string]any `json:"imports"`
		}
		_ = json.Unmarshal(src, &p)
		out[p.Name] = true
		for alias := range p.Imports {
			out[alias] = true
		}
	}
	return out
}

// imports looks for imports that no manifest near declares: of Go modules, of script
// packages and of Python, where the manifest can be read.
func (w *work) imports() {
	for _, c := range w.files {
		if c.after == nil || c.class == ClassGenerated {
			continue
		}
		now := slices.DeleteFunc(importsOf(c.after), func(i imported) bool { return !c.after.touched[i.line] })
		had := map[string]bool{}
		if c.before != nil && len(now) > 0 {
			for _, i := range importsOf(c.before) {
				had[i.name] = true
			}
		}
		for _, i := range now {
			if had[i.name] {
				continue
			}
			missing := ""
			switch c.lang.Name {
			case "Go":
				missing = w.goWithout(c.Path, i.name)
			case "JavaScript", "TypeScript":
				missing = w.scriptWithout(c.Path, i.name)
			case "Python":
				if c.class == ClassCode { // what tests need is often installed beside
					missing = w.pythonWithout(c.Path, i.name)
				}
			}
			if missing != "" {
				w.at("fit", "undeclared-import", c, After, i.line, missing)
			}
		}
	}
}

// goWithout says which go.mod does not require an import; "" where one does, or none need.
func (w *work) goWithout(file, name string) string {
	first, _, _ := strings.Cut(name, "/")
	d := w.declaredIn(path.Dir(file), "go.mod")
	if d == nil || !strings.Contains(first, ".") { // the standard library, or a module without a domain
		return ""
	}
	for module := name; module != "." && module != "/"; module = path.Dir(module) {
		if d.has(module) {
			return ""
		}
	}
	return d.file + " does not require it"
}

// scriptWithout says which package.json does not declare an import; "" where one does, or none need.
func (w *work) scriptWithout(file, name string) string {
	if strings.HasPrefix(name, ".") || strings.HasPrefix(name, "/") || strings.HasPrefix(name, "#") || strings.HasPrefix(name, "~") || strings.HasPrefix(name, "@/") || strings.Contains(name, ":") || strings.Contains(name, "$") {
		return ""
	}
	parts := strings.SplitN(name, "/", 3)
	pkg := parts[0]
	if strings.HasPrefix(pkg, "@") && len(parts) > 1 {
		pkg += "/" + parts[1]
	}
	d := w.declaredIn(path.Dir(file), "package.json")
	if d == nil || builtins[pkg] || d.has(pkg) || d.has("@types/"+pkg) {
		return ""
	}
	return d.file + " does not declare " + pkg
}

type imported struct {
	name string
	line int
}

// importsOf are the imports of a Go, script or Python text; of Python only those that are
// always done, by their first name.
func importsOf(t *text) []imported {
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
	case "Python":
		for i, k := range t.Tokens {
			if !k.First || !t.Is(i, "import") && !t.Is(i, "from") || t.onTrial(i) {
				continue
			}
			for j := i + 1; j < len(t.Tokens) && t.Tokens[j].Line == k.Line; j++ {
				if j == i+1 || t.Is(j-1, ",") {
					if t.Word(j) != "" {
						out = append(out, imported{t.Word(j), int(k.Line)})
					}
				}
				if t.Is(i, "from") {
					break
				}
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
