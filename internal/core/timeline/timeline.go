// Package timeline is the record of what happened in a bout on its one
// monotonic clock, and what follows from it: how long the contender worked, when
// it first and last edited, and what every instant of that time went to.
//
// The clock starts when the first brief is handed over. Moments are in
// microseconds since then, so that what happened before is negative and is
// not taken.
package timeline

import (
	"fmt"
	"sort"
	"time"
)

// Kind is a kind of event.
type Kind string

const (
	// Round spans a round's work: from the hand-over of its words to the tool's end.
	Round Kind = "round"
	// Exchange spans a request to the model service and its reply.
	Exchange Kind = "exchange"
	// Refused spans an exchange that the service refused.
	Refused Kind = "refused"
	// Paced spans a wait before an exchange that the contender's pace asked for.
	Paced Kind = "paced"
	// Backoff spans the time between a refusal and the next exchange. It is not
	// recorded but follows from the record: see Backoffs.
	Backoff Kind = "backoff"
	// Asked spans a wait for an answer to the tool's question.
	Asked Kind = "asked"
	// Edit is a change to a file of the workspace; Text is its path.
	Edit Kind = "edit"
	// Output is something that the tool printed; Count is its bytes.
	Output Kind = "output"
	// Busy spans a time in which the tool's processes used the CPU; Count is how
	// much of it, in microseconds.
	Busy Kind = "busy"
	// Limit is the moment when a limit ended a round; Text names it.
	Limit Kind = "limit"
	// Check spans a check of the judge; Text names it.
	Check Kind = "check"
	// Person spans a time in which the person edits, and not the tool.
	Person Kind = "person"
	// Corrected, Permitted, Suggested and Note are marks of a person who works the
	// tool; Text has the class and the words.
	Corrected Kind = "corrected"
	Permitted Kind = "permitted"
	Suggested Kind = "suggested"
	Note      Kind = "note"
	// Said and Thought span messages and thoughts that came over the protocol; Count
	// is their bytes. Plan is a change of plan, Call spans a tool call; Text has its title.
	Said    Kind = "said"
	Thought Kind = "thought"
	Plan    Kind = "plan"
	Call    Kind = "call"
	// Usage is when the tool told how full its context is; Count is in tokens.
	Usage Kind = "usage"
	// Denied is something that the tool asked for and must not have, or could not be
	// understood; Text says what.
	Denied Kind = "denied"
	// Cut says that later events of a kind were not kept; Text names the kind, Count how many.
	Cut Kind = "cut"
)

// Kinds lists them all.
func Kinds() []Kind {
	return []Kind{Round, Exchange, Refused, Backoff, Paced, Asked, Person, Edit, Output, Said, Thought, Plan, Call, Usage, Denied, Busy, Corrected, Permitted, Suggested, Note, Limit, Check, Cut}
}

// Event is something that happened, at a moment or over a span.
type Event struct {
	// At and Until are microseconds since the first hand-over; they are the same for a moment.
	At    int64 `json:"at_us"`
	Until int64 `json:"until_us"`
	Kind  Kind  `json:"kind"`
	Round int   `json:"round"`
	// Text names what it is about: a file, a check, a model, a cause.
	Text string `json:"text,omitempty"`
	// Count is a size, where the kind has one.
	Count int64 `json:"count,omitempty"`
	// First marks a file's first edit.
	First bool `json:"first,omitempty"`
	// OK tells of a check or an exchange whether it went well.
	OK bool `json:"ok,omitempty"`
	// Number is that of the exchange in its bout.
	Number int `json:"number,omitempty"`
}

// Valid says what is wrong with an event, so that none is stored half made.
func (e *Event) Valid() error {
	switch {
	case e.At < 0:
		return fmt.Errorf("it happened before the bout began")
	case e.Until < e.At:
		return fmt.Errorf("it ended before it began")
	case e.Kind == "":
		return fmt.Errorf("it is of no kind")
	}
	return nil
}

// Us is a span of time in whole microseconds.
func Us(d time.Duration) int64 { return d.Microseconds() }

// Reach is how much of the time before it an edit or a line of output accounts
// for: a quarter of a second, which is also how often the CPU is looked at.
const Reach = 250 * time.Millisecond

// Parts says what the time went to. Every instant belongs to the first of
// these that applies, so that they add up to the whole.
type Parts struct {
	// Refused is waiting because the service refused or the pace asked for it: a
	// refused exchange and the time until the next one begins, and waits for pacing.
	Refused int64 `json:"refused_us"`
	// Exchange is time in at least one exchange with a model.
	Exchange int64 `json:"exchange_us"`
	// Asked is waiting for an answer to a question, or for the person.
	Asked int64 `json:"asked_us"`
	// Person is the person's own editing.
	Person int64 `json:"person_us"`
	// Own is the tool's own work: output, edits, or its processes using the CPU.
	Own int64 `json:"own_us"`
	// Quiet is the rest.
	Quiet int64 `json:"quiet_us"`
}

// Whole is the sum of all parts.
func (p Parts) Whole() int64 { return p.Refused + p.Exchange + p.Asked + p.Person + p.Own + p.Quiet }

func (p *Parts) add(class int, n int64) {
	*[]*int64{&p.Refused, &p.Exchange, &p.Asked, &p.Person, &p.Own, &p.Quiet}[class] += n
}

// The classes, in the order in which they are given an instant.
const (
	classRefused = iota
	classExchange
	classAsked
	classPerson
	classOwn
	classQuiet
)

// Timing is what a bout's timeline comes to. Moments are in the time that the
// contender worked: judging between rounds is not counted.
type Timing struct {
	// Elapsed is from each hand-over to the tool's end, all rounds together.
	Elapsed int64 `json:"elapsed_us"`
	// FirstEdit and LastEdit are the tool's; nil where it edited nothing, or nothing was seen.
	FirstEdit *int64 `json:"first_edit_us"`
	LastEdit  *int64 `json:"last_edit_us"`
	// Edits counts them; Files counts the files. What the person edited is not in them.
	Edits int   `json:"edits"`
	Files int   `json:"files"`
	Parts Parts `json:"parts"`
	// LongestQuiet is the longest span of quiet in one round.
	LongestQuiet int64 `json:"longest_quiet_us"`
}

type span struct {
	from, to int64
	class    int
}

// Summarise works a timeline out. Events may come in any order.
func Summarise(events []Event) Timing {
	events = append(append([]Event(nil), events...), Backoffs(events)...)
	sort.SliceStable(events, func(i, j int) bool { return events[i].At < events[j].At })
	var s Timing
	files := map[string]bool{}
	var spans []span
	var mine []Event
	var rounds []int
	for i := range events {
		switch events[i].Kind {
		case Person:
			mine = append(mine, events[i])
		case Round:
			rounds = append(rounds, i)
		}
		if class, from, to, ok := classOf(&events[i]); ok {
			spans = append(spans, span{from, to, class})
		}
	}
	for _, i := range rounds {
		r := &events[i]
		for j := range events {
			if e := &events[j]; e.Kind == Edit && spanOf(events, rounds, e) == i && !within(mine, e.At) {
				at := s.Elapsed + min(max(e.At, r.At), r.Until) - r.At
				if s.FirstEdit == nil {
					s.FirstEdit = &at
				}
				s.LastEdit = &at
				s.Edits++
				files[e.Text] = true
			}
		}
		s.Elapsed += r.Until - r.At
		split(r.At, r.Until, spans, &s)
	}
	s.Files = len(files)
	return s
}

// spanOf is the index of the round's span that an edit belongs to. A round that
// was paused has several: the edit belongs to the last that had begun, or to the
// first. -1 where there is none. rounds are the indices of the spans, in the order of their
// beginnings.
func spanOf(events []Event, rounds []int, e *Event) int {
	first, at := -1, -1
	for _, i := range rounds {
		if r := &events[i]; r.Round == e.Round {
			if first < 0 {
				first = i
			}
			if r.At <= e.At {
				at = i
			}
		}
	}
	if at < 0 {
		return first
	}
	return at
}

func within(spans []Event, at int64) bool {
	for i := range spans {
		if spans[i].At <= at && at <= spans[i].Until {
			return true
		}
	}
	return false
}

// Backoffs are the waits behind refusals: from the end of each refused exchange
// to the beginning of the next exchange, or wait, of the same round.
func Backoffs(events []Event) []Event {
	asks := make([]*Event, 0, len(events))
	for i := range events {
		if k := events[i].Kind; k == Exchange || k == Refused || k == Paced {
			asks = append(asks, &events[i])
		}
	}
	sort.SliceStable(asks, func(i, j int) bool { return asks[i].At < asks[j].At })
	var out []Event
	for i, e := range asks {
		if e.Kind != Refused {
			continue
		}
		for _, next := range asks[i+1:] {
			if next.At < e.Until {
				continue // it was under way already
			}
			if next.Round == e.Round {
				out = append(out, Event{Kind: Backoff, At: e.Until, Until: next.At, Round: e.Round, Number: e.Number})
			}
			break
		}
	}
	return out
}

// classOf is what an event gives its instants to.
func classOf(e *Event) (class int, from, to int64, ok bool) {
	switch e.Kind {
	case Refused, Backoff, Paced:
		return classRefused, e.At, e.Until, true
	case Exchange:
		return classExchange, e.At, e.Until, true
	case Asked:
		return classAsked, e.At, e.Until, true
	case Person:
		return classPerson, e.At, e.Until, true
	case Edit, Output, Said, Thought, Plan:
		return classOwn, e.At - Us(Reach), e.Until, true
	case Busy, Call:
		return classOwn, e.At, e.Until, true
	}
	return 0, 0, 0, false
}

// split gives every instant of [from, to) to a class: a sweep over the ends of
// all spans, counting for each class how many are open. O(n log n).
func split(from, to int64, spans []span, s *Timing) {
	type end struct {
		at    int64
		class int
		step  int
	}
	var ends []end
	for _, one := range spans {
		a, b := max(one.from, from), min(one.to, to)
		if a < b {
			ends = append(ends, end{a, one.class, 1}, end{b, one.class, -1})
		}
	}
	sort.Slice(ends, func(i, j int) bool { return ends[i].at < ends[j].at })
	var open [classQuiet]int
	at, quiet := from, int64(0)
	pass := func(until int64) {
		if until <= at {
			return
		}
		class := classQuiet
		for c, n := range open {
			if n > 0 {
				class = c
				break
			}
		}
		s.Parts.add(class, until-at)
		if class == classQuiet {
			quiet += until - at
			s.LongestQuiet = max(s.LongestQuiet, quiet)
		} else {
			quiet = 0
		}
		at = until
	}
	for _, e := range ends {
		pass(e.at)
		open[e.class] += e.step
	}
	pass(to)
}
