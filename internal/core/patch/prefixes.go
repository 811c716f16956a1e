package patch

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"
)

var (
	hunkHead = regexp.MustCompile(`^@@ -\d+(?:,(\d+))? \+\d+(?:,(\d+))? @@`)
	// noTime is the time that diff gives a side that is not there.
	noTime = regexp.MustCompile(`\t(1970-01-01|1969-12-31) `)
)

const noFile = "/dev/null"

// Prefixed gives a patch of any origin the headers that Parse reads: names with a/ and b/
// before them. Patches of `git diff --no-prefix` have none, those of `diff -u` have no
// header of git's and any folder's name. What is in no known form stays as it is. It is
// for reading names: what is applied is the patch as it was given.
func Prefixed(diff []byte) []byte {
	var out bytes.Buffer
	lines := bytes.SplitAfter(diff, []byte("\n"))
	old, now := 0, 0            // how many lines of a hunk are still to come
	ofGit, bare := false, false // whether a header of git's came, and whether its names are bare
	for i := 0; i < len(lines); i++ {
		line := string(lines[i])
		switch {
		case old > 0 || now > 0:
			switch {
			case strings.HasPrefix(line, "+"):
				now--
			case strings.HasPrefix(line, "-"):
				old--
			case !strings.HasPrefix(line, `\`):
				old, now = old-1, now-1
			}
		case strings.HasPrefix(line, "@@ "):
			if m := hunkHead.FindStringSubmatch(line); m != nil {
				old, now = lengthOf(m[1]), lengthOf(m[2])
			}
		case strings.HasPrefix(line, "diff --git "):
			ofGit = true
			both := strings.TrimRight(strings.TrimPrefix(line, "diff --git "), "\r\n")
			half := len(both) / 2
			if bare = len(both)%2 == 1 && both[half] == ' ' && both[:half] == both[half+1:]; bare {
				line = "diff --git " + behind("a/", both[:half]) + " " + behind("b/", both[:half]) + "\n"
			}
		case strings.HasPrefix(line, "--- ") && i+1 < len(lines) && bytes.HasPrefix(lines[i+1], []byte("+++ ")):
			before, after := line[4:], string(lines[i+1][4:])
			switch {
			case ofGit && bare:
				line = "--- " + behind("a/", before) + "+++ " + behind("b/", after)
				i++
			case !ofGit:
				if head, ok := headOf(before, after); ok {
					line = head
					i++
				}
			}
			ofGit, bare = false, false
		}
		out.WriteString(line)
	}
	return out.Bytes()
}

func lengthOf(s string) int {
	if s == "" {
		return 1
	}
	n, _ := strconv.Atoi(s)
	return n
}

// behind puts a prefix before a name, which may be quoted.
func behind(prefix, name string) string {
	switch {
	case strings.HasPrefix(name, noFile):
		return name
	case strings.HasPrefix(name, `"`):
		return `"` + prefix + name[1:]
	}
	return prefix + name
}

// headOf makes a header like git's of the two lines that diff writes, without their marks.
func headOf(before, after string) (string, bool) {
	name := func(s string) string {
		bare, _, _ := strings.Cut(strings.TrimRight(s, "\r\n"), "\t")
		if noTime.MatchString(s) {
			return noFile
		}
		return bare
	}
	from, to := name(before), name(after)
	if strings.HasPrefix(from, `"`) || strings.HasPrefix(to, `"`) {
		return "", false
	}
	folderless := func(s string) string {
		if _, rest, ok := strings.Cut(s, "/"); ok {
			return rest
		}
		return s
	}
	path, mode := to, ""
	switch {
	case from == noFile && to == noFile:
		return "", false
	case from == noFile:
		mode = "new file mode 100644\n"
		if strings.HasPrefix(to, "b/") || noTime.MatchString(before) {
			path = folderless(to)
		}
	case to == noFile:
		path, mode = from, "deleted file mode 100644\n"
		if strings.HasPrefix(from, "a/") || noTime.MatchString(after) {
			path = folderless(from)
		}
	case from == to:
	case folderless(from) == folderless(to):
		path = folderless(to)
	default:
		return "", false
	}
	a, b := "a/"+path, "b/"+path
	head := "diff --git " + a + " " + b + "\n" + mode
	switch {
	case from == noFile:
		a = noFile
	case to == noFile:
		b = noFile
	}
	return head + "--- " + a + "\n+++ " + b + "\n", true
}
