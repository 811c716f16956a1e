package confine

import (
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
)

// Toolchains lie where people have them: below home folders, behind shims, in stores. What
// the service's PATH leads to is shown, read-only, and works as in the shell that started
// the service: the programs on it are resolved, and the installations that they belong to
// are found.

// toolchains are what a PATH leads to.
type toolchains struct {
	folders []string
	env     map[string]string
}

// toolHomes are variables that say where a toolchain lies: they pass on to bouts, and the
// folders that they name are shown.
var toolHomes = []string{"RUSTUP_HOME", "PYENV_ROOT", "NVM_DIR", "ASDF_DIR", "ASDF_DATA_DIR", "JAVA_HOME", "SDKMAN_DIR", "GOROOT", "VOLTA_HOME", "FNM_DIR", "N_PREFIX", "NODENV_ROOT",
	"RBENV_ROOT", "HOMEBREW_PREFIX", "MISE_DATA_DIR", "DOTNET_ROOT", "MAVEN_HOME", "M2_HOME", "GRADLE_HOME", "FLUTTER_ROOT", "DENO_INSTALL", "BUN_INSTALL", "CONDA_PREFIX", "VIRTUAL_ENV"}

// toolVersions are variables that choose one of several installations.
var toolVersions = []string{"RUSTUP_TOOLCHAIN", "PYENV_VERSION", "RBENV_VERSION", "NODENV_VERSION", "GOTOOLCHAIN"}

// What is looked at of a PATH's folders at most.
const (
	maxPrograms   = 2000
	maxScript     = 16 << 10
	toolsKeepFor  = 10 * time.Second
	maxToolchains = 200
)

var (
	toolsMu    sync.Mutex
	toolsKnown = map[string]struct {
		at    time.Time
		tools toolchains
	}{}
)

// toolchainsOf finds what a PATH leads to. It is asked before each command, and remembers
// for some seconds.
func toolchainsOf(path string) toolchains {
	home, _ := os.UserHomeDir()
	toolsMu.Lock()
	defer toolsMu.Unlock()
	key := path + "\x00" + home
	for _, name := range append(slices.Clone(toolHomes), toolVersions...) {
		key += "\x00" + os.Getenv(name)
	}
	if known, ok := toolsKnown[key]; ok && time.Since(known.at) < toolsKeepFor {
		return known.tools
	}
	f := finder{home: home, out: toolchains{env: map[string]string{}}, seen: map[string]bool{}}
	f.find(path)
	clear(toolsKnown)
	toolsKnown[key] = struct {
		at    time.Time
		tools toolchains
	}{time.Now(), f.out}
	return f.out
}

type finder struct {
	home string
	out  toolchains
	seen map[string]bool
}

func (f *finder) show(name string) {
	if name != "" && !f.seen[name] && len(f.out.folders) < maxToolchains {
		f.seen[name] = true
		f.out.folders = append(f.out.folders, name)
	}
}

func (f *finder) find(path string) {
	for _, name := range toolVersions {
		if v := os.Getenv(name); v != "" {
			f.out.env[name] = v
		}
	}
	for _, name := range toolHomes {
		dir := os.Getenv(name)
		real, err := filepath.EvalSymlinks(dir)
		if !filepath.IsAbs(dir) || err != nil || wide(real) || filepath.Base(real) == ".cargo" {
			continue
		}
		f.out.env[name] = dir
		f.show(filepath.Clean(dir))
	}
	for _, dir := range filepath.SplitList(path) {
		for _, name := range toolFolders(dir) {
			f.show(name)
		}
		real, err := filepath.EvalSymlinks(dir)
		if err != nil || !filepath.IsAbs(dir) || system(real) && !within(real, "/usr/local") {
			continue
		}
		f.known(real)
		f.programs(real)
	}
}

// known adds what the usual managers of toolchains need beside their folder on PATH.
func (f *finder) known(dir string) {
	root := filepath.Dir(dir)
	set := func(name, value string) {
		if f.out.env[name] == "" && exists(value) {
			f.out.env[name] = value
			f.show(value)
		}
	}
	switch filepath.Base(root) + "/" + filepath.Base(dir) {
	case ".cargo/bin":
		set("RUSTUP_HOME", filepath.Join(filepath.Dir(root), ".rustup"))
	case ".asdf/shims", ".asdf/bin":
		set("ASDF_DATA_DIR", root)
		set("ASDF_DIR", root)
	case ".volta/bin":
		set("VOLTA_HOME", root)
	}
	if filepath.Base(dir) == "shims" && !wide(root) { // its programs start others that lie beside it
		f.show(root)
	}
	f.show(storeOf(dir))
}

// programs looks at the programs of a folder: at links that lead out of it, and at scripts
// that start something elsewhere.
func (f *finder) programs(dir string) {
	d, err := os.Open(dir)
	if err != nil {
		return
	}
	defer d.Close()
	entries, _ := d.ReadDir(maxPrograms)
	below := within(dir, f.home) && f.home != "" && f.home != "/"
	for _, e := range entries {
		name := filepath.Join(dir, e.Name())
		switch {
		case e.Type()&os.ModeSymlink != 0:
			f.program(name)
		case e.Type().IsRegular() && (below || filepath.Base(dir) == "shims"):
			for _, other := range f.scriptLeadsTo(name) {
				f.program(other)
			}
		}
	}
}

// program shows the installation of a program, wherever it lies, and those of the links on
// the way to it.
func (f *finder) program(name string) {
	for range 10 {
		to, err := os.Readlink(name)
		if root := rootOf(name); root != name || err != nil { // a link by itself leads nowhere
			f.show(root)
		}
		if err != nil {
			break
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(name), to)
		}
		name = to
	}
	if real, err := filepath.EvalSymlinks(name); err == nil {
		f.show(rootOf(real))
	}
}

var absoluteRE = regexp.MustCompile(`(?:\$HOME|\$\{HOME\}|~)?(?:/[A-Za-z0-9._+@=~-]+)+`)

// scriptLeadsTo are the files outside the system's folders that a short script names.
func (f *finder) scriptLeadsTo(name string) []string {
	file, err := os.Open(name)
	if err != nil {
		return nil
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, maxScript+1))
	if err != nil || len(data) > maxScript || !strings.HasPrefix(string(data), "#!") {
		return nil
	}
	var out []string
	for _, to := range absoluteRE.FindAllString(string(data), 50) {
		for _, home := range []string{"$HOME", "${HOME}", "~"} {
			if rest, ok := strings.CutPrefix(to, home); ok {
				to = f.home + rest
			}
		}
		if st, err := os.Stat(to); err == nil && st.Mode().IsRegular() && !system(to) {
			out = append(out, to)
		}
	}
	return out
}

// InstallationOf is the folder that a program of this machine belongs to.
func InstallationOf(program string) string {
	if real, err := filepath.EvalSymlinks(program); err == nil {
		program = real
	}
	if root := rootOf(program); root != "" {
		return root
	}
	return filepath.Dir(program)
}

// rootOf is the installation that a program belongs to; "" where the system's folders hold
// it, and the program itself where it lies among all kinds of things.
func rootOf(program string) string {
	if system(program) {
		return ""
	}
	if store := storeOf(program); store != "" {
		return store
	}
	dir := filepath.Dir(program)
	root := dir
	switch filepath.Base(dir) {
	case "bin", "sbin", "libexec", "cmd", "shims":
		root = filepath.Dir(dir)
	}
	if filepath.Base(root) == ".cargo" { // beside its programs lie keys
		return dir
	}
	if wide(root) || root == dir && exists(filepath.Join(dir, ".git")) { // somebody's work is no installation
		return program
	}
	return root
}

// storeRE finds the store of a system that keeps each package in a folder of its own, named
// by a digest, where any may need any other.
var storeRE = regexp.MustCompile(`^(/(?:[^/]+/)*store)/[0-9a-z]{32}-[^/]+`)

func storeOf(name string) string {
	if m := storeRE.FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return ""
}

// system tells what every bout sees anyway, or never.
func system(name string) bool {
	return slices.ContainsFunc(append([]string{"/etc", "/dev", "/proc", "/sys"}, systemFolders...), func(dir string) bool { return within(name, dir) })
}
