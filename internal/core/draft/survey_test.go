package draft

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestConsider(t *testing.T) {
	both := []LoggedFile{{"tide/height.go", 20, 5}, {"tide/height_test.go", 30, 0}, {"README.md", 400, 0}}
	for name, c := range map[string]struct {
		in   Logged
		left string
	}{
		"good":           {Logged{Parents: 1, Subject: "Fix the height at low water", Files: both}, ""},
		"a merge":        {Logged{Parents: 2, Subject: "Merge branch x", Files: both}, "a merge"},
		"first":          {Logged{Parents: 0, Subject: "Begin", Files: both}, "the first commit"},
		"a revert":       {Logged{Parents: 1, Subject: `Revert "Fix the height"`, Files: both}, "a revert"},
		"a bump":         {Logged{Parents: 1, Subject: "Bump tide/moon from 1.2 to 1.3", Files: both}, "a release, or a change of versions"},
		"a release":      {Logged{Parents: 1, Subject: "v1.4.0", Files: both}, "a release, or a change of versions"},
		"formatting":     {Logged{Parents: 1, Subject: "gofmt everything", Files: both}, "formatting, or words for people"},
		"only words":     {Logged{Parents: 1, Subject: "Say more", Files: []LoggedFile{{"README.md", 3, 0}}}, "it changes no code"},
		"no tests":       {Logged{Parents: 1, Subject: "Fix", Files: both[:1]}, "it changes no tests"},
		"tests only":     {Logged{Parents: 1, Subject: "More tests", Files: both[1:2]}, "it changes no code"},
		"too small":      {Logged{Parents: 1, Subject: "Fix", Files: []LoggedFile{{"a.go", 1, 1}, {"a_test.go", 9, 0}}}, "too small: 2 lines of code"},
		"too large":      {Logged{Parents: 1, Subject: "Fix", Files: []LoggedFile{{"a.go", 300, 200}, {"a_test.go", 9, 0}}}, "too large: 500 lines of code"},
		"vendored alone": {Logged{Parents: 1, Subject: "Fix", Files: []LoggedFile{{"vendor/a/a.go", 30, 2}, {"a_test.go", 9, 0}}}, "it changes no code"},
		"binary":         {Logged{Parents: 1, Subject: "Fix", Files: append([]LoggedFile{{"chart.go", -1, -1}}, both...)}, ""},
	} {
		assert.Equal(t, c.left, Consider(c.in, DefaultBounds).LeftOut, name)
	}
	good := Consider(Logged{Commit: "c", Parents: 1, Subject: "Fix the height", Files: both}, DefaultBounds)
	assert.Equal(t, Candidate{Commit: "c", Subject: "Fix the height", Kind: "fix", Folder: "tide", Size: "small", Lines: 25}, good)
}

func TestSpread(t *testing.T) {
	c := func(id, kind, size, folder, left string) Candidate {
		return Candidate{Commit: id, Kind: kind, Size: size, Folder: folder, LeftOut: left}
	}
	var ids []string
	for _, one := range Spread([]Candidate{c("a", "fix", "small", "tide", ""), c("b", "fix", "small", "tide/x", ""), c("c", "fix", "small", "tide", ""), c("d", "feature", "small", "tide", ""),
		c("e", "fix", "large", "tide", ""), c("x", "fix", "small", "tide", "a merge"), c("f", "feature", "small", "tide", "")}) {
		ids = append(ids, one.Commit)
	}
	assert.Equal(t, []string{"a", "d", "e", "b", "f", "c"}, ids)
	assert.Empty(t, Spread(nil))
}

func TestLabel(t *testing.T) {
	assert.Equal(t, "---\ntask: x\nlabels: [fix, tide-tables]\nsize: small\nrepository: r\n", string(Label([]byte("---\ntask: x\nrepository: r\n"), Candidate{Kind: "fix", Size: "small", Folder: "Tide Tables/x"})))
	assert.Equal(t, "---\ntask: x\nlabels: [other]\nsize: large\nrepository: r\n", string(Label([]byte("---\ntask: x\nrepository: r\n"), Candidate{Kind: "other", Size: "large", Folder: "."})))
}
