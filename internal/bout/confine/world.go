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
	// Hide are files and folders that must not be seen.
	Hide []string
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
	for k, v := range env {
		all[k] = v
	}
	if _, set := env["PATH"]; !set {
		all["PATH"] = w.Path
	}
	all["HOME"], all["TMPDIR"], all["PWD"] = home, tmp, workspace
	// Tools that look for a repository or a project in parent folders stop here.
	all["GIT_CEILING_DIRECTORIES"] = filepath.Dir(workspace)
	spec := Spec{Mode: w.Mode, Args: args, Dir: workspace, Root: w.Root, Hide: w.Hide, Owner: w.Owner, NoNetwork: w.NoNetwork && w.Mode == Namespaces, Listen: w.Listen}
	for k, v := range all {
		spec.Env = append(spec.Env, k+"="+v)
	}
	sort.Strings(spec.Env)
	if w.Mode != Namespaces {
		return spec
	}
	spec.Binds = []Bind{
		{Source: w.Workspace, Target: workspace, Writable: true},
		{Source: w.Tmp, Target: tmp, Writable: true},
	}
	if w.HomeLower != "" {
		spec.Overlays = []Overlay{{Lower: w.HomeLower, Upper: w.Home, Work: w.HomeWork, Target: home}}
	} else {
		spec.Binds = append(spec.Binds, Bind{Source: w.Home, Target: home, Writable: true})
	}
	if w.Brief != "" {
		spec.Binds = append(spec.Binds, Bind{Source: w.Brief, Target: BriefPath})
	}
	if w.Attachments != "" {
		spec.Binds = append(spec.Binds, Bind{Source: w.Attachments, Target: AttachmentsPath})
	}
	seen := map[string]bool{}
	show := func(name string) {
		if name = filepath.Clean(name); !seen[name] && name != "/" && exists(name) && !own(name) {
			seen[name] = true
			spec.Binds = append(spec.Binds, Bind{Source: name, Target: name})
		}
	}
	for _, dir := range filepath.SplitList(w.Path) {
		if filepath.IsAbs(dir) && !w.hidden(dir) {
			show(dir)
		}
	}
	for _, name := range w.Reads {
		show(name)
	}
	if strings.HasPrefix(args[0], "/") {
		show(args[0])
		if real, err := filepath.EvalSymlinks(args[0]); err == nil {
			show(real)
		}
	}
	return spec
}

func (w World) hidden(name string) bool {
	for _, h := range w.Hide {
		if within(name, h) {
			return true
		}
	}
	return false
}

// own tells the places that a bout has of its own, which nothing may cover.
func own(name string) bool {
	for _, p := range []string{"/bout", TmpPath, "/proc", "/dev"} {
		if name == p {
			return true
		}
	}
	return false
}

func within(name, dir string) bool {
	return name == dir || strings.HasPrefix(name, strings.TrimSuffix(dir, "/")+"/")
}

func exists(name string) bool { _, err := os.Stat(name); return err == nil }
