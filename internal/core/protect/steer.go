package protect

import (
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"agonometer/internal/core/task"
)

// A file can decide what a check does without being one of its tests: a setting that a
// runner reads of itself, a build file that stands before the project's own, a module
// that has the name of one that the runner loads. Such files steer checks. They are put
// back, or taken out where they are new, in the run that decides.

// steering are files that steer checks wherever they stand, by what reads them.
var steering = []string{
	// Python: start-up hooks, plugins that are found by their metadata, settings.
	"**/{sitecustomize,usercustomize,conftest,noxfile}.py", "**/*.{dist-info,egg-info}/**", "**/*.pth", "**/{pytest,tox,.pytest}.ini", "**/.coveragerc",
	// JavaScript: package managers, script shells, transformers, runners.
	"**/{.npmrc,.yarnrc,.yarnrc.yml,.pnpmfile.cjs,bunfig.toml,.nycrc,.c8rc,.babelrc,.swcrc,.taprc}", "**/{.nycrc,.c8rc,.babelrc}.*", "**/.pnp.*", "**/.yarn/**",
	"**/{babel,ava,jasmine,wdio,nightwatch}.config.*", "**/node_modules/**",
	// Go: which modules are compiled.
	"go.work", "go.work.sum", "**/go.work", "**/go.work.sum",
	// Rust, Java, .NET, C: settings of build tools and linkers.
	"**/.cargo/**", "**/rust-toolchain*", "**/.mvn/**", "**/gradle/wrapper/**", "**/gradle.properties", "**/init.gradle*", "**/junit-platform.properties",
	"**/Directory.Build.*", "**/*.runsettings", "**/{nuget,NuGet}.{config,Config}", "**/{CTestCustom,CTestTestfile}.cmake", "**/CMakeUserPresets.json", "**/*.ld",
	// PHP, Ruby: what is loaded before anything else.
	"**/.user.ini", "**/.bundle/**", "**/.rubyopt", "**/.simplecov",
	// Shells, git and tool managers.
	"**/{.bashrc,.bash_profile,.bash_env,.profile,.zshenv,.zshrc,.envrc,.gitconfig,.tool-versions,.mise.toml,.direnv}", "**/.mise/**",
}

// before are names under which a tool looks for its file before it looks under the
// others: a new one beside one that is there takes its place.
var before = map[string][]string{
	"GNUmakefile":         {"Makefile", "makefile"},
	"makefile":            {"Makefile"},
	"pytest.toml":         {"pyproject.toml", "setup.cfg"},
	"pyproject.toml":      {"setup.cfg", "tox.ini", "setup.py"},
	"setup.cfg":           {"setup.py"},
	"build.gradle":        {"build.gradle.kts"},
	"settings.gradle":     {"settings.gradle.kts"},
	"package.json":        nil,
	".rspec-local":        {".rspec"},
	"vitest.workspace.js": nil,
}

// pythonRunners are the programs and modules of Python that run tests, and what they
// themselves load: a module of the same name in the folder where they start comes first.
var pythonRunners = map[string][]string{
	"pytest":   {"pytest", "_pytest", "py", "pluggy", "iniconfig", "packaging", "attr", "exceptiongroup", "tomli", "pygments"},
	"unittest": {"unittest"},
	"nose2":    {"nose2", "unittest"},
	"tox":      {"tox", "pluggy"},
	"coverage": {"coverage"},
}

// standardPython are modules of the standard library that every runner loads.
var standardPython = []string{"unittest", "doctest", "traceback", "json", "re", "os", "sys", "io", "ast", "abc", "enum", "types", "typing", "inspect", "importlib", "pathlib", "logging",
	"argparse", "contextlib", "functools", "collections", "dataclasses", "subprocess", "threading", "warnings", "tempfile", "shutil", "time", "datetime", "random", "string", "site", "linecache", "tokenize", "platform", "signal", "struct", "copy", "operator", "itertools", "textwrap", "xml", "select", "socket", "codecs", "glob", "fnmatch", "difflib", "pprint", "numbers", "math", "decimal", "hashlib", "atexit", "weakref"}

// words are the plain words of the commands of checks, each command's own.
func words(checks []task.Check) [][]string {
	var out [][]string
	for _, c := range checks {
		file, err := syntax.NewParser().Parse(strings.NewReader(c.Run), "")
		if err != nil {
			continue
		}
		syntax.Walk(file, func(n syntax.Node) bool {
			if call, ok := n.(*syntax.CallExpr); ok && len(call.Args) > 0 {
				var one []string
				for _, w := range call.Args {
					one = append(one, w.Lit())
				}
				out = append(out, one)
			}
			return true
		})
	}
	return out
}

// shadowed are the names of modules that checks' commands load: what has one of them in
// a folder where a command runs stands in its place. python tells whether any runs Python.
func shadowed(checks []task.Check) (names map[string]bool, python bool) {
	names = map[string]bool{}
	for _, command := range words(checks) {
		for i, w := range command {
			base := path.Base(w)
			if strings.HasPrefix(base, "python") || base == "pypy" || base == "pypy3" {
				python = true
			}
			module := base
			if w == "-m" && i+1 < len(command) {
				module = command[i+1]
				names[strings.SplitN(module, ".", 2)[0]] = true
			}
			if more := pythonRunners[strings.SplitN(module, ".", 2)[0]]; more != nil {
				python = true
				for _, name := range more {
					names[name] = true
				}
			}
		}
	}
	if python {
		for _, name := range standardPython {
			names[name] = true
		}
	}
	delete(names, "")
	return names, python
}

// steerer tells which files of a change steer checks.
type steerer struct {
	t       *task.Task
	exists  func(name string) bool
	shadows map[string]bool
	python  bool
}

func newSteerer(t *task.Task, checks []task.Check, exists func(string) bool) *steerer {
	s := &steerer{t: t, exists: exists}
	s.shadows, s.python = shadowed(checks)
	return s
}

// steers tells whether a changed path steers checks.
func (s *steerer) steers(name string) bool {
	if anyMatch(s.t.Unprotected, name) || name == s.t.Deliverable || inReference(s.t, name) {
		return false
	}
	if anyMatch(steering, name) || s.vendored(name) {
		return true
	}
	if s.exists(name) {
		return false // the project's own, which the task may want changed: put back where it narrows what is tested
	}
	dir, base := path.Split(name)
	for _, other := range before[base] {
		if s.exists(dir + other) {
			return true
		}
	}
	if base == "pyproject.toml" && s.python && dir == "" {
		return true
	}
	return s.shadow(name)
}

// shadow tells whether a new file is a Python module that stands in the place of one
// that a check's command loads. A package or module of that name that the project has
// already is the project's.
func (s *steerer) shadow(name string) bool {
	if len(s.shadows) == 0 {
		return false
	}
	parts := strings.Split(name, "/")
	first, ext := parts[0], ""
	if len(parts) == 1 {
		ext = path.Ext(first)
		first = strings.TrimSuffix(first, ext)
		if cut := strings.IndexByte(first, '.'); cut > 0 { // name.cpython-312-x86_64-linux-gnu.so
			first = first[:cut]
		}
		if !slices.Contains([]string{".py", ".pyc", ".so", ".pyd"}, ext) {
			return false
		}
	}
	return s.shadows[first] && !s.exists(first+"/__init__.py") && !s.exists(first+".py")
}

// vendored tells whether a file belongs to a vendored library that is there at the
// start: libraries that are new are the change's own.
func (s *steerer) vendored(name string) bool {
	dir := path.Dir(name)
	if !strings.HasPrefix(name, "vendor/") && !strings.Contains(name, "/vendor/") || path.Base(name) == "modules.txt" {
		return false
	}
	return s.exists(name) || s.exists(dir+"/")
}
