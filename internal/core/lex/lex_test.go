package lex

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// kinds writes a text's tokens as words.
func kinds(t *Text) string {
	var b strings.Builder
	for _, k := range t.Tokens {
		fmt.Fprintf(&b, "%c:%s|", "wnsc."[k.Kind], strings.ReplaceAll(string(t.Of(k)), "\n", "⏎"))
	}
	return b.String()
}

func TestTokens(t *testing.T) {
	for _, c := range []struct{ lang, text, want string }{
		{"Go", "x := `a\n//b` // no \"string\"\n/* c */ 'a' '\\'' 0x1F 1.5", "w:x|.::|.:=|s:`a⏎//b`|c:// no \"string\"|c:/* c */|s:'a'|s:'\\''|n:0x1F|n:1.5|"},
		{"Go", `s := "a\"b" + "cut`, `w:s|.::|.:=|s:"a\"b"|.:+|s:"cut|`},
		{"JavaScript", "a = b / c / d; x = /[/]\\//g.test(`t ${f(`in ${1}`)} \\` e`) // end", "w:a|.:=|w:b|.:/|w:c|.:/|w:d|.:;|w:x|.:=|s:/[/]\\//g|.:.|w:test|.:(|s:`t ${f(`in ${1}`)} \\` e`|.:)|c:// end|"},
		{"JavaScript", "return /a b/; $x.y", "w:return|s:/a b/|.:;|w:$x|.:.|w:y|"},
		{"Python", "def f():\n    \"\"\"What it does.\n\n    More.\"\"\"\n    x = \"\"\"text\"\"\"  # why\n    return 'a\\'b'", "w:def|w:f|.:(|.:)|.::|c:\"\"\"What it does.⏎⏎    More.\"\"\"|w:x|.:=|s:\"\"\"text\"\"\"|c:# why|w:return|s:'a\\'b'|"},
		{"Java", "char c = '\"'; String s = \"/* no */\"; /** doc\n */", "w:char|w:c|.:=|s:'\"'|.:;|w:String|w:s|.:=|s:\"/* no */\"|.:;|c:/** doc⏎ */|"},
		{"C", "#include <stdio.h>\nint x = 1000'000; // '\n\"a\\\nb\"", "w:#|"},
		{"Rust", "fn f<'a>(x: &'a str) { let c = 'x'; r#\"a\"b\"# ; /* a /* b */ c */ }", "w:fn|w:f|.:<|.:'|w:a|.:>|.:(|w:x|.::|.:&|.:'|w:a|w:str|.:)|.:{|w:let|w:c|.:=|s:'x'|.:;|s:r#\"a\"b\"#|.:;|c:/* a /* b */ c */|.:}|"},
		{"Ruby", "x = <<~TXT # note\n  a \"b\n  TXT\n=begin\nold\n=end\ny =~ /a#b/", "w:x|.:=|.:<|.:<|.:~|w:TXT|c:# note|s:  a \"b⏎|w:  TXT|c:=begin⏎old⏎=end|w:y|.:=|.:~|s:/a#b/|"},
		{"Shell", "echo \"$#\" a#b # why\ncat <<'E'\n# text\nE\nx", "w:echo|s:\"$#\"|w:a|.:#|w:b|c:# why|w:cat|.:<|.:<|s:'E'|s:# text⏎|w:E|w:x|"},
		{"HTML", "<!-- a\nb --><p class=\"x y\">don't</p>", "c:<!-- a⏎b -->|.:<|w:p|w:class|.:=|s:\"x y\"|.:>|w:don|.:'|w:t|.:<|.:/|w:p|.:>|"},
		{"CSS", ".lamp-on{color:#ff0000;/* no */width:10px}", ".:.|w:lamp-on|.:{|w:color|.::|.:#|w:ff0000|.:;|c:/* no */|w:width|.::|n:10px|.:}|"},
		{"YAML", "a: b#c # d", "w:a|.::|w:b|.:#|w:c|c:# d|"},
		{"", "a /* b */ 'c", "w:a|.:/|.:*|w:b|.:*|.:/|.:'|w:c|"},
	} {
		lang := Named(c.lang)
		if lang == nil {
			lang = Plain
		}
		got := kinds(New(lang, []byte(c.text)))
		if c.lang == "C" {
			assert.Equal(t, `.:#|w:include|.:<|w:stdio|.:.|w:h|.:>|w:int|w:x|.:=|n:1000|.:'|n:000|.:;|c:// '|s:"a\⏎b"|`, got)
			continue
		}
		assert.Equal(t, c.want, got, c.lang)
	}
}

func TestLinesOfAText(t *testing.T) {
	text := New(Named("Go"), []byte("// a\n\nx := `1\r\n2` // b\n/*\n\n*/\ny"))
	assert.Equal(t, []LineKind{Remark, Blank, Code, Code, Remark, Remark, Remark, Code}, text.Kinds())
	assert.Equal(t, 8, text.Lines())
	assert.Equal(t, "x := `1", string(text.Line(3)))
	assert.Equal(t, "y", string(text.Line(8)))
	assert.Nil(t, text.Line(9))
	assert.Nil(t, text.Line(0))
	assert.Equal(t, 1, New(Plain, []byte("a\n")).Lines())
	assert.Zero(t, New(Plain, nil).Lines())
	assert.Empty(t, New(Named("Go"), nil).Outline())
}

// outline writes declarations as lines: kind, full name, lines, marks.
func outline(lang, text string) string {
	var b strings.Builder
	for _, d := range New(Named(lang), []byte(text)).Outline() {
		fmt.Fprintf(&b, "%s %s %d-%d", d.Kind, d.Full(), d.Line, d.End)
		if d.Exported {
			b.WriteString(" exported")
		}
		if d.Skipped {
			b.WriteString(" skipped")
		}
		b.WriteString("\n")
	}
	return b.String()
}

func TestOutline(t *testing.T) {
	for _, c := range []struct{ lang, text, want string }{
		{"Go", "package p\n\nconst (\n\tLow = 1\n\thigh = f(func() {\n\t})\n)\n\ntype Berth struct {\n\tName string\n}\n\nfunc (b *Berth) Moor(f func() struct{}) interface{} {\n\treturn nil\n}\n\nfunc plain[T any](x T) {}\n\nfunc TestMoor(t *testing.T) {\n}\nfunc Testify() {}\n",
			"value Low 4-4 exported\nvalue high 5-6\ntype Berth 9-11 exported\nfunction Berth.Moor 13-15 exported\nfunction plain 17-17\ntest TestMoor 19-20\nfunction Testify 21-21 exported\n"},
		{"JavaScript", "export function due(lamps) {\n  if (a) {}\n}\nconst next = async (x) => {\n  go();\n};\nexport class Log extends Base {\n  append(entry) {\n    return this.write(entry);\n  }\n}\nfunction hidden() {}\nmodule.exports = { next };\ntest('is due', () => {\n});\nit.skip(\"later\", () => {});\n",
			"function due 1-3 exported\nfunction next 4-6 exported\ntype Log 7-11 exported\nfunction Log.append 8-10\nfunction hidden 12-12\ntest is due 14-15\ntest later 16-16 skipped\n"},
		{"JavaScript", "class A {\n  static async b(x) {\n    const y =\n      c(x) || {};\n    return x ? d(x) : {};\n  }\n  *e() {\n  }\n}\n", "type A 1-9\nfunction A.b 2-6\nfunction A.e 7-8\n"},
		{"Go", "package a\n\nfunc TestMain(m *testing.M) {\n}\n\nfunc TestA(t *testing.T) {\n}\n\nfunc BenchmarkA(b *testing.B) {\n}\n", "function TestMain 3-4 exported\ntest TestA 6-7\nfunction BenchmarkA 9-10 exported\n"},
		{"Python", "class T:\n    @unittest.skipIf(windows, 'no')\n    def test_a(self):\n        pass\n\n    @pytest.mark.skip\n    def test_b(self):\n        pass\n", "type T 1-8 exported\ntest T.test_a 3-4\ntest T.test_b 7-8 skipped\n"},
		{"TypeScript", "export interface Tide {\n  height: number;\n}\nexport const level: number = 3;\nexport type Kind = 'a';\nfunction pick<T>(all: T[]): T {\n  return all[0];\n}\nclass A {\n  get(x: number): string {\n    return '';\n  }\n}\n",
			"type Tide 1-3 exported\nvalue level 4-4 exported\ntype Kind 5-5 exported\nfunction pick 6-8\ntype A 9-13\nfunction A.get 10-12\n"},
		{"Python", "class Lamp:\n    def light(self):\n        return (\n1)\n\n    def _dim(self):\n        pass\n\n\nasync def watch():\n    await x\n# after\n\n@unittest.skip('no')\ndef test_dark():\n    assert 1\n",
			"type Lamp 1-7 exported\nfunction Lamp.light 2-4\nfunction Lamp._dim 6-7\nfunction watch 10-11 exported\ntest test_dark 15-16 skipped\n"},
		{"Java", "public class Pilot {\n  private int n;\n  public Pilot(int n) {\n    this.n = n;\n  }\n  public <T> List<T> all() throws IOException {\n    if (x) { return call(1); }\n    new Thing(2) { };\n  }\n  @Test\n  @Disabled\n  void boards() {\n  }\n}\n",
			"type Pilot 1-14 exported\nfunction Pilot.Pilot 3-5 exported\nfunction Pilot.all 6-9 exported\ntest Pilot.boards 12-13 skipped\n"},
		{"C", "struct tide { int h; };\nstatic int level(const char *p) {\n  for (;;) { f(p); }\n}\nint main(void)\n{\n  return level(0);\n}\nint proto(int);\nstruct tide make(void) {\n}\n",
			"type tide 1-1 exported\nfunction level 2-4\nfunction main 5-8 exported\nfunction make 10-11 exported\n"},
		{"C", "static void test_moor(void **state)\n{\n}\n\nint test_rig(int n)\n{\n}\n\nSTART_TEST(test_tie)\n{\n}\nEND_TEST\n", "test test_moor 1-3\nfunction test_rig 5-7 exported\ntest test_tie 9-11\n"},
		{"C++", "namespace port {\nclass Lamp : public Base {\n public:\n  Lamp(int n) : n_(n) {\n  }\n  bool lit() const {\n    return true;\n  }\n};\nvoid Lamp::dim() {\n}\nTEST(Lamp, IsLit) {\n}\n}\n",
			"type Lamp 2-9 exported\nfunction Lamp.Lamp 4-5\nfunction Lamp.lit 6-8\nfunction dim 10-11 exported\ntest Lamp, IsLit 12-13\n"},
		{"Rust", "pub struct Berth { n: u8 }\nimpl Moor for Berth {\n    pub fn moor<T>(&self) -> Vec<T> {\n        loop {}\n    }\n}\nfn low() {}\n#[test]\n#[ignore]\nfn holds() {\n}\n",
			"type Berth 1-1 exported\nextension Berth 2-6\nfunction Berth.moor 3-5 exported\nfunction low 7-7\ntest holds 10-11 skipped\n"},
		{"Ruby", "class Lamp\n  def light(x)\n    if x\n      1\n    end\n  end\n\n  def self.all = []\n\n  private\n\n  def dim\n  end\nend\n\ndescribe 'x' do\n  it 'is dark' do\n    expect(1)\n  end\nend\n",
			"type Lamp 1-14 exported\nfunction Lamp.light 2-6 exported\nfunction Lamp.all 8-8 exported\nfunction Lamp.dim 12-13\ntest is dark 17-19\n"},
		{"Shell", "moor() {\n  echo {a}\n}\nfunction cast-off {\n  :\n}\n@test \"moors\" {\n  moor\n}\n", "function moor 1-3\nfunction cast-off 4-6\ntest moors 7-9\n"},
		{"PHP", "<?php\nclass A {\n  public function b($x) {\n  }\n  private function c() {\n  }\n}\n", "type A 2-7 exported\nfunction A.b 3-4 exported\nfunction A.c 5-6\n"},
		{"Kotlin", "class A {\n  fun b(x: Int): Int {\n  }\n  @Test\n  fun c() {\n  }\n}\n", "type A 1-7 exported\nfunction A.b 2-3 exported\ntest A.c 5-6\n"},
		{"CSS", ".a { b: c }", ""},
	} {
		assert.Equal(t, c.want, outline(c.lang, c.text), c.lang)
	}
}

func TestLanguageOfAFile(t *testing.T) {
	for name, want := range map[string]string{"a/b.go": "Go", "x.TSX": "TypeScript", "Makefile": "Make", "Dockerfile": "Docker", "a.unknown": "", "README": "Text", "x.yml": "YAML"} {
		assert.Equal(t, want, Of(name, nil).Name, name)
	}
	assert.Equal(t, "Python", Of("bin/tool", []byte("#!/usr/bin/env python3\n")).Name)
	assert.Equal(t, "Shell", Of("bin/tool", []byte("#!/bin/sh")).Name)
	assert.Equal(t, "", Of("bin/tool", []byte("echo")).Name)
}

// Tokens lie in order within the text, and everything outside them is space.
func sound(t testing.TB, text *Text) {
	at, line := 0, int32(1)
	for i, k := range text.Tokens {
		if at > int(k.Start) || k.Start >= k.End || int(k.End) > len(text.Src) {
			t.Fatalf("token %d lies at %d to %d behind %d", i, k.Start, k.End, at)
		}
		gap := text.Src[at:k.Start]
		line += int32(bytes.Count(gap, []byte{'\n'}))
		if len(bytes.Trim(gap, " \t\r\f\v\x00\n")) > 0 || line != k.Line {
			t.Fatalf("%q before token %d, in line %d and not %d", gap, i, line, k.Line)
		}
		line += int32(bytes.Count(text.Of(k), []byte{'\n'}))
		at = int(k.End)
	}
	lines := len(text.Kinds())
	for _, d := range text.Outline() {
		if d.From > d.Body || d.From >= d.To || d.To > len(text.Tokens) || d.Line > d.End || d.End > lines {
			t.Fatalf("%+v of %d tokens and %d lines", d, len(text.Tokens), lines)
		}
	}
}

func FuzzTokens(f *testing.F) {
	for _, s := range []string{"func f() { `", "x = <<~A\n<<B", "'\\", "/*/", "`${`${", "r#\"", "\"\"\"", "@test \"", "def", "class\n  def\nend", "it 'a'", "\xff\xfe\x00a", "((((({{{{[[[", ")]}", "<!--", "func (", "impl", "const x = (", "type T ("} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		for _, l := range append([]*Language{Plain}, languages...) {
			sound(t, New(l, []byte(src)))
		}
	})
}

// A text of many megabytes without any end of anything takes no longer than its length asks for.
func TestHostileTextsEnd(t *testing.T) {
	for _, unit := range []string{"(", "`${", "/*", "\"\"\"", "<<A ", "'", "func f(", "class A{", "/", "def a\n ", "\\", "{}", "<<~A\n", "impl "} {
		text := strings.Repeat(unit, 60_000/len(unit))
		for _, l := range languages {
			sound(t, New(l, []byte(text)))
		}
	}
}

func BenchmarkTokens(b *testing.B) {
	unit := "func (b *Berth) Moor(s Ship) error {\n\tif s.Draught > b.Depth { // too deep\n\t\treturn fmt.Errorf(\"%s is too deep by %.1f m\", s.Name, s.Draught-b.Depth)\n\t}\n\treturn nil\n}\n\n"
	src := []byte(strings.Repeat(unit, 5000))
	b.SetBytes(int64(len(src)))
	for b.Loop() {
		New(Named("Go"), src).Outline()
	}
}
