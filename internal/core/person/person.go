// Package person works out what a bout asked of the person who worked the tool:
// corrections, permissions, editing of their own, time spent waiting on each other,
// and how much of the tool's lines was kept. A bout that ran by itself has zeros.
package person

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/shopspring/decimal"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/timeline"
)

// Kind is a kind of mark.
type Kind string

const (
	// Waiting spans a time in which the tool waited for the person.
	Waiting Kind = "waiting"
	// Correction is a moment at which words were sent that put the tool right.
	Correction Kind = "correction"
	// Permission is a moment at which the tool was allowed something.
	Permission Kind = "permission"
	// Editing spans a time in which the person edited.
	Editing Kind = "editing"
	// Suggestion is a moment at which a suggestion was taken, refused or edited.
	Suggestion Kind = "suggestion"
	// Note is a remark.
	Note Kind = "note"
)

// Kinds lists all kinds of marks.
func Kinds() []Kind {
	return []Kind{Waiting, Correction, Permission, Editing, Suggestion, Note}
}

// Spans tells whether marks of the kind have an end.
func (k Kind) Spans() bool { return k == Waiting || k == Editing }

// The classes of corrections and suggestions.
const (
	BareError   = "error"       // an error was pasted and nothing else
	Information = "information" // something that the brief had left out was told
	Hint        = "hint"        // the way to go was shown
	Taken       = "taken"
	Refused     = "refused"
	Edited      = "edited" // taken, and edited after
)

// Classes are those of a kind; none for most kinds.
func (k Kind) Classes() []string {
	switch k {
	case Correction:
		return []string{BareError, Information, Hint}
	case Suggestion:
		return []string{Taken, Refused, Edited}
	}
	return nil
}

// maxWords is how long the words of a mark may be, in bytes.
const maxWords = 64 << 10

// Mark is something that a person noted while a tool worked.
type Mark struct {
	Kind Kind `json:"kind"`
	// AtUS is a moment on the bout's clock in microseconds; UntilUS is the end of a
	// span, and nil while it lasts.
	AtUS    int64  `json:"at_us"`
	UntilUS *int64 `json:"until_us"`
	// Class is that of a correction or a suggestion.
	Class string `json:"class"`
	// Words are those that were sent, or a note.
	Words string `json:"words"`
	Round int    `json:"round"`
}

// Check says in words what is wrong with a mark; nil where nothing is.
func (m *Mark) Check() error {
	switch classes := m.Kind.Classes(); {
	case !slices.Contains(Kinds(), m.Kind):
		return fmt.Errorf("there is no mark of the kind %q; there are waiting, correction, permission, editing, suggestion and note", m.Kind)
	case len(classes) > 0 && !slices.Contains(classes, m.Class):
		return fmt.Errorf("a %s is one of %s, and not %q", m.Kind, strings.Join(classes, ", "), m.Class)
	case len(classes) == 0 && m.Class != "":
		return fmt.Errorf("a mark of the kind %s has no class", m.Kind)
	case m.AtUS < 0:
		return fmt.Errorf("the mark lies before the clock was started")
	case !m.Kind.Spans() && m.UntilUS != nil && *m.UntilUS != m.AtUS:
		return fmt.Errorf("a mark of the kind %s is a moment, without an end", m.Kind)
	case m.UntilUS != nil && *m.UntilUS < m.AtUS:
		return fmt.Errorf("the mark ends before it begins")
	case len(m.Words) > maxWords:
		return fmt.Errorf("the words have %d bytes; a mark may have %d", len(m.Words), maxWords)
	}
	return nil
}

// Event is the mark on the timeline; open spans last until now. ok is false for
// marks that are no event.
func (m *Mark) Event(now int64) timeline.Event {
	e := timeline.Event{At: m.AtUS, Until: m.AtUS, Round: m.Round, Text: m.Words}
	switch m.Kind {
	case Waiting:
		e.Kind = timeline.Asked
	case Editing:
		e.Kind = timeline.Person
	case Correction:
		e.Kind = timeline.Corrected
	case Permission:
		e.Kind = timeline.Permitted
	case Suggestion:
		e.Kind = timeline.Suggested
	default:
		e.Kind = timeline.Note
	}
	if m.Class != "" {
		e.Text = strings.TrimSuffix(m.Class+": "+m.Words, ": ")
	}
	if m.Kind.Spans() {
		e.Until = max(m.AtUS, now)
		if m.UntilUS != nil {
			e.Until = *m.UntilUS
		}
	}
	return e
}

// Own is one time of own editing: the change from the start at its beginning, and
// what the person then changed, both as unified diffs.
type Own struct{ Before, Step []byte }

// Effort is what a bout asked of a person.
type Effort struct {
	// Errors, Information and Hints count corrections by kind.
	Errors      int `json:"corrections_error"`
	Information int `json:"corrections_information"`
	Hints       int `json:"corrections_hint"`
	Permissions int `json:"permissions"`
	// Answered counts what was answered by rule, without a person; AnsweredMS is how
	// long the tool waited for that, in milliseconds.
	Answered   int   `json:"answered_by_rule"`
	AnsweredMS int64 `json:"answered_by_rule_ms"`
	// WaitingMS is how long the tool waited for the person, EditingMS how long the
	// person edited, AttentionMS both together, counted once where they overlap.
	WaitingMS   int64 `json:"waiting_ms"`
	EditingMS   int64 `json:"editing_ms"`
	AttentionMS int64 `json:"attention_ms"`
	// OwnEdits is how often the person edited, with the lines of that.
	OwnEdits        int `json:"own_edits"`
	OwnLinesAdded   int `json:"own_lines_added"`
	OwnLinesRemoved int `json:"own_lines_removed"`
	// Kept is the share of the tool's added lines that the person let stand, from 0 to
	// 1; nil where the tool added none.
	Kept *float64 `json:"kept_share"`
	// Suggestions count those while typing; Keys is how many keys were pressed for
	// Wanted characters, nil where that was not counted.
	Taken   int  `json:"suggestions_taken"`
	Refused int  `json:"suggestions_refused"`
	Edited  int  `json:"suggestions_edited"`
	Keys    *int `json:"keys"`
	Wanted  *int `json:"wanted_characters"`
}

// Corrections is how many there were of all kinds.
func (e *Effort) Corrections() int { return e.Errors + e.Information + e.Hints }

// Needed tells whether anybody was needed at all.
func (e *Effort) Needed() bool {
	return e.Corrections()+e.Permissions+e.OwnEdits+e.Taken+e.Refused+e.Edited > 0 || e.AttentionMS > 0
}

// Of works out the effort of a bout. now ends spans that are still open, in
// microseconds; final is the captured change as a unified diff.
func Of(marks []Mark, own []Own, final []byte, now int64) Effort {
	var e Effort
	var waiting, editing [][2]int64
	for i := range marks {
		m := &marks[i]
		ev := m.Event(now)
		switch m.Kind {
		case Waiting:
			waiting = append(waiting, [2]int64{ev.At, ev.Until})
		case Editing:
			e.OwnEdits++
			editing = append(editing, [2]int64{ev.At, ev.Until})
		case Permission:
			e.Permissions++
		case Correction:
			*map[string]*int{BareError: &e.Errors, Information: &e.Information, Hint: &e.Hints}[m.Class]++
		case Suggestion:
			*map[string]*int{Taken: &e.Taken, Refused: &e.Refused, Edited: &e.Edited}[m.Class]++
		}
	}
	e.WaitingMS, e.EditingMS, e.AttentionMS = union(waiting), union(editing), union(append(waiting, editing...))
	e.keep(own, final)
	return e
}

// Alone is the effort of a bout that ran by itself.
func Alone(final []byte) Effort {
	var e Effort
	e.keep(nil, final)
	return e
}

// union is how long at least one of the spans lasted, in milliseconds.
func union(spans [][2]int64) int64 {
	spans = slices.Clone(spans)
	sort.Slice(spans, func(i, j int) bool { return spans[i][0] < spans[j][0] })
	var sum, end int64
	for i, s := range spans {
		if i == 0 || s[0] > end {
			sum += s[1] - s[0]
			end = s[1]
		} else if s[1] > end {
			sum += s[1] - end
			end = s[1]
		}
	}
	return sum / 1000
}

// keep works out how many of the tool's lines stood. A line is one of the tool's
// when the change had added it before the person began to edit; it is not kept
// when the person took it away. Lines are told apart by file and text.
func (e *Effort) keep(own []Own, final []byte) {
	finalLines, err := added(final)
	if err != nil {
		return
	}
	persons := map[string]int{}
	removedOfTool := 0
	for _, o := range own {
		before, err1 := added(o.Before)
		plus, err2 := added(o.Step)
		minus, err3 := removed(o.Step)
		if err1 != nil || err2 != nil || err3 != nil {
			return
		}
		for line, n := range plus {
			e.OwnLinesAdded += n
			persons[line] += max(0, n-minus[line]) // what only moved stays whose it was
		}
		for line, n := range minus {
			e.OwnLinesRemoved += n
			gone := max(0, n-plus[line])
			tools := min(gone, max(0, before[line]-persons[line]))
			removedOfTool += tools
			persons[line] = max(0, persons[line]-(gone-tools))
		}
	}
	kept := 0
	for line, n := range finalLines {
		kept += max(0, n-persons[line])
	}
	if kept+removedOfTool > 0 {
		share := float64(kept) / float64(kept+removedOfTool)
		e.Kept = &share
	}
}

func added(diff []byte) (map[string]int, error)   { return lines(diff, patch.LineAdded) }
func removed(diff []byte) (map[string]int, error) { return lines(diff, patch.LineRemoved) }

func lines(diff []byte, kind patch.LineKind) (map[string]int, error) {
	out := map[string]int{}
	if len(diff) == 0 {
		return out, nil
	}
	files, err := patch.Parse(diff, 0)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		for _, h := range f.Hunks {
			for _, l := range h.Lines {
				if l.Kind == kind {
					out[f.Path+"\x00"+l.Text]++
				}
			}
		}
	}
	return out, nil
}

// Money is what the person's attention is worth at a rate per hour, to nine
// decimals, half away from zero.
func (e *Effort) Money(rate ledger.Money) ledger.Money {
	return ledger.Money{Amount: rate.Amount.Mul(decimal.NewFromInt(e.AttentionMS)).DivRound(decimal.NewFromInt(3_600_000), 9), Currency: rate.Currency}
}
