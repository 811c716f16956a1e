package workspace

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const attributesOrigin = `git init -q -b main .
	printf '*.crlf text eol=crlf\n*.auto text=auto\n*.id ident\n*.u16 text working-tree-encoding=UTF-16LE\n*.lfs filter=lfs diff=lfs merge=lfs -text\n*.bin binary\nexp.txt export-subst\n[attr]chart text eol=crlf\n*.chart chart\n' > .gitattributes
	printf 'one\ntwo\nthree\nfour\n' > a.crlf; printf 'one\r\ntwo\r\n' > mixed.auto; printf '$Id$\nlamp\n' > lamp.id
	printf 'h\000i\000\n\000x\000\n\000' > note.u16; printf 'version https://averil.example/spec/v1\noid sha256:0\nsize 1\n' > big.lfs; printf '\000\r\n' > x.bin; printf '$Format:%%H$\n' > exp.txt; printf 'north\nsouth\n' > quay.chart
	mkdir -p sub/deep 'a b/[c]'; printf '# a remark\n*.crlf -text\n/here.txt eol=crlf\ndeep/x.md text eol=crlf\n"two words.txt" text eol=crlf\n' > sub/.gitattributes
	for f in sub/kept.crlf sub/here.txt sub/deep/here.txt sub/deep/x.md 'sub/two words.txt' 'sub/deep/two words.txt'; do printf 'l1\nl2\n' > "$f"; done
	printf '*.txt text eol=crlf\n' > 'a b/[c]/.gitattributes'; printf 'l1\nl2\n' > 'a b/[c]/x.txt'; printf 'l1\nl2\n' > 'a b/y.txt'; mkdir 'a b/c'; printf 'l1\nl2\n' > 'a b/c/x.txt'
	ln -s a.crlf link; git add -A; git commit -qm start; git tag begin`

// A workspace is what git clone and a checkout give, byte for byte, and its index knows
// everything in it.
func TestAWorkspaceIsWhatCloneGives(t *testing.T) {
	for name, prepare := range map[string]string{"as it is": "", "prepared": "echo made > made.txt"} {
		t.Run(name, func(t *testing.T) {
			f := fixtureOf(t, attributesOrigin, prepare)
			clone := filepath.Join(t.TempDir(), "clone")
			sh(t, f.dir, "git clone -q "+f.origin+" "+clone+"; cd "+clone+"; git checkout -q begin; "+prepare)
			w := f.make(t, "w")
			require.NoError(t, os.RemoveAll(filepath.Join(clone, ".git")))
			assert.Equal(t, sh(t, w.Tree(), `git diff-files; git diff-index HEAD`), "", "before anything was refreshed")
			assert.Equal(t, shownTree(t, clone), shownTree(t, w.Tree()))
			crlf, err := os.ReadFile(filepath.Join(w.Tree(), "a.crlf"))
			require.NoError(t, err)
			assert.Contains(t, string(crlf), "one\r\n")
			c, err := f.git.Capture(t.Context(), w, plenty)
			require.NoError(t, err)
			assert.False(t, c.Changed(), string(c.Diff))

			// What git puts back was not changed.
			sh(t, w.Tree(), `for i in 1 2; do echo more >> a.crlf; echo more >> lamp.id; echo more >> sub/deep/x.md; echo more >> 'a b/[c]/x.txt'; git stash -q; git checkout -q -b side$i; git checkout -q main; done
				rm *.chart note.u16 link mixed.auto; git checkout -q -- .`)
			c, err = f.git.Capture(t.Context(), f.again(t, w), plenty)
			require.NoError(t, err)
			assert.False(t, c.Changed(), string(c.Diff))
		})
	}
}

// again is a workspace as it is now, of which nothing is known to be untouched.
func (f *fixture) again(t *testing.T, w *Workspace) *Workspace {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "again")
	require.NoError(t, os.Mkdir(dir, 0o755))
	out := &Workspace{Prepared: f.p, Dir: dir}
	require.NoError(t, CopyTree(w.Tree(), out.Tree(), CopyOptions{}))
	return out
}

// The change counts what git counts, and leads to the same files again.
func TestChangesOfFilesWithAttributes(t *testing.T) {
	f := fixtureOf(t, attributesOrigin, "")
	for name, do := range map[string]string{
		"a line":             `sed -i 's/two/TWO/' a.crlf`,
		"a new file":         `printf 'new\r\nlines\r\n' > new.crlf; printf 'new\r\n' > new.auto; printf 'new\r\n' > 'a b/[c]/new.txt'; printf 'new\r\n' > sub/new.crlf`,
		"an encoding":        `printf 'h\000e\000y\000\n\000x\000\n\000' > note.u16`,
		"an ident":           `echo more >> lamp.id`,
		"a kept line end":    `sed -i 's/one/ONE/' mixed.auto`,
		"other line ends":    `sed -i 's/\r$//' a.crlf; sed -i 's/two/TWO/' a.crlf`,
		"a mode":             `chmod +x a.crlf`,
		"a macro":            `sed -i 's/south/SOUTH/' quay.chart`,
		"a link for a file":  `rm a.crlf; ln -s lamp.id a.crlf`,
		"a folder for one":   `rm a.crlf; mkdir a.crlf; printf 'x\r\n' > a.crlf/x.crlf`,
		"deep in a folder":   `sed -i 's/l1/L1/' sub/deep/x.md 'sub/deep/two words.txt' 'a b/c/x.txt'`,
		"what is not one":    `printf '\377\377\000' > note.u16; echo more >> a.crlf`,
		"attributes as well": `echo '* -text' >> .gitattributes; printf 'x\r\n' > b.other`,
	} {
		t.Run(name, func(t *testing.T) {
			w := f.make(t, strings.ReplaceAll(name, " ", "-"))
			sh(t, w.Tree(), do)
			c, again := f.captureAndApply(t, w)
			assert.True(t, c.Changed())
			// Where git stores something else than lies there, it puts that out again.
			if !slices.Contains([]string{"other line ends", "what is not one", "a new file", "an ident"}, name) {
				assert.Equal(t, shownTree(t, w.Tree()), shownTree(t, again))
			}
			switch name {
			case "what is not one": // git refuses to store it
				assert.Contains(t, string(c.Diff), "note.u16")
				return
			case "attributes as well": // those of the start count
				assert.Contains(t, string(c.Diff), "+x\r\n")
				return
			}
			// Judged against git in the workspace itself.
			want := sh(t, w.Tree(), `git add -A 2>/dev/null; git diff --cached --numstat --no-renames HEAD | sort`)
			apply := filepath.Join(t.TempDir(), "apply")
			got := sh(t, f.dir, "git clone -q "+f.origin+" "+apply+"; cd "+apply+"; cat > ../c.diff <<'X'\n"+string(c.Diff)+"X\ngit apply --cached --binary --whitespace=nowarn ../c.diff; git diff --cached --numstat --no-renames HEAD | sort")
			assert.Equal(t, want, got)
		})
	}
}

func TestAttributesBelow(t *testing.T) {
	assert.Equal(t, "*.a text\n/b eol=lf\n[attr]m text\n", attributesBelow(".", "# no\n*.a text\n\n!*.x text\n/b eol=lf\n[attr]m text\n"))
	assert.Equal(t, "d/e/**/*.a text\nd/e/b eol=lf\nd/e/c/d -text\n\"d/e/**/a b\" text\n", attributesBelow("d/e", "*.a text\n/b eol=lf\nc/d -text\n\"a b\" text\n"))
	assert.Equal(t, "\"d e/**/*.a\" text\n", attributesBelow("d e", "*.a text\n"))
	for _, hostile := range []string{"\"", "\"a", "x", " ", "\x00", strings.Repeat("*", 5000), "\"\\"} {
		assert.NotPanics(t, func() { attributesBelow("d", hostile) })
	}
}
