package beneath_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// byPath are the functions that resolve a path as a whole.
var byPath = map[string][]string{
	"os": {"Chmod", "Chown", "Chtimes", "CopyFS", "Create", "Lchown", "Link", "Lstat", "Mkdir", "MkdirAll", "Open", "OpenFile", "ReadDir", "ReadFile", "Readlink",
		"Remove", "RemoveAll", "Rename", "Stat", "Symlink", "Truncate", "WriteFile", "DirFS"},
	"filepath": {"EvalSymlinks", "Glob", "Walk", "WalkDir"},
	"unix":     {"Chmod", "Chown", "Lchown", "Lstat", "Mkdir", "Open", "Readlink", "Rename", "Rmdir", "Stat", "Symlink", "Truncate", "Unlink"},
	"syscall":  {"Chmod", "Chown", "Lchown", "Lstat", "Mkdir", "Open", "Readlink", "Rename", "Rmdir", "Stat", "Symlink", "Truncate", "Unlink"},
}

// The functions that use a plain path, each with what it is a path of: testdata/plain-paths.txt
// lists them. A new one must be on that list, with a reason why no contender can have
// written there; so whoever adds one has thought about it.
func TestPlainPathsAreTheHarnessesOwn(t *testing.T) {
	found := map[string]bool{}
	for _, folder := range []string{"..", "../../schedule"} {
		err := filepath.WalkDir(folder, func(name string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || strings.Contains(name, "/beneath/") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			require.NoError(t, err)
			for _, decl := range file.Decls {
				f, ok := decl.(*ast.FuncDecl)
				if !ok {
					continue
				}
				ast.Inspect(f, func(n ast.Node) bool {
					sel, ok := n.(*ast.SelectorExpr)
					if !ok {
						return true
					}
					if pkg, ok := sel.X.(*ast.Ident); ok {
						for _, fn := range byPath[pkg.Name] {
							if fn == sel.Sel.Name {
								found[fmt.Sprintf("%s %s", strings.TrimPrefix(strings.TrimPrefix(name, "../"), "../"), f.Name.Name)] = true
							}
						}
					}
					return true
				})
			}
			return nil
		})
		require.NoError(t, err)
	}
	list, err := os.ReadFile("testdata/plain-paths.txt")
	require.NoError(t, err)
	allowed := map[string]bool{}
	for line := range strings.Lines(string(list)) {
		if where, why, ok := strings.Cut(strings.TrimSpace(line), ": "); ok && !strings.HasPrefix(line, "#") {
			allowed[where] = true
			assert.Greater(t, len(why), 10, "a reason: %s", where)
		}
	}
	var unexplained, stale []string
	for where := range found {
		if !allowed[where] {
			unexplained = append(unexplained, where)
		}
	}
	for where := range allowed {
		if !found[where] {
			stale = append(stale, where)
		}
	}
	sort.Strings(unexplained)
	assert.Empty(t, unexplained, "these use plain paths; use package beneath where a contender could have written, else say in testdata/plain-paths.txt what they are paths of:\n%s", strings.Join(unexplained, "\n"))
	assert.Empty(t, stale, "these are on the list and do not use plain paths any more")
}
