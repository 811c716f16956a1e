// Package demo carries Port Averil, a made-up port: two repositories with
// their history, six tasks with what judges them, four contenders made of three
// stand-in tools and two stand-in models, a price list and three contests: the large one, a quick
// one, and one in which a task is worked in four ways.
package demo

import (
	"bufio"
	"bytes"
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"golang.org/x/tools/txtar"
)

//go:embed repositories tasks contenders ways playbooks sealed references *.yaml
var files embed.FS

// Playbooks is what the stand-in tools know.
func Playbooks() fs.FS {
	sub, err := fs.Sub(files, "playbooks")
	if err != nil {
		panic(err) // the folder is named in the directive above
	}
	return sub
}

// Contest is the path of the demo's contest file below the folder of Unpack.
const Contest = "port-averil.yaml"

// Ways is that of the contest in which one task is worked in four ways.
const Ways = "ways.yaml"

// Quick is that of the quick contest: one task.
const Quick = "quick.yaml"

// Prices is that of its price list.
const Prices = "prices.yaml"

// Unpack writes the demo into a folder: the files, with `program` as the path
// of the binary whose stand-ins they start and `models` as the address of the
// model service, and the repositories, made by gitProgram. What is there already and the same is left as it is.
func Unpack(ctx context.Context, dir, program, models, gitProgram string) error {
	for _, top := range []string{"tasks", "contenders", "ways", "references", Contest, Quick, Ways, Prices} {
		err := fs.WalkDir(files, top, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := files.ReadFile(name)
			if err != nil {
				return err
			}
			data = bytes.ReplaceAll(data, []byte("@agonometer@"), []byte(strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(program)))
			data = bytes.ReplaceAll(data, []byte("@models@"), []byte(models))
			target := filepath.Join(dir, filepath.FromSlash(name))
			if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
				return err
			}
			return os.WriteFile(target, data, 0o644)
		})
		if err != nil {
			return err
		}
	}
	sealed, err := fs.Glob(files, "sealed/*.txtar")
	if err != nil {
		return err
	}
	for _, name := range sealed {
		data, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		for _, f := range txtar.Parse(data).Files {
			target := filepath.Join(dir, filepath.FromSlash(strings.TrimSuffix(name, ".txtar")), filepath.FromSlash(f.Name))
			if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(target, f.Data, 0o644); err != nil {
				return err
			}
		}
	}
	repositories, err := files.ReadDir("repositories")
	if err != nil {
		return err
	}
	for _, r := range repositories {
		target := filepath.Join(dir, "repositories", r.Name())
		if _, err := os.Stat(filepath.Join(target, ".git", "complete")); err == nil {
			continue
		}
		if err := os.RemoveAll(target); err != nil {
			return err
		}
		if err := makeRepository(ctx, gitProgram, target, r.Name()); err != nil {
			return fmt.Errorf("make the demo's repository %s: %w", r.Name(), err)
		}
	}
	return nil
}

// makeRepository makes a repository from its commits, which are txtar archives:
// the comment names author, date and tag, then the message; the files are those
// that the commit writes. Authors and dates are fixed, so the commit ids are
// the same on every machine.
func makeRepository(ctx context.Context, gitProgram, target, name string) error {
	stream, err := exportStream(name)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(target, 0o755); err != nil {
		return err
	}
	steps := []struct {
		args  []string
		stdin []byte
	}{
		{[]string{"init", "--quiet", "--template=", "--object-format=sha1", "--initial-branch=main", "."}, nil},
		{[]string{"fast-import", "--quiet", "--date-format=raw"}, stream},
		{[]string{"reset", "--quiet", "--hard", "main"}, nil},
	}
	for _, s := range steps {
		cmd := exec.CommandContext(ctx, gitProgram, s.args...)
		cmd.Dir = target
		cmd.Stdin = bytes.NewReader(s.stdin)
		cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "LC_ALL=C"}
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", s.args[0], err, bytes.TrimSpace(out))
		}
	}
	return os.WriteFile(filepath.Join(target, ".git", "complete"), nil, 0o644)
}

// exportStream writes a repository's commits as git fast-import reads them.
func exportStream(name string) ([]byte, error) {
	commits, err := fs.Glob(files, "repositories/"+name+"/*.txtar")
	if err != nil {
		return nil, err
	}
	sort.Strings(commits)
	var b bytes.Buffer
	for i, file := range commits {
		data, err := files.ReadFile(file)
		if err != nil {
			return nil, err
		}
		a := txtar.Parse(data)
		head, message, _ := strings.Cut(string(a.Comment), "\n\n")
		facts := map[string]string{}
		lines := bufio.NewScanner(strings.NewReader(head))
		for lines.Scan() {
			key, value, _ := strings.Cut(lines.Text(), ": ")
			facts[key] = value
		}
		at, err := time.Parse(time.RFC3339, facts["date"])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		who := fmt.Sprintf("%s %d +0000", facts["author"], at.Unix())
		fmt.Fprintf(&b, "commit refs/heads/main\nmark :%d\nauthor %s\ncommitter %s\ndata %d\n%s\n", i+1, who, who, len(message), message)
		for _, f := range a.Files {
			fmt.Fprintf(&b, "M 100644 inline %s\ndata %d\n%s\n", f.Name, len(f.Data), f.Data)
		}
		b.WriteByte('\n')
		if tag := facts["tag"]; tag != "" {
			fmt.Fprintf(&b, "reset refs/tags/%s\nfrom :%d\n\n", tag, i+1)
		}
	}
	return b.Bytes(), nil
}
