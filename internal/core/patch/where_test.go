package patch

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// placesOf are the places of a figure as text; those of the start have a minus.
func placesOf(m *Measures, figure string) string {
	list, more := m.Where(figure)
	var out []string
	for _, p := range list {
		text := p.Path
		if p.Side == Before {
			text = "-" + text
		}
		if p.Line > 0 {
			text += fmt.Sprint(":", p.Line)
		}
		if p.End > p.Line {
			text += fmt.Sprint("-", p.End)
		}
		out = append(out, text)
	}
	if more > 0 {
		out = append(out, fmt.Sprint("and ", more))
	}
	return strings.Join(out, " ")
}

func TestFiguresHavePlaces(t *testing.T) {
	before := tree{
		"tide.go":      "package tide\n\nimport \"errors\"\n\n// High is the high water.\nfunc High(day int) (int, error) {\n\tif day < 0 {\n\t\treturn 0, errors.New(\"day\")\n\t}\n\treturn day, nil\n}\n\nfunc Low() int { return 1 }\n",
		"tide_test.go": "package tide\n\nfunc TestHigh(t *testing.T) {\n\tequal(t, 1, high())\n\tequal(t, 2, low())\n}\n",
		"berth.txt":    "one\ntwo\n", "old.md": "Lamps\n", "gone.js": "f();\n",
		"moor.js": "export function moor(ship) {\n  const line = rope(ship);\n  tie(line, ship.bow);\n  return line;\n}\n",
	}
	after := tree{
		"tide.go":      "package tide\n\n// High is the high water, in metres.\nfunc High(day int) (int, error) {\n\tfor i := range day {\n\t\tif i > 3 {\n\t\t\tlevel(i)\n\t\t}\n\t}\n\treturn day, nil\n}\n\nfunc Mean() int { return 1 }\n",
		"tide_test.go": "package tide\n\nfunc TestHigh(t *testing.T) {\n\tequal(t, 1, high())\n\tequal(t, 3, low())\n}\n",
		"berth.txt":    "one\nthree\n", "README.md": "Lamps\n",
		"moor.js": "const port = 1;\n", "rope.js": "export function moor(ship) {\n  const line = rope(ship);\n  tie(line, ship.bow);\n  return line;\n}\n",
	}
	in := between(t, before, after)
	in.References = []Reference{{Diff: in.Diff, Read: in.Read}}
	in.Covered = Coverage{"tide.go": {4: 1, 5: 1, 6: 1, 7: 0, 13: 0}}
	in.Lint = &Lint{Start: [][]byte{[]byte(`{"runs":[{"tool":{"driver":{"name":"l"}},"results":[{"ruleId":"r","message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"tide.go"},"region":{"startLine":13}}}]}]}]}`)}}
	m := measure(t, in)
	for figure, want := range map[string]string{
		"files":                 "README.md berth.txt -gone.js moor.js rope.js tide.go tide_test.go",
		"files_added":           "rope.js",
		"files_deleted":         "-gone.js",
		"files_renamed":         "README.md",
		"hunks":                 "berth.txt:2 -gone.js:1 moor.js:1 rope.js:1-5 tide.go:3-13 tide_test.go:5",
		"lines_added":           "berth.txt:2 moor.js:1 rope.js:1-5 tide.go:3 tide.go:5-8 tide.go:13 tide_test.go:5",
		"lines_added_code":      "moor.js:1 rope.js:1-5 tide.go:5-8 tide.go:13",
		"lines_added_comment":   "tide.go:3",
		"lines_added_test":      "tide_test.go:5",
		"lines_added_docs":      "berth.txt:2",
		"lines_removed_code":    "-gone.js:1 -moor.js:1-5 -tide.go:3 -tide.go:7-8 -tide.go:13",
		"lines_removed_blank":   "-tide.go:4",
		"lines_removed_comment": "-tide.go:5",
		"lines_moved":           "rope.js:1-5",
		"tests_changed":         "tide_test.go:3-6",
		"covered_share":         "tide.go:7 tide.go:13",
		"exports_added":         "tide.go:13",
		"exports_removed":       "-tide.go:13",
		"longest_function":      "tide.go:4-11",
		"deepest_nesting":       "tide.go:6",
		"lint_gone":             "-tide.go:13",
		"docs":                  "README.md berth.txt tide.go:4-11",
		"docs_readme":           "README.md",
		"docs_comments":         "tide.go:4-11",
		"docs_names":            "rope.js:1-5 tide.go:4-11 tide.go:13",
		"nearness_recall":       "README.md berth.txt -gone.js moor.js rope.js tide.go tide_test.go",
		"losses":                "",
		"size_to_reference":     "",
		"docs_changelog":        "",
		"nonsense":              "",
	} {
		assert.Equal(t, want, placesOf(m, figure), figure)
	}
}

// The lines in the places of a figure of lines are as many as it says.
func TestPlacesHoldWhatTheFigureCounts(t *testing.T) {
	for _, in := range []*Input{whole(t), between(t, tree{"a.go": strings.Repeat("a\nb\n", 300)}, tree{"a.go": strings.Repeat("a\nc\n\nd\n", 300)})} {
		m := measure(t, in)
		files, err := Parse(in.Diff, 0)
		require.NoError(t, err)
		for _, f := range m.Figures {
			if !strings.HasPrefix(f.Name, "lines_") || f.Value == nil {
				continue
			}
			list, more := m.Where(f.Name)
			if more > 0 {
				assert.Len(t, list, maxWhere, f.Name)
				continue
			}
			n := 0
			for _, p := range list {
				for i := range files {
					if files[i].Has(p) {
						for _, l := range files[i].Within(p) {
							assert.NotEqual(t, LineContext, l.Kind, "%s: %v", f.Name, p)
							n++
						}
					}
				}
			}
			assert.Equal(t, *f.Value, float64(n), f.Name)
		}
	}
	// Where there are too many, the others are counted.
	m := measure(t, between(t, tree{"a.go": strings.Repeat("a\nb\n", 300)}, tree{"a.go": strings.Repeat("a\nc\n", 300)}))
	list, more := m.Where("lines_added_code")
	assert.Len(t, list, maxWhere)
	assert.Equal(t, 100, more)
	assert.Equal(t, 300.0, value(t, m, "lines_added_code"))
}

func TestPlacesOfLines(t *testing.T) {
	f := File{Path: "new.go", OldPath: "old.go", Hunks: []Hunk{{Lines: []Line{
		{Kind: LineContext, Old: 1, New: 1, Text: "a"}, {Kind: LineRemoved, Old: 2, Text: "b"}, {Kind: LineAdded, New: 2, Text: "c"}, {Kind: LineContext, Old: 3, New: 3, Text: "d"}}}}}
	read := func(p Place) (out string) {
		for _, l := range f.Within(p) {
			out += l.Text
		}
		return out
	}
	assert.Equal(t, "acd", read(Place{Side: After, Path: "new.go", Line: 1, End: 9}))
	assert.Equal(t, "bd", read(Place{Side: Before, Path: "old.go", Line: 2, End: 3}))
	assert.Equal(t, "c", read(Place{Side: After, Path: "new.go", Line: 2}))
	assert.Empty(t, read(Place{Side: After, Path: "new.go"}), "the file as a whole")
	assert.True(t, f.Has(Place{Side: Before, Path: "old.go"}))
	assert.False(t, f.Has(Place{Side: After, Path: "old.go"}))
	assert.Equal(t, map[string]float64{"files": 1, "files_added": 0, "files_deleted": 0, "files_renamed": 1, "hunks": 1, "lines_added": 1, "lines_removed": 2},
		Extent([]File{{Status: Renamed, Hunks: f.Hunks, Added: 1, Removed: 2}}))
}
