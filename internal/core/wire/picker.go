package wire

import (
	"bytes"
	"encoding/json"
	"strconv"
)

// The most that is kept of a key and of a value, in bytes. A longer key matches
// no pointer; a longer text is cut, a longer number is no number.
const (
	maxKey   = 256
	maxValue = 4096
)

// scalar is a value that a pointer leads to.
type scalar struct {
	text   string
	number bool
}

// picker finds the scalars at some pointers in JSON that comes in pieces. It
// keeps nothing but the way to where it is, so that a document of any size or
// depth costs the same; what no pointer leads to is only skipped over. It does
// not prove that the JSON is right: it stops at the first byte that makes no
// sense, and what was found before counts.
//
// Several documents may follow each other, as in JSON Lines.
type picker struct {
	root  *trie
	found func(mark, scalar)
	// done is called at the end of each whole document.
	done func()

	frames []frame // the way to here, as far as a pointer may still match
	skip   int     // open brackets below a place that no pointer leads to
	state  state
	bad    bool

	// Of the string or word that is being read:
	buf     []byte
	cut     bool
	escaped bool // behind a backslash
	escapes bool // there was one
	wanted  *trie
}

type frame struct {
	at    *trie
	array bool
	index int
	// each is set for a list at the top: every entry is a document by itself, as
	// some services stream.
	each bool
}

type state uint8

const (
	wantValue state = iota
	wantKeyOrEnd
	wantKey
	inKey
	wantColon
	inString
	inWord // a number, true, false or null
	wantCommaOrEnd
	inSkippedString
)

func newPicker(root *trie, found func(mark, scalar), done func()) *picker {
	return &picker{root: root, found: found, done: done}
}

// reset forgets where it is; the next byte begins a document.
func (p *picker) reset() {
	p.frames, p.skip, p.state, p.bad = p.frames[:0], 0, wantValue, false
	p.buf = p.buf[:0]
}

// whole tells whether it stands between two documents.
func (p *picker) whole() bool {
	return !p.bad && p.skip == 0 && len(p.frames) == 0 && p.state == wantValue
}

func (p *picker) write(b []byte) {
	for len(b) > 0 && !p.bad {
		switch {
		case p.state == inSkippedString:
			b = p.skipString(b)
		case p.skip > 0:
			b = p.skipOver(b)
		case p.state == inKey || p.state == inString:
			b = p.readString(b)
		default:
			c := b[0]
			if p.state == inWord {
				if isWord(c) {
					p.keep(c)
					b = b[1:]
					continue
				}
				p.endWord()
			}
			b = b[1:]
			if c != ' ' && c != '\n' && c != '\t' && c != '\r' {
				p.step(c)
			}
		}
	}
}

func isWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c == '-' || c == '+' || c == '.' || c == 'E'
}

// here is what a value at this place may match; nil for nothing.
func (p *picker) here() *trie {
	if len(p.frames) == 0 {
		return p.root
	}
	f := &p.frames[len(p.frames)-1]
	if f.each {
		return p.root
	}
	if f.array {
		return f.at.at(strconv.Itoa(f.index))
	}
	return p.wanted
}

func (p *picker) step(c byte) {
	switch p.state {
	case wantValue:
		p.value(c)
	case wantKeyOrEnd, wantKey:
		switch {
		case c == '"':
			p.begin(inKey)
		case c == '}' && p.state == wantKeyOrEnd:
			p.close()
		default:
			p.bad = true
		}
	case wantColon:
		p.bad = c != ':'
		p.state = wantValue
	case wantCommaOrEnd:
		f := &p.frames[len(p.frames)-1]
		switch {
		case c == ',' && f.array:
			f.index++
			p.state = wantValue
		case c == ',':
			p.state = wantKey
		case c == ']' && f.array, c == '}' && !f.array:
			p.close()
		default:
			p.bad = true
		}
	}
}

func (p *picker) value(c byte) {
	at := p.here()
	switch {
	case c == '{' || c == '[':
		if at == nil || at.next == nil {
			p.skip, p.state = 1, wantCommaOrEnd
			return
		}
		p.frames = append(p.frames, frame{at: at, array: c == '[', each: c == '[' && len(p.frames) == 0 && at.at("0") == nil})
		p.state = wantKeyOrEnd
		if c == '[' {
			p.state = wantValue // an empty list ends below
		}
	case c == ']' && len(p.frames) > 0 && p.frames[len(p.frames)-1].array && p.frames[len(p.frames)-1].index == 0:
		p.close()
	case c == '"' && (at == nil || len(at.marks) == 0):
		p.state, p.escaped = inSkippedString, false
	case c == '"':
		p.wanted = at
		p.begin(inString)
	case isWord(c):
		p.wanted = at
		p.begin(inWord)
		p.keep(c)
	default:
		p.bad = true
	}
}

func (p *picker) begin(s state) {
	p.state, p.buf, p.cut, p.escaped, p.escapes = s, p.buf[:0], false, false, false
}

func (p *picker) keep(c byte) {
	if len(p.buf) < maxValue {
		p.buf = append(p.buf, c)
	} else {
		p.cut = true
	}
}

// after is what follows the end of a value.
func (p *picker) after() {
	p.state = wantCommaOrEnd
	switch {
	case len(p.frames) == 0:
		p.state = wantValue
		p.done()
	case len(p.frames) == 1 && p.frames[0].each:
		p.done()
	}
}

func (p *picker) close() {
	p.frames = p.frames[:len(p.frames)-1]
	p.after()
}

func (p *picker) endWord() {
	if at := p.wanted; at != nil && !p.cut && len(p.buf) < 64 {
		number := p.buf[0] == '-' || p.buf[0] >= '0' && p.buf[0] <= '9'
		for _, m := range at.marks {
			p.found(m, scalar{string(p.buf), number})
		}
	}
	p.after()
}

// finish is called when no more comes: a number at the very end has ended then.
func (p *picker) finish() {
	if p.state == inWord && p.skip == 0 && !p.bad && len(p.frames) == 0 {
		p.endWord()
	}
}

func (p *picker) readString(b []byte) []byte {
	for i, c := range b {
		switch {
		case p.escaped:
			p.escaped = false
		case c == '\\':
			p.escaped, p.escapes = true, true
		case c == '"':
			p.keepAll(b[:i])
			p.endString()
			return b[i+1:]
		}
	}
	p.keepAll(b)
	return nil
}

func (p *picker) keepAll(b []byte) {
	n := min(len(b), maxValue-len(p.buf))
	p.buf = append(p.buf, b[:n]...)
	p.cut = p.cut || n < len(b)
}

func (p *picker) endString() {
	if p.state == inKey && !p.escapes { // the usual case, without a copy
		p.wanted = nil
		if len(p.buf) <= maxKey {
			p.wanted = p.frames[len(p.frames)-1].at.at(string(p.buf))
		}
		p.state = wantColon
		return
	}
	text := string(p.buf)
	if p.escapes && !p.cut {
		if json.Unmarshal([]byte(`"`+text+`"`), &text) != nil {
			p.bad = true
			return
		}
	}
	if p.state == inString {
		for _, m := range p.wanted.marks {
			p.found(m, scalar{text: text})
		}
		p.after()
		return
	}
	p.wanted = nil
	if len(text) <= maxKey {
		p.wanted = p.frames[len(p.frames)-1].at.at(text)
	}
	p.state = wantColon
}

func (p *picker) skipString(b []byte) []byte {
	for len(b) > 0 {
		if p.escaped {
			p.escaped = false
			b = b[1:]
			continue
		}
		i := bytes.IndexByte(b, '"')
		if i < 0 {
			i = len(b)
		}
		if j := bytes.IndexByte(b[:i], '\\'); j >= 0 {
			p.escaped = true
			b = b[j+1:]
			continue
		}
		if i == len(b) {
			return nil
		}
		b = b[i+1:]
		if p.skip > 0 {
			p.state = wantCommaOrEnd
		} else {
			p.after()
		}
		return b
	}
	return nil
}

// skipOver counts brackets until the place that was skipped ends.
func (p *picker) skipOver(b []byte) []byte {
	for i, c := range b {
		switch c {
		case '"':
			p.state, p.escaped = inSkippedString, false
			return b[i+1:]
		case '{', '[':
			p.skip++
		case '}', ']':
			if p.skip--; p.skip == 0 {
				p.after()
				return b[i+1:]
			}
		}
	}
	return nil
}
