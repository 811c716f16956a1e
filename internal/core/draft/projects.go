package draft

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"agonometer/internal/core/protect"
)

// project is a part of a repository that is built and tested by itself, and how.
type project struct {
	dir     string // from the repository's top; "." is the top
	prepare string
	// checks are name, command, reader and report of each.
	checks [][4]string
	how    string
	// needs are the programs that it is built and tested with.
	needs []string
}

// ecosystem is a way in which projects are built and tested.
type ecosystem struct {
	manifests []string
	sources   []string // endings of files
	// top is set where the manifest that stands highest is the project's, not the nearest.
	top  bool
	make func(f *From, dir string) *project
}

var nodeSources = []string{".js", ".mjs", ".cjs", ".jsx", ".ts", ".mts", ".cts", ".tsx", ".vue", ".svelte"}

var ecosystems = []ecosystem{
	{[]string{"go.mod"}, []string{".go"}, false, goProject},
	{[]string{"Cargo.toml"}, []string{".rs"}, true, cargoProject},
	{[]string{"package.json"}, nodeSources, false, nodeProject},
	{[]string{"pyproject.toml", "setup.py", "setup.cfg", "pytest.ini", "tox.ini", "requirements.txt"}, []string{".py"}, false, pythonProject},
	{[]string{"pom.xml"}, []string{".java", ".kt", ".scala", ".groovy"}, true, mavenProject},
	{[]string{"build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts"}, []string{".java", ".kt", ".scala", ".groovy"}, true, gradleProject},
	{[]string{"CMakeLists.txt"}, []string{".c", ".cc", ".cpp", ".cxx", ".h", ".hpp", ".hh"}, true, cmakeProject},
	{[]string{"configure.ac", "configure", "Makefile.am"}, []string{".c", ".cc", ".cpp", ".cxx", ".h", ".hpp"}, true, autotoolsProject},
	{[]string{"Makefile", "makefile", "GNUmakefile"}, nil, true, makeProject},
}

// projectOf finds the project that a commit changed most of, tests first.
func (f *From) projectOf() *project {
	there := map[string]bool{}
	for _, name := range f.Files {
		there[name] = true
	}
	type place struct {
		kind int
		dir  string
	}
	votes := map[place]int{}
	for name := range f.Changed {
		weight := 1
		if protect.IsTest(nil, name) {
			weight = 3
		}
		for k, e := range ecosystems {
			if e.sources != nil && !slices.Contains(e.sources, path.Ext(name)) {
				continue
			}
			found := ""
			for dir := path.Dir(name); ; dir = path.Dir(dir) {
				if slices.ContainsFunc(e.manifests, func(m string) bool { return there[path.Join(dir, m)] }) {
					if found = dir; !e.top {
						break
					}
				}
				if dir == "." {
					break
				}
			}
			if found != "" {
				vote := weight * 10
				if e.sources == nil { // a makefile is the last resort
					vote = weight
				}
				votes[place{k, found}] += vote
			}
		}
	}
	var places []place
	for p := range votes {
		places = append(places, p)
	}
	sort.Slice(places, func(i, j int) bool {
		a, b := places[i], places[j]
		if votes[a] != votes[b] {
			return votes[a] > votes[b]
		}
		if a.kind != b.kind {
			return a.kind < b.kind
		}
		return a.dir < b.dir
	})
	for k, e := range ecosystems { // nothing that was changed says so: what stands at the top
		if slices.ContainsFunc(e.manifests, func(m string) bool { return there[m] }) {
			places = append(places, place{k, "."})
		}
	}
	for _, p := range places {
		one := ecosystems[p.kind].make(f, p.dir)
		if one == nil {
			continue
		}
		one.dir = p.dir
		one.enter()
		return one
	}
	return &project{dir: ".", checks: [][4]string{{"tests", "make test"}}, how: "no manifest says how it is tested: put the command in", needs: []string{"make"}}
}

// enter runs a project's commands in its folder.
func (p *project) enter() {
	if p.dir == "." {
		return
	}
	cd := "cd " + shellWord(p.dir) + " && "
	if p.prepare != "" {
		p.prepare = cd + p.prepare
	}
	for i := range p.checks {
		p.checks[i][1] = cd + p.checks[i][1]
		if p.checks[i][3] != "" {
			p.checks[i][3] = path.Join(p.dir, p.checks[i][3])
		}
	}
	p.how += ", in " + p.dir
}

var plainWordRE = regexp.MustCompile(`^[A-Za-z0-9._/@+-]+$`)

func shellWord(s string) string {
	if plainWordRE.MatchString(s) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// warm is a command that makes later ones faster, and cannot fail a task.
func warm(command string) string { return "{ " + command + "; } > /dev/null 2>&1 || true" }

func (f *From) has(dir, name string) bool { return slices.Contains(f.Files, path.Join(dir, name)) }

func (f *From) read(dir, name string) string {
	if f.Read == nil || !f.has(dir, name) {
		return ""
	}
	return string(f.Read(path.Join(dir, name)))
}

func goProject(f *From, dir string) *project {
	p := &project{checks: [][4]string{{"build", "go build ./..."}, {"tests", "go test -vet=off -json ./...", "go-test-json"}}, how: "a go.mod: built and tested with go", needs: []string{"go"}}
	p.prepare = warm("go build ./...; go test -vet=off -exec true ./...") // compiled and linked, and nothing of it run
	if !f.has(dir, "vendor/modules.txt") && strings.Contains(f.read(dir, "go.mod"), "require") {
		p.prepare = "go mod download && " + p.prepare
	}
	return p
}

func cargoProject(*From, string) *project {
	return &project{prepare: "cargo fetch && " + warm("cargo build --tests"), checks: [][4]string{{"build", "cargo build --offline"}, {"tests", "cargo test --offline"}},
		how: "a Cargo.toml: built and tested with cargo; single tests are not seen", needs: []string{"cargo"}}
}

// packageJSON is what matters of a package.json.
type packageJSON struct {
	Scripts              map[string]string `json:"scripts"`
	Dependencies         map[string]string `json:"dependencies"`
	DevDependencies      map[string]string `json:"devDependencies"`
	OptionalDependencies map[string]string `json:"optionalDependencies"`
	PeerDependencies     map[string]string `json:"peerDependencies"`
	Workspaces           json.RawMessage   `json:"workspaces"`
}

func (p *packageJSON) has(name string) bool {
	return p.Dependencies[name] != "" || p.DevDependencies[name] != ""
}

var runsRE = regexp.MustCompile(`\b(?:npm|yarn|pnpm|bun)(?: run(?:-script)?)?(?: -s| --silent)? ([\w:-]+)`)

// script is a script with those that it runs by name in its place.
func (p *packageJSON) script(name string) string {
	text := p.Scripts[name]
	for range 4 {
		text = text[:min(len(text), 10_000)]
		text = runsRE.ReplaceAllStringFunc(text, func(call string) string {
			if inner := p.Scripts[runsRE.FindStringSubmatch(call)[1]]; inner != "" {
				return inner
			}
			return call
		})
	}
	return text[:min(len(text), 10_000)]
}

var importedRE = regexp.MustCompile(`(?:require\(\s*|from\s+|import\s*\(?\s*)['"]((?:@[\w.-]+/)?[\w.-]+)`)

// neededBy are the development dependencies that tests import or that run them. The others
// (linters, release tools) often want more than a machine has.
func (f *From) neededBy(dir string, own *packageJSON) []string {
	needed := map[string]bool{}
	script := own.script("test")
	for name := range own.DevDependencies {
		if regexp.MustCompile(`(^|[\s&|;/])` + regexp.QuoteMeta(name) + `(\s|$)`).MatchString(script) {
			needed[name] = true
		}
	}
	looked := 0
	for _, name := range f.Files {
		if f.Read == nil || looked >= 200 || !protect.IsTest(nil, name) || !slices.Contains(nodeSources, path.Ext(name)) || dir != "." && !strings.HasPrefix(name, dir+"/") {
			continue
		}
		looked++
		for _, m := range importedRE.FindAllStringSubmatch(string(f.Read(name)), 200) {
			if own.DevDependencies[m[1]] != "" {
				needed[m[1]] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(needed))
}

// onlyDev takes the other development dependencies out of package.json for a while.
func onlyDev(needed []string) string {
	words := make([]string, len(needed))
	for i, n := range needed {
		words[i] = shellWord(n)
	}
	return `cp -p package.json .package.json.whole && node -e 'const f=require("fs"),p=JSON.parse(f.readFileSync("package.json")),n=process.argv.slice(1);p.devDependencies=Object.fromEntries(Object.entries(p.devDependencies).filter(([k])=>n.includes(k)));f.writeFileSync("package.json",JSON.stringify(p))' ` + strings.Join(words, " ")
}

func (p *packageJSON) any() bool {
	return len(p.Dependencies)+len(p.DevDependencies)+len(p.OptionalDependencies)+len(p.PeerDependencies) > 0 || len(p.Workspaces) > 0
}

// locks are lock files of Node's package managers, with what installs by them. The first
// that is there counts.
var locks = []struct{ file, program, install string }{
	{"package-lock.json", "npm", "npm ci --no-audit --no-fund"},
	{"npm-shrinkwrap.json", "npm", "npm ci --no-audit --no-fund"},
	{"pnpm-lock.yaml", "pnpm", "pnpm install --frozen-lockfile"},
	{"yarn.lock", "yarn", "yarn install --frozen-lockfile"},
	{"bun.lock", "bun", "bun install --frozen-lockfile"},
	{"bun.lockb", "bun", "bun install --frozen-lockfile"},
}

func nodeProject(f *From, dir string) *project {
	var own packageJSON
	_ = json.Unmarshal([]byte(f.read(dir, "package.json")), &own) // one that cannot be read says nothing
	p := &project{needs: []string{"node"}}
	// The lock file lies where the workspace begins, mostly at the top.
	at, install := "", ""
	for up := dir; at == ""; up = path.Dir(up) {
		for _, l := range locks {
			if !f.has(up, l.file) {
				continue
			}
			at, install = up, l.install
			p.how = "installed by " + path.Join(up, l.file)
			if f.Find != nil && !f.Find(l.program) {
				install = "npm install --no-audit --no-fund --no-package-lock"
				p.how += " (" + l.program + " is not on this machine: npm install in its place, which takes other versions)"
			} else {
				p.needs = append(p.needs, l.program)
			}
			break
		}
		if up == "." {
			break
		}
	}
	if at == "" && (own.any() || f.Read == nil) {
		at, install = dir, "npm install --no-audit --no-fund --no-package-lock"
		if needed := f.neededBy(dir, &own); len(needed) > 0 && len(needed) < len(own.DevDependencies) {
			install = "{ " + install + " || { " + onlyDev(needed) + " && npm install --no-audit --no-fund --no-package-lock --ignore-scripts; s=$?; mv .package.json.whole package.json; exit $s; }; }"
		}
		p.how = "installed by npm install: there is no lock file"
	}
	if install != "" {
		if up := relative(dir, at); up != "" {
			install = "(cd " + up + " && " + install + ")"
		}
		p.prepare = install
	} else {
		p.how = "nothing to install"
	}
	script := own.script("test")
	runs := func(name string) bool {
		return regexp.MustCompile(`(^|[\s&|;/])` + name + `(\s|$)`).MatchString(script)
	}
	how := ""
	switch {
	case runs("vitest"), own.has("vitest") && script == "":
		p.checks, how = [][4]string{{"tests", "npx --no-install vitest run --reporter=junit --outputFile=agonometer.xml", "junit", "agonometer.xml"}}, "vitest, which writes JUnit"
	case runs("ava"):
		p.checks, how = [][4]string{{"tests", "npx --no-install ava --tap", "tap"}}, "ava, which writes TAP"
	case strings.Contains(script, "node --test"), strings.Contains(script, "node:test"):
		p.checks, how = [][4]string{{"tests", withReporter(script), "tap"}}, "node --test, which writes TAP"
	case runs("mocha"):
		p.checks, how = [][4]string{{"tests", mochaCommand(script), "tap"}}, "mocha, which writes TAP"
	case runs("tape"), runs("faucet"):
		p.checks, how = [][4]string{{"tests", tapeCommand(script), "tap"}}, "tape, which writes TAP"
	case runs("jest") && own.has("jest-junit"):
		p.checks, how = [][4]string{{"tests", "JEST_JUNIT_OUTPUT_NAME=agonometer.xml npx --no-install jest --ci --reporters=jest-junit", "junit", "agonometer.xml"}}, "jest with its JUnit reporter"
	case runs("jest"), own.has("jest") && script == "":
		p.checks, how = [][4]string{{"tests", "npx --no-install jest --ci"}}, "jest; single tests are not seen (its JUnit reporter is not among the dependencies)"
	case script != "" && !strings.Contains(script, "no test specified"):
		p.checks, how = [][4]string{{"tests", "npm test --silent"}}, "npm test; single tests are not seen"
	case own.has("tape"):
		p.checks, how = [][4]string{{"tests", "npx --no-install tape 'test/*.js'", "tap"}}, "tape, which writes TAP"
	default:
		p.checks, how = [][4]string{{"tests", "node --test --test-reporter=tap", "tap"}}, "node --test; put your own runner there if it has another"
	}
	p.how = "a package.json: " + p.how + ", tested with " + how
	return p
}

// relative is the way from a folder up to one above it; "" where they are the same.
func relative(dir, up string) string {
	if dir == up {
		return ""
	}
	n := strings.Count(dir, "/") + 1
	if up != "." {
		n -= strings.Count(up, "/") + 1
	}
	return strings.TrimSuffix(strings.Repeat("../", n), "/")
}

// part is the part of a script that runs a program, without what stands before and
// behind it: linters and coverage do not decide.
func part(script, program string) string {
	for _, piece := range regexp.MustCompile(`&&|\|\||[;|]`).Split(script, -1) {
		words := strings.Fields(piece)
		for i, w := range words {
			if path.Base(w) == program {
				return strings.Join(words[i+1:], " ")
			}
		}
	}
	return ""
}

func withReporter(script string) string {
	for _, piece := range regexp.MustCompile(`&&|\|\||[;|]`).Split(script, -1) {
		if strings.Contains(piece, "--test") {
			piece = regexp.MustCompile(`--test-reporter[= ]\S+|--experimental-test-coverage`).ReplaceAllString(piece, "")
			return strings.Join(strings.Fields(strings.Replace(piece, "--test", "--test --test-reporter=tap", 1)), " ")
		}
	}
	return "node --test --test-reporter=tap"
}

func mochaCommand(script string) string {
	rest := regexp.MustCompile(`(--reporter|-R)[= ]\S+`).ReplaceAllString(part(script, "mocha"), "")
	return strings.Join(strings.Fields("npx --no-install mocha --reporter tap "+rest), " ")
}

func tapeCommand(script string) string {
	return strings.TrimSpace("npx --no-install tape " + part(script, "tape"))
}

func pythonProject(f *From, dir string) *project {
	p := &project{how: "a Python project: tested with pytest", needs: []string{"python3"}}
	where := ""
	if slices.ContainsFunc(f.Files, func(name string) bool {
		return strings.HasPrefix(name, path.Join(dir, "src")+"/") && strings.HasSuffix(name, ".py")
	}) {
		where = "PYTHONPATH=src "
	}
	p.checks = [][4]string{{"tests", where + "python3 -m pytest -q -p no:cacheprovider --junitxml=agonometer.xml", "junit", "agonometer.xml"}}
	return p
}

func mavenProject(f *From, dir string) *project {
	return &project{prepare: "mvn -q -B dependency:go-offline; " + warm("mvn -q -B test-compile"), checks: [][4]string{{"tests", "mvn -o -q -B test", "junit", "**/target/surefire-reports/TEST-*.xml"}},
		how: "a pom.xml: built and tested with maven", needs: []string{"mvn"}}
}

func gradleProject(f *From, dir string) *project {
	program := "gradle"
	if f.has(dir, "gradlew") {
		program = "sh gradlew"
	}
	return &project{prepare: program + " --no-daemon -q testClasses", checks: [][4]string{{"tests", program + " --no-daemon --offline -q test", "junit", "**/build/test-results/test/TEST-*.xml"}},
		how: "a gradle build: built and tested with gradle", needs: []string{strings.Fields(program)[0]}}
}

func cmakeProject(*From, string) *project {
	return &project{prepare: warm("cmake -S . -B build && cmake --build build --parallel"), checks: [][4]string{{"build", "cmake -S . -B build && cmake --build build --parallel"},
		{"tests", "ctest --test-dir build --output-junit ../agonometer.xml", "junit", "agonometer.xml"}}, how: "a CMakeLists.txt: built with cmake and tested with ctest", needs: []string{"cmake", "ctest"}}
}

func autotoolsProject(f *From, dir string) *project {
	configure := "./configure"
	if !f.has(dir, "configure") {
		configure = "autoreconf -fi && ./configure"
	}
	return &project{prepare: warm(configure + " && make"), checks: [][4]string{{"build", configure + " && make"}, {"tests", "make check"}}, how: "a configure script: tested with make check; single tests are not seen", needs: []string{"make"}}
}

func makeProject(f *From, dir string) *project {
	target := "test"
	for _, name := range []string{"GNUmakefile", "makefile", "Makefile"} {
		if text := f.read(dir, name); text != "" {
			for _, t := range []string{"check", "test", "tests"} {
				if regexp.MustCompile(`(?m)^([\w.-]+ )*` + t + `( [\w.-]+)*\s*:([^=]|$)`).MatchString(text) {
					target = t
				}
			}
		}
	}
	return &project{checks: [][4]string{{"tests", "make " + target}}, how: fmt.Sprintf("a Makefile: tested with make %s; single tests are not seen", target), needs: []string{"make"}}
}

// trouble is something that outputs say, with what helps.
var trouble = []struct {
	said *regexp.Regexp
	help string
}{
	{regexp.MustCompile(`(?i)build constraints exclude all Go files|no non-test Go files|no Go files in`), "its files are built under conditions of their own: put a build tag into the checks (go test -tags ...)"},
	{regexp.MustCompile(`(?i)could not resolve host|Temporary failure in name resolution|dial tcp|\bENOTFOUND\b|EAI_AGAIN|network is unreachable|connection refused|no such host|ECONNREFUSED|Failed to connect`), "it wants the network: fetch what it needs in prepare or, where the tests themselves ask for it, say network: needed"},
	{regexp.MustCompile(`No module named '?([\w.]+)`), "a Python package is not there: install it (on this machine as python3-NAME) or in prepare"},
	{regexp.MustCompile(`(?i)cannot find module|Cannot find package|ERR_MODULE_NOT_FOUND|MODULE_NOT_FOUND`), "a Node package is not there: install it in prepare"},
	{regexp.MustCompile(`no required module provides package|missing go\.sum entry|cannot find module providing|updates to go\.mod needed`), "a Go module is not there: fetch it in prepare (go mod download)"},
	{regexp.MustCompile(`(?i)fatal error: ([\w/.+-]+\.h): No such file|cannot find -l(\w+)|Package '?([\w.+-]+)'?,? .*not found|Could NOT find (\w+)`), "a library's development files are not there: install the package that has them"},
	{regexp.MustCompile(`(?i)requires go *>= *[\d.]+|go: errors parsing go\.mod|unsupported engine|requires Python|rust-version|requires rustc|class file version|release version \d+ not supported`), "it wants another version of its toolchain than the one on this machine"},
	{regexp.MustCompile(`(?i)(: not found|command not found|No such file or directory|cannot run: no such program)`), "a program is not there: install it, or name where it lies under reads"},
}

// Advice says what to put in, by what a command printed; "" where nothing is known.
func Advice(output string) string {
	for _, t := range trouble {
		if t.said.MatchString(output) {
			return t.help
		}
	}
	return ""
}
