package patch

import (
	"fmt"

	"agonometer/internal/core/lex"
)

const (
	// minRepeat is from how many tokens on a stretch counts as repeated, minRepeatLines from how many lines.
	minRepeat      = 60
	minRepeatLines = 5
	window         = 30
	// maxCounted is how long a file may be, in tokens, in which it is counted how often what
	// is repeated stood before.
	maxCounted = 1_000_000
	// every is how far apart the windows are that an index holds: each stretch of
	// minRepeat tokens holds one of them.
	every = minRepeat - window + 1
)

// Index are stretches of a repository's code, by what they look like without names
// and literals. It is built once for a start.
type Index struct {
	files []string
	at    map[uint64]place
	// Seen counts files, and Tokens what was read of them.
	Seen, Tokens int
}

type place struct {
	file, token int32
}

// NewIndex starts an index; add the files to it in a fixed order.
func NewIndex() *Index { return &Index{at: map[uint64]place{}} }

// Indexed tells whether an index would take a file of this name, so that others need not be read.
func Indexed(name string) bool {
	lang := lex.Of(name, nil)
	return lang.Blocks != lex.NoBlocks && classOf(name, lang, "", nil) == ClassCode
}

// Add takes a file of the repository in; tests, generated files and data are left out by the caller.
func (x *Index) Add(name string, src []byte) {
	lang := lex.Of(name, src)
	if lang.Blocks == lex.NoBlocks || !isText(src) || len(src) > 1<<20 || classOf(name, lang, string(src[:min(len(src), 2000)]), nil) != ClassCode {
		return
	}
	t := lex.New(lang, src)
	shape, _ := shapeOf(t)
	file := int32(len(x.files))
	x.files = append(x.files, name)
	x.Seen++
	x.Tokens += len(shape)
	hashes(shape, func(i int, h uint64) {
		if i%every == 0 {
			if _, there := x.at[h]; !there {
				x.at[h] = place{file, int32(i)}
			}
		}
	})
}

// shapeOf are a text's tokens without comments, names and literals made alike; from
// which lines they are.
func shapeOf(t *lex.Text) (shape []byte, lines []int32) {
	shape = make([]byte, 0, len(t.Tokens))
	lines = make([]int32, 0, len(t.Tokens))
	for _, k := range t.Tokens {
		c := byte('l')
		switch k.Kind {
		case lex.Comment:
			continue
		case lex.Word:
			c = 'n'
			if word := t.Of(k); t.Lang.Keyword(word) {
				c = 0x80 // a number of its own for each keyword
				for _, b := range word {
					c = c*31 + b
				}
				c |= 0x80
			}
		case lex.Punct:
			c = t.Src[k.Start]
		}
		shape, lines = append(shape, c), append(lines, k.Line)
	}
	return shape, lines
}

// hashes calls for each window of tokens, with a hash that rolls over them.
func hashes(shape []byte, each func(i int, h uint64)) {
	const base = 0x100000001b3
	var pow, h uint64 = 1, 0
	for range window - 1 {
		pow *= base
	}
	for i, c := range shape {
		if i >= window {
			h -= (uint64(shape[i-window]) + 1) * pow
		}
		h = h*base + uint64(c) + 1
		if i >= window-1 {
			each(i-window+1, h)
		}
	}
}

// stretch is a text as a row of shapes.
type stretch struct {
	shape []byte
	lines []int32
}

// repetition is added code that stands in the repository already, or several times in
// the change. It needs an index of the start for the first.
func (w *work) repetition() {
	if w.in.Index == nil {
		w.absent("repeated_lines", "the start repository was not indexed")
		return
	}
	var files []*change
	var texts []stretch
	touched := map[string]bool{}
	for _, c := range w.files {
		touched[c.Path], touched[c.OldPath] = true, true
		if c.after == nil || c.class != ClassCode || c.lang.Blocks == lex.NoBlocks {
			continue
		}
		files, texts = append(files, c), append(texts, stretchOf(c.after.Text))
	}
	start := map[string]*stretch{} // files of the start that were read again
	read := func(name string) *stretch {
		if s, known := start[name]; known || len(start) > 500 {
			return s
		}
		src := w.in.Read(Before, name)
		s := stretchOf(lex.New(lex.Of(name, src), src))
		start[name] = &s
		return &s
	}
	// stays is what the change left as it was in the files that it touches, own what it added.
	stays, own := map[uint64]place{}, map[uint64]place{}
	freshIn := func(f int) func(i int) bool {
		return func(i int) bool {
			n := int(texts[f].lines[i])
			return files[f].after.touched[n] && !files[f].after.moved[n]
		}
	}
	for f := range files {
		fresh := freshIn(f)
		hashes(texts[f].shape, func(i int, h uint64) {
			if _, there := stays[h]; !there && i%every == 0 && !fresh(i) && !fresh(i+window-1) {
				stays[h] = place{int32(f), int32(i)}
			}
		})
	}
	repeated := 0
	for f, c := range files {
		mine, fresh := texts[f], freshIn(f)
		var more map[uint64]int // how much oftener each window stands in the file now
		oftener := func(h uint64) bool {
			if len(mine.shape) > maxCounted {
				return true
			}
			if more == nil {
				more = map[uint64]int{}
				hashes(mine.shape, func(_ int, h uint64) { more[h]++ })
				if c.before != nil {
					hashes(stretchOf(c.before.Text).shape, func(_ int, h uint64) { more[h]-- })
				}
			}
			return more[h] > 0
		}
		until := 0 // what lies before is told already
		hashes(mine.shape, func(i int, h uint64) {
			if i < until || !fresh(i) || !fresh(i+window-1) {
				return
			}
			var from, to int
			var other Place
			there, elsewhere := w.in.Index.at[h]
			elsewhere = elsewhere && !touched[w.in.Index.files[there.file]]
			var near [2]place // where it stands in the files of the change
			known := 0
			if p, ok := stays[h]; ok {
				near[known], known = p, known+1
			}
			if p, ok := own[h]; ok {
				near[known], known = p, known+1
			} else if i%7 == 0 {
				own[h] = place{int32(f), int32(i)}
			}
			if !elsewhere && known == 0 || !oftener(h) { // what stood there as often was only written anew
				return
			}
			if elsewhere {
				if theirs := read(w.in.Index.files[there.file]); theirs != nil {
					var at int
					from, to, at = along(mine, i, until, *theirs, int(there.token), fresh, -1)
					other = Place{Side: Before, Path: w.in.Index.files[there.file], Line: lineAt(*theirs, at), End: lineAt(*theirs, at+to-from-1)}
				}
			}
			for _, p := range near[:known] {
				if to-from >= minRepeat {
					break
				}
				apart := -1
				if int(p.file) == f && i > int(p.token) {
					apart = i - int(p.token)
				}
				var at int
				from, to, at = along(mine, i, until, texts[p.file], int(p.token), fresh, apart)
				other = Place{Side: After, Path: files[p.file].Path, Line: lineAt(texts[p.file], at), End: lineAt(texts[p.file], at+to-from-1)}
			}
			first, last := lineAt(mine, from), lineAt(mine, to-1)
			if to-from < minRepeat {
				return
			}
			until = to // whatever comes of it, this stretch was looked at
			if last-first+1 < minRepeatLines || plainData(mine.shape[from:to]) {
				return
			}
			for n := first; n <= last; n++ {
				if c.after.touched[n] {
					repeated++
				}
			}
			w.found(Finding{Measure: "repetition", Kind: "block", Place: Place{Side: After, Path: c.Path, Line: first, End: last}, Text: string(c.after.Line(first)),
				Why: fmt.Sprintf("%d tokens that stand elsewhere too, but for names and values", to-from), Other: &other})
		})
	}
	w.figure("repeated_lines", float64(repeated))
}

func stretchOf(t *lex.Text) stretch {
	shape, lines := shapeOf(t)
	return stretch{shape, lines}
}

func lineAt(s stretch, i int) int {
	if len(s.lines) == 0 {
		return 0
	}
	return int(s.lines[min(max(i, 0), len(s.lines)-1)])
}

// along is how far two rows are the same around i in mine and at in theirs, and where it
// begins in theirs. Only fresh tokens behind least count. apart is how far the two places
// are from each other where the rows are the same one, so that they do not overlap; else -1.
func along(mine stretch, i, least int, theirs stretch, at int, fresh func(int) bool, apart int) (from, to, start int) {
	from, to = i, i
	for to < len(mine.shape) && at+to-i < len(theirs.shape) && mine.shape[to] == theirs.shape[at+to-i] && fresh(to) && (apart < 0 || to-i < apart) {
		to++
	}
	for from > least && at-(i-from) > 0 && mine.shape[from-1] == theirs.shape[at-(i-from)-1] && fresh(from-1) && (apart < 0 || to-from < apart) {
		from--
	}
	return from, to, at - (i - from)
}

// plainData tells that a stretch is a table of values rather than code: it repeats by nature.
func plainData(shape []byte) bool {
	calls, values := 0, 0
	seen := map[byte]bool{}
	for _, c := range shape {
		seen[c] = true
		switch {
		case c == '(' || c >= 0x80:
			calls++
		case c == 'l' || c == ',' || c == ':' || c == '{' || c == '}' || c == '[' || c == ']':
			values++
		}
	}
	return len(seen) < 8 || values*10 > len(shape)*6 || calls*20 < len(shape)
}
