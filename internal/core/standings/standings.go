// Package standings works out the table of contenders from the facts of their
// bouts. The same facts give the same table, in the same order, everywhere.
package standings

import (
	"sort"

	"agonometer/internal/core/patch"
	"agonometer/internal/core/verdict"
)

// Bout is what the standings need to know of a bout that has ended.
type Bout struct {
	Contender string
	// Outcome is that in the end; First that on what came the first time ("" as Outcome).
	Outcome, First verdict.Outcome
	// Rounds is how many rounds there were; 0 where that is not known.
	Rounds int
	// ElapsedMS is the time from the hand-over to the tool's end; nil where it was not measured.
	ElapsedMS *int64
	// Footprint is the size of the change; nil where none was captured.
	Footprint  *patch.Footprint
	Unconfined bool
	Beside     bool
}

// Row is one contender's line. Medians are over the bouts that passed or
// failed and where the figure was measured; nil where there is none.
type Row struct {
	Contender string `json:"contender"`
	// Bouts is how many the contest has for this contender; Done how many have
	// ended, void ones included.
	Bouts  int `json:"bouts"`
	Done   int `json:"done"`
	Passed int `json:"passed"`
	Failed int `json:"failed"`
	Void   int `json:"void"`
	// SuccessShare is Passed / (Passed + Failed), from 0 to 1.
	SuccessShare *float64 `json:"success_share"`
	// FirstPassed is how many passed the first time, without a repair round;
	// FirstShare is FirstPassed / (Passed + Failed).
	FirstPassed int      `json:"first_passed"`
	FirstShare  *float64 `json:"first_share"`
	// MedianRounds is over the bouts that passed or failed.
	MedianRounds *float64 `json:"median_rounds"`
	// MedianElapsedMS is in milliseconds; MedianPassedMS over passed bouts alone.
	MedianElapsedMS *float64 `json:"median_elapsed_ms"`
	MedianPassedMS  *float64 `json:"median_passed_ms"`
	MedianFiles     *float64 `json:"median_files"`
	MedianAdded     *float64 `json:"median_lines_added"`
	MedianRemoved   *float64 `json:"median_lines_removed"`
	Unconfined      int      `json:"unconfined"`
	Beside          int      `json:"beside"`
}

// Table makes one row per contender, in the order of success share (highest
// first), then of median elapsed time (shortest first), then of name. Rows
// without a share come last. planned is the
// number of bouts of each contender.
func Table(contenders []string, planned map[string]int, bouts []Bout) []Row {
	rows := make([]Row, 0, len(contenders))
	for _, name := range contenders {
		row := Row{Contender: name, Bouts: planned[name]}
		var rounds, elapsed, passedMS, files, added, removed []float64
		for _, b := range bouts {
			if b.Contender != name {
				continue
			}
			row.Done++
			if b.Unconfined {
				row.Unconfined++
			}
			if b.Beside {
				row.Beside++
			}
			switch b.Outcome {
			case verdict.Void:
				row.Void++
				continue
			case verdict.Passed:
				row.Passed++
				if b.ElapsedMS != nil {
					passedMS = append(passedMS, float64(*b.ElapsedMS))
				}
			case verdict.Failed:
				row.Failed++
			}
			if b.First == verdict.Passed || b.First == "" && b.Outcome == verdict.Passed {
				row.FirstPassed++
			}
			if b.Rounds > 0 {
				rounds = append(rounds, float64(b.Rounds))
			}
			if b.ElapsedMS != nil {
				elapsed = append(elapsed, float64(*b.ElapsedMS))
			}
			if b.Footprint != nil {
				files = append(files, float64(b.Footprint.Files))
				added = append(added, float64(b.Footprint.LinesAdded))
				removed = append(removed, float64(b.Footprint.LinesRemoved))
			}
		}
		if n := row.Passed + row.Failed; n > 0 {
			share := float64(row.Passed) / float64(n)
			first := float64(row.FirstPassed) / float64(n)
			row.SuccessShare, row.FirstShare = &share, &first
		}
		row.MedianRounds = Median(rounds)
		row.MedianElapsedMS, row.MedianPassedMS = Median(elapsed), Median(passedMS)
		row.MedianFiles, row.MedianAdded, row.MedianRemoved = Median(files), Median(added), Median(removed)
		rows = append(rows, row)
	}
	sort.SliceStable(rows, func(i, j int) bool {
		a, b := rows[i], rows[j]
		if c := compare(b.SuccessShare, a.SuccessShare, -1); c != 0 {
			return c < 0
		}
		if c := compare(a.MedianElapsedMS, b.MedianElapsedMS, 1); c != 0 {
			return c < 0
		}
		return a.Contender < b.Contender
	})
	return rows
}

// compare orders two figures; an absent one counts as larger for absent = 1,
// and as smaller for absent = -1.
func compare(a, b *float64, absent int) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return absent
	case b == nil:
		return -absent
	case *a < *b:
		return -1
	case *a > *b:
		return 1
	}
	return 0
}

// Median is the middle value, or the mean of the two middle values; nil for
// no values. The argument is not changed.
func Median(values []float64) *float64 {
	if len(values) == 0 {
		return nil
	}
	s := append([]float64(nil), values...)
	sort.Float64s(s)
	m := s[len(s)/2]
	if len(s)%2 == 0 {
		m = (s[len(s)/2-1] + m) / 2
	}
	return &m
}
