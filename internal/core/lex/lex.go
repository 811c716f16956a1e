// Package lex takes source text of many languages apart into words, numbers,
// strings, comments and punctuation, and finds the declarations in it.
//
// It is made for measuring changes: one pass, linear in time whatever the input
// is, no allocation but the list of tokens, and never an error. Text that is not
// of the language, is cut off or is hostile gives odd tokens, no failure. It is
// not a parser: what a macro makes or a preprocessor leaves out is not seen.
package lex

import (
	"bytes"
	"unicode/utf8"
)

// Kind is what a token is.
type Kind uint8

const (
	// Word is a name or a keyword.
	Word Kind = iota
	Number
	// String is a literal with its quotes, or the body of a here-document.
	String
	Comment
	// Punct is one character (of any length in bytes).
	Punct
)

// Token is a stretch of the text: bytes Start to End, beginning in line Line
// (from 1). A token may span several lines.
type Token struct {
	Kind       Kind
	Start, End int32
	Line       int32
	// First is set for the first token of its line.
	First bool
}

// MaxBytes is how long a text may be that Tokens takes apart; a longer one is cut.
const MaxBytes = 8 << 20

// Text is a source text with its tokens.
type Text struct {
	Lang   *Language
	Src    []byte
	Tokens []Token
	lines  []int32 // where each line begins
}

// New takes a text apart.
func New(lang *Language, src []byte) *Text {
	if len(src) > MaxBytes {
		src = src[:MaxBytes]
	}
	t := &Text{Lang: lang, Src: src, lines: make([]int32, 1, 1+bytes.Count(src, []byte{'\n'}))}
	for i, c := range src {
		if c == '\n' {
			t.lines = append(t.lines, int32(i+1))
		}
	}
	t.Tokens = scan(lang, src)
	return t
}

// Of is a token's text.
func (t *Text) Of(k Token) []byte { return t.Src[k.Start:k.End] }

// Word is the text of token i, or "" where it is none or no word.
func (t *Text) Word(i int) string {
	if i < 0 || i >= len(t.Tokens) || t.Tokens[i].Kind != Word {
		return ""
	}
	return string(t.Of(t.Tokens[i]))
}

// Is tells whether token i is this word or punctuation.
func (t *Text) Is(i int, s string) bool {
	if i < 0 || i >= len(t.Tokens) {
		return false
	}
	k := t.Tokens[i]
	return k.Kind != String && k.Kind != Comment && int(k.End-k.Start) == len(s) && string(t.Of(k)) == s
}

// Lines is how many lines the text has; a last line without a line end counts.
func (t *Text) Lines() int {
	if n := len(t.lines); n > 0 && int(t.lines[n-1]) == len(t.Src) {
		return n - 1
	}
	return len(t.lines)
}

// Line is the text of line n (from 1) without its line end; nil for none.
func (t *Text) Line(n int) []byte {
	if n < 1 || n > len(t.lines) {
		return nil
	}
	end := len(t.Src)
	if n < len(t.lines) {
		end = int(t.lines[n]) - 1
	}
	return bytes.TrimSuffix(t.Src[t.lines[n-1]:max(end, int(t.lines[n-1]))], []byte{'\r'})
}

// Last is the line in which a token ends.
func (t *Text) Last(k Token) int {
	return int(k.Line) + bytes.Count(t.Of(k), []byte{'\n'})
}

// Column is how many bytes stand before a token in its line.
func (t *Text) Column(k Token) int { return int(k.Start - t.lines[k.Line-1]) }

// LineKind is what a line holds.
type LineKind uint8

const (
	Blank LineKind = iota
	Remark
	Code
)

// Kinds tells of each line whether it is code, comment or blank; index 0 is line 1.
// A line with both is code.
func (t *Text) Kinds() []LineKind {
	kinds := make([]LineKind, len(t.lines))
	for _, k := range t.Tokens {
		kind := Code
		if k.Kind == Comment {
			kind = Remark
		}
		for n, last := int(k.Line), t.Last(k); n <= last && n <= len(kinds); n++ {
			kinds[n-1] = max(kinds[n-1], kind)
		}
	}
	return kinds
}

const (
	other byte = iota
	space
	newline
	letter
	digit
)

var classes = func() (c [256]byte) {
	for i := range c {
		switch b := byte(i); {
		case b == '\n':
			c[i] = newline
		case b == ' ' || b == '\t' || b == '\r' || b == '\f' || b == '\v' || b == 0:
			c[i] = space
		case b == '_' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= utf8.RuneSelf:
			c[i] = letter
		case b >= '0' && b <= '9':
			c[i] = digit
		}
	}
	return c
}()

type scanner struct {
	l    *Language
	src  []byte
	out  []Token
	at   int
	line int32
	// first is set until the first token of a line.
	first bool
	// code is the index of the last token that is no comment; -1 for none.
	code int
	// bodies are here-documents whose text begins with the next line.
	bodies []string
}

func scan(l *Language, src []byte) []Token {
	s := &scanner{l: l, src: src, line: 1, first: true, code: -1, out: make([]Token, 0, len(src)/5+4)}
	for s.at < len(src) {
		c := src[s.at]
		switch classes[c] {
		case newline:
			s.at++
			s.line++
			s.first = true
			if len(s.bodies) > 0 {
				s.hereBody()
			}
			continue
		case space:
			s.at++
			continue
		}
		if l.starts[c] && s.special() {
			continue
		}
		switch classes[c] {
		case letter:
			s.token(Word, s.wordEnd(s.at+1))
		case digit:
			s.token(Number, s.numberEnd(s.at+1))
		default:
			if l.wordStart(c) && s.at+1 < len(src) && (classes[src[s.at+1]] == letter || l.wordStart(src[s.at+1])) {
				s.token(Word, s.wordEnd(s.at+1))
				continue
			}
			s.token(Punct, s.at+1)
		}
	}
	return s.out
}

// token ends the present token at end.
func (s *scanner) token(kind Kind, end int) {
	s.out = append(s.out, Token{Kind: kind, Start: int32(s.at), End: int32(end), Line: s.line, First: s.first})
	if kind != Comment {
		s.code = len(s.out) - 1
	}
	if kind == String || kind == Comment {
		s.line += int32(bytes.Count(s.src[s.at:end], []byte{'\n'}))
	}
	s.at, s.first = end, false
}

func (s *scanner) wordEnd(i int) int {
	for i < len(s.src) {
		if c := classes[s.src[i]]; c != letter && c != digit && !s.l.wordPart(s.src[i]) {
			break
		}
		i++
	}
	return i
}

func (s *scanner) numberEnd(i int) int {
	for i < len(s.src) {
		c := s.src[i]
		if k := classes[c]; k == letter || k == digit || c == '.' && i+1 < len(s.src) && classes[s.src[i+1]] == digit {
			i++
			continue
		}
		break
	}
	return i
}

func (s *scanner) has(text string) bool {
	return len(s.src)-s.at >= len(text) && string(s.src[s.at:s.at+len(text)]) == text
}

// until is the end of the first text from i on, itself included, or the end of the source.
func (s *scanner) until(i int, text string) int {
	if i > len(s.src) {
		return len(s.src)
	}
	if n := bytes.Index(s.src[i:], []byte(text)); n >= 0 {
		return i + n + len(text)
	}
	return len(s.src)
}

func (s *scanner) lineEnd(i int) int {
	if n := bytes.IndexByte(s.src[i:], '\n'); n >= 0 {
		i += n
		if i > 0 && s.src[i-1] == '\r' && i-1 >= s.at {
			i--
		}
		return i
	}
	return len(s.src)
}

// special reads comments, strings and regular expressions.
func (s *scanner) special() bool {
	l := s.l
	for _, open := range l.Line {
		if !s.has(open) {
			continue
		}
		if l.spaceBefore && s.at > 0 && classes[s.src[s.at-1]] != space && classes[s.src[s.at-1]] != newline && !bytes.ContainsRune([]byte(";&|("), rune(s.src[s.at-1])) {
			continue
		}
		s.token(Comment, s.lineEnd(s.at))
		return true
	}
	for _, b := range l.Block {
		if s.has(b.open) && (!b.first || s.first) {
			s.token(Comment, s.blockEnd(b))
			return true
		}
	}
	for i := range l.Strings {
		q := &l.Strings[i]
		if !s.has(q.open) {
			continue
		}
		if q.afterEquals && (len(s.out) == 0 || s.src[s.out[len(s.out)-1].Start] != '=') {
			continue
		}
		if q.char && !s.isChar() {
			continue
		}
		end := s.stringEnd(q)
		kind := String
		if q.doc && s.first && s.statement(end) {
			kind = Comment // a text that stands alone says what the code is for
		}
		s.token(kind, end)
		return true
	}
	if l.raw && s.rawString() {
		return true
	}
	if l.regex && s.src[s.at] == '/' && s.regexHere() {
		if end := s.regexEnd(); end > 0 {
			s.token(String, end)
			return true
		}
	}
	if l.here && s.has("<<") {
		s.hereStart()
	}
	return false
}

// statement tells whether nothing but space and line comments follows in the line, and
// no operator before in the one above.
func (s *scanner) statement(end int) bool {
	for i := end; i < len(s.src); i++ {
		switch classes[s.src[i]] {
		case space:
		case newline:
			i = len(s.src)
		default:
			return s.src[i] == '#'
		}
	}
	return s.code < 0 || s.out[s.code].Kind != Punct || !bytes.ContainsRune([]byte("(,=[{+%\\"), rune(s.src[s.out[s.code].Start]))
}

func (s *scanner) blockEnd(b block) int {
	i := s.at + len(b.open)
	if !s.l.Nested {
		return s.until(i, b.close)
	}
	for depth := 1; depth > 0; {
		next := bytes.IndexAny(s.src[min(i, len(s.src)):], "/*")
		if next < 0 {
			return len(s.src)
		}
		i += next
		switch {
		case bytes.HasPrefix(s.src[i:], []byte(b.open)):
			depth++
			i += len(b.open)
		case bytes.HasPrefix(s.src[i:], []byte(b.close)):
			depth--
			i += len(b.close)
		default:
			i++
		}
	}
	return i
}

func (s *scanner) stringEnd(q *quote) int {
	i := s.at + len(q.open)
	if q.template {
		return s.templateEnd(i)
	}
	for i < len(s.src) {
		c := s.src[i]
		switch {
		case c == '\\' && q.escape:
			i++
		case c == '\n' && !q.multi:
			return s.lineEnd(s.at)
		case c == q.close[0] && bytes.HasPrefix(s.src[i:], []byte(q.close)):
			return i + len(q.close)
		}
		i++
	}
	return len(s.src)
}

// templateEnd reads to the back quote that ends a template, over ${...} with templates in it.
func (s *scanner) templateEnd(i int) int {
	var braces []int // open braces of each ${...} around here
	for ; i < len(s.src); i++ {
		switch c := s.src[i]; {
		case c == '\\':
			i++
		case c == '`':
			if n := len(braces); n == 0 || braces[n-1] < 0 {
				if n == 0 {
					return i + 1
				}
				braces = braces[:n-1] // the end of an inner template
				continue
			}
			braces = append(braces, -1) // an inner template begins
		case c == '$' && i+1 < len(s.src) && s.src[i+1] == '{' && (len(braces) == 0 || braces[len(braces)-1] < 0):
			braces = append(braces, 0)
			i++
		case c == '{' && len(braces) > 0 && braces[len(braces)-1] >= 0:
			braces[len(braces)-1]++
		case c == '}' && len(braces) > 0 && braces[len(braces)-1] >= 0:
			if braces[len(braces)-1]--; braces[len(braces)-1] < 0 {
				braces = braces[:len(braces)-1]
			}
		}
	}
	return len(s.src)
}

// isChar tells a character literal from the mark of a lifetime or a digit separator.
func (s *scanner) isChar() bool {
	rest := s.src[s.at+1:]
	if len(rest) == 0 {
		return false
	}
	if rest[0] == '\\' {
		return true
	}
	_, n := utf8.DecodeRune(rest)
	return len(rest) > n && rest[n] == '\''
}

// rawString reads r"...", r#"..."# and the like; the r was read as a word before.
func (s *scanner) rawString() bool {
	i, c := s.at, s.src[s.at]
	if c != 'r' && c != 'b' {
		return false
	}
	for i < len(s.src) && (s.src[i] == 'b' || s.src[i] == 'r') && i < s.at+2 {
		i++
	}
	if s.src[i-1] != 'r' {
		return false
	}
	hashes := 0
	for i < len(s.src) && s.src[i] == '#' && hashes < 255 {
		i++
		hashes++
	}
	if i >= len(s.src) || s.src[i] != '"' {
		return false
	}
	s.token(String, s.until(i+1, `"`+string(bytes.Repeat([]byte{'#'}, hashes))))
	return true
}

var beforeRegex = set("return typeof case in of do else void delete throw new instanceof yield await if elsif unless while until when and or not puts split match")

func (s *scanner) regexHere() bool {
	if s.code < 0 {
		return true
	}
	last := s.out[s.code]
	switch last.Kind {
	case Word:
		return beforeRegex[string(s.src[last.Start:last.End])]
	case Punct:
		c := s.src[last.Start]
		return c != ')' && c != ']' && c != '}'
	}
	return false
}

func (s *scanner) regexEnd() int {
	class := false
	for i := s.at + 1; i < len(s.src); i++ {
		switch s.src[i] {
		case '\\':
			i++
		case '\n':
			return 0
		case '[':
			class = true
		case ']':
			class = false
		case '/':
			if !class && i > s.at+1 {
				return s.wordEnd(i + 1)
			}
		}
	}
	return 0
}

// hereStart notes a here-document that begins below this line.
func (s *scanner) hereStart() {
	i := s.at + 2
	if i < len(s.src) && (s.src[i] == '-' || s.src[i] == '~') {
		i++
	}
	quoted := byte(0)
	if i < len(s.src) && (s.src[i] == '\'' || s.src[i] == '"') {
		quoted = s.src[i]
		i++
	}
	start := i
	for i < len(s.src) && (classes[s.src[i]] == letter || classes[s.src[i]] == digit) {
		i++
	}
	if i == start || classes[s.src[start]] == digit || quoted != 0 && (i >= len(s.src) || s.src[i] != quoted) || len(s.bodies) > 8 {
		return
	}
	if quoted == 0 && s.l.hereUpper && (s.src[start] < 'A' || s.src[start] > 'Z') {
		return // x <<y shifts
	}
	s.bodies = append(s.bodies, string(s.src[start:i]))
}

// hereBody reads the here-documents that begin in this line.
func (s *scanner) hereBody() {
	for _, word := range s.bodies {
		i := s.at
		for i < len(s.src) {
			end := i + bytes.IndexByte(s.src[i:], '\n')
			if end < i {
				end = len(s.src)
			}
			if string(bytes.TrimSpace(s.src[i:end])) == word {
				break
			}
			i = min(end+1, len(s.src))
		}
		if i > s.at {
			s.token(String, i)
			s.first = true
		}
		// the word that ends it is read as a word
		if s.at < len(s.src) {
			end := s.lineEnd(s.at)
			s.token(Word, end)
			if s.at < len(s.src) && s.src[s.at] == '\r' {
				s.at++
			}
			if s.at < len(s.src) {
				s.at++
				s.line++
				s.first = true
			}
		}
	}
	s.bodies = s.bodies[:0]
}
