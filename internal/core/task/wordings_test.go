package task

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const wordHead = "---\ntask: t\ntitle: T\nrepository: r\nstart_commit: main\nchecks: [{name: a, run: x}]\n"

func TestWordings(t *testing.T) {
	one, doc := Parse("/t.md", "t.md", []byte(wordHead+"---\nJust do it.\n\n### wording: no heading of ours\n"), nil)
	require.Empty(t, doc.Problems)
	assert.Equal(t, []Wording{{Words: "Just do it.\n\n### wording: no heading of ours"}}, one.Wordings)

	text := "Shared.\n\n## wording: short\nLight it.\n```\n## wording: in-a-fence\n```\n\n## wording: long\r\nWould you light it?\n~~~md\n## wording: here-too\n~~~\n"
	two, doc := Parse("/t.md", "t.md", []byte(wordHead+"---\n"+text), nil)
	require.Empty(t, doc.Problems)
	require.Len(t, two.Wordings, 2)
	assert.Equal(t, "Shared.\n\nLight it.\n```\n## wording: in-a-fence\n```", two.Wordings[0].Words)
	assert.Equal(t, two.Brief, two.Wordings[0].Words)
	for name, ok := range map[string]bool{"": true, "short": true, "long": true, "other": false} {
		words, found := two.Words(name)
		assert.Equal(t, ok, found, name)
		assert.Equal(t, ok, words != "", name)
	}

	for bad, says := range map[string]string{
		"## wording: a\n\n## wording: b\nx\n":  "no words under the wording a",
		"## wording: a\nx\n## wording: a\ny\n": `the wording "a"`,
		"## wording: A b\nx\n":                 `the wording "A b"`,
		"## wording:\nx\n":                     `the wording ""`,
	} {
		_, doc := Parse("/t.md", "t.md", []byte(wordHead+"---\n"+bad), nil)
		require.NotEmpty(t, doc.Problems, bad)
		assert.Contains(t, doc.Problems.Error(), says)
		assert.Contains(t, doc.Problems.Error(), "t.md:", "with its line")
	}
}

func TestAttachments(t *testing.T) {
	files := map[string][]byte{"/c/shots/lamp.png": []byte("png"), "/c/other/lamp.png": []byte("png"), "/c/log.txt": []byte("log")}
	one, doc := Parse("/c/t.md", "t.md", []byte(wordHead+"attachments: [shots/lamp.png, log.txt]\n---\nx\n"), files)
	require.Empty(t, doc.Problems)
	assert.Equal(t, []Attached{{"lamp.png", []byte("png")}, {"log.txt", []byte("log")}}, one.Attached)
	named, _ := Names("/c/t.md", one.Source)
	assert.Equal(t, []string{"/c/shots/lamp.png", "/c/log.txt"}, named)
	changed, _ := Parse("/c/t.md", "t.md", one.Source, map[string][]byte{"/c/shots/lamp.png": []byte("other"), "/c/log.txt": []byte("log")})
	assert.NotEqual(t, one.Digest("c"), changed.Digest("c"), "attached files belong to the version")
	for bad, says := range map[string]string{"[none.png]": "no such file", "[shots/lamp.png, other/lamp.png]": "a second time", "[" + strings.Repeat("log.txt,", 21) + "]": "at most 20"} {
		_, doc := Parse("/c/t.md", "t.md", []byte(wordHead+"attachments: "+bad+"\n---\nx\n"), files)
		require.NotEmpty(t, doc.Problems, bad)
		assert.Contains(t, doc.Problems.Error(), says)
	}
	assert.Equal(t, "words", Mention("words", nil))
	assert.Equal(t, "words\n\nWith it go these files: /a, /b", Mention("words", []string{"/a", "/b"}))
}
