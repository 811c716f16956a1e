package patch

import (
	"bytes"
	"strconv"
)

// A diff may have ten million lines of one byte each, or hundreds of megabytes of encoded
// binary files, and whatever parses one keeps an object for each line. Before it is parsed
// a large diff is thinned: of each file a number of lines is kept, binary contents are
// taken out, and what was left out is counted, so that the figures are those of the whole.

// What a diff may have to be parsed as it is, and what is kept of one that has more: lines
// in all, and lines of each file once there are more than that.
const (
	wholeLines  = 200_000
	wholeBytes  = 32 << 20
	wholeBinary = 1 << 20
	keptOfFile  = 2_000
)

// thinned is a diff of which lines were left out.
type thinned struct {
	diff []byte
	// added, removed and hunks are what was left out, by the number of the file in the diff.
	added, removed, hunks map[int]int
	// Lines is how many lines were left out in all.
	lines int
}

// thin returns the diff as it is where that is not too much, and what is left of it where
// it is. It reads hunks by the counts in their heads, as git does, so that no line of a
// content is taken for a head.
func thin(diff []byte) thinned {
	binary := len(diff) > wholeBinary && bytes.Contains(diff, []byte("\nGIT binary patch\n"))
	if len(diff) <= wholeBytes && bytes.Count(diff, []byte{'\n'}) <= wholeLines && !binary {
		return thinned{diff: diff}
	}
	out := thinned{diff: make([]byte, 0, min(len(diff), wholeBytes)), added: map[int]int{}, removed: map[int]int{}, hunks: map[int]int{}}
	file, inFile, inAll := -1, 0, 0
	rest := diff
	line := func() []byte {
		end := bytes.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest) - 1
		}
		one := rest[:end+1]
		rest = rest[end+1:]
		return one
	}
	for len(rest) > 0 {
		one := line()
		switch {
		case bytes.HasPrefix(one, []byte("diff --git ")):
			file, inFile = file+1, 0
			out.diff = append(out.diff, one...)
		case bytes.Equal(one, []byte("GIT binary patch\n")):
			out.diff = append(out.diff, "Binary files differ\n"...)
			for len(rest) > 0 && !bytes.HasPrefix(rest, []byte("diff --git ")) {
				line()
			}
		case bytes.HasPrefix(one, []byte("@@ -")):
			head, ok := readHunkHead(one)
			if !ok { // whoever parses it says what is wrong
				out.diff = append(out.diff, one...)
				continue
			}
			room := max(0, min(keptOfFile-inFile, wholeLines-inAll))
			if inAll < wholeLines/2 { // as long as there is plenty, files are kept whole
				room = max(room, min(head.old+head.now, wholeLines/2-inAll))
			}
			start, kept, keptBytes := rest, 0, 0
			var keptOld, keptNew int
			old, now := head.old, head.now
			for (old > 0 || now > 0 || len(rest) > 0 && rest[0] == '\\') && len(rest) > 0 {
				keep := kept < room
				l := line()
				switch l[0] {
				case '\\': // says that the line before has no end
					if keep || kept == room && keptBytes == len(start)-len(rest)-len(l) {
						keptBytes += len(l)
					}
					continue
				case '+':
					now--
					if keep {
						keptNew++
					} else {
						out.added[file]++
					}
				case '-':
					old--
					if keep {
						keptOld++
					} else {
						out.removed[file]++
					}
				default: // context; an empty line is one too
					old, now = old-1, now-1
					if keep {
						keptOld, keptNew = keptOld+1, keptNew+1
					}
				}
				if keep {
					kept, keptBytes = kept+1, keptBytes+len(l)
				} else {
					out.lines++
				}
			}
			inFile, inAll = inFile+kept, inAll+kept
			if kept == 0 {
				out.hunks[file]++
				continue
			}
			out.diff = append(append(out.diff, head.with(keptOld, keptNew)...), start[:keptBytes]...)
		default:
			out.diff = append(out.diff, one...)
		}
	}
	return out
}

// hunk is the head of a hunk: where it begins and how many lines it has, on either side.
type hunk struct {
	oldAt, old, nowAt, now int
	behind                 []byte // what follows the second @@
}

// readHunkHead reads "@@ -1,2 +3,4 @@ heading".
func readHunkHead(line []byte) (h hunk, ok bool) {
	ranges, behind, found := bytes.Cut(bytes.TrimPrefix(line, []byte("@@ -")), []byte(" @@"))
	if !found {
		return h, false
	}
	before, after, found := bytes.Cut(ranges, []byte(" +"))
	if !found {
		return h, false
	}
	var errs [2]bool
	h.oldAt, h.old, errs[0] = readSpan(before)
	h.nowAt, h.now, errs[1] = readSpan(after)
	h.behind = behind
	return h, errs[0] && errs[1]
}

func readSpan(text []byte) (at, count int, ok bool) {
	first, second, has := bytes.Cut(text, []byte(","))
	at, err := strconv.Atoi(string(first))
	if count = 1; err == nil && has {
		count, err = strconv.Atoi(string(second))
	}
	return at, count, err == nil && at >= 0 && count >= 0
}

// with is the head of a hunk that has fewer lines.
func (h *hunk) with(old, now int) []byte {
	out := []byte("@@ -")
	out = strconv.AppendInt(out, int64(h.oldAt), 10)
	out = strconv.AppendInt(append(out, ','), int64(old), 10)
	out = strconv.AppendInt(append(out, " +"...), int64(h.nowAt), 10)
	out = strconv.AppendInt(append(out, ','), int64(now), 10)
	return append(append(out, " @@"...), h.behind...)
}
