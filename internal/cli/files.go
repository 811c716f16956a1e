package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
)

// gather reads a file and everything that it names from this machine's disk.
// What is missing is left out: reading the bundle then says so, with its line.
func gather(name string) (*specfile.Bundle, contest.Kind, error) {
	abs, err := filepath.Abs(name)
	if err != nil {
		return nil, "", err
	}
	b := &specfile.Bundle{Main: filepath.ToSlash(abs), Files: map[string][]byte{}}
	if err := take(b, b.Main); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, "", fmt.Errorf("%s: no such file", name)
		}
		return nil, "", err
	}
	kind := contest.KindOf(b.Main, b.Files[b.Main])
	switch kind {
	case contest.KindTask:
		takeNamed(b, b.Main)
	case contest.KindContest:
		tasks, contenders, prices := contest.Globs(b.Main, b.Files[b.Main])
		for _, pattern := range slices.Concat(tasks, contenders, prices) {
			found, err := doublestar.FilepathGlob(pattern, doublestar.WithFilesOnly())
			if err != nil {
				continue // an invalid pattern is reported by the reader
			}
			for _, f := range found {
				if err := take(b, filepath.ToSlash(f)); err != nil {
					return nil, "", err
				}
			}
		}
		for _, pattern := range tasks {
			for f := range b.Files {
				if ok, _ := doublestar.Match(pattern, f); ok {
					takeNamed(b, f)
				}
			}
		}
	}
	return b, kind, nil
}

func take(b *specfile.Bundle, name string) error {
	st, err := os.Stat(name)
	if err != nil {
		return err
	}
	if !st.Mode().IsRegular() {
		return fmt.Errorf("%s is not a file", name)
	}
	if st.Size() > 64<<20 {
		return fmt.Errorf("%s has %d bytes; a file that is sent along may have 64 MiB", name, st.Size())
	}
	b.Files[name], err = os.ReadFile(name)
	return err
}

// takeNamed adds the files and folders that a task names, where they exist.
func takeNamed(b *specfile.Bundle, file string) {
	files, folders := task.Names(file, b.Files[file])
	for _, name := range files {
		_ = take(b, name)
	}
	for _, dir := range folders {
		_ = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				_ = take(b, filepath.ToSlash(name))
			}
			return nil
		})
	}
}

// taskSlug is the name of the task in a file of a bundle; "" where it has none.
func taskSlug(b *specfile.Bundle, name string) string {
	t, _ := task.Parse(name, name, b.Files[name], b.Files)
	return string(t.Task)
}

// contenderSlug is the name of the contender in a file.
func contenderSlug(name string, data []byte) (string, error) {
	con, doc := contender.Parse(name, name, data)
	return string(con.Contender), doc.Problems.Err()
}
