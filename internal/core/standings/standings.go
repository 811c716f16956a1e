// Package standings works out the table of contenders from the facts of their
// bouts. The same facts give the same table, in the same order, everywhere.
package standings

import (
	"sort"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/person"
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
	// Replaced is set for a void try in whose place another one counts: it only adds
	// to what was spent, and to the availability.
	Replaced bool
	// Used is what the bout used; its Source is "" where no ledger was kept.
	Used ledger.Sheet
	// FirstEditMS is the working time until the first edit; nil where none was seen.
	FirstEditMS *int64
	// Refused is set where its model service refused at least once, Late where it
	// was stopped at the limit of time or of quiet.
	Refused, Late bool
	// WaitedMS is how long it was refused or paced; nil where that was not seen.
	WaitedMS *int64
	// Driven says how the contender was driven.
	Driven string
	// Task and Wording are what it was given; Wording is "" where there is but one.
	Task, Wording string
	// Effort is what it asked of a person; nil where that is not known.
	Effort *person.Effort
	// Edits are the figures of the edit measures; nil where there are none.
	Edits map[string]float64
	// Discarded is set where a person threw the bout away, with a reason.
	Discarded bool
}

// Availability is how often a contender's tries came to nothing for what was not
// its skill. It is a figure of its own, since void bouts count for nobody: losing
// the hard bouts to refusals must not make a tool look better.
type Availability struct {
	// Tries counts every bout that was begun and has ended, void ones and those that
	// were replaced included.
	Tries   int `json:"tries"`
	Refused int `json:"refused"`
	Void    int `json:"void"`
	Late    int `json:"late"`
	// Discarded is how many a person threw away, with a reason; they are void too.
	Discarded int `json:"discarded"`
	// Share is that of the tries that were neither refused nor void nor late.
	Share  *float64 `json:"share"`
	served int
	// WaitedMS is the waiting that refusals and pacing added, over all tries, in
	// milliseconds; nil where it was not seen.
	WaitedMS *int64 `json:"waited_ms"`
}

// Mixed is the source of figures that are of several sources.
const Mixed ledger.Source = "mixed"

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
	// MedianElapsedMS is in milliseconds; MedianPassedMS over passed bouts alone: the
	// time to a usable result, repair rounds and a person's editing included.
	MedianElapsedMS *float64 `json:"median_elapsed_ms"`
	MedianPassedMS  *float64 `json:"median_passed_ms"`
	MedianFiles     *float64 `json:"median_files"`
	MedianAdded     *float64 `json:"median_lines_added"`
	MedianRemoved   *float64 `json:"median_lines_removed"`
	// Edits are the medians of the edit measures' figures, by name.
	Edits      map[string]EditMedian `json:"edits"`
	Unconfined int                   `json:"unconfined"`
	Beside     int                   `json:"beside"`
	// MedianFirstEditMS is the working time until the first edit.
	MedianFirstEditMS *float64 `json:"median_first_edit_ms"`
	// MedianTokens are of all kinds; TokensAtLeast is set where a part was not counted.
	MedianTokens  *float64 `json:"median_tokens"`
	TokensAtLeast bool     `json:"tokens_at_least"`
	// TokensPerLine is all tokens divided by all changed lines.
	TokensPerLine *float64 `json:"tokens_per_line"`
	// Source is where the token counts are from: one for all, or mixed.
	Source ledger.Source `json:"source"`
	// Spent is all the money, void and replaced tries included; PerPassed is Spent
	// divided by Passed. SpentAtLeast is set where a part is not known.
	Spent        *ledger.Money `json:"spent"`
	PerPassed    *ledger.Money `json:"money_per_passed"`
	SpentAtLeast bool          `json:"spent_at_least"`
	// SpentRange and PerPassedRange stand in their places where a part of the money is
	// only known to lie between two amounts.
	SpentRange     *ledger.Range `json:"spent_range"`
	PerPassedRange *ledger.Range `json:"money_per_passed_range"`
	// Driven says how the contender was driven: one way for all its bouts, or mixed.
	Driven string `json:"driven"`
	// Corrections, Permissions and OwnEdits are sums over the bouts that passed or
	// failed and of which the person's part is known: EffortOf of them.
	Corrections int `json:"corrections"`
	Permissions int `json:"permissions"`
	OwnEdits    int `json:"own_edits"`
	EffortOf    int `json:"effort_of"`
	// AttentionMS is the person's time over all tries, in milliseconds.
	AttentionMS int64 `json:"attention_ms"`
	// MedianKept is the share of the tool's lines that stood.
	MedianKept *float64 `json:"median_kept_share"`
	// PersonMoney is what the attention is worth at the contest's hourly rate;
	// PerPassedWithPerson is that and Spent together, divided by Passed.
	PersonMoney              *ledger.Money `json:"person_money"`
	PerPassedWithPerson      *ledger.Money `json:"money_per_passed_with_person"`
	PerPassedWithPersonRange *ledger.Range `json:"money_per_passed_with_person_range"`
	Availability             Availability  `json:"availability"`
	ranged                   bool
}

// account adds what a try used and how it was served; it holds for every try.
func (r *Row) account(b *Bout) {
	a := &r.Availability
	a.Tries++
	void := b.Outcome == verdict.Void
	if void {
		a.Void++
	}
	if b.Refused {
		a.Refused++
	}
	if b.Late {
		a.Late++
	}
	if b.Discarded {
		a.Discarded++
	}
	if b.Effort != nil {
		r.AttentionMS += b.Effort.AttentionMS
	}
	if !void && !b.Refused && !b.Late {
		a.served++
	}
	if b.WaitedMS != nil {
		sum := *b.WaitedMS
		if a.WaitedMS != nil {
			sum += *a.WaitedMS
		}
		a.WaitedMS = &sum
	}
	switch u := &b.Used; {
	case u.Source == "" || u.Source == ledger.NotKnown:
		if !void {
			r.SpentAtLeast = true
		}
	case u.Money == nil && u.MoneyRange == nil:
		r.SpentAtLeast = true
	default:
		sum := ledger.Range{}
		if u.MoneyRange != nil {
			sum, r.ranged = *u.MoneyRange, true
		} else {
			sum = ledger.Range{From: *u.Money, To: *u.Money}
		}
		if r.SpentRange != nil && r.SpentRange.From.Currency == sum.From.Currency {
			sum = ledger.Range{From: sum.From.Plus(r.SpentRange.From), To: sum.To.Plus(r.SpentRange.To)}
		} else if r.SpentRange != nil { // two currencies cannot be added: the first stays
			r.SpentAtLeast, sum = true, *r.SpentRange
		}
		r.SpentRange, r.SpentAtLeast = &sum, r.SpentAtLeast || u.MoneyAtLeast
	}
}

// settle makes the figures that need all tries.
func (r *Row) settle(rate *ledger.Money) {
	a := &r.Availability
	if a.Tries > 0 {
		share := float64(a.served) / float64(a.Tries)
		a.Share = &share
	}
	both := r.SpentRange
	if rate != nil && r.EffortOf > 0 {
		money := (&person.Effort{AttentionMS: r.AttentionMS}).Money(*rate)
		r.PersonMoney = &money
		if both != nil && both.From.Currency == money.Currency {
			both = &ledger.Range{From: both.From.Plus(money), To: both.To.Plus(money)}
		} else {
			both = nil // without the tool's own money there is no sum
		}
	} else {
		both = nil
	}
	if both != nil && r.Passed > 0 {
		r.PerPassedWithPersonRange = &ledger.Range{From: *both.From.Per(r.Passed), To: *both.To.Per(r.Passed)}
	}
	switch {
	case r.SpentRange == nil:
		r.SpentAtLeast = false
	case r.Passed > 0:
		r.PerPassedRange = &ledger.Range{From: *r.SpentRange.From.Per(r.Passed), To: *r.SpentRange.To.Per(r.Passed)}
	}
	if !r.ranged { // exact amounts, and no range
		r.Spent, r.PerPassed, r.PerPassedWithPerson = lower(r.SpentRange), lower(r.PerPassedRange), lower(r.PerPassedWithPersonRange)
		r.SpentRange, r.PerPassedRange, r.PerPassedWithPersonRange = nil, nil, nil
	}
	if r.Source == "" {
		r.Source = ledger.NotKnown
	}
}

func lower(r *ledger.Range) *ledger.Money {
	if r == nil {
		return nil
	}
	return &r.From
}

// EditMedian is the median of a figure over a contender's bouts that passed or failed,
// and over those that passed alone; nil where none has it.
type EditMedian struct {
	All    *float64 `json:"all"`
	Passed *float64 `json:"passed"`
}

// Table makes one row per contender, in the order of success share (highest
// first), then of median elapsed time (shortest first), then of name. Rows
// without a share come last. planned is the number of bouts of each contender; rate
// is what an hour of a person is worth, nil where nobody said.
func Table(contenders []string, planned map[string]int, bouts []Bout, rate *ledger.Money) []Row {
	rows := make([]Row, 0, len(contenders))
	for _, name := range contenders {
		row := Row{Contender: name, Bouts: planned[name]}
		var rounds, elapsed, passedMS, files, added, removed, firstEdit, tokens, kept []float64
		var used, lines float64
		edits := map[string][2][]float64{} // all, passed
		for _, b := range bouts {
			if b.Contender != name {
				continue
			}
			row.account(&b)
			switch {
			case row.Driven == "":
				row.Driven = b.Driven
			case b.Driven != "" && row.Driven != b.Driven:
				row.Driven = string(Mixed)
			}
			if b.Replaced {
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
			if e := b.Effort; e != nil {
				row.EffortOf++
				row.Corrections += e.Corrections()
				row.Permissions += e.Permissions
				row.OwnEdits += e.OwnEdits
				if e.Kept != nil {
					kept = append(kept, *e.Kept)
				}
			}
			if b.First == verdict.Passed || b.First == "" && b.Outcome == verdict.Passed {
				row.FirstPassed++
			}
			for figure, v := range b.Edits {
				both := edits[figure]
				both[0] = append(both[0], v)
				if b.Outcome == verdict.Passed {
					both[1] = append(both[1], v)
				}
				edits[figure] = both
			}
			if b.Rounds > 0 {
				rounds = append(rounds, float64(b.Rounds))
			}
			if b.ElapsedMS != nil {
				elapsed = append(elapsed, float64(*b.ElapsedMS))
			}
			if b.FirstEditMS != nil {
				firstEdit = append(firstEdit, float64(*b.FirstEditMS))
			}
			if n := b.Used.Total; n != nil {
				tokens = append(tokens, float64(*n))
				if b.Footprint != nil {
					used += float64(*n)
					lines += float64(b.Footprint.LinesAdded + b.Footprint.LinesRemoved)
				}
			}
			row.TokensAtLeast = row.TokensAtLeast || b.Used.AtLeast
			switch source := b.Used.Source; {
			case source == "" || source == row.Source:
			case row.Source == "":
				row.Source = source
			default:
				row.Source = Mixed
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
		row.MedianFirstEditMS, row.MedianTokens = Median(firstEdit), Median(tokens)
		if used > 0 && lines > 0 {
			per := used / lines
			row.TokensPerLine = &per
		}
		row.MedianKept = Median(kept)
		row.Edits = map[string]EditMedian{}
		for figure, both := range edits {
			row.Edits[figure] = EditMedian{All: Median(both[0]), Passed: Median(both[1])}
		}
		row.settle(rate)
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
