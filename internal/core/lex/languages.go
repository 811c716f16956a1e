package lex

import (
	"bytes"
	"path"
	"strings"
)

// Blocks is how a language shows where a declaration ends.
type Blocks uint8

const (
	// NoBlocks is for languages without declarations, such as style sheets.
	NoBlocks Blocks = iota
	Braces
	Indented
	// Ended is for languages whose blocks end with the word end.
	Ended
)

// Language says how the text of a language is taken apart.
type Language struct {
	Name string
	// Line are the beginnings of comments that end with the line.
	Line  []string
	Block []block
	// Nested block comments may hold others.
	Nested  bool
	Strings []quote
	Blocks  Blocks
	// Data tells that files of this language hold data rather than code, Prose that they are written for people.
	Data, Prose bool

	spaceBefore bool   // a line comment needs a space before it
	regex       bool   // /.../ is a literal where a value may stand
	raw         bool   // r#"..."#
	here        bool   // here-documents
	hereUpper   bool   // their names are in capitals
	words       string // further characters of words
	keywords    map[string]bool
	style       style
	starts      [256]bool
}

type block struct {
	open, close string
	first       bool // only at the beginning of a line
}

type quote struct {
	open, close   string
	escape, multi bool
	template      bool
	char          bool // may be something else too
	doc           bool // alone in a statement it is a comment
	afterEquals   bool
}

type style uint8

const (
	plainStyle style = iota
	goStyle
	scriptStyle
	pythonStyle
	typedStyle // type name(...) { ... }
	rustStyle
	rubyStyle
	shellStyle
	phpStyle
	keywordStyle // fun or func names a function
)

func (l *Language) wordStart(c byte) bool { return strings.IndexByte(l.words, c) >= 0 && c != '-' }
func (l *Language) wordPart(c byte) bool  { return strings.IndexByte(l.words, c) >= 0 }

// Keyword tells whether a word has a meaning of its own in the language.
func (l *Language) Keyword(word []byte) bool { return l.keywords[string(word)] }

func set(words string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(words) {
		out[w] = true
	}
	return out
}

var (
	slashes = []block{{open: "/*", close: "*/"}}
	double  = quote{open: `"`, close: `"`, escape: true}
	single  = quote{open: `'`, close: `'`, escape: true}
	char    = quote{open: `'`, close: `'`, escape: true, char: true}
)

const (
	cWords      = "auto break case char const continue default do double else enum extern float for goto if inline int long register return short signed sizeof static struct switch typedef union unsigned void volatile while bool true false NULL "
	scriptWords = "async await break case catch class const continue debugger default delete do else export extends finally for function if import in instanceof let new return static super switch this throw try typeof var void while with yield true false null undefined of from "
)

var languages = []*Language{
	{Name: "Go", Line: []string{"//"}, Block: slashes, Strings: []quote{double, {open: "`", close: "`", multi: true}, char}, Blocks: Braces, style: goStyle,
		keywords: set("break case chan const continue default defer else fallthrough for func go goto if import interface map package range return select struct switch type var nil true false")},
	{Name: "JavaScript", Line: []string{"//", "#!"}, Block: slashes, Strings: []quote{double, single, {open: "`", close: "`", template: true}}, regex: true, words: "$", Blocks: Braces, style: scriptStyle, keywords: set(scriptWords)},
	{Name: "TypeScript", Line: []string{"//", "#!"}, Block: slashes, Strings: []quote{double, single, {open: "`", close: "`", template: true}}, regex: true, words: "$", Blocks: Braces, style: scriptStyle,
		keywords: set(scriptWords + "interface type enum implements private public protected readonly abstract declare namespace as is keyof any string number boolean never unknown")},
	{Name: "Python", Line: []string{"#"}, Strings: []quote{{open: `"""`, close: `"""`, escape: true, multi: true, doc: true}, {open: `'''`, close: `'''`, escape: true, multi: true, doc: true}, double, single}, Blocks: Indented, style: pythonStyle,
		keywords: set("False None True and as assert async await break class continue def del elif else except finally for from global if import in is lambda nonlocal not or pass raise return try while with yield match case self")},
	{Name: "Java", Line: []string{"//"}, Block: slashes, Strings: []quote{{open: `"""`, close: `"""`, escape: true, multi: true}, double, single}, Blocks: Braces, style: typedStyle,
		keywords: set("abstract assert boolean break byte case catch char class const continue default do double else enum extends final finally float for if implements import instanceof int interface long native new package private protected public record return short static super switch synchronized this throw throws transient try var void volatile while true false null")},
	{Name: "C", Line: []string{"//"}, Block: slashes, Strings: []quote{double, char}, Blocks: Braces, style: typedStyle, keywords: set(cWords + "include define ifdef ifndef endif")},
	{Name: "C++", Line: []string{"//"}, Block: slashes, Strings: []quote{double, char}, Blocks: Braces, style: typedStyle,
		keywords: set(cWords + "include define ifdef ifndef endif class catch constexpr delete explicit friend namespace new noexcept nullptr operator override private protected public template this throw try typename using virtual")},
	{Name: "C#", Line: []string{"//"}, Block: slashes, Strings: []quote{double, char}, Blocks: Braces, style: typedStyle,
		keywords: set("abstract as async await base bool break byte case catch char class const continue decimal default delegate do double else enum event false finally fixed float for foreach get if implicit in int interface internal is lock long namespace new null object operator out override params private protected public readonly record ref return sealed set short static string struct switch this throw true try typeof uint ulong using var virtual void while yield")},
	{Name: "Rust", Line: []string{"//"}, Block: slashes, Nested: true, raw: true, Strings: []quote{{open: `"`, close: `"`, escape: true, multi: true}, char}, Blocks: Braces, style: rustStyle,
		keywords: set("as async await break const continue crate dyn else enum extern false fn for if impl in let loop match mod move mut pub ref return self Self static struct super trait true type unsafe use where while")},
	{Name: "Ruby", Line: []string{"#"}, Block: []block{{open: "=begin", close: "\n=end", first: true}}, Strings: []quote{{open: `"`, close: `"`, escape: true, multi: true}, {open: `'`, close: `'`, escape: true, multi: true}}, regex: true, here: true, hereUpper: true, words: "@$", Blocks: Ended, style: rubyStyle,
		keywords: set("alias and begin break case class def defined do else elsif end ensure false for if in module next nil not or redo rescue retry return self super then true undef unless until when while yield require require_relative attr_reader attr_accessor private raise")},
	{Name: "Shell", Line: []string{"#"}, spaceBefore: true, here: true, Strings: []quote{{open: `"`, close: `"`, escape: true, multi: true}, {open: `'`, close: `'`, multi: true}}, words: "-", Blocks: Braces, style: shellStyle,
		keywords: set("if then else elif fi case esac for while until do done in function select return local export readonly set unset shift exit trap")},
	{Name: "PHP", Line: []string{"//", "#"}, Block: slashes, Strings: []quote{{open: `"`, close: `"`, escape: true, multi: true}, {open: `'`, close: `'`, escape: true, multi: true}}, words: "$", Blocks: Braces, style: phpStyle,
		keywords: set("abstract and array as break case catch class const continue declare default do echo else elseif extends final finally fn for foreach function global if implements interface isset list match namespace new null or private protected public readonly return static switch throw trait try unset use var while true false")},
	{Name: "Kotlin", Line: []string{"//"}, Block: slashes, Nested: true, Strings: []quote{{open: `"""`, close: `"""`, multi: true}, double, single}, Blocks: Braces, style: keywordStyle,
		keywords: set("as break by catch class companion const constructor continue data do else enum false final finally for fun if import in init inline interface internal is it lateinit null object open operator override package private protected public return sealed super suspend this throw true try typealias val var when while")},
	{Name: "Swift", Line: []string{"//"}, Block: slashes, Nested: true, Strings: []quote{{open: `"""`, close: `"""`, escape: true, multi: true}, double}, Blocks: Braces, style: keywordStyle,
		keywords: set("as associatedtype break case catch class continue default defer do else enum extension false fileprivate for func guard if import in init inout internal is lazy let mutating nil open operator override private protocol public repeat return self Self static struct subscript super switch throw throws true try typealias var weak where while")},
	{Name: "HTML", Block: []block{{open: "<!--", close: "-->"}}, Strings: []quote{{open: `"`, close: `"`, multi: true, afterEquals: true}, {open: `'`, close: `'`, multi: true, afterEquals: true}}, words: "-"},
	{Name: "XML", Block: []block{{open: "<!--", close: "-->"}}, Strings: []quote{{open: `"`, close: `"`, multi: true, afterEquals: true}, {open: `'`, close: `'`, multi: true, afterEquals: true}}, words: "-", Data: true},
	{Name: "CSS", Block: slashes, Strings: []quote{double, single}, words: "-@"},
	{Name: "SCSS", Line: []string{"//"}, Block: slashes, Strings: []quote{double, single}, words: "-@$"},
	{Name: "SQL", Line: []string{"--"}, Block: slashes, Strings: []quote{{open: `'`, close: `'`, multi: true}, double},
		keywords: set("select from where and or not null insert into values update set delete create table index primary key foreign references join left inner on group by order limit SELECT FROM WHERE AND OR NOT NULL INSERT INTO VALUES UPDATE SET DELETE CREATE TABLE INDEX PRIMARY KEY FOREIGN REFERENCES JOIN LEFT INNER ON GROUP BY ORDER LIMIT")},
	{Name: "Make", Line: []string{"#"}, words: "-"},
	{Name: "Docker", Line: []string{"#"}, Strings: []quote{double}, words: "-"},
	{Name: "Lua", Line: []string{"--"}, Block: []block{{open: "--[[", close: "]]"}}, Strings: []quote{{open: "[[", close: "]]", multi: true}, double, single},
		keywords: set("and break do else elseif end false for function goto if in local nil not or repeat return then true until while")},
	{Name: "YAML", Line: []string{"#"}, spaceBefore: true, Strings: []quote{double, {open: `'`, close: `'`, afterEquals: true}}, words: "-", Data: true},
	{Name: "TOML", Line: []string{"#"}, Strings: []quote{double, single}, words: "-", Data: true},
	{Name: "JSON", Strings: []quote{double}, Data: true},
	{Name: "Markdown", Block: []block{{open: "<!--", close: "-->"}}, Prose: true},
	{Name: "Text", Prose: true},
}

// Plain is for files of which nothing is known: words, numbers and punctuation.
var Plain = &Language{Name: ""}

var byName, byExt, byFile = map[string]*Language{}, map[string]*Language{}, map[string]*Language{}

func init() {
	for _, l := range languages {
		byName[l.Name] = l
		for _, b := range l.Line {
			l.starts[b[0]] = true
		}
		for _, b := range l.Block {
			l.starts[b.open[0]] = true
		}
		for _, q := range l.Strings {
			l.starts[q.open[0]] = true
		}
		if l.regex {
			l.starts['/'] = true
		}
		if l.raw {
			l.starts['r'], l.starts['b'] = true, true
		}
		if l.here {
			l.starts['<'] = true
		}
		// The longer of two beginnings is tried first: line comments come before block comments.
		if l.Name == "Lua" {
			l.Line = nil
			l.Block = append(l.Block, block{open: "--", close: "\n"})
		}
	}
	for name, exts := range map[string]string{
		"Go": "go", "JavaScript": "js mjs cjs jsx", "TypeScript": "ts mts cts tsx", "Python": "py pyi pyw", "Java": "java", "C": "c h", "C++": "cc cpp cxx hh hpp hxx", "C#": "cs",
		"Rust": "rs", "Ruby": "rb rake gemspec ru", "Shell": "sh bash bats zsh ksh", "PHP": "php", "Kotlin": "kt kts", "Swift": "swift", "HTML": "html htm vue svelte", "XML": "xml xsd xsl svg plist csproj pom",
		"CSS": "css", "SCSS": "scss less", "SQL": "sql", "Make": "mk mak", "Lua": "lua", "YAML": "yaml yml", "TOML": "toml", "JSON": "json jsonl json5 webmanifest", "Markdown": "md markdown mdx", "Text": "txt rst adoc org",
	} {
		for ext := range strings.FieldsSeq(exts) {
			byExt["."+ext] = byName[name]
		}
	}
	for name, files := range map[string]string{"Make": "Makefile makefile GNUmakefile justfile", "Docker": "Dockerfile Containerfile", "Ruby": "Rakefile Gemfile Guardfile Vagrantfile", "Shell": ".bashrc .profile .zshrc", "Text": "README LICENSE NOTICE AUTHORS CHANGELOG CHANGES COPYING TODO"} {
		for f := range strings.FieldsSeq(files) {
			byFile[f] = byName[name]
		}
	}
}

// Named is the language of this name, or nil.
func Named(name string) *Language { return byName[name] }

// Of tells the language of a file by its name, and where the name has no ending
// that says it, by the interpreter in its first line. Plain where it is not known.
//
// The usual library for this takes 50 ms to start, in every process: too long for
// a program that starts itself as a supervisor for each command that it runs.
func Of(file string, src []byte) *Language {
	base := path.Base(file)
	if l := byFile[base]; l != nil {
		return l
	}
	if l := byExt[strings.ToLower(path.Ext(base))]; l != nil {
		return l
	}
	if line, _, _ := bytes.Cut(src[:min(len(src), 200)], []byte{'\n'}); bytes.HasPrefix(line, []byte("#!")) {
		for _, one := range []struct{ word, name string }{{"python", "Python"}, {"node", "JavaScript"}, {"ruby", "Ruby"}, {"php", "PHP"}, {"sh", "Shell"}} {
			if bytes.Contains(line, []byte(one.word)) {
				return byName[one.name]
			}
		}
	}
	return Plain
}
