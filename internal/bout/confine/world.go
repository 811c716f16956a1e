package confine

import (
	"os"
	"path/filepath"
	"sort"
	"strings"
)

// World is the surroundings that the commands of one bout share: its folders
// on this machine, and what else may be read. A command sees the folders at
// the same paths in every bout, except in ProcessGroup mode, where it sees them
// where they are.
type World struct {
	Mode                       Mode
	Owner                      Owner
	Workspace, Home, Tmp, Root string
	// HomeLower is a pristine HOME that is shown below Home, which then holds
	// only what is written; HomeWork is an empty folder beside it. Both empty
	// where Home is a whole copy.
	HomeLower, HomeWork string
	// Brief is a file that is shown read-only at BriefPath; empty for none.
	Brief string
	// Attachments is a folder that is shown read-only at AttachmentsPath; empty for none.
	Attachments string
	// Path is the value of PATH for the command.
	Path string
	// Reads are further files and folders of this machine that may be read.
	Reads []string
	// Hide are files and folders that are covered wherever something shows them.
	Hide []string
	// Keep are folders of which nothing is ever shown: the data folder.
	Keep []string
	// Limits bound what each command uses.
	Limits Limits
	// Other is a second owner, as whom commands may start programs; see Spec.Other. Never
	// are files in the workspace, relative to it, that such programs cannot open.
	Other *Owner
	Never []string
	// NoNetwork takes the network away, but for a loopback.
	NoNetwork bool
	// Listen is the one port that is served on that loopback; 0 for none.
	Listen int
}

// Paths are the places as the command sees them.
func (w World) Paths() (workspace, home, tmp, brief string) {
	if w.Mode == Namespaces {
		return WorkspacePath, HomePath, TmpPath, BriefPath
	}
	return w.Workspace, w.Home, w.Tmp, w.Brief
}

// AttachmentsPath is where the attached files lie as the command sees them.
func (w World) AttachmentsPath() string {
	if w.Mode == Namespaces {
		return AttachmentsPath
	}
	return w.Attachments
}

// Spec is a command in this world. env is laid over the basic environment.
func (w World) Spec(args []string, env map[string]string) Spec {
	workspace, home, tmp, _ := w.Paths()
	all := map[string]string{"LANG": "C.UTF-8", "TERM": "dumb", "USER": "dev", "LOGNAME": "dev", "SHELL": "/bin/sh"}
	tools := toolchainsOf(w.Path)
	for k, v := range tools.env {
		all[k] = v
	}
	for k, v := range env {
		all[k] = v
	}
	if _, set := env["PATH"]; !set {
		all["PATH"] = w.Path
	}
	all["HOME"], all["TMPDIR"], all["PWD"] = home, tmp, workspace
	// Tools that look for a repository or a project in parent folders stop here.
	all["GIT_CEILING_DIRECTORIES"] = filepath.Dir(workspace)
	hidden := resolved(append(append([]string(nil), w.Hide...), w.Keep...))
	w.Hide, w.Keep = hidden, resolved(w.Keep)
	spec := Spec{Mode: w.Mode, Args: args, Dir: workspace, Root: w.Root, Limits: w.Limits, Hide: hidden, Owner: w.Owner, NoNetwork: w.NoNetwork && w.Mode == Namespaces, Listen: w.Listen}
	for k, v := range all {
		spec.Env = append(spec.Env, k+"="+v)
	}
	sort.Strings(spec.Env)
	if w.Mode != Namespaces {
		return spec
	}
	spec.Binds = []Bind{
		{Source: real(w.Workspace), Target: workspace, Writable: true},
		{Source: real(w.Tmp), Target: tmp, Writable: true},
	}
	spec.Root = real(w.Root)
	if w.HomeLower != "" {
		lower := Overlay{Lower: w.HomeLower, Upper: w.Home, Work: w.HomeWork, Target: home}
		if w.Owner.Root && w.Owner.UID != hostID {
			lower.LowerOwner = hostID
		}
		spec.Overlays = []Overlay{lower}
	} else {
		spec.Binds = append(spec.Binds, Bind{Source: real(w.Home), Target: home, Writable: true})
	}
	if w.Other != nil {
		if self, err := os.Executable(); err == nil {
			spec.Other = w.Other
			for _, name := range w.Never {
				spec.OtherNever = append(spec.OtherNever, filepath.Join(workspace, name))
			}
			spec.Binds = append(spec.Binds, Bind{Source: real(self), Target: OtherPath})
		}
	}
	if w.Brief != "" {
		spec.Binds = append(spec.Binds, Bind{Source: real(w.Brief), Target: BriefPath})
	}
	if w.Attachments != "" {
		spec.Binds = append(spec.Binds, Bind{Source: real(w.Attachments), Target: AttachmentsPath})
	}
	// What is shown beside the bout's own folders is a list of resolved paths, made here,
	// from what the service's PATH and the contender's and the task's files name. Nothing
	// comes onto it because a tool asks for it.
	seen := map[string]bool{}
	show := func(name string) {
		real, err := filepath.EvalSymlinks(name)
		if err != nil || seen[name] || real == "/" || name == "/" || own(real) || own(name) || w.keeps(real) {
			return
		}
		seen[name] = true
		st, err := os.Stat(real)
		if err != nil || !st.IsDir() && !st.Mode().IsRegular() {
			return // a socket or a pipe would lead out
		}
		spec.Binds = append(spec.Binds, Bind{Source: real, Target: real, Still: st.IsDir()})
		if real != name {
			spec.Binds = append(spec.Binds, Bind{Source: real, Target: name, Still: st.IsDir(), Alias: true})
		}
	}
	for _, name := range tools.folders {
		if !w.hidden(name) && !system(name) { // the system's folders are there anyway, and each mount takes its time
			show(name)
		}
	}
	for _, name := range w.Reads {
		show(filepath.Clean(name))
	}
	return spec
}

// toolFolders are the folders that are shown for one of PATH: itself, and the root of
// the installation that it belongs to where it can be told.
func toolFolders(dir string) []string {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil || !filepath.IsAbs(dir) || wide(real) {
		return nil
	}
	out := []string{filepath.Clean(dir)}
	root := filepath.Dir(real)
	if filepath.Base(root) == ".cargo" { // beside its programs lie keys; what they lead to lies next to it
		return append(out, filepath.Join(filepath.Dir(root), ".rustup"))
	}
	if wide(root) {
		return out // no installation of its own
	}
	for _, part := range []string{"lib", "lib64", "libexec", "share", "include", "jre", "versions"} {
		if exists(filepath.Join(root, part)) {
			return append(out, root)
		}
	}
	return out
}

// wide tells the folders in which all kinds of things lie: they are never shown whole.
func wide(dir string) bool {
	home, _ := os.UserHomeDir()
	for _, name := range []string{"/", "/usr", "/usr/local", "/opt", "/srv", "/var", "/var/lib", "/home", "/root", "/mnt", "/media", "/run", "/tmp", "/etc", "/nix", "/proc", "/sys", "/dev",
		home, filepath.Join(home, ".local")} {
		if dir == name {
			return true
		}
	}
	return filepath.Dir(dir) == "/home" || filepath.Base(dir) == ".local"
}

// keeps tells whether a path lies in what no list may show.
func (w World) keeps(name string) bool {
	for _, k := range w.Keep {
		if within(name, k) {
			return true
		}
	}
	return false
}

// real is a path of the harness's own without links in it.
func real(name string) string {
	if to, err := filepath.EvalSymlinks(name); err == nil {
		return to
	}
	return name
}

// resolved are paths with what they lead to: both are to be covered.
func resolved(names []string) []string {
	var out []string
	for _, name := range names {
		if name == "" {
			continue
		}
		out = append(out, filepath.Clean(name))
		if to := real(name); to != out[len(out)-1] {
			out = append(out, to)
		}
	}
	return out
}

func (w World) hidden(name string) bool {
	for _, h := range w.Hide {
		if within(name, h) {
			return true
		}
	}
	return false
}

// own tells the places that a bout has of its own, which nothing may cover, and those
// that are no files.
func own(name string) bool {
	return name == TmpPath || within(name, "/bout") || within(name, "/proc") || within(name, "/dev") || within(name, "/sys")
}

func within(name, dir string) bool {
	return name == dir || strings.HasPrefix(name, strings.TrimSuffix(dir, "/")+"/")
}

func exists(name string) bool { _, err := os.Stat(name); return err == nil }
