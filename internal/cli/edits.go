package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/standings"
)

// figureCell is a figure's value as people read it, and bare.
func figureCell(info patch.FigureInfo, v *float64) cell {
	if v == nil {
		return cell{shown: absent}
	}
	bare := strconv.FormatFloat(*v, 'f', -1, 64)
	switch info.Unit {
	case "share":
		return cell{shown: fmt.Sprintf("%.0f%%", *v*100), plain: bare}
	case "x":
		return cell{shown: fmt.Sprintf("%.2f x", *v), plain: bare}
	case "yes/no":
		if *v == 0 || *v == 1 {
			return cell{shown: map[float64]string{0: "no", 1: "yes"}[*v], plain: bare}
		}
	}
	return cell{shown: strconv.FormatFloat(*v, 'f', -1, 64), plain: bare}
}

func (a *app) boutMeasures() *cobra.Command {
	var round int
	var again, misses bool
	var where string
	cmd := a.withFormat(&cobra.Command{Use: "measures BOUT", Short: "What kind of change it is: the edit measures, with their evidence", Args: cobra.ExactArgs(1),
		Long: "The edit measures of a bout: each a count or a share, and below it the places that it was counted from.\n" +
			"--where lists the places of one figure instead, with their lines. --misses tells of each measure what it cannot see.\n" +
			"--again works them out anew from what was stored, as after an update of Agonometer; the verdict stays.",
		Example: "  agonometer bout measures 3XK9\n  agonometer bout measures 3XK9 --where lines_added_code",
		RunE: func(cmd *cobra.Command, args []string) error {
			var info *patch.FigureInfo
			if where != "" {
				if info = patch.FindFigure(where); info == nil {
					return noFigure(where, "")
				}
			}
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var m api.EditMeasures
			if again {
				m, err = c.MeasureAgain(cmd.Context(), id)
			} else {
				m, err = c.Measures(cmd.Context(), id, round)
			}
			if err != nil {
				return err
			}
			if info == nil {
				return a.measures(m, misses)
			}
			files, err := c.Diff(cmd.Context(), id, m.Round)
			if err != nil {
				return err
			}
			return a.where(m, info, files)
		}})
	cmd.Flags().IntVar(&round, "round", 0, "of this round; default: the last")
	cmd.Flags().BoolVar(&again, "again", false, "work them out anew")
	cmd.Flags().BoolVar(&misses, "misses", false, "tell of each measure what it cannot see")
	cmd.Flags().StringVar(&where, "where", "", "the places of this figure, by its name in --format csv")
	return cmd
}

func (a *app) boutFinding() *cobra.Command {
	var reason, by string
	cmd := &cobra.Command{Use: "finding BOUT FINDING aside|needed|welcome|unwanted|counts", Short: "Set a false alarm aside, or say of a stray file what it is", Args: cobra.ExactArgs(3),
		Long: "Say something of a finding of the edit measures. FINDING is its id, as `agonometer bout measures` shows it.\n" +
			"aside: a false alarm, not counted any more (with --because). needed, welcome, unwanted: said of a stray file, which stays counted.\ncounts: takes back what was said.",
		Example: "  agonometer bout finding 3XK9 5f0c1a2b3c4d aside --because 'the printing is the program'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			mark := args[2]
			if mark == "counts" {
				mark = ""
			}
			m, err := c.MarkEdit(cmd.Context(), id, args[1], api.MarkEdit{Mark: mark, Reason: reason, By: by})
			if err != nil {
				return err
			}
			i := slices.IndexFunc(m.Findings, func(f api.EditFinding) bool { return f.ID == args[1] })
			if i >= 0 {
				fmt.Fprintln(a.out, strings.TrimSpace(a.findingLine(m.Findings[i])))
			}
			return nil
		}}
	cmd.Flags().StringVar(&reason, "because", "", "why; wanted for aside")
	cmd.Flags().StringVar(&by, "by", "", "who says so; default: the service's user")
	return cmd
}

// placeText is a place in words; "" for none.
func placeText(p patch.Place) string {
	where := visible(p.Path)
	if p.Line > 0 {
		where += ":" + strconv.Itoa(p.Line)
		if p.End > p.Line {
			where += "-" + strconv.Itoa(p.End)
		}
		if p.Side == patch.Before {
			where += " (before)"
		}
	}
	return where
}

// findingLine is a finding in one line; a sentence that it was read from stands below.
func (a *app) findingLine(f api.EditFinding) string {
	line := fmt.Sprintf("    %-12s %-16s %s", f.ID, f.Kind, placeText(f.Place))
	said := ""
	switch {
	case f.Measure == "claims": // a sentence, which is no line of anything
		said = strings.ReplaceAll("\n"+text.WrapSoft(visible(f.Text), 100), "\n", "\n                 ")
	case f.Text != "":
		line += "  " + visible(f.Text)
	}
	if f.Other != nil {
		line += fmt.Sprintf("  = %s:%d-%d", visible(f.Other.Path), f.Other.Line, f.Other.End)
	}
	if f.Mark != "" {
		line += "  [" + f.Mark
		if f.Reason != "" {
			line += ": " + visible(f.Reason)
		}
		line += "]"
	}
	if r := []rune(line); len(r) > 220 {
		line = string(r[:219]) + "…"
	}
	if strings.TrimSpace(said) != "" {
		line += said
	}
	if a.color && f.Mark == "aside" {
		line = text.Faint.Sprint(line)
	}
	return line
}

const maxShownFindings = 15

func (a *app) measures(m api.EditMeasures, misses bool) error {
	var lines [][]cell
	for _, f := range m.Figures {
		most := cell{shown: absent}
		if f.AtMost != nil {
			most = plain(strconv.FormatFloat(*f.AtMost, 'f', -1, 64))
		}
		lines = append(lines, []cell{plain(f.Measure), plain(f.Name), figureCell(f.FigureInfo, f.Value), plain(f.Unit), most, plain(f.Words)})
	}
	if a.format != formatTable {
		return a.rows(a.format, m, []column{{head: "Measure"}, {head: "Figure"}, {head: "Value", right: true}, {head: "Unit"}, {head: "At most", right: true}, {head: "Words"}}, lines, "")
	}
	for _, of := range m.Measures {
		measure := of.Name
		var words, missing []string
		for _, f := range m.Figures {
			switch {
			case f.Measure != measure:
			case f.Value == nil:
				missing = append(missing, figureLabel(f.FigureInfo)+": "+f.Why)
			case *f.Value != 0 || !strings.HasPrefix(f.Name, "lines_") && !strings.HasPrefix(f.Name, "files_"):
				word := figureLabel(f.FigureInfo) + " " + figureCell(f.FigureInfo, f.Value).shown
				if f.AtMost != nil {
					word += fmt.Sprintf(" (at most %v)", *f.AtMost)
				}
				words = append(words, word)
			}
		}
		if len(words)+len(missing) == 0 {
			continue
		}
		name := fmt.Sprintf("%-11s", measure)
		if a.color {
			name = text.Bold.Sprint(name)
		}
		if measure == "nearness" && len(words) > 0 {
			words = append(words, "information only: another good solution is not a fault")
		}
		lines := text.WrapSoft(visible(strings.Join(append(words, missing...), ", ")), 100)
		fmt.Fprintf(a.out, "%s %s\n", name, strings.ReplaceAll(lines, "\n", "\n            "))
		shown := 0
		for _, f := range m.Findings {
			if f.Measure != measure {
				continue
			}
			if shown++; shown > maxShownFindings {
				continue
			}
			fmt.Fprintln(a.out, a.findingLine(f))
		}
		if misses {
			fmt.Fprintln(a.out, "            misses "+strings.ReplaceAll(text.WrapSoft(of.Misses, 100), "\n", "\n            "))
		}
		if shown > maxShownFindings {
			fmt.Fprintf(a.out, "    … and %d more (--format json lists all)\n", shown-maxShownFindings)
		}
	}
	if len(m.Off) > 0 {
		fmt.Fprintln(a.out, "Left out by the task: "+strings.Join(m.Off, ", ")+".")
	}
	for _, n := range m.Notes {
		fmt.Fprintln(a.out, "Note: "+visible(n)+".")
	}
	if m.Version != m.Current {
		fmt.Fprintf(a.out, "Note: worked out by version %d; the present one is %d (--again works them out anew).\n", m.Version, m.Current)
	}
	return nil
}

// where prints the places that a figure comes from, with the changed lines in them.
func (a *app) where(m api.EditMeasures, info *patch.FigureInfo, diff api.Diff) error {
	i := slices.IndexFunc(m.Figures, func(f api.EditFigure) bool { return f.Name == info.Name })
	if i < 0 {
		return fmt.Errorf("%s was not worked out for this bout: %s is left out by the task, or it was judged by an older Agonometer (--again works it out)", info.Name, info.Measure)
	}
	f := m.Figures[i]
	if a.format != formatTable {
		var lines [][]cell
		for _, p := range f.Where {
			lines = append(lines, []cell{plain(string(p.Side)), plain(p.Path), plain(strconv.Itoa(p.Line)), plain(strconv.Itoa(max(p.Line, p.End)))})
		}
		return a.rows(a.format, f, []column{{head: "Side"}, {head: "Path"}, {head: "Line", right: true}, {head: "End", right: true}}, lines, "")
	}
	value := figureCell(*info, f.Value).shown
	if f.Value == nil {
		value = f.Why
	}
	fmt.Fprintf(a.out, "%s: %s (%s)\n", info.Name, value, info.Words)
	if info.PlacesAre != "" && len(f.Where) > 0 {
		fmt.Fprintf(a.out, "Below: %s.\n", info.PlacesAre)
	}
	for _, p := range f.Where {
		title := placeText(p)
		if a.color {
			title = text.Bold.Sprint(title)
		}
		fmt.Fprintln(a.out, title)
		for i := range diff.Files {
			if file := &diff.Files[i]; file.Has(p) {
				a.lines(file.Within(p))
			}
		}
	}
	if f.More > 0 {
		fmt.Fprintf(a.out, "… and %d more places\n", f.More)
	}
	if len(f.Where) == 0 && f.Value != nil {
		fmt.Fprintf(a.out, "There are no places to show%s.\n", strings.TrimSuffix(": no "+info.PlacesAre, ": no "))
	}
	return nil
}

// figureLabel is a figure's name where its measure is told already.
func figureLabel(f patch.FigureInfo) string {
	name := f.Name
	if name == f.Measure {
		name = "found"
		if f.Unit == "yes/no" {
			name = "touched"
		}
	}
	return strings.ReplaceAll(strings.TrimPrefix(name, f.Measure+"_"), "_", " ")
}

// editWords are the figures that a reviewer looks at first, in one line.
func editWords(edits map[string]float64) string {
	var out []string
	for _, name := range []string{"strays", "noise", "leftovers", "losses", "unused", "tests_added", "tests_removed", "tests_skipped", "tests_weakened", "repeated_lines", "dependencies_added", "undeclared_imports", "lint_new", "claims_wrong"} {
		if v, there := edits[name]; there && v != 0 {
			out = append(out, fmt.Sprintf("%s %v", strings.ReplaceAll(name, "_", " "), v))
		}
	}
	if v, there := edits["covered_share"]; there {
		out = append(out, fmt.Sprintf("%.0f%% of its code executed by tests", v*100))
	}
	if v, there := edits["nearness_likeness"]; there {
		out = append(out, fmt.Sprintf("likeness to the reference %.2f", v))
	}
	if len(edits) > 0 && len(out) == 0 {
		return "nothing of note"
	}
	return strings.Join(out, ", ")
}

// usualColumns are the figures of --columns edits.
var usualColumns = []string{"strays", "noise", "leftovers", "losses", "unused", "tests_added", "covered_share", "repeated_lines", "size_to_reference", "nearness_likeness"}

// wantedColumns reads --columns.
func wantedColumns(given []string) ([]patch.FigureInfo, error) {
	var out []patch.FigureInfo
	for _, name := range given {
		if name == "edits" {
			more, _ := wantedColumns(usualColumns)
			out = append(out, more...)
			continue
		}
		info := patch.FindFigure(name)
		if info == nil {
			return nil, noFigure(name, "edits (the usual ones) and ")
		}
		out = append(out, *info)
	}
	return out, nil
}

func noFigure(name, more string) error {
	var all []string
	for _, f := range patch.Figures() {
		all = append(all, f.Name)
	}
	return fmt.Errorf("there is no figure %q; there are %s%s", name, more, strings.Join(all, ", "))
}

// editTable prints medians of edit measures: over all bouts of a contender, and over
// those that passed.
func (a *app) editTable(rows []standings.Row, wanted []patch.FigureInfo) error {
	columns := []column{{head: "Contender"}}
	for i, info := range wanted {
		columns = append(columns, column{head: info.Title, right: true, key: info.Name, spare: len(wanted) - i})
		if a.format != formatTable {
			columns = append(columns, column{head: info.Title + ", passed", right: true, key: info.Name + "_passed"})
		}
	}
	var lines [][]cell
	for _, r := range rows {
		line := []cell{plain(r.Contender)}
		for _, info := range wanted {
			m := r.Edits[info.Name]
			all, passed := figureCell(info, m.All), figureCell(info, m.Passed)
			if a.format != formatTable {
				line = append(line, all, passed)
				continue
			}
			if m.All != nil {
				all.shown += " (" + passed.shown + ")"
			}
			line = append(line, all)
		}
		lines = append(lines, line)
	}
	if a.format == formatTable {
		fmt.Fprintln(a.out, "\nEdit measures, medians over the bouts that passed or failed, and in brackets over those that passed:")
	}
	return a.rows(a.format, rows, columns, lines, "No contenders.")
}

func (a *app) boutCompare() *cobra.Command {
	var reference, withDiff bool
	var file string
	cmd := a.withFormat(&cobra.Command{Use: "compare BOUT BOUT [BOUT [BOUT]]", Short: "Two to four results of one task next to each other", Args: cobra.RangeArgs(2, 4),
		Long: "Two to four results of one task next to each other: facts, edit measures, and which files all, some or one of them touch.\n" +
			"--diff prints the changes file by file, each file of each result after the other.",
		Example: "  agonometer bout compare 3XK9 77QA --reference\n  agonometer bout compare 3XK9 77QA --file src/log.js",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ids, err := boutIDs(cmd.Context(), c, args)
			if err != nil {
				return err
			}
			cmp, err := c.Compare(cmd.Context(), ids, reference)
			if err != nil {
				return err
			}
			if file != "" && !slices.ContainsFunc(cmp.Files, func(f api.ComparedFile) bool { return f.Path == file }) {
				return fmt.Errorf("none of the results touches %s; without --file all files are listed", file)
			}
			return a.comparison(cmp, withDiff || file != "", file)
		}})
	cmd.Flags().BoolVar(&reference, "reference", false, "the task's reference beside them")
	cmd.Flags().BoolVar(&withDiff, "diff", false, "the changes as well, file by file")
	cmd.Flags().StringVar(&file, "file", "", "the changes of this file alone")
	return cmd
}

func boutIDs(ctx context.Context, c *client.Client, given []string) ([]string, error) {
	out := make([]string, 0, len(given))
	for _, g := range given {
		id, err := boutID(ctx, c, g)
		if err != nil {
			return nil, err
		}
		out = append(out, id)
	}
	return out, nil
}

func (a *app) comparison(cmp api.Comparison, withDiff bool, file string) error {
	columns := []column{{head: ""}, {head: "", key: "differs"}}
	columns[0].key = "fact"
	for _, r := range cmp.Results {
		columns = append(columns, column{head: r.Name, right: true})
	}
	var lines [][]cell
	fact := func(name string, differs bool, of func(r api.ComparedResult) cell) {
		mark := cell{plain: strconv.FormatBool(differs)}
		if differs {
			mark.shown, mark.color = "differs", text.Colors{text.FgYellow}
		}
		line := []cell{plain(name), mark}
		for _, r := range cmp.Results {
			line = append(line, of(r))
		}
		lines = append(lines, line)
	}
	ofBout := func(name string, of func(b api.Bout) cell) {
		seen := map[string]bool{}
		for _, r := range cmp.Results {
			if r.Bout != nil {
				seen[of(*r.Bout).shown] = true
			}
		}
		fact(name, len(seen) > 1, func(r api.ComparedResult) cell {
			if r.Bout == nil {
				return cell{shown: absent}
			}
			return of(*r.Bout)
		})
	}
	ofBout("bout", func(b api.Bout) cell { return cell{shown: shortID(b.ID), plain: b.ID} })
	lines[0][1] = cell{plain: "true"}
	ofBout("verdict", verdictText)
	ofBout("rounds", func(b api.Bout) cell { return plain(strconv.Itoa(b.Rounds)) })
	ofBout("elapsed", func(b api.Bout) cell { return msCell(b.ElapsedMS) })
	ofBout("tokens", func(b api.Bout) cell { return usedCell(b.Used) })
	ofBout("money", func(b api.Bout) cell { return moneyCell(b.Used.Money, b.Used.MoneyAtLeast) })
	for _, f := range cmp.Figures {
		zero := !f.Differs && f.Values[0] != nil && *f.Values[0] == 0
		if zero && a.format == formatTable {
			continue // what none of them has
		}
		i := -1
		fact(strings.ReplaceAll(f.Name, "_", " "), f.Differs, func(api.ComparedResult) cell { i++; return figureCell(f.FigureInfo, f.Values[i]) })
	}
	if err := a.rows(a.format, cmp, columns, lines, ""); err != nil || a.format == formatJSON || a.format == formatCSV {
		return err
	}
	fmt.Fprintln(a.out, "\nFiles:")
	head := []column{{head: "File"}, {head: "Touched by"}}
	for _, r := range cmp.Results {
		head = append(head, column{head: r.Name, right: true})
	}
	var files [][]cell
	for _, f := range cmp.Files {
		line := []cell{plain(f.Path), plain(f.By)}
		for i := range cmp.Results {
			if f.Touched[i] == "" {
				line = append(line, cell{shown: absent})
				continue
			}
			words := fmt.Sprintf("+%d -%d", f.Added[i], f.Removed[i])
			if f.Touched[i] != string(patch.Changed) {
				words = f.Touched[i] + " " + words
			}
			line = append(line, plain(words))
		}
		files = append(files, line)
	}
	if err := a.rows(a.format, cmp, head, files, "None of them touches a file."); err != nil {
		return err
	}
	for _, n := range cmp.Notes {
		fmt.Fprintln(a.out, "Note: "+visible(n)+".")
	}
	if !withDiff {
		return nil
	}
	for _, f := range cmp.Files {
		if file != "" && f.Path != file {
			continue
		}
		for _, r := range cmp.Results {
			i := slices.IndexFunc(r.Diff, func(d patch.File) bool { return d.Path == f.Path })
			if i < 0 {
				continue
			}
			title := fmt.Sprintf("\n=== %s: %s", visible(f.Path), r.Name)
			if a.color {
				title = text.Bold.Sprint(title)
			}
			fmt.Fprintln(a.out, title)
			a.fileLines(r.Diff[i])
		}
	}
	return nil
}

// lines prints lines of a diff.
func (a *app) lines(list []patch.Line) {
	for _, l := range list {
		sign, colour := " ", text.Colors(nil)
		switch l.Kind {
		case patch.LineAdded:
			sign, colour = "+", text.Colors{text.FgGreen}
		case patch.LineRemoved:
			sign, colour = "-", text.Colors{text.FgRed}
		}
		line := sign + visible(l.Text)
		if a.color && colour != nil {
			line = colour.Sprint(line)
		}
		fmt.Fprintln(a.out, line)
	}
}

// fileLines prints the changed lines of a file with their context.
func (a *app) fileLines(f patch.File) {
	if f.Binary {
		fmt.Fprintln(a.out, "(binary)")
	}
	for _, h := range f.Hunks {
		first := h.Lines[0]
		fmt.Fprintf(a.out, "@@ line %d @@ %s\n", max(first.New, first.Old), visible(h.Heading))
		a.lines(h.Lines)
	}
	if f.Cut > 0 {
		fmt.Fprintf(a.out, "… %d more lines\n", f.Cut)
	}
}

// contestRemeasure works out the edit measures of all bouts of a contest anew, one after the other.
func (a *app) contestRemeasure() *cobra.Command {
	return a.withPrices(a.withFormat(&cobra.Command{Use: "remeasure [CONTEST]", Short: "Work out the edit measures of a contest's bouts anew, from what was stored", Args: cobra.MaximumNArgs(1),
		Long: "Work out the edit measures of all of a contest's bouts anew, from their stored changes, closing messages and what checks wrote.\n" +
			"No tool and no check is run, and verdicts stay: for after an update of Agonometer, when standings leave out measures of an older version.\n" +
			"It does not begin while a contest runs, whose times it would disturb.",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt)
			defer stop()
			c, d, err := a.contest(ctx, args)
			if err != nil {
				return err
			}
			all, err := c.Contests(ctx)
			if err != nil {
				return err
			}
			for _, one := range all {
				if one.State == "running" || one.State == "waiting" {
					return fmt.Errorf("the contest %s is %s, and measuring beside it would disturb its times: wait until it has ended (agonometer contest watch %s)", visible(one.Name), one.State, one.ID)
				}
			}
			bouts, err := c.Bouts(ctx, client.BoutFilter{Contest: d.ID})
			if err != nil {
				return err
			}
			bouts = slices.DeleteFunc(bouts, func(b api.Bout) bool { return b.State != "done" || b.Footprint == nil })
			for i, b := range bouts {
				if a.format == formatTable {
					fmt.Fprintf(a.err, "%d of %d: %s on %s, repeat %d\n", i+1, len(bouts), visible(b.Contender), visible(b.Task), b.Repeat)
				}
				var none *client.Error
				switch _, err := c.MeasureAgain(ctx, b.ID); {
				case ctx.Err() != nil:
					fmt.Fprintf(a.err, "%d of %d were worked out anew; the others are as they were.\n", i, len(bouts))
					return silentError{}
				case errors.As(err, &none) && none.Status == http.StatusNotFound: // an answer, and no change
				case errors.As(err, &none) && none.Status == http.StatusConflict:
					fmt.Fprintf(a.err, "%s: %s\n", b.ID, none.Detail)
				case err != nil:
					return err
				}
			}
			end, err := c.Contest(ctx, d.ID)
			if err != nil {
				return err
			}
			return a.standings(end)
		}}))
}
