package patch

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const all = `diff --git a/added.txt b/added.txt
new file mode 100644
index 0000000..1111111
--- /dev/null
+++ b/added.txt
@@ -0,0 +1,2 @@
+one
+two
\ No newline at end of file
diff --git a/gone.txt b/gone.txt
deleted file mode 100644
index 1111111..0000000
--- a/gone.txt
+++ /dev/null
@@ -1 +0,0 @@
-bye
diff --git a/run.sh b/run.sh
old mode 100644
new mode 100755
diff --git a/old.txt b/new.txt
similarity index 90%
rename from old.txt
rename to new.txt
index 1111111..2222222 100644
--- a/old.txt
+++ b/new.txt
@@ -3,3 +3,3 @@ func tide() {
 keep
-low
+high
 keep
diff --git a/pic.bin b/pic.bin
index 1111111..2222222 100644
GIT binary patch
literal 2
JcmZQzV-5fS0E7Sl

literal 1
IcmZPo000310RR91

diff --git "a/odd\tname" "b/odd\tname"
index 1111111..2222222 100644
--- "a/odd\tname"
+++ "b/odd\tname"
@@ -1 +1 @@
-a
+b
`

func TestParseAndMeasure(t *testing.T) {
	files, err := Parse([]byte(all), 0)
	require.NoError(t, err)
	require.Len(t, files, 6)
	assert.Equal(t, []Status{Added, Deleted, ModeOnly, Renamed, Changed, Changed},
		[]Status{files[0].Status, files[1].Status, files[2].Status, files[3].Status, files[4].Status, files[5].Status})
	assert.Equal(t, "gone.txt", files[1].Path)
	assert.Equal(t, "100755", files[2].NewMode)
	assert.Equal(t, "old.txt", files[3].OldPath)
	assert.True(t, files[4].Binary)
	assert.Equal(t, "odd\tname", files[5].Path)
	h := files[3].Hunks[0]
	assert.Equal(t, "func tide() {", h.Heading)
	assert.Equal(t, Line{Kind: LineRemoved, Old: 4, Text: "low"}, h.Lines[1])
	assert.Equal(t, Line{Kind: LineAdded, New: 4, Text: "high"}, h.Lines[2])
	assert.True(t, files[0].Hunks[0].Lines[1].NoNewline)

	fp, err := Measure([]byte(all))
	require.NoError(t, err)
	assert.Equal(t, Footprint{Files: 6, FilesAdded: 1, FilesDeleted: 1, FilesRenamed: 1, FilesBinary: 1, LinesAdded: 4, LinesRemoved: 3, Hunks: 4}, fp)
}

func TestTheEmptyDiffHasNothing(t *testing.T) {
	files, err := Parse(nil, 0)
	require.NoError(t, err)
	assert.Empty(t, files)
	fp, err := Measure([]byte("\n"))
	require.NoError(t, err)
	assert.Zero(t, fp)
}

func TestLinesAreLimitedAndTheRestCounted(t *testing.T) {
	var b strings.Builder
	b.WriteString("diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -0,0 +1,100 @@\n")
	for range 100 {
		b.WriteString("+line\n")
	}
	files, err := Parse([]byte(b.String()), 30)
	require.NoError(t, err)
	assert.Equal(t, 100, files[0].Added)
	assert.Equal(t, 70, files[0].Cut)
	assert.Len(t, files[0].Hunks[0].Lines, 30)
}

func TestBrokenDiffsAreErrors(t *testing.T) {
	for name, in := range map[string]string{
		"wrong counts": "diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -1,5 +1,5 @@\n-a\n+b\n",
		"cut off":      "diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -1,2 +1",
		"binary cut":   "diff --git a/x b/x\nindex 1..2 100644\nGIT binary patch\nliteral 99\nJcm\n",
	} {
		_, err := Parse([]byte(in), 0)
		assert.ErrorContains(t, err, "the diff cannot be read", name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(all))
	f.Add([]byte("diff --git a/x b/x\n@@ -1 +1 @@\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		files, err := Parse(data, 100)
		fp, measureErr := Measure(data)
		if (err == nil) != (measureErr == nil) {
			t.Fatalf("Parse says %v, Measure says %v", err, measureErr)
		}
		if err == nil && len(files) != fp.Files {
			t.Fatalf("%d files parsed, %d measured", len(files), fp.Files)
		}
	})
}

// A file that becomes a link, or the reverse, is one file.
func TestAChangeOfKindIsOneFile(t *testing.T) {
	const diff = "diff --git a/a b/a\ndeleted file mode 100644\n--- a/a\n+++ /dev/null\n@@ -1,2 +0,0 @@\n-one\n-two\n" +
		"diff --git a/a b/a\nnew file mode 120000\n--- /dev/null\n+++ b/a\n@@ -0,0 +1 @@\n+b\n\\ No newline at end of file\n" +
		"diff --git a/c b/c\ndeleted file mode 100644\n--- a/c\n+++ /dev/null\n@@ -1 +0,0 @@\n-one\n" +
		"diff --git a/d b/d\nnew file mode 100644\n--- /dev/null\n+++ b/d\n@@ -0,0 +1 @@\n+one\n"
	files, err := Parse([]byte(diff), 0)
	require.NoError(t, err)
	require.Len(t, files, 3)
	assert.Equal(t, Changed, files[0].Status)
	assert.Equal(t, []string{"100644", "120000"}, []string{files[0].OldMode, files[0].NewMode})
	assert.Equal(t, []int{1, 2}, []int{files[0].Added, files[0].Removed})
	assert.Len(t, files[0].Hunks, 2)
	fp, err := Measure([]byte(diff))
	require.NoError(t, err)
	assert.Equal(t, Footprint{Files: 3, FilesAdded: 1, FilesDeleted: 1, LinesAdded: 2, LinesRemoved: 3, Hunks: 4}, fp)
}
