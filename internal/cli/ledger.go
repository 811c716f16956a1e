package cli

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
)

// withPrices gives a command that shows money its --prices.
func (a *app) withPrices(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVar(&a.prices, "prices", "", "a price list to work money out by, in place of the contest's own")
	return cmd
}

// tokensCell shows a count of tokens; atLeast marks one of which a part is missing.
func tokensCell(n *int64, atLeast bool) cell {
	if n == nil {
		return cell{shown: "not counted"}
	}
	c := cell{shown: humanize.Comma(*n), plain: strconv.FormatInt(*n, 10)}
	if atLeast {
		c.shown = "at least " + c.shown
	}
	return c
}

func kindCell(n *int64) cell {
	if n == nil {
		return cell{shown: absent}
	}
	return tokensCell(n, false)
}

// moneyCell shows money to four significant digits for people, and exactly for programs.
func moneyCell(m *ledger.Money, atLeast bool) cell {
	if m == nil {
		return cell{shown: absent}
	}
	v, _ := m.Amount.Float64()
	digits := 2
	if v != 0 && v < 10 {
		digits = min(9, max(2, 3-int(math.Floor(math.Log10(v)))))
	}
	c := cell{shown: m.Amount.StringFixed(int32(digits)) + " " + string(m.Currency), plain: m.String()}
	if atLeast {
		c.shown = "at least " + c.shown
	}
	return c
}

// signed shows a difference with its sign.
func signed(n int64) string {
	if n > 0 {
		return "+" + humanize.Comma(n)
	}
	return humanize.Comma(n)
}

// usedWords says what a bout used, and where that is from.
func usedWords(u api.Used) string {
	if u.Source == string(ledger.NotKnown) || u.Source == "" {
		return "not known: no meter, no report"
	}
	var parts []string
	money := u.Money != nil || u.MoneyRange != nil
	if u.Tokens != nil {
		parts = append(parts, tokensCell(u.Tokens, u.AtLeast).shown+" tokens")
	} else if !money {
		parts = append(parts, tokensCell(u.Tokens, u.AtLeast).shown)
	}
	if money {
		parts = append(parts, moneyOrRange(u.Money, u.MoneyRange, u.MoneyAtLeast).shown)
	}
	return strings.Join(parts, ", ") + " (" + u.Source + ")"
}

var sheetColumns = []column{{head: "", key: "part"}, {head: "Exchanges", right: true, spare: 4}, {head: "Fresh", right: true, spare: 6}, {head: "Cached", right: true, spare: 5}, {head: "Written", right: true, spare: 3},
	{head: "Output", right: true, spare: 7}, {head: "Reasoning", right: true, spare: 1}, {head: "All", right: true, key: "tokens"}, {head: "Share", right: true}, {head: "Money", right: true}, {head: "Notes"}}

func sheetLine(name string, exchanges int, t ledger.Tokens, atLeast bool, share *float64, m *ledger.Money, moneyAtLeast bool, notes []string) []cell {
	line := []cell{plain(name), plain(strconv.Itoa(exchanges))}
	for _, k := range ledger.Kinds() {
		line = append(line, kindCell(t.Of(k)))
	}
	total := cell{shown: "not counted"}
	if n := t.Total(); n != nil || !atLeast {
		total = tokensCell(n, atLeast)
		if n == nil {
			total = cell{shown: absent}
		}
	}
	part := cell{shown: absent}
	if share != nil {
		part = cell{shown: fmt.Sprintf("%.3g%%", *share*100), plain: strconv.FormatFloat(*share, 'g', -1, 64)}
	}
	return append(line, total, part, moneyCell(m, moneyAtLeast), plain(strings.Join(notes, "; ")))
}

func sheetNotes(s *ledger.Sheet) []string {
	var notes []string
	for _, n := range []struct {
		n    int
		what string
	}{{s.Refused, "refused"}, {s.NotCounted, "not counted"}, {s.Partial, "cut off"}} {
		if n.n > 0 {
			notes = append(notes, fmt.Sprintf("%d %s", n.n, n.what))
		}
	}
	if len(s.Unpriced) > 0 {
		notes = append(notes, "no price for "+strings.Join(s.Unpriced, ", "))
	}
	if s.LargestPrompt != nil {
		w := "largest prompt " + humanize.Comma(*s.LargestPrompt)
		if s.ContextShare != nil {
			w += fmt.Sprintf(", %.2g%% of the context", *s.ContextShare*100)
		}
		notes = append(notes, w)
	}
	return notes
}

func wholeLine(name string, s *ledger.Sheet) []cell {
	return sheetLine(name, s.Exchanges, s.Tokens, s.AtLeast, nil, s.Money, s.MoneyAtLeast, sheetNotes(s))
}

func (a *app) boutLedger() *cobra.Command {
	var exchanges bool
	cmd := a.withPrices(a.withFormat(&cobra.Command{Use: "ledger BOUT", Short: "Show what a bout used: tokens by kind, model and round, and money", Args: cobra.ExactArgs(1),
		Long: `Show what a bout used. The source of every figure is said: metered (counted between the tool and its model service),
reported (by the tool itself), typed-in (by a person). Where a figure was metered, the tool's own stands beside it with the
difference. Money is worked out now, from stored tokens; another price list may be given.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			l, err := c.BoutLedger(cmd.Context(), id)
			if err != nil {
				return err
			}
			if exchanges {
				return a.exchanges(l)
			}
			return a.boutSheet(l)
		}}))
	cmd.Flags().BoolVar(&exchanges, "exchanges", false, "list every exchange instead")
	return cmd
}

// filled leaves out, of a table for people, the columns in which nothing stands.
func (a *app) filled(columns []column, lines [][]cell) ([]column, [][]cell) {
	if a.format != formatTable {
		return columns, lines
	}
	columns = slices.Clone(columns)
	for i := len(columns) - 1; i >= 0; i-- {
		if slices.ContainsFunc(lines, func(l []cell) bool { return l[i].shown != absent && l[i].shown != "" }) {
			continue
		}
		columns = slices.Delete(columns, i, i+1)
		for j := range lines {
			lines[j] = slices.Delete(lines[j], i, i+1)
		}
	}
	return columns, lines
}

func (a *app) boutSheet(l api.BoutLedger) error {
	var lines [][]cell
	for i := range l.Ledger.Rounds {
		r := &l.Ledger.Rounds[i]
		lines = append(lines, wholeLine(fmt.Sprintf("round %d", r.Round), &r.Sheet))
	}
	for i := range l.Ledger.Lines {
		m := &l.Ledger.Lines[i]
		name := m.Model
		if name == "" {
			name = "no model named"
		}
		lines = append(lines, sheetLine(name, m.Exchanges, m.Tokens, m.NotCounted > 0, m.Share, m.Money, false, nil))
	}
	lines = append(lines, wholeLine("all ("+string(l.Ledger.Source)+")", &l.Ledger.Sheet))
	for _, beside := range []*ledger.Sheet{l.Ledger.Protocol, l.Ledger.Reported, l.Ledger.TypedIn} {
		if beside == nil {
			continue
		}
		line := wholeLine(string(beside.Source), beside)
		if d := l.Ledger.Difference; d != nil && (beside.Source == ledger.Reported || beside.Source == ledger.Protocol && l.Ledger.Reported == nil) {
			words := "as metered"
			if *d != 0 {
				words = signed(*d) + " tokens against the meter"
			}
			line[len(line)-1] = plain(words)
		}
		lines = append(lines, line)
	}
	columns, lines := a.filled(sheetColumns, lines)
	if err := a.rows(a.format, l, columns, lines, ""); err != nil {
		return err
	}
	if a.format == formatTable {
		for _, d := range l.Departures {
			fmt.Fprintf(a.out, "Note: %s.\n", visible(d.Words))
		}
		if l.Ledger.Source == ledger.NotKnown {
			fmt.Fprintln(a.out, "Nothing is known: the contender's file names no meter, and the tool reports nothing. See docs/metering.md.")
		}
	}
	return nil
}

func (a *app) exchanges(l api.BoutLedger) error {
	var lines [][]cell
	for i := range l.Exchanges {
		x := &l.Exchanges[i]
		model := x.Model
		if model == "" || model != x.ModelAsked && x.ModelAsked != "" {
			model = strings.TrimPrefix(model+" (asked for "+x.ModelAsked+")", " ")
		}
		var notes []string
		if x.Refused {
			notes = append(notes, "refused, "+x.Cause)
			if x.CauseWords != "" {
				notes = append(notes, x.CauseWords)
			}
			if x.RetryAfter != "" {
				notes = append(notes, "again after "+x.RetryAfter)
			}
		}
		if x.NotCounted {
			notes = append(notes, "not counted")
		}
		if x.Partial {
			notes = append(notes, "cut off")
		}
		if x.Trouble != "" {
			notes = append(notes, x.Trouble)
		}
		ms := func(us int64) cell { v := us / 1000; return msCell(&v) }
		first := cell{shown: absent}
		if x.FirstUS != nil {
			first = ms(*x.FirstUS - x.AtUS)
		}
		line := []cell{plain(strconv.Itoa(x.Number)), plain(strconv.Itoa(x.Round)), ms(x.AtUS), first, ms(x.UntilUS - x.AtUS), plain(strconv.Itoa(x.Status)), plain(model)}
		for _, k := range ledger.Kinds() {
			line = append(line, kindCell(x.Tokens.Of(k)))
		}
		lines = append(lines, append(line, moneyCell(x.Money, false), plain(strings.Join(notes, "; "))))
	}
	return a.rows(a.format, l.Exchanges, []column{{head: "#", right: true, key: "number"}, {head: "Round", right: true, spare: 3}, {head: "At", right: true, key: "at_ms"}, {head: "First byte", right: true, key: "first_byte_ms", spare: 2},
		{head: "Took", right: true, key: "took_ms"}, {head: "Status", right: true}, {head: "Model"}, {head: "Fresh", right: true}, {head: "Cached", right: true}, {head: "Written", right: true, spare: 4}, {head: "Output", right: true},
		{head: "Reasoning", right: true, spare: 1}, {head: "Money", right: true}, {head: "Notes"}}, lines, "No exchanges: the bout was not metered, or asked nothing.")
}

func (a *app) contestLedger() *cobra.Command {
	return a.withPrices(a.withFormat(&cobra.Command{Use: "ledger [CONTEST]", Short: "Show what a contest used, by contender: tokens, money, money per passed bout", Args: cobra.MaximumNArgs(1),
		Long: `Show what a contest used. Money per passed bout is all that was spent - failed, void and replaced bouts included - divided
by what passed. Money is worked out now, from stored tokens, so that another price list can be applied to an old contest.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			given := ""
			if len(args) > 0 {
				given = args[0]
			}
			id, err := contestID(cmd.Context(), c, given)
			if err != nil {
				return err
			}
			l, err := c.ContestLedger(cmd.Context(), id)
			if err != nil {
				return err
			}
			var lines [][]cell
			for i := range l.Rows {
				r := &l.Rows[i]
				line := wholeLine(r.Contender, &r.Sheet)
				var notes []string
				if r.Sheet.Source != ledger.Metered {
					notes = append(notes, string(r.Sheet.Source))
				}
				if r.Reported != nil && r.Reported.Total != nil && r.Sheet.Total != nil {
					if d := *r.Reported.Total - *r.Sheet.Total; d != 0 {
						notes = append(notes, "the tool reports "+signed(d))
					}
				}
				last := len(line) - 1
				for _, n := range sheetNotes(&r.Sheet) {
					if !strings.HasPrefix(n, "largest prompt") { // that is of one bout
						notes = append(notes, n)
					}
				}
				per := number(nil)
				if r.TokensPerLine != nil {
					per = cell{shown: fmt.Sprintf("%.0f", *r.TokensPerLine), plain: strconv.FormatFloat(*r.TokensPerLine, 'g', -1, 64)}
				}
				line = append(line[:last-2], line[last-1], moneyCell(r.PerPassed, r.Sheet.MoneyAtLeast), per, plain(fmt.Sprintf("%d of %d", r.Passed, r.Bouts)), plain(strings.Join(notes, "; ")))
				lines = append(lines, line)
			}
			columns := append(append([]column{}, sheetColumns[:8]...), column{head: "Money", right: true}, column{head: "Per passed", right: true, key: "money_per_passed"},
				column{head: "Per line", right: true, key: "tokens_per_line", spare: 2}, column{head: "Passed", right: true}, column{head: "Notes"})
			columns[0] = column{head: "Contender"}
			columns, lines = a.filled(columns, lines)
			if err := a.rows(a.format, l, columns, lines, "No contenders."); err != nil {
				return err
			}
			if a.format == formatTable {
				fmt.Fprintln(a.out, "\nMetered, where the notes say nothing else. Per passed: all money divided by the bouts that passed. Per line: tokens for each line added or removed.")
				if len(l.PriceLists) == 0 {
					fmt.Fprintln(a.out, "Note: there is no price list, so there is no money; name one with --prices FILE, or in the contest's file.")
				} else {
					fmt.Fprintln(a.out, "Prices: "+strings.Join(l.PriceLists, ", ")+".")
				}
			}
			return nil
		}}))
}

// lane is one line of the compact timeline.
type lane struct {
	name  string
	kinds []timeline.Kind
	color text.Color
}

var lanes = []lane{
	{"model", []timeline.Kind{timeline.Exchange}, text.FgBlue},
	{"edits", []timeline.Kind{timeline.Edit}, text.FgGreen},
	{"calls", []timeline.Kind{timeline.Call, timeline.Plan}, text.FgCyan},
	{"says", []timeline.Kind{timeline.Said, timeline.Thought}, text.FgHiBlack},
	{"person", []timeline.Kind{timeline.Person, timeline.Corrected, timeline.Permitted, timeline.Suggested, timeline.Note}, text.FgMagenta},
	{"denied", []timeline.Kind{timeline.Denied}, text.FgRed},
	{"output", []timeline.Kind{timeline.Output}, text.FgHiBlack},
	{"cpu", []timeline.Kind{timeline.Busy}, text.FgHiBlack},
	{"waits", []timeline.Kind{timeline.Refused, timeline.Backoff, timeline.Paced, timeline.Asked}, text.FgYellow},
	{"limit", []timeline.Kind{timeline.Limit}, text.FgRed},
	{"checks", []timeline.Kind{timeline.Check}, text.FgMagenta},
}

// laneWidth is how many characters the compact timeline is wide.
const laneWidth = 64

// drawTimeline draws what happened in a few lines: a block where something went
// on for most of a column's time, a thin one for less, a dot for a moment.
func drawTimeline(events []timeline.Event, color bool) []string {
	var end int64
	for i := range events {
		end = max(end, events[i].Until)
	}
	if end == 0 {
		return nil
	}
	ms := duration(end / 1000)
	out := []string{"0 " + strings.Repeat("─", max(1, laneWidth-3-len(ms))) + " " + ms}
	for _, l := range lanes {
		var covered [laneWidth]int64
		var dots [laneWidth]bool
		n := 0
		for i := range events {
			e := &events[i]
			is := false
			for _, k := range l.kinds {
				is = is || e.Kind == k
			}
			if !is {
				continue
			}
			n++
			at := func(us int64) int { return max(0, min(laneWidth-1, int(float64(us)/float64(end)*laneWidth))) }
			dots[at(e.At)] = true
			for c := at(e.At); c <= at(e.Until); c++ {
				from, to := int64(c)*(end/laneWidth), int64(c+1)*(end/laneWidth)
				covered[c] += max(0, min(to, e.Until)-max(from, e.At))
			}
		}
		if n == 0 {
			continue
		}
		var b strings.Builder
		for c := range covered {
			switch cell := end / laneWidth; {
			case covered[c]*2 >= cell && covered[c] > 0:
				b.WriteString("█")
			case covered[c]*8 >= cell && covered[c] > 0:
				b.WriteString("▌")
			case dots[c]:
				b.WriteString("·")
			default:
				b.WriteString(" ")
			}
		}
		line := b.String()
		if color {
			line = l.color.Sprint(line)
		}
		out = append(out, fmt.Sprintf("%s %s", line, l.name))
	}
	return out
}

// timingFacts are the facts of a bout's clock, with its timeline drawn.
func (a *app) timingFacts(b api.BoutDetail, events []timeline.Event) [][2]string {
	facts := [][2]string{{"Used", usedWords(b.Used)}}
	if d := b.Ledger.Difference; d != nil && *d != 0 {
		by, told := "the tool itself reports", b.Ledger.Reported
		if told == nil {
			by, told = "over the protocol the tool tells", b.Ledger.Protocol
		}
		facts = append(facts, [2]string{"Reported", fmt.Sprintf("%s %s tokens: %s", by, humanize.Comma(*told.Total), signed(*d))})
	}
	for _, m := range b.Ledger.Lines {
		if len(b.Ledger.Lines) > 1 || b.Ledger.Source == ledger.Metered {
			words := plural(m.Exchanges, "exchange") + ", " + tokensCell(m.Tokens.Total(), m.NotCounted > 0).shown + " tokens"
			if m.Money != nil {
				words += ", " + moneyCell(m.Money, false).shown
			}
			facts = append(facts, [2]string{"Model " + m.Model, words})
		}
	}
	if len(b.Flags) > 0 {
		facts = append(facts, [2]string{"Flags", strings.Join(b.Flags, "; ")})
	}
	if t := b.Timing; t != nil && t.Elapsed > 0 {
		share := func(name string, us int64) string {
			return fmt.Sprintf("%s %s (%.0f%%)", name, duration(us/1000), 100*float64(us)/float64(t.Elapsed))
		}
		var parts []string
		for _, p := range []struct {
			name string
			us   int64
		}{{"model", t.Parts.Exchange}, {"own work", t.Parts.Own}, {"refused or paced", t.Parts.Refused}, {"waiting for answers", t.Parts.Asked}, {"the person's own editing", t.Parts.Person}, {"quiet", t.Parts.Quiet}} {
			if p.us > 0 {
				parts = append(parts, share(p.name, p.us))
			}
		}
		facts = append(facts, [2]string{"Time went to", strings.Join(parts, ", ")})
		edits := "no edit was seen"
		if b.FirstEditMS != nil {
			edits = fmt.Sprintf("first after %s, last after %s; %s to %s", duration(*b.FirstEditMS), duration(*b.LastEditMS), plural(t.Edits, "edit"), plural(t.Files, "file"))
		}
		facts = append(facts, [2]string{"Edits", edits})
	}
	if lines := drawTimeline(events, a.color); lines != nil && a.format == formatTable {
		facts = append(facts, [2]string{"Timeline", strings.Join(lines, "\n")})
	}
	if b.Network == "meter-only" {
		facts = append(facts, [2]string{"Network", "meter-only: nothing but its model service could be reached"})
	} else if b.Network != "" {
		facts = append(facts, [2]string{"Network", "open: what the tool looked up is not known"})
	}
	if b.Cold != nil {
		start := "warm: the first exchange found tokens in a cache"
		if *b.Cold {
			start = "cold: the first exchange found nothing in a cache"
		}
		facts = append(facts, [2]string{"Start", start})
	}
	if m := b.Machine; m != nil {
		words := fmt.Sprintf("load up to %.2f on %d CPUs", m.Load, m.CPUs)
		if m.Waiting != nil {
			words += fmt.Sprintf(", something waited for a CPU %.0f%% of the time", *m.Waiting*100)
		}
		if b.Overloaded {
			words = "OVERLOADED: " + words
		}
		facts = append(facts, [2]string{"Machine", words})
	}
	return facts
}

// typedTokens reads what a person knows: fresh=1200,cached=800,output=90.
func typedTokens(text string) (*ledger.Tokens, error) {
	t := &ledger.Tokens{}
	for part := range strings.SplitSeq(text, ",") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		n, err := strconv.ParseInt(value, 10, 64)
		known := false
		for _, k := range ledger.Kinds() {
			if string(k) == name {
				known = true
				t.Set(k, n)
			}
		}
		if !ok || err != nil || n < 0 || !known {
			return nil, usageError{fmt.Errorf("--tokens %q cannot be read; expected kinds with counts, such as fresh=12000,cached=8000,output=900 (fresh, cached, written, output, reasoning)", text)}
		}
	}
	return t, nil
}

// usedCell shows the tokens of a bout in a list.
func usedCell(u api.Used) cell {
	if u.Tokens == nil && u.Source == string(ledger.NotKnown) {
		return cell{shown: absent}
	}
	c := tokensCell(u.Tokens, u.AtLeast)
	if u.Source != string(ledger.Metered) {
		c.shown += " " + u.Source
	}
	return c
}

func (a *app) boutExchange() *cobra.Command {
	var side string
	cmd := &cobra.Command{Use: "exchange BOUT NUMBER", Short: "Print what was sent to the model service, or came back, where bodies are kept", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil || side != "request" && side != "reply" {
				return usageError{fmt.Errorf("expected the number of an exchange (see: agonometer bout ledger BOUT --exchanges), and --side request or reply")}
			}
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			text, err := c.Body(cmd.Context(), id, n, side)
			if err != nil {
				return err
			}
			return a.contenderText(text, false)
		}}
	cmd.Flags().StringVar(&side, "side", "reply", "request or reply")
	return cmd
}
