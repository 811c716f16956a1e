package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
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
				out[i] = c.plain
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
		configs = append(configs, table.ColumnConfig{Number: i + 1, Align: align, AlignHeader: align})
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, line := range lines {
		row := table.Row{}
		for _, c := range line {
			s := visible(c.shown)
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
		b.WriteString(strings.TrimRight(line, " ") + "\n")
	}
	_, err := io.WriteString(a.out, b.String())
	return err
}

func (a *app) json(data any) error {
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(data)
}

// visible makes control characters visible, so that nothing that a contender
// wrote can move the cursor, change a title or hide a line. Bidirectional
// overrides are shown too.
func visible(s string) string {
	clean := true
	for _, r := range s {
		if hidden(r) {
			clean = false
			break
		}
	}
	if clean && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, "\\x%02x", s[i])
		case r < 0x20 && r != '\n' && r != '\t':
			b.WriteRune(0x2400 + r) // the Control Pictures block
		case r == 0x7f:
			b.WriteRune(0x2421)
		case hidden(r):
			fmt.Fprintf(&b, "\\u%04x", r)
		default:
			b.WriteRune(r)
		}
		i += n
	}
	return b.String()
}

func hidden(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e || r == 0x200f || r == 0xfeff
}

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
