package patch

import (
	"cmp"
	"slices"

	"agonometer/internal/core/lex"
)

// Where are the places that a figure comes from, in their order, and how many there are
// beside these.
func (m *Measures) Where(figure string) (places []Place, more int) {
	info := FindFigure(figure)
	i := slices.IndexFunc(m.Figures, func(f Figure) bool { return f.Name == figure })
	if info == nil || i < 0 {
		return nil, 0
	}
	if f := m.Figures[i]; len(f.Where) > 0 {
		return f.Where, f.More
	}
	for _, f := range m.Findings {
		if f.Measure != info.Measure || f.Path == "" || !slices.Contains(info.Kinds, f.Kind) && !slices.Contains(info.Shows, f.Kind) {
			continue
		}
		if len(places) == maxWhere {
			more++
			continue
		}
		places = append(places, f.Place)
	}
	return places, more
}

// Has tells whether a place is in a changed file.
func (f *File) Has(p Place) bool {
	return f.Path == p.Path || p.Side == Before && f.OldPath == p.Path
}

// Within are the lines of a changed file that lie in a place and are of its side: those
// that are there as they were (before) or as they are now (after). Of a file as a whole
// there are none.
func (f *File) Within(p Place) []Line {
	var out []Line
	for _, h := range f.Hunks {
		for _, l := range h.Lines {
			n, other := l.New, LineRemoved
			if p.Side == Before {
				n, other = l.Old, LineAdded
			}
			if l.Kind != other && int(n) >= p.Line && int(n) <= max(p.Line, p.End) && p.Line > 0 {
				out = append(out, l)
			}
		}
	}
	return out
}

// maxWhere is how many places of a figure are kept.
const maxWhere = 200

// places gathers where a figure comes from. One that is nil gathers nothing.
type places struct {
	list []Place
	more int
}

func (p *places) add(at Place) {
	switch {
	case p == nil:
	case len(p.list) == maxWhere:
		p.more++
	default:
		p.list = append(p.list, at)
	}
}

// line takes a line of a file; lines that follow each other are one place. A side's
// lines come in their order.
func (p *places) line(side Side, path string, n int) {
	if p == nil {
		return
	}
	if last := len(p.list) - 1; last >= 0 {
		if l := &p.list[last]; l.Side == side && l.Path == path && n == max(l.Line, l.End)+1 {
			l.End = n
			return
		}
	}
	p.add(Place{Side: side, Path: path, Line: n})
}

// decl takes a declaration.
func (p *places) decl(side Side, path string, d lex.Decl) {
	at := Place{Side: side, Path: path, Line: d.Line, End: d.End}
	if at.End <= at.Line {
		at.End = 0
	}
	p.add(at)
}

// file takes a file as a whole, on the side where it is.
func (p *places) file(c *change) {
	if c.Status == Deleted {
		p.add(Place{Side: Before, Path: c.Path})
		return
	}
	p.add(Place{Side: After, Path: c.Path})
}

// name is what a changed file is called on a side.
func (c *change) name(side Side) string {
	if side == Before {
		return cmp.Or(c.OldPath, c.Path)
	}
	return c.Path
}
