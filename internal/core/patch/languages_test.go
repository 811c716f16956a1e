package patch

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sample is one piece of code in a language, with what is known of it.
type sample struct {
	name, file string
	// head begins a file, foot ends it. code declares tide, with a remark above it.
	head, code, foot string
	// in names another file of the language in a line of code.
	in string
	// test is a file with the test of one case, or none; asserts is its assertion.
	testFile, test, asserts string
	// What code is measured as: lines of it, exported names, its longest function, its deepest nesting.
	lines, remarks, exports, longest, deepest int
	// repeats tells whether stretches are looked for, documented whether exported names have remarks of their own.
	repeats, documented bool
}

var samples = []sample{
	{name: "Go", file: "NAME.go", head: "package port\n\n",
		code: "// Tide sums what the gauge saw.\nfunc Tide(marks []int, limit int) (int, error) {\n\ttotal := 0\n\tfor i, n := range marks {\n\t\tif n < 0 {\n\t\t\treturn 0, fmt.Errorf(\"mark %d\", i)\n\t\t}\n\t\tif n > limit {\n\t\t\tbreak\n\t\t}\n\t\ttotal += n * 2\n\t}\n\treturn total, nil\n}\n",
		in:   "var _ = gauge.All\n", testFile: "NAME_test.go", test: "func TestTide(t *testing.T) {\n\ttotal := run(1, 2)\n\trequire.Equal(t, 3, total)\n}\n", asserts: "\trequire.Equal(t, 3, total)\n",
		lines: 13, remarks: 1, exports: 1, longest: 13, deepest: 2, repeats: true, documented: true},
	{name: "JavaScript", file: "NAME.js",
		code: "/** Sums what the gauge saw. */\nexport function tide(marks, limit) {\n  let total = 0;\n  for (const n of marks) {\n    if (n < 0) {\n      throw new Error(`mark ${n}`);\n    }\n    if (n > limit || n === null) {\n      break;\n    }\n    total += n * 2 + Math.max(1, limit, n);\n  }\n  return [total, marks.length];\n}\n",
		in:   "import { all } from './gauge.js';\n", testFile: "test/NAME.test.js", test: "test('tide', () => {\n  const total = run(1, 2);\n  assert.equal(total, 3);\n});\n", asserts: "  assert.equal(total, 3);\n",
		lines: 13, remarks: 1, exports: 1, longest: 13, deepest: 2, repeats: true, documented: true},
	{name: "TypeScript", file: "NAME.ts",
		code: "/** Sums what the gauge saw. */\nexport function tide(marks: number[], limit: number): number {\n  let total = 0;\n  for (const n of marks) {\n    if (n < 0) {\n      throw new Error(`mark ${n}`);\n    }\n    if (n > limit || n === null) {\n      break;\n    }\n    total += n * 2 + Math.max(1, limit, n);\n  }\n  return total;\n}\n",
		in:   "import { all } from './gauge';\n", testFile: "test/NAME.test.ts", test: "it('tide', () => {\n  const total = run(1, 2);\n  expect(total).toBe(3);\n});\n", asserts: "  expect(total).toBe(3);\n",
		lines: 13, remarks: 1, exports: 1, longest: 13, deepest: 2, repeats: true, documented: true},
	{name: "Python", file: "NAME.py",
		code: "def tide(marks, limit):\n    \"\"\"Sums what the gauge saw.\"\"\"\n    total = 0\n    for i, n in enumerate(marks):\n        if n < 0:\n            raise ValueError(f'mark {i}')\n        if n > limit or n is None:\n            break\n        total += n * 2 + max(1, limit, n)\n        seen[i] = (n, total, limit)\n    return total, len(marks)\n",
		in:   "import gauge\n", testFile: "test_NAME.py", test: "def test_tide():\n    total = run(1, 2)\n    assert total == 3\n", asserts: "    assert total == 3\n",
		lines: 10, remarks: 1, exports: 1, longest: 11, deepest: 2, repeats: true, documented: true},
	{name: "Java", file: "NAME.java", head: "class Port {\n", foot: "}\n",
		code: "  /** Sums what the gauge saw. */\n  public int tide(int[] marks, int limit) {\n    int total = 0;\n    for (int n : marks) {\n      if (n < 0) {\n        throw new IllegalArgumentException(\"mark \" + n);\n      }\n      if (n > limit) {\n        break;\n      }\n      total += n * 2 + Math.max(1, limit);\n    }\n    return total;\n  }\n",
		in:   "  Gauge g = new gauge();\n", testFile: "NAMETest.java", test: "class NAMETest {\n  @Test\n  void tide() {\n    int total = run(1, 2);\n    assertEquals(3, total);\n  }\n}\n", asserts: "    assertEquals(3, total);\n",
		lines: 13, remarks: 1, exports: 1, longest: 13, deepest: 2, repeats: true, documented: true},
	{name: "C", file: "NAME.c",
		code: "/* Sums what the gauge saw. */\nint tide(const int *marks, int count, int limit)\n{\n  int total = 0;\n  for (int i = 0; i < count; i++) {\n    if (marks[i] < 0) {\n      return -1;\n    }\n    if (marks[i] > limit) {\n      break;\n    }\n    total += marks[i] * 2 + max(1, limit);\n  }\n  return total;\n}\n",
		in:   "#include \"gauge.h\"\n", testFile: "test_NAME.c", test: "static void test_tide(void)\n{\n  int total = run(1, 2);\n  assert(total == 3);\n}\n", asserts: "  assert(total == 3);\n",
		lines: 14, remarks: 1, exports: 1, longest: 14, deepest: 2, repeats: true, documented: true},
	{name: "Rust", file: "NAME.rs",
		code: "/// Sums what the gauge saw.\npub fn tide(marks: &[i64], limit: i64) -> Result<i64, String> {\n    let mut total = 0;\n    for (i, n) in marks.iter().enumerate() {\n        if *n < 0 {\n            return Err(format!(\"mark {}\", i));\n        }\n        if *n > limit {\n            break;\n        }\n        total += n * 2;\n    }\n    Ok(total)\n}\n",
		in:   "mod gauge;\n", testFile: "tests/NAME.rs", test: "#[test]\nfn tide() {\n    let total = run(1, 2);\n    assert_eq!(total, 3);\n}\n", asserts: "    assert_eq!(total, 3);\n",
		lines: 13, remarks: 1, exports: 1, longest: 13, deepest: 2, repeats: true, documented: true},
	{name: "Ruby", file: "NAME.rb",
		code: "# Sums what the gauge saw.\ndef tide(marks, limit)\n  total = 0\n  marks.each_with_index do |n, i|\n    if n < 0\n      raise ArgumentError, \"mark #{i}\"\n    end\n    break if n > limit || n.nil?\n    total += n * 2 + [1, limit, n].max\n    seen[i] = [n, total, limit, marks.length]\n  end\n  [total, marks.length, limit]\nend\n",
		in:   "require_relative 'gauge'\n", testFile: "spec/NAME_spec.rb", test: "it 'tide' do\n  total = run(1, 2)\n  expect(total).to eq 3\nend\n", asserts: "  expect(total).to eq 3\n",
		lines: 12, remarks: 1, exports: 1, longest: 12, deepest: 2, repeats: true, documented: true},
	{name: "shell", file: "NAME.sh", head: "#!/bin/sh\n",
		code: "# Sums what the gauge saw.\ntide() {\n  total=0\n  for n in \"$@\"; do\n    if [ \"$n\" -lt 0 ]; then\n      echo \"mark $n\" >&2\n      return 1\n    fi\n    total=$((total + n * 2))\n    printf '%s %s\\n' \"$n\" \"$total\" >> \"$seen\"\n  done\n  if [ -z \"$total\" ]; then total=0; fi\n  echo \"$total\" \"$#\" \"$limit\" \"$seen\"\n}\n",
		in:   ". ./gauge.sh\n", testFile: "test/NAME.bats", test: "@test \"tide\" {\n  run tide 1 2\n  assert_output 3\n}\n", asserts: "  assert_output 3\n",
		lines: 13, remarks: 1, longest: 13, repeats: true},
	{name: "HTML", file: "NAME.html", head: "<!doctype html>\n",
		code: "<!-- What the gauge saw. -->\n<table id=\"tide\">\n  <tr><th>hour</th><th>height</th></tr>\n  <tr><td>1</td><td>2.5</td></tr>\n  <tr><td>2</td><td>2.9</td></tr>\n  <tr><td>3</td><td>3.1</td></tr>\n</table>\n",
		in:   "<script src=\"gauge.js\"></script>\n", lines: 6, remarks: 1},
	{name: "CSS", file: "NAME.css",
		code: "/* What the gauge saw. */\n#tide {\n  color: navy;\n  margin: 0 auto;\n}\n#tide td {\n  text-align: right;\n}\n",
		in:   "@import 'gauge.css';\n", lines: 7, remarks: 1},
}

// named is a text of a sample under another name.
func (s sample) named(text, name string) string {
	return strings.NewReplacer("NAME", name, "tide", name, "Tide", strings.ToUpper(name[:1])+name[1:]).Replace(text)
}

// whole is a file that declares some names.
func (s sample) whole(names ...string) string {
	var out strings.Builder
	out.WriteString(s.head)
	for i, name := range names {
		if i > 0 {
			out.WriteString("\n")
		}
		out.WriteString(s.named(s.code, name))
	}
	return out.String() + s.foot
}

func (s sample) path(name string) string { return strings.ReplaceAll(s.file, "NAME", name) }

// Every measure in every language: the same small changes, with what is to be seen in them.
func TestEveryMeasureInEveryLanguage(t *testing.T) {
	for _, s := range samples {
		t.Run(s.name, func(t *testing.T) {
			lines := strings.Count(s.code, "\n")
			before, after := tree{s.path("tide"): s.whole("tide"), s.path("moor"): s.whole("moor")}, tree{s.path("tide"): s.whole("tide"), s.path("moor"): s.whole("moor", "berth")}
			in := between(t, before, after)
			in.Index = NewIndex()
			in.Index.Add(s.path("tide"), []byte(before[s.path("tide")]))
			in.References = []Reference{{Diff: in.Diff, Read: in.Read}}
			m := measure(t, in)
			for name, want := range map[string]int{"files": 1, "hunks": 1, "lines_added": lines + 1, "lines_removed": 0, "lines_added_code": s.lines, "lines_added_comment": s.remarks, "lines_added_blank": 1,
				"noise": 0, "leftovers": 0, "losses": 0, "lines_moved": 0, "exports_added": s.exports, "exports_removed": 0, "longest_function": s.longest, "deepest_nesting": s.deepest,
				"strays": 0, "size_to_reference": 1, "nearness_precision": 1, "nearness_recall": 1, "nearness_likeness": 1} {
				assert.Equal(t, float64(want), value(t, m, name), name)
			}
			documented := 0.0
			if s.documented {
				documented = 1
			}
			assert.Equal(t, documented, value(t, m, "docs_comments"), "its remark")
			repeated := slices.IndexFunc(m.Findings, func(f Finding) bool { return f.Measure == "repetition" })
			require.Equal(t, s.repeats, repeated >= 0, "it stands in the other file too: %v", m.Findings)
			if s.repeats {
				f := m.Findings[repeated]
				assert.Equal(t, s.path("tide"), f.Other.Path)
				assert.GreaterOrEqual(t, f.End-f.Line, 8, "nearly all of it")
			}

			// What stood in one file stands in another.
			m = measure(t, between(t, tree{s.path("moor"): s.whole("moor", "berth")}, tree{s.path("moor"): s.whole("moor"), s.path("berth"): s.whole("berth")}))
			assert.InDelta(t, lines, value(t, m, "lines_moved"), 1)
			assert.Zero(t, value(t, m, "losses"), "what moved is not lost: %v", m.Findings)

			// Another solution is near, and not the same.
			other := tree{s.path("tide"): s.whole("tide"), s.path("moor"): s.whole("moor", "pier") + s.in}
			in.References = []Reference{{Diff: between(t, before, other).Diff, Read: reading(before, other)}}
			near := value(t, measure(t, in), "nearness_likeness")
			assert.Greater(t, near, 0.4)
			assert.Less(t, near, 1.0)

			// A file that nobody asked for is a stray, unless one that was asked for names it.
			gauge := s.path("gauge")
			asked := tree{s.path("tide"): s.whole("tide"), s.path("moor"): s.whole("moor") + s.in}
			for what, moor := range map[string]string{"named": asked[s.path("moor")], "not named": strings.Replace(asked[s.path("moor")], "gauge", "other", -1)} {
				result := tree{s.path("tide"): s.whole("tide"), s.path("moor"): moor, gauge: s.whole("weigh")}
				one := between(t, before, result)
				one.References = []Reference{{Diff: between(t, before, asked).Diff, Read: reading(before, asked)}}
				want := []string{"file " + gauge}
				if what == "named" {
					want = []string{}
				}
				assert.Equal(t, want, evidence(measure(t, one), "strays"), what)
			}
			if s.testFile == "" {
				return
			}

			// Tests: one is added, it goes away, it asserts less.
			at := s.named(s.testFile, "tide")
			test := s.head + s.named(s.test, "tide")
			if s.name == "Java" {
				test = s.named(s.test, "tide")
			}
			kinds := func(before, after string) (out []string) {
				start, result := tree{"keep": "x\n"}, tree{"keep": "x\n"}
				if before != "" {
					start[at] = before
				}
				if after != "" {
					result[at] = after
				}
				for _, f := range measure(t, between(t, start, result)).Findings {
					if f.Measure == "tests" {
						out = append(out, f.Kind)
					}
				}
				return out
			}
			assert.Equal(t, []string{"added"}, kinds("", test))
			assert.Equal(t, []string{"removed"}, kinds(test, ""))
			assert.Equal(t, []string{"weakened"}, kinds(test, strings.Replace(test, s.asserts, "", 1)))
			assert.Empty(t, kinds(test, test+"\n"))
		})
	}
}
