package contender

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func parse(text string) (*Contender, string) {
	c, doc := Parse("/c.yaml", "c.yaml", []byte("contender: c\ntitle: C\n"+text))
	if len(doc.Problems) == 0 {
		return c, ""
	}
	return c, doc.Problems.Error()
}

func TestDrivingKeys(t *testing.T) {
	for _, good := range []string{
		"run: [x]\n",
		"drive: hand\n",
		"drive: hand\nguidance: {as: A.md}\nmodel: spring\nsetup_notes: {minutes: 0}\nmeter: {upstream: \"http://m/v1\"}\n",
		"drive: acp\nrun: [x]\npermissions: [{kind: edit, answer: refuse}, {pattern: '^rm', answer: refuse}, {answer: allow}]\nmodel: spring\n",
		"run: [x, '{model}', '{effort}', '{attachments}']\nmodel: a\neffort: b\nattach: [--file, '{attachment}']\n",
		"run: [x]\npty: true\nterminal: {columns: 80}\nreplies: [{pattern: 'go\\?', send: ''}]\nversion_command: [x, -v]\nfirst_use: {run: [x, index], keep: ['.index/**'], time: 5m}\n",
	} {
		_, problems := parse(good)
		assert.Empty(t, problems, good)
	}
	for bad, says := range map[string]string{
		"drive: telepathy\nrun: [x]\n": "command, acp or hand",
		"drive: acp\n":                 "the key run",
		"drive: hand\nrun: [x]\n":      "leaves it to a person",
		"drive: hand\nnetwork: meter-only\nmeter: {upstream: \"http://m\"}\n": "a person works the tool",
		"drive: acp\nrun: [x]\npty: true\n":                                   "drive: command",
		"drive: acp\nrun: [x]\nstdin: brief\n":                                "a prompt",
		"run: [x]\npermissions: [{answer: allow}]\n":                          "drive: acp",
		"run: [x]\nterminal: {rows: 2}\n":                                     "pty: true",
		"run: [x]\npty: true\nterminal: {rows: -2}\n":                         "from 1 to 1000",
		"run: [x]\npty: true\nstdin: brief\n":                                 "{brief_file}",
		"run: [x]\nreplies: [{pattern: '(', send: y}]\n":                      "regular expression",
		"run: [x]\nreplies: [{pattern: '', send: y}]\n":                       "only the question fits",
		"run: [x]\nreplies: [{pattern: a, send: y, at_most: -1}]\n":           "from 1 to 1000",
		"drive: acp\nrun: [x]\npermissions: [{kind: dance, answer: allow}]\n": "one of read",
		"run: [x]\nguidance: {as: ../A.md}\n":                                 "inside the workspace",
		"run: [x]\nguidance: {as: .GIT/hooks/x}\n":                            "inside the workspace",
		"run: [x]\nfirst_use: {run: []}\n":                                    "a program",
		"run: [x]\nfirst_use: {run: [x], keep: [/etc]}\n":                     "glob",
		"run: [x]\nversion_command: []\n":                                     "--version",
		"run: [x]\nsetup_notes: {minutes: -1}\n":                              "0 or more",
		"run: [x, '{model}']\n":                                               "the key model",
		"run: [x]\nenv: {A: '{effort}'}\n":                                    "the key effort",
		"run: [x, '{attachments}']\n":                                         "the key attach",
		"run: [x, 'a {attachments}']\nattach: ['{attachment}']\n":             "an argument of its own",
		"run: [x, '{attachments}']\nattach: [no]\n":                           "{attachment}",
		"run: [x]\nattach: ['{attachment}']\n":                                "does not use",
		"run: [x, '{attachment}']\n":                                          "{attachments}",
	} {
		_, problems := parse(bad)
		assert.Contains(t, problems, says, bad)
	}
}

func TestAnswersAndArguments(t *testing.T) {
	c, problems := parse("drive: acp\nrun: [x]\npermissions: [{kind: edit, pattern: lamp, answer: refuse}, {kind: fetch, answer: refuse}, {pattern: quay, answer: allow}, {pattern: qu, answer: refuse}]\n")
	require.Empty(t, problems)
	for _, w := range []struct {
		kind, title string
		want        Permit
	}{{"edit", "the lamp", Refuse}, {"edit", "other", Allow}, {"fetch", "x", Refuse}, {"read", "quay", Allow}, {"read", "quoin", Refuse}} {
		assert.Equal(t, w.want, c.Answer(w.kind, w.title), w)
	}
	c, _ = parse("run: [x, '{attachments}', '{brief}']\nattach: [--file, '{attachment}=']\n")
	assert.Equal(t, []string{"x", "--file", "/a=", "--file", "/{brief}=", "words"}, c.Arguments(c.Run, map[Placeholder]string{Brief: "words"}, []string{"/a", "/{brief}"}))
	assert.False(t, c.MentionAttachments())
	columns, rows := (*Terminal)(nil).Size()
	assert.Equal(t, []int{DefaultColumns, DefaultRows}, []int{columns, rows})
	assert.True(t, strings.Contains(DriveACP.Words(), "Protocol"))
}
