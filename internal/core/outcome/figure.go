package outcome

import (
	"fmt"
	"sort"
	"strconv"

	"agonometer/internal/core/task"
)

// Figure is what a number check found, beside the start's and the reference's
// figure of the same session. All are in the check's own unit.
type Figure struct {
	Check string `json:"check"`
	Unit  string `json:"unit"`
	// Median, Lowest and Highest are over the repeats; nil where nothing was measured.
	Median  *float64 `json:"median"`
	Lowest  *float64 `json:"lowest"`
	Highest *float64 `json:"highest"`
	Repeats int      `json:"repeats"`
	// Start and Reference are medians; the ratios are Median over them.
	Start          *float64 `json:"start"`
	Reference      *float64 `json:"reference"`
	StartRatio     *float64 `json:"start_ratio"`
	ReferenceRatio *float64 `json:"reference_ratio"`
	// Bound says in words what was asked; empty where nothing was.
	Bound   string `json:"bound,omitempty"`
	Reached bool   `json:"reached"`
	// Trouble says why there is no figure.
	Trouble string `json:"trouble,omitempty"`
}

// Words says in words what the figure is, and what was asked.
func (f *Figure) Words() string {
	if f.Median == nil {
		return "no figure: " + f.Trouble
	}
	s := number(*f.Median) + unit(f.Unit)
	if f.Repeats > 1 {
		s += fmt.Sprintf(" (%s to %s in %d runs)", number(*f.Lowest), number(*f.Highest), f.Repeats)
	}
	if f.StartRatio != nil {
		s += fmt.Sprintf(", %s x the start's", number(*f.StartRatio))
	}
	if f.ReferenceRatio != nil {
		s += fmt.Sprintf(", %s x the reference's", number(*f.ReferenceRatio))
	}
	if f.Bound != "" {
		s += "; wanted: " + f.Bound
	}
	return s
}

func unit(s string) string {
	if s == "" {
		return ""
	}
	return " " + s
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', 4, 64) }

// Median is the middle value, the mean of the two middle ones for an even
// number; nil for none. The input is not changed.
func Median(values []float64) *float64 {
	if len(values) == 0 {
		return nil
	}
	v := append([]float64(nil), values...)
	sort.Float64s(v)
	m := v[len(v)/2]
	if len(v)%2 == 0 {
		m = v[len(v)/2-1]/2 + m/2
	}
	return &m
}

func valuesIn(run Run, check string) ([]float64, string) {
	c := run.Of(check)
	if c == nil || !c.Ran {
		return nil, "it was not run"
	}
	if c.TimedOut {
		return nil, "it did not end in its time"
	}
	return c.Values, c.Trouble
}

func ratio(a, b *float64) *float64 {
	if a == nil || b == nil || *b == 0 {
		return nil
	}
	r := *a / *b
	return &r
}

func compareFigure(c *task.Check, b *Baseline, deciding Run) Figure {
	name := string(c.Name)
	values, trouble := valuesIn(deciding, name)
	f := Figure{Check: name, Unit: c.Number.Unit, Median: Median(values), Repeats: len(values), Trouble: trouble}
	for _, v := range values {
		if f.Lowest == nil || v < *f.Lowest {
			f.Lowest = &v
		}
		if f.Highest == nil || v > *f.Highest {
			f.Highest = &v
		}
	}
	start, _ := valuesIn(b.Start, name)
	if c.Sealed {
		start, _ = valuesIn(b.StartSealed, name)
	}
	reference, _ := valuesIn(b.Reference, name)
	f.Start, f.Reference = Median(start), Median(reference)
	f.StartRatio, f.ReferenceRatio = ratio(f.Median, f.Start), ratio(f.Median, f.Reference)
	f.Reached = f.Median != nil
	bound := func(limit *task.Bound, words string, holds func(v, limit float64) bool) {
		if limit == nil {
			return
		}
		if f.Bound != "" {
			f.Bound += " and "
		}
		f.Bound += words + " " + limit.Text
		at := limit.Factor
		switch limit.Of {
		case task.OfStart:
			if f.Start == nil {
				f.Reached, f.Trouble = false, "the start has no figure to compare with"
				return
			}
			at *= *f.Start
		case task.OfReference:
			if f.Reference == nil {
				f.Reached, f.Trouble = false, "the reference has no figure to compare with"
				return
			}
			at *= *f.Reference
		}
		f.Reached = f.Reached && holds(*f.Median, at)
	}
	bound(c.Number.AtMost, "at most", func(v, limit float64) bool { return v <= limit })
	bound(c.Number.AtLeast, "at least", func(v, limit float64) bool { return v >= limit })
	return f
}
