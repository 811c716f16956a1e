package lex

import (
	"bytes"
	"regexp"
	"strings"
)

// DeclKind is what is declared.
type DeclKind string

const (
	Function DeclKind = "function"
	Type     DeclKind = "type"
	Value    DeclKind = "value"
	// Extension is a block that adds functions to a type declared elsewhere.
	Extension DeclKind = "extension"
	// Case is a test, by the way in which tests are written in the language.
	Case DeclKind = "test"
)

// Decl is a declaration: lines Line to End, tokens From to To (To not included).
type Decl struct {
	Kind DeclKind
	// Name is what others call it by; of a method it is Owner.Name where the owner is known.
	Name  string
	Owner string
	// Exported tells whether other files of another package may use it.
	Exported bool
	// Skipped is set for a test that is marked as not to be run.
	Skipped   bool
	Line, End int
	From, To  int
	// Body is the first token of the body; From for none.
	Body int
}

// Full is the name with its owner's.
func (d *Decl) Full() string {
	if d.Owner != "" {
		return d.Owner + "." + d.Name
	}
	return d.Name
}

var opposite = map[byte]byte{')': '(', ']': '[', '}': '{'}

// pairs tells of each bracket where its other half is; -1 for none.
func (t *Text) pairs() []int32 {
	out := make([]int32, len(t.Tokens))
	var open []int32
	for i, k := range t.Tokens {
		out[i] = -1
		if k.Kind != Punct {
			continue
		}
		switch c := t.Src[k.Start]; c {
		case '(', '[', '{':
			open = append(open, int32(i))
		case ')', ']', '}':
			// What is not closed inside is given up: text that is cut off, or a macro.
			for n := len(open) - 1; n >= 0 && n >= len(open)-4; n-- {
				if t.Src[t.Tokens[open[n]].Start] == opposite[c] {
					out[i], out[open[n]] = open[n], int32(i)
					open = open[:n]
					break
				}
			}
		}
	}
	return out
}

// Outline lists the declarations of a text in their order.
func (t *Text) Outline() []Decl {
	o := &outliner{Text: t}
	if t.Lang.Blocks != NoBlocks {
		o.find()
	}
	return o.out
}

type outliner struct {
	*Text
	pair []int32
	out  []Decl
	// exports are names that a text exports apart from their declarations.
	exports map[string]bool
	private bool
}

var control = set("if for while switch catch return new else do synchronized using lock foreach fixed sizeof typeof match unless until elif elsif except with and or not in assert await yield throw delete defer go select case when function fn func fun def super this lambda")

func (o *outliner) find() {
	o.pair = o.pairs()
	o.exports = map[string]bool{}
	typeEnds := []int{} // ends of the types around
	owners := []string{}
	for i := 0; i < len(o.Tokens); i++ {
		for len(typeEnds) > 0 && i >= typeEnds[len(typeEnds)-1] {
			typeEnds, owners = typeEnds[:len(typeEnds)-1], owners[:len(owners)-1]
		}
		if o.Tokens[i].Kind != Word {
			continue
		}
		owner := ""
		if len(owners) > 0 {
			owner = owners[len(owners)-1]
		}
		n := len(o.out)
		o.at(i, owner)
		for _, d := range o.out[n:] {
			if (d.Kind == Type || d.Kind == Extension) && d.To > i+1 {
				typeEnds, owners = append(typeEnds, d.To), append(owners, d.Name)
			}
		}
	}
	for i := range o.out {
		d := &o.out[i]
		d.Exported = d.Kind != Case && (d.Exported || o.exports[d.Name] && o.Column(o.Tokens[d.From]) == 0)
	}
}

// at looks whether a declaration begins at word i.
func (o *outliner) at(i int, owner string) {
	w := o.Word(i)
	switch o.Lang.style {
	case goStyle:
		o.goAt(i, w)
	case scriptStyle:
		o.scriptAt(i, w, owner)
	case pythonStyle:
		switch w {
		case "def":
			if o.first(i, "async") {
				o.indented(i, Function, owner)
			}
		case "class":
			if o.first(i, "") {
				o.indented(i, Type, "")
			}
		}
	case rubyStyle:
		o.rubyAt(i, w, owner)
	case rustStyle:
		o.rustAt(i, w, owner)
	case shellStyle:
		switch {
		case w == "function" && o.Tokens[i].First && o.Word(i+1) != "":
			o.braced(i, i+1, Function, "", false)
		case o.Tokens[i].First && o.Is(i+1, "(") && o.Is(i+2, ")") && o.Is(i+3, "{"):
			o.braced(i, i, Function, "", false)
		case w == "test" && o.Is(i-1, "@") && i+1 < len(o.Tokens) && o.Tokens[i+1].Kind == String:
			o.named(i-1, i+1, o.open(i+2, i+6), false)
		}
	case phpStyle, keywordStyle:
		switch {
		case (w == "function" || w == "fun" || w == "func") && o.Word(i+1) != "" && o.callable(i+1):
			k := Function
			if strings.HasPrefix(o.Word(i+1), "test") && owner != "" || o.annotated(i, "Test") {
				k = Case
			}
			o.braced(i, i+1, k, owner, !o.modified(i, "private", "fileprivate", "internal", "protected"))
		case typeWords[w] && o.Word(i+1) != "" && !o.Is(i-1, "."):
			o.braced(i, i+1, Type, "", !o.modified(i, "private", "fileprivate", "internal"))
		}
	case typedStyle:
		o.typedAt(i, w, owner)
	}
}

var typeWords = set("class interface enum struct trait protocol record object union namespace")

// callable tells whether a parameter list follows name i, type parameters included.
func (o *outliner) callable(i int) bool {
	if o.Is(i+1, "(") {
		return true
	}
	if o.Is(i+1, "<") || o.Is(i+1, "[") {
		for j := i + 2; j < min(i+40, len(o.Tokens)); j++ {
			if o.Is(j, ">") || o.Is(j, "]") {
				return o.Is(j+1, "(")
			}
		}
	}
	return false
}

// open is the first opening brace from i on, at most to limit, over parentheses; -1 for none.
func (o *outliner) open(i, limit int) int {
	for ; i < min(limit, len(o.Tokens)); i++ {
		switch {
		case o.Is(i, "{"):
			return i
		case o.Is(i, ";"), o.Is(i, "}"):
			return -1
		case (o.Is(i, "(") || o.Is(i, "[")) && o.pair[i] > int32(i):
			limit += int(o.pair[i]) - i
			i = int(o.pair[i])
		}
	}
	return -1
}

// add notes a declaration from token from to the brace at open and its other half;
// without one it ends with its line.
func (o *outliner) add(from int, d Decl, open int) {
	d.From, d.Body, d.Line = from, from, int(o.Tokens[from].Line)
	d.To, d.End = from+1, d.Line
	if open >= 0 {
		d.Body = open
		if p := o.pair[open]; p > int32(open) {
			d.To, d.End = int(p)+1, int(o.Tokens[p].Line)
		} else {
			d.To, d.End = len(o.Tokens), o.Lines()
		}
	} else {
		for d.To < min(len(o.Tokens), from+400) && int(o.Tokens[d.To].Line) == d.Line {
			d.To++
		}
	}
	o.out = append(o.out, d)
}

// braced adds the declaration of name, whose body is the next block, if it has one.
func (o *outliner) braced(from, name int, kind DeclKind, owner string, exported bool) {
	open := o.open(name+1, name+60)
	if open < 0 && kind != Type {
		return
	}
	o.add(from, Decl{Kind: kind, Name: o.Word(name), Owner: owner, Exported: exported}, open)
}

// named adds a test that is called by a text.
func (o *outliner) named(from, text, open int, skipped bool) {
	if open < 0 {
		return
	}
	name := strings.Trim(string(o.Of(o.Tokens[text])), "\"'`")
	o.add(from, Decl{Kind: Case, Name: name, Skipped: skipped}, open)
}

func (o *outliner) goAt(i int, w string) {
	top := o.Tokens[i].First && o.Column(o.Tokens[i]) == 0
	upper := func(s string) bool { return s != "" && s[0] >= 'A' && s[0] <= 'Z' }
	switch {
	case w == "func" && top:
		name, owner := i+1, ""
		if o.Is(name, "(") && o.pair[name] > 0 {
			for j := int(o.pair[name]) - 1; j > name; j-- {
				if r := o.Word(j); r != "" && (o.Is(j-1, "*") || o.Word(j-1) != "" || o.Is(j-1, "(")) {
					owner = r
					break
				}
			}
			name = int(o.pair[name]) + 1
		}
		if o.Word(name) == "" {
			return
		}
		open := name + 1
		for limit := name + 400; ; open++ {
			if open = o.open(open, limit); open < 0 {
				return
			}
			if !o.Is(open-1, "interface") && !o.Is(open-1, "struct") {
				break
			}
			if open = int(o.pair[open]); open < 0 {
				return
			}
		}
		d := Decl{Kind: Function, Name: o.Word(name), Owner: owner, Exported: upper(o.Word(name)) && (owner == "" || upper(owner))}
		if owner == "" {
			for _, p := range []string{"Test", "Fuzz", "Example"} {
				if rest, ok := strings.CutPrefix(d.Name, p); ok && d.Name != "TestMain" && (rest == "" || !(rest[0] >= 'a' && rest[0] <= 'z')) {
					d.Kind = Case
				}
			}
		}
		o.add(i, d, open)
	case (w == "type" || w == "var" || w == "const") && top:
		kind := Value
		if w == "type" {
			kind = Type
		}
		if !o.Is(i+1, "(") {
			if o.Word(i+1) != "" {
				o.add(i, Decl{Kind: kind, Name: o.Word(i + 1), Exported: upper(o.Word(i + 1))}, o.sameLine(i+2))
			}
			return
		}
		for j := i + 2; j < int(o.pair[i+1]); j++ {
			if o.Tokens[j].First && o.Word(j) != "" {
				o.add(j, Decl{Kind: kind, Name: o.Word(j), Exported: upper(o.Word(j))}, o.sameLine(j+1))
			}
			if (o.Is(j, "{") || o.Is(j, "(") || o.Is(j, "[")) && o.pair[j] > int32(j) {
				j = int(o.pair[j])
			}
		}
	}
}

// sameLine is the first opening brace that stands in the line of token i-1; -1 for none.
func (o *outliner) sameLine(i int) int {
	limit := i + 400
	for line := o.Tokens[i-1].Line; i < min(len(o.Tokens), limit) && o.Tokens[i].Line == line; i++ {
		if o.Is(i, "{") {
			return i
		}
	}
	return -1
}

var testCalls = set("test it specify xit xtest fit")

func (o *outliner) scriptAt(i int, w, owner string) {
	exported := func(from int) bool {
		for j := from - 1; j >= max(0, from-3); j-- {
			switch o.Word(j) {
			case "export":
				return true
			case "default", "async", "declare", "abstract":
			default:
				return false
			}
		}
		return false
	}
	top := o.Column(o.Tokens[i]) == 0 || exported(i)
	switch {
	case w == "function":
		name := i + 1
		if o.Is(name, "*") {
			name++
		}
		if o.Word(name) != "" && o.callable(name) && !o.Is(i-1, "=") && !o.Is(i-1, "(") && !o.Is(i-1, ":") {
			o.braced(i, name, Function, "", exported(i))
		}
	case (w == "class" || w == "interface" || w == "enum") && o.Word(i+1) != "" && !o.Is(i-1, ".") && !o.Lang.Keyword([]byte(o.Word(i+1))):
		o.braced(i, i+1, Type, "", exported(i))
	case (w == "const" || w == "let" || w == "var") && o.Word(i+1) != "":
		eq := i + 2
		if o.Is(eq, ":") { // a type
			for eq < min(i+30, len(o.Tokens)) && !o.Is(eq, "=") && !o.Is(eq, ";") {
				eq++
			}
		}
		if !o.Is(eq, "=") {
			return
		}
		if body := o.functionValue(eq + 1); body >= 0 {
			o.add(i, Decl{Kind: Function, Name: o.Word(i + 1), Exported: exported(i)}, body)
		} else if top {
			o.add(i, Decl{Kind: Value, Name: o.Word(i + 1), Exported: exported(i)}, o.sameLine(eq+1))
		}
	case w == "type" && o.Lang.Name == "TypeScript" && o.Tokens[i].First && o.Word(i+1) != "" && (o.Is(i+2, "=") || o.Is(i+2, "<")), w == "type" && exported(i) && o.Word(i+1) != "":
		o.add(i, Decl{Kind: Type, Name: o.Word(i + 1), Exported: exported(i)}, o.sameLine(i+2))
	case w == "export" && o.Is(i+1, "{") && o.pair[i+1] > 0:
		o.exportList(i+2, int(o.pair[i+1]))
	case w == "exports" && o.Is(i-1, ".") && o.Word(i-2) == "module" && o.Is(i+1, "="):
		if o.Is(i+2, "{") && o.pair[i+2] > 0 {
			o.exportList(i+3, int(o.pair[i+2]))
		} else {
			o.exports[o.Word(i+2)] = true
		}
	case w == "exports" && o.Is(i+1, ".") && o.Is(i+3, "=") && !o.Is(i+4, "="):
		name := o.Word(i + 2)
		o.exports[name] = true
		if body := o.functionValue(i + 4); body >= 0 {
			o.add(i, Decl{Kind: Function, Name: name, Exported: true}, body)
		}
	case testCalls[w] && !o.Is(i-1, ".") && i+1 < len(o.Tokens):
		call, skipped := i+1, w[0] == 'x'
		for o.Is(call, ".") {
			switch o.Word(call + 1) {
			case "skip", "todo":
				skipped = true
			case "only", "each", "concurrent", "serial", "failing":
			default:
				return // it calls something of that name
			}
			call += 2
		}
		if o.Is(call, "(") && call+1 < len(o.Tokens) && o.Tokens[call+1].Kind == String && o.pair[call] > int32(call) {
			if end := int(o.pair[call]); o.Is(call+2, ",") || end == call+2 {
				d := Decl{Kind: Case, Name: strings.Trim(string(o.Of(o.Tokens[call+1])), "\"'`"), Skipped: skipped || end == call+2}
				if o.Is(call+3, "{") && o.pair[call+3] > 0 { // options
					for j := call + 4; j < int(o.pair[call+3]); j++ {
						if o.Word(j) == "skip" && j+2 < len(o.Tokens) { // on no condition
							d.Skipped = d.Skipped || o.Is(j+2, "true") || o.Tokens[j+2].Kind == String
						}
					}
				}
				o.add(i, d, call)
			}
		}
	case owner != "" && o.Is(i+1, "(") && !control[w] && o.pair[i+1] > 0 && o.beginsMember(i):
		after := int(o.pair[i+1]) + 1
		if o.Is(after, ":") { // the type that it returns
			for n := 0; n < 12 && after < len(o.Tokens) && !o.Is(after, "{") && !o.Is(after, ";"); n++ {
				after++
			}
		}
		if o.Is(after, "{") {
			o.add(i, Decl{Kind: Function, Name: w, Owner: owner}, after)
		}
	}
}

// beginsMember tells whether a member of a class may begin with word i: in an expression,
// such as a ? f(x) : {}, it does not.
func (o *outliner) beginsMember(i int) bool {
	return o.Tokens[i].First && !o.Is(i-1, "=") && !o.Is(i-1, "?") || o.Is(i-1, "{") || o.Is(i-1, "}") || o.Is(i-1, ";") || o.Is(i-1, "*") || memberWords[o.Word(i-1)]
}

var memberWords = set("static async get set public private protected override readonly abstract")

// functionValue is the brace of a function's body that begins at i; -1 for no function.
func (o *outliner) functionValue(i int) int {
	if o.Is(i, "async") {
		i++
	}
	if o.Is(i, "function") {
		return o.open(i+1, i+60)
	}
	arrow := -1
	if o.Is(i, "(") && o.pair[i] > int32(i) {
		arrow = int(o.pair[i]) + 1
		if o.Is(arrow, ":") {
			for n := 0; n < 20 && arrow < len(o.Tokens) && !o.Is(arrow, "="); n++ {
				arrow++
			}
		}
	} else if o.Word(i) != "" {
		arrow = i + 1
	}
	if arrow < 0 || !o.Is(arrow, "=") || !o.Is(arrow+1, ">") {
		return -1
	}
	if o.Is(arrow+2, "{") || o.Is(arrow+2, "(") {
		return arrow + 2
	}
	return -1
}

func (o *outliner) exportList(i, end int) {
	for ; i < end; i++ {
		if w := o.Word(i); w != "" && w != "as" {
			o.exports[w] = true
		} else if (o.Is(i, "{") || o.Is(i, "(") || o.Is(i, "[")) && int(o.pair[i]) > i {
			i = int(o.pair[i]) // what a value holds is not exported
		}
	}
}

// first tells whether word i begins its line, or stands behind one word that does.
func (o *outliner) first(i int, before string) bool {
	return o.Tokens[i].First || before != "" && o.Is(i-1, before) && o.Tokens[i-1].First
}

// indented adds a declaration whose body are the lines below that are indented more.
func (o *outliner) indented(i int, kind DeclKind, owner string) {
	name := o.Word(i + 1)
	if name == "" {
		return
	}
	from := i
	if !o.Tokens[i].First {
		from--
	}
	column := o.Column(o.Tokens[from])
	if column == 0 {
		owner = ""
	}
	d := Decl{Kind: kind, Name: name, Owner: owner, From: from, Line: int(o.Tokens[from].Line), Exported: name[0] != '_' && column == 0}
	d.Body, d.To = i+2, i+2
	depth := 0
	for ; d.To < len(o.Tokens); d.To++ {
		k := o.Tokens[d.To]
		if k.First && depth <= 0 && k.Kind != Comment && o.Column(k) <= column && int(k.Line) > d.Line {
			break
		}
		if k.Kind == Punct {
			switch o.Src[k.Start] {
			case '(', '[', '{':
				depth++
			case ')', ']', '}':
				depth--
			}
		}
	}
	for d.To > d.Body && o.Tokens[d.To-1].Kind == Comment && o.Column(o.Tokens[d.To-1]) <= column {
		d.To--
	}
	d.End = o.Last(o.Tokens[d.To-1])
	if kind == Function && strings.HasPrefix(name, "test") {
		d.Kind = Case
		d.Skipped = o.decorated(from, leftOut)
	}
	o.out = append(o.out, d)
}

// leftOut marks a test that is never run; skipIf and its like leave it out in some places only.
var leftOut = regexp.MustCompile(`^@[\w.]*(\bskip\b|skip[Ii]f\(\s*True\b|skipUnless\(\s*False\b)`)

// decorated tells whether a decorator above token i is of a kind.
func (o *outliner) decorated(i int, kind *regexp.Regexp) bool {
	line := int(o.Tokens[i].Line)
	for n := line - 1; n > max(0, line-8); n-- {
		text := o.Text.Line(n)
		text = bytes.TrimSpace(text[:min(len(text), 500)])
		if !bytes.HasPrefix(text, []byte("@")) {
			return false
		}
		if kind.Match(text) {
			return true
		}
	}
	return false
}

func (o *outliner) rubyAt(i int, w, owner string) {
	if !o.Tokens[i].First && !(w == "def" && o.Word(i-1) != "" && o.Tokens[i-1].First) {
		return
	}
	kind := Function
	name := i + 1
	switch w {
	case "private", "protected":
		if int(o.Tokens[i].Line) < o.nextLine(i) {
			o.private = true
		}
		return
	case "class", "module":
		kind, o.private = Type, false
	case "def":
		if o.Word(name) == "self" && o.Is(name+1, ".") {
			name += 2
		}
	case "it", "test", "specify", "xit", "scenario":
		if name < len(o.Tokens) && o.Tokens[name].Kind == String {
			d := Decl{Kind: Case, Name: strings.Trim(string(o.Of(o.Tokens[name])), `"'`), Skipped: w == "xit"}
			o.ended(i, name, d)
		}
		return
	default:
		return
	}
	if o.Word(name) == "" {
		return
	}
	d := Decl{Kind: kind, Name: o.Word(name), Owner: owner, Exported: !o.private && !(w == "def" && o.Word(i-1) == "private")}
	if w == "def" && strings.HasPrefix(d.Name, "test_") {
		d.Kind = Case
	}
	o.ended(i, name, d)
}

// nextLine is the line of the token behind i; the lines' number for none.
func (o *outliner) nextLine(i int) int {
	if i+1 < len(o.Tokens) {
		return int(o.Tokens[i+1].Line)
	}
	return o.Lines() + 1
}

// ended adds a declaration that ends with the next end in its own column.
func (o *outliner) ended(from, name int, d Decl) {
	d.From, d.Body, d.Line = from, name+1, int(o.Tokens[from].Line)
	column := o.Column(o.Tokens[from])
	if !o.Tokens[from].First {
		column = o.Column(o.Tokens[from-1])
	}
	d.To = name + 1
	for ; d.To < len(o.Tokens); d.To++ {
		k := o.Tokens[d.To]
		if k.First && o.Column(k) <= column && k.Kind != Comment && int(k.Line) > d.Line {
			break
		}
	}
	if o.Is(d.To, "end") {
		d.To++
	}
	d.End = o.Last(o.Tokens[max(d.To-1, from)])
	o.out = append(o.out, d)
}

func (o *outliner) rustAt(i int, w, owner string) {
	exported := func() bool {
		for j := i - 1; j >= max(0, i-6); j-- {
			switch {
			case o.Is(j, "pub"):
				return !o.Is(j+1, "(")
			case o.Is(j, "async"), o.Is(j, "unsafe"), o.Is(j, "const"), o.Is(j, "extern"), o.Tokens[j].Kind == String:
			default:
				return false
			}
		}
		return false
	}
	switch {
	case w == "fn" && o.Word(i+1) != "":
		open := o.open(i+2, i+200)
		if open < 0 {
			return
		}
		d := Decl{Kind: Function, Name: o.Word(i + 1), Owner: owner, Exported: exported()}
		if o.annotated(i, "test") {
			d.Kind, d.Owner, d.Skipped = Case, "", o.annotated(i, "ignore")
		}
		o.add(i, d, open)
	case w == "impl" && o.Tokens[i].First:
		open := o.open(i+1, i+60)
		if open < 0 {
			return
		}
		name := ""
		for j := open - 1; j > i; j-- {
			if o.Word(j) == "where" {
				name = ""
			} else if x := o.Word(j); x != "" && !o.Is(j-1, "<") && !o.Is(j-1, "'") && !o.Is(j-1, ",") {
				name = x
				break
			}
		}
		o.add(i, Decl{Kind: Extension, Name: name}, open)
	case (w == "struct" || w == "enum" || w == "trait" || w == "union") && o.Word(i+1) != "":
		o.braced(i, i+1, Type, "", exported())
	case (w == "const" || w == "static") && o.Word(i+1) != "" && o.Is(i+2, ":"):
		o.add(i, Decl{Kind: Value, Name: o.Word(i + 1), Exported: exported()}, -1)
	}
}

// annotated tells whether one of the few lines above, or this one, has an annotation with this word.
func (o *outliner) annotated(i int, word string) bool {
	line := int(o.Tokens[i].Line)
	for n := line; n > max(0, line-8); n-- {
		text := o.Text.Line(n)
		text = bytes.TrimSpace(text[:min(len(text), 500)])
		note := bytes.HasPrefix(text, []byte("@")) || bytes.HasPrefix(text, []byte("#[")) || bytes.HasPrefix(text, []byte("["))
		if note && hasWord(text, word) {
			return true
		}
		if n < line && !note {
			return false
		}
	}
	return false
}

func hasWord(text []byte, word string) bool {
	for at := 0; ; {
		n := bytes.Index(text[at:], []byte(word))
		if n < 0 {
			return false
		}
		at += n
		after := at + len(word)
		if (at == 0 || classes[text[at-1]] != letter) && (after >= len(text) || classes[text[after]] != letter) {
			return true
		}
		at = after
	}
}

// modified tells whether one of the words before token i in its line is among these.
func (o *outliner) modified(i int, words ...string) bool {
	for j := i - 1; j >= max(0, i-40) && o.Tokens[j].Line == o.Tokens[i].Line; j-- {
		for _, w := range words {
			if o.Is(j, w) {
				return true
			}
		}
	}
	return false
}

func (o *outliner) typedAt(i int, w, owner string) {
	if typeWords[w] {
		if o.Word(i+1) == "" || o.Is(i-1, ".") || o.Lang.Name == "C" && o.Tokens[i].First && o.open(i+1, i+4) < 0 {
			return
		}
		open := o.open(i+1, i+40)
		if open < 0 || w == "namespace" {
			return
		}
		for j := i + 2; j < open; j++ {
			if o.Is(j, "(") && w != "record" { // a function that returns one
				return
			}
		}
		o.add(i, Decl{Kind: Type, Name: o.Word(i + 1), Exported: o.modified(i, "public") || o.Lang.Name == "C" || o.Lang.Name == "C++"}, open)
		return
	}
	if (w == "TEST" || w == "TEST_F" || w == "TEST_P" || w == "TEST_CASE" || w == "START_TEST") && o.Is(i+1, "(") && o.pair[i+1] > 0 && o.Is(int(o.pair[i+1])+1, "{") {
		end := int(o.pair[i+1])
		name := string(bytes.TrimSpace(o.Src[o.Tokens[i+1].End:o.Tokens[end].Start]))
		o.add(i, Decl{Kind: Case, Name: name, Skipped: strings.Contains(name, "DISABLED_")}, end+1)
		return
	}
	if !o.Is(i+1, "(") || control[w] || o.Lang.Keyword([]byte(w)) && w != "operator" || o.pair[i+1] < 0 {
		return
	}
	// A declaration has a type, a modifier or another word before it; a call has an operator.
	if i == 0 || o.Is(i-1, ".") || !(o.Word(i-1) != "" && !control[o.Word(i-1)] || o.Is(i-1, "*") || o.Is(i-1, ">") || o.Is(i-1, "]") || o.Is(i-1, "&") || o.Is(i-1, ":") && o.Is(i-2, ":") || w == owner || o.Is(i-1, "~")) {
		return
	}
	open := -1
	for j := int(o.pair[i+1]) + 1; j < min(int(o.pair[i+1])+30, len(o.Tokens)); j++ {
		if o.Is(j, "{") {
			open = j
			break
		}
		if !(o.Word(j) != "" || o.Is(j, ",") || o.Is(j, ".") || o.Is(j, "<") || o.Is(j, ">") || o.Is(j, ":") || o.Is(j, "&") || o.Is(j, "-") || o.Is(j, "(") || o.Is(j, ")")) {
			return
		}
	}
	if open < 0 {
		return
	}
	from := i
	for from > max(0, i-40) && o.Tokens[from-1].Line == o.Tokens[i].Line && !o.Is(from-1, "{") && !o.Is(from-1, "}") && !o.Is(from-1, ";") {
		from--
	}
	d := Decl{Kind: Function, Name: w, Owner: owner}
	switch o.Lang.Name {
	case "Java", "C#":
		d.Exported = o.modified(i, "public")
		if o.annotated(from, "Test") || o.annotated(from, "ParameterizedTest") || o.annotated(from, "Fact") || o.annotated(from, "Theory") || o.annotated(from, "TestMethod") {
			d.Kind = Case
			d.Skipped = o.annotated(from, "Disabled") || o.annotated(from, "Ignore")
		}
	default:
		d.Exported = owner == "" && !o.modified(i, "static")
		if owner == "" && strings.HasPrefix(w, "test_") && o.modified(i, "void") {
			d.Kind = Case // as most frameworks of C want them
		}
	}
	o.add(from, d, open)
}
