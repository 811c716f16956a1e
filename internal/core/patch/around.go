package patch

import (
	"cmp"
	"slices"

	"agonometer/internal/core/lex"
)

// around tells of each line of a text what stands around it and what of it is touched, so
// that asking costs the same however many declarations there are, and however nested.
type around struct {
	// inner and outer are, by line, the innermost function or test around it and the outermost
	// declaration that is no type; nil for none.
	inner, outer []*lex.Decl
	// order are the declarations by the line in which they begin.
	order []*lex.Decl
	// behind is, by line, the next line from it on that is no remark.
	behind []int32
	// touched and code count the touched lines, and those of code, up to each line.
	touched, code []int32
}

func (t *text) findAround() {
	n := t.Lines()
	a := around{inner: make([]*lex.Decl, n+1), outer: make([]*lex.Decl, n+1), behind: make([]int32, n+1), touched: make([]int32, n+1), code: make([]int32, n+1)}
	order := make([]*lex.Decl, len(t.decls))
	for i := range t.decls {
		order[i] = &t.decls[i]
	}
	slices.SortStableFunc(order, func(x, y *lex.Decl) int { return cmp.Compare(x.Line, y.Line) })
	a.order = order
	var open []*lex.Decl // functions, the innermost last
	var outer *lex.Decl
	for line := 1; line <= n; line++ {
		for ; len(order) > 0 && order[0].Line <= line; order = order[1:] {
			d := order[0]
			if d.Kind == lex.Function || d.Kind == lex.Case {
				open = append(open, d)
			}
			if d.Kind != lex.Type && (outer == nil || outer.End < line) {
				outer = d
			}
		}
		for len(open) > 0 && open[len(open)-1].End < line {
			open = open[:len(open)-1]
		}
		if len(open) > 0 {
			a.inner[line] = open[len(open)-1]
		}
		if outer != nil && outer.End >= line {
			a.outer[line] = outer
		}
		a.touched[line], a.code[line] = a.touched[line-1], a.code[line-1]
		if t.touched[line] {
			a.touched[line]++
			if line <= len(t.kinds) && t.kinds[line-1] == lex.Code {
				a.code[line]++
			}
		}
	}
	for line := n; line >= 1; line-- {
		a.behind[line] = int32(line)
		if line < n && line <= len(t.kinds) && t.kinds[line-1] == lex.Remark {
			a.behind[line] = a.behind[line+1]
		}
	}
	t.around = a
}

// functionAround is the innermost function, or case, around a line; nil for none.
func (t *text) functionAround(line int) *lex.Decl {
	if line < 1 || line >= len(t.around.inner) {
		return nil
	}
	return t.around.inner[line]
}

// begin are the declarations that begin in a line.
func (a *around) begin(line int) []*lex.Decl {
	at, _ := slices.BinarySearchFunc(a.order, line, func(d *lex.Decl, line int) int { return cmp.Compare(d.Line, line) })
	end := at
	for end < len(a.order) && a.order[end].Line == line {
		end++
	}
	return a.order[at:end]
}

// grown is how much a count grows from one line to another, both included.
func grown(count []int32, from, to int) int32 {
	from, to = max(from, 1), min(to, len(count)-1)
	if from > to {
		return 0
	}
	return count[to] - count[from-1]
}

func touches(t *text, from, to int) bool { return grown(t.around.touched, from, to) > 0 }

func codeTouched(t *text, d *lex.Decl) bool { return grown(t.around.code, d.Line, d.End) > 0 }

// afford tells whether a stretch of tokens that may have been looked at before, such as the
// body of a function within another, may be looked at once more. What is looked at so is
// bounded by the size of the change, and it is said where that was not enough.
func (w *work) afford(tokens int) bool {
	if w.left == 0 {
		w.left = 1_000_000
		for _, c := range w.files {
			for _, t := range []*text{c.before, c.after} {
				if t != nil {
					w.left += 6 * len(t.Tokens)
				}
			}
		}
	}
	if w.left < 0 {
		return false
	}
	if w.left -= tokens; w.left <= 0 {
		w.left = -1
		w.note("functions and tests are nested so often that not all of them were looked at")
		return false
	}
	return true
}
