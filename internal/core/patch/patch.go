// Package patch reads a captured diff: its files, hunks and lines, and how
// large it is. It never touches a disk; a diff is data, and may be hostile.
package patch

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/bluekeyes/go-gitdiff/gitdiff"
)

// Status is what happened to a file.
type Status string

const (
	Added    Status = "added"
	Deleted  Status = "deleted"
	Changed  Status = "changed"
	Renamed  Status = "renamed"
	ModeOnly Status = "mode"
)

// LineKind is what happened to a line.
type LineKind string

const (
	LineContext LineKind = "context"
	LineAdded   LineKind = "added"
	LineRemoved LineKind = "removed"
)

// Line is one line of a hunk; Old and New are line numbers from 1, 0 where the
// line does not exist on that side.
type Line struct {
	Kind LineKind `json:"kind"`
	Old  int64    `json:"old,omitempty"`
	New  int64    `json:"new,omitempty"`
	Text string   `json:"text"`
	// NoNewline is set where the file ends in this line without a line end.
	NoNewline bool `json:"no_newline,omitempty"`
}

// Hunk is a stretch of changed lines with its context.
type Hunk struct {
	Heading string `json:"heading"`
	Lines   []Line `json:"lines"`
}

// File is one changed file.
type File struct {
	Path    string `json:"path"`
	OldPath string `json:"old_path,omitempty"`
	Status  Status `json:"status"`
	OldMode string `json:"old_mode,omitempty"`
	NewMode string `json:"new_mode,omitempty"`
	Binary  bool   `json:"binary,omitempty"`
	Added   int    `json:"added"`
	Removed int    `json:"removed"`
	// Cut is how many lines were left out of Hunks.
	Cut   int    `json:"cut,omitempty"`
	Hunks []Hunk `json:"hunks"`
}

// Footprint is how large a change is. Lines of binary files are not counted.
type Footprint struct {
	Files        int `json:"files"`
	FilesAdded   int `json:"files_added"`
	FilesDeleted int `json:"files_deleted"`
	FilesRenamed int `json:"files_renamed"`
	FilesBinary  int `json:"files_binary"`
	LinesAdded   int `json:"lines_added"`
	LinesRemoved int `json:"lines_removed"`
	Hunks        int `json:"hunks"`
}

// MaxLines is how many lines of one file Parse returns when asked to limit.
const MaxLines = 5000

// Parse reads a diff as git prints it. maxLines bounds the lines returned per
// file (0: all, but of a diff of more than 200,000 lines only some of each file); counts
// are always of the whole. An empty diff has no files.
func Parse(diff []byte, maxLines int) ([]File, error) {
	if len(bytes.TrimSpace(diff)) == 0 {
		return nil, nil
	}
	t := thin(diff)
	parsed, _, err := gitdiff.Parse(bytes.NewReader(t.diff))
	if err != nil {
		return nil, fmt.Errorf("the diff cannot be read: %w", err)
	}
	out := make([]File, 0, len(parsed))
	for i, p := range parsed {
		f := fileOf(p, maxLines)
		f.Added, f.Removed = f.Added+t.added[i], f.Removed+t.removed[i]
		f.Cut += t.added[i] + t.removed[i]
		if n := len(out) - 1; n >= 0 && becameAnother(&out[n], &f) {
			out[n] = sameFile(out[n], f)
		} else {
			out = append(out, f)
		}
		parsed[i] = nil // its lines are not needed twice
	}
	return out, nil
}

// becameAnother tells whether two entries of a diff are one file that became something of
// another kind: a link for a file, or the reverse. git takes the one out and adds the other.
func becameAnother(gone, came *File) bool {
	return gone.Status == Deleted && came.Status == Added && gone.Path == came.Path
}

// sameFile is what two such entries come to.
func sameFile(gone, came File) File {
	came.Status, came.OldMode = Changed, gone.OldMode
	came.Binary = came.Binary || gone.Binary
	came.Added, came.Removed, came.Cut = came.Added+gone.Added, came.Removed+gone.Removed, came.Cut+gone.Cut
	came.Hunks = append(gone.Hunks, came.Hunks...)
	return came
}

func fileOf(p *gitdiff.File, maxLines int) File {
	f := File{Path: p.NewName, Status: Changed, Binary: p.IsBinary, Hunks: []Hunk{}}
	switch {
	case p.IsNew:
		f.Status = Added
	case p.IsDelete:
		f.Status, f.Path = Deleted, p.OldName
	case p.IsRename:
		f.Status, f.OldPath = Renamed, p.OldName
	case !p.IsBinary && len(p.TextFragments) == 0 && p.OldMode != p.NewMode:
		f.Status = ModeOnly
	}
	if p.OldMode != 0 {
		f.OldMode = fmt.Sprintf("%06o", uint32(p.OldMode))
	}
	if p.NewMode != 0 {
		f.NewMode = fmt.Sprintf("%06o", uint32(p.NewMode))
	}
	shown := 0
	for _, t := range p.TextFragments {
		h := Hunk{Heading: t.Comment}
		old, now := t.OldPosition, t.NewPosition
		for _, l := range t.Lines {
			line := Line{Text: strings.TrimSuffix(l.Line, "\n"), NoNewline: l.NoEOL()}
			switch l.Op {
			case gitdiff.OpAdd:
				line.Kind, line.New = LineAdded, now
				now++
				f.Added++
			case gitdiff.OpDelete:
				line.Kind, line.Old = LineRemoved, old
				old++
				f.Removed++
			default:
				line.Kind, line.Old, line.New = LineContext, old, now
				old++
				now++
			}
			if maxLines > 0 && shown >= maxLines {
				f.Cut++
				continue
			}
			shown++
			h.Lines = append(h.Lines, line)
		}
		if len(h.Lines) > 0 {
			f.Hunks = append(f.Hunks, h)
		}
	}
	return f
}

// Measure works out the footprint of a diff.
func Measure(diff []byte) (Footprint, error) {
	var fp Footprint
	if len(bytes.TrimSpace(diff)) == 0 {
		return fp, nil
	}
	t := thin(diff)
	parsed, _, err := gitdiff.Parse(bytes.NewReader(t.diff))
	if err != nil {
		return fp, fmt.Errorf("the diff cannot be read: %w", err)
	}
	for i, p := range parsed {
		again := i > 0 && parsed[i-1].IsDelete && p.IsNew && parsed[i-1].OldName == p.NewName // one file that became another kind
		if again {
			fp.FilesDeleted--
			if parsed[i-1].IsBinary {
				fp.FilesBinary--
			}
			if p.IsBinary || parsed[i-1].IsBinary {
				fp.FilesBinary++
			}
		} else {
			fp.Files++
		}
		fp.Hunks += len(p.TextFragments) + t.hunks[i]
		fp.LinesAdded += t.added[i]
		fp.LinesRemoved += t.removed[i]
		switch {
		case again:
		case p.IsNew:
			fp.FilesAdded++
		case p.IsDelete:
			fp.FilesDeleted++
		case p.IsRename:
			fp.FilesRenamed++
		}
		if p.IsBinary && !again {
			fp.FilesBinary++
		}
		for _, t := range p.TextFragments {
			fp.LinesAdded += int(t.LinesAdded)
			fp.LinesRemoved += int(t.LinesDeleted)
		}
	}
	return fp, nil
}
