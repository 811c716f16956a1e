package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	plaintext "agonometer/internal/core/plain"
)

// format is how records are printed.
type format string

const (
	formatTable    format = "table"
	formatJSON     format = "json"
	formatCSV      format = "csv"
	formatMarkdown format = "markdown"
)

func (f *format) String() string { return string(*f) }
func (*format) Type() string     { return "format" }
func (f *format) Set(s string) error {
	switch format(s) {
	case formatTable, formatJSON, formatCSV, formatMarkdown:
		*f = format(s)
		return nil
	}
	return fmt.Errorf("expected table, json, csv or markdown")
}

// column is one column of a list. Plain is for CSV: the bare value.
type column struct {
	head  string
	right bool
	// key is the column's name for programs, with its unit; default: made from head.
	key string
	// spare says when the column goes where a terminal is too narrow for all of them: 1 goes
	// first, 0 never.
	spare int
	// id holds identifiers, of which a narrow terminal shows the end: that names them too.
	id bool
	// whole is text that is not wrapped, such as a path that somebody copies.
	whole bool
}

// cell is a value as people read it, and as programs do.
type cell struct {
	shown string
	plain string
	color text.Colors
}

func plain(s string) cell { return cell{shown: s, plain: s} }

// rows prints records as a list in the wanted format; data is what JSON shows.
func (a *app) rows(f format, data any, columns []column, lines [][]cell, empty string) error {
	switch f {
	case formatJSON:
		return a.json(data)
	case formatCSV:
		w := csv.NewWriter(a.out)
		head := make([]string, len(columns))
		for i, c := range columns {
			if head[i] = c.key; c.key == "" {
				head[i] = strings.ReplaceAll(strings.ToLower(c.head), " ", "_")
			}
		}
		_ = w.Write(head)
		for _, line := range lines {
			out := make([]string, len(line))
			for i, c := range line {
				if out[i] = plaintext.Cell(c.plain); isTerminal(a.out) {
					out[i] = visible(out[i])
				}
			}
			_ = w.Write(out)
		}
		w.Flush()
		return w.Error()
	}
	if len(lines) == 0 && f == formatTable {
		_, err := fmt.Fprintln(a.out, empty)
		return err
	}
	var gone []string
	most := make([]int, len(columns))
	if f == formatTable {
		columns, lines, most, gone = fit(columns, lines, terminalWidth(a.out))
	}
	t := table.NewWriter()
	t.SetStyle(table.StyleLight)
	style := t.Style()
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	var configs []table.ColumnConfig
	head := table.Row{}
	for i, c := range columns {
		head = append(head, c.head)
		align := text.AlignLeft
		if c.right {
			align = text.AlignRight
		}
		configs = append(configs, table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align, WidthMax: most[i], WidthMaxEnforcer: text.WrapSoft})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, line := range lines {
		row := table.Row{}
		for _, c := range line {
			s := visible(c.shown)
			if f == formatMarkdown {
				s = plaintext.Markdown(s)
			}
			if f == formatTable && a.color && c.color != nil {
				s = c.color.Sprint(s)
			}
			row = append(row, s)
		}
		t.AppendRow(row)
	}
	out := t.Render()
	if f == formatMarkdown {
		out = t.RenderMarkdown()
	}
	var b strings.Builder
	for line := range strings.SplitSeq(out, "\n") {
		if f == formatTable && strings.Trim(line, style.Box.MiddleHorizontal) == "" { // the rule goes on below the last column's padding
			line = strings.TrimSuffix(line, strings.Repeat(style.Box.MiddleHorizontal, len(style.Box.PaddingRight)))
		}
		b.WriteString(strings.TrimRight(line, " ") + "\n")
	}
	if len(gone) > 0 {
		b.WriteString("No room for: " + strings.Join(gone, ", ") + ". A wider terminal has it, or --format json or csv.\n")
	}
	_, err := io.WriteString(a.out, b.String())
	return err
}

// leastText is how narrow a column of text may become, in characters.
const leastText = 30

// fit makes a table fit a terminal of so many characters (0: no bound): identifiers become
// short, columns that can be spared go, texts are wrapped. It gives the most that each column
// may have (0: as it is) and the heads of the columns that went.
func fit(columns []column, lines [][]cell, width int) (heads []column, cells [][]cell, most []int, gone []string) {
	const between = 2
	widths, total := make([]int, len(columns)), -between // each with the space behind it
	measure := func(i int) {
		total -= widths[i]
		widths[i] = text.RuneWidthWithoutEscSequences(columns[i].head) + between
		for _, line := range lines {
			widths[i] = max(widths[i], text.LongestLineLen(visible(line[i].shown))+between)
		}
		total += widths[i]
	}
	for i := range columns {
		measure(i)
	}
	if width <= 0 || total <= width {
		return columns, lines, make([]int, len(columns)), nil
	}
	lines = slices.Clone(lines)
	for i, c := range columns {
		if c.id {
			for j := range lines {
				lines[j] = slices.Clone(lines[j])
				lines[j][i].shown = shortID(lines[j][i].shown)
			}
			measure(i)
		}
	}
	least := func(i int) int {
		if columns[i].right || columns[i].id || columns[i].whole {
			return widths[i]
		}
		return min(widths[i], leastText+between)
	}
	went := make([]bool, len(columns))
	needs := -between
	for i := range columns {
		needs += least(i)
	}
	var order []int
	for needs > width {
		spare := -1
		for i, c := range columns {
			if c.spare > 0 && !went[i] && (spare < 0 || c.spare < columns[spare].spare) {
				spare = i
			}
		}
		if spare < 0 {
			break
		}
		went[spare], total, needs = true, total-widths[spare], needs-least(spare)
		order = append(order, spare)
	}
	for _, i := range slices.Backward(order) { // a wide one that went may have made room for narrow ones
		if total+widths[i] <= width {
			went[i], total = false, total+widths[i]
		}
	}
	most = make([]int, len(columns))
	for total > width { // the widest text gives way
		widest := -1
		for i := range columns {
			if !went[i] && widths[i] > least(i) && (widest < 0 || widths[i] > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest]--
		total--
		most[widest] = widths[widest] - between
	}
	for i := len(columns) - 1; i >= 0; i-- {
		if went[i] {
			gone = append(gone, columns[i].head)
			most = slices.Delete(most, i, i+1)
		}
	}
	slices.Reverse(gone)
	heads, cells = pick(columns, lines, func(i int, _ string) bool { return !went[i] })
	return heads, cells, most, gone
}

// terminalWidth is how many characters a line of a terminal has; 0 for anything else.
func terminalWidth(w any) int {
	f, ok := w.(*os.File)
	if !ok {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

func (a *app) json(data any) error {
	var text strings.Builder
	enc := json.NewEncoder(&text)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(data); err != nil {
		return err
	}
	_, err := io.WriteString(a.out, plaintext.JSON(text.String()))
	return err
}

// visible makes control characters visible, so that nothing that a contender
// wrote can move the cursor, change a title or hide a line.
func visible(s string) string { return plaintext.Visible(s) }

// isTerminal tells whether a stream is a terminal.
func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// duration shows milliseconds for people: 870 ms, 4.2 s, 3 min 05 s, 2 h 10 min.
func duration(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", ms)
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// absent stands for a figure that was not measured.
const absent = "–"

func msCell(ms *int64) cell {
	if ms == nil {
		return cell{shown: absent}
	}
	return cell{shown: duration(*ms), plain: strconv.FormatInt(*ms, 10)}
}

func number(v *float64) cell {
	if v == nil {
		return cell{shown: absent}
	}
	s := strconv.FormatFloat(*v, 'f', -1, 64)
	return cell{shown: s, plain: s}
}
