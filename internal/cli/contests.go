package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/standings"
)

func (a *app) contestCommand() *cobra.Command {
	list := a.withFormat(&cobra.Command{Use: "list", Short: "List contests, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Contests(cmd.Context())
			if err != nil {
				return err
			}
			var lines [][]cell
			for _, one := range all {
				n := one.Counts
				lines = append(lines, []cell{plain(one.ID), plain(one.Name), plain(one.State), {shown: fmt.Sprintf("%d/%d", n.Done, n.Bouts), plain: strconv.Itoa(n.Done)},
					plain(strconv.Itoa(n.Passed)), plain(strconv.Itoa(n.Failed)), plain(strconv.Itoa(n.Void)), cell{shown: when(one.CreatedAt), plain: one.CreatedAt.UTC().Format(time.RFC3339)}, took(one.StartedAt, one.EndedAt)})
			}
			return a.rows(a.format, all, []column{{head: "Contest", id: true}, {head: "Name"}, {head: "State"}, {head: "Done", right: true}, {head: "Passed", right: true}, {head: "Failed", right: true},
				{head: "Void", right: true}, {head: "Created", key: "created_at", spare: 1}, {head: "Took", right: true, key: "took_ms"}}, lines, "No contests yet. Start one with: agonometer contest start FILE, or see: agonometer demo")
		}})

	show := a.withPrices(a.withFormat(&cobra.Command{Use: "show [CONTEST]", Short: "Show a contest: its settings and how far it has got", Args: cobra.MaximumNArgs(1),
		Long: "Show a contest. CONTEST is an id, the end of one (at least four characters), or a name (the newest of that name);\nleft out, it is the newest contest.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, d, err := a.contest(cmd.Context(), args)
			if err != nil {
				return err
			}
			_ = c
			n := d.Counts
			seed := strconv.FormatInt(d.Seed, 10)
			if d.SeedDrawn {
				seed += " (drawn)"
			}
			facts := [][2]string{{"Contest", d.ID}, {"Name", d.Name}, {"Title", d.Title}, {"State", d.State}, {"Seed", seed}, {"Repeats", strconv.Itoa(d.Repeats)},
				{"At once", strconv.Itoa(d.AtOnce)}, {"Created", when(d.CreatedAt)}, {"Took", took(d.StartedAt, d.EndedAt).shown},
				{"Bouts", fmt.Sprintf("%d of %d done: %d passed, %d failed, %d void; %d running", n.Done, n.Bouts, n.Passed, n.Failed, n.Void, n.Running)}}
			for _, t := range d.Tasks {
				facts = append(facts, [2]string{"Task " + t.Task, t.Title + "  (start " + short(t.StartCommit) + ")"})
			}
			for _, con := range d.Contenders {
				facts = append(facts, [2]string{"Contender " + con.Contender, con.Title + "  (" + con.Driven + "; ready: " + readyCell(con.Readiness).shown + ")"})
			}
			for _, u := range d.FirstUses {
				words := duration(u.ElapsedMS) + ", " + usedWords(u.Used)
				if u.Trouble != "" {
					words = "came to nothing: " + u.Trouble
				}
				facts = append(facts, [2]string{"First use " + u.Contender, filepath.Base(u.Repository) + ": " + words})
			}
			for _, r := range d.Standings.Rows {
				if r.Spent != nil {
					facts = append(facts, [2]string{"Spent by " + r.Contender, moneyCell(r.Spent, r.SpentAtLeast).shown})
				}
			}
			return a.facts(d, facts)
		}}))

	var figures []string
	standings := a.withPrices(a.withFormat(&cobra.Command{Use: "standings [CONTEST]", Short: "The table of contenders: who succeeded, how long it took, how large the change was", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			wanted, err := wantedColumns(figures)
			if err != nil {
				return err
			}
			_, d, err := a.contest(cmd.Context(), args)
			if err != nil {
				return err
			}
			if len(wanted) == 0 || a.format == formatTable {
				if err := a.standings(d); err != nil || len(wanted) == 0 {
					return err
				}
			}
			return a.editTable(d.Standings.Rows, wanted)
		}}))
	standings.Flags().StringSliceVar(&figures, "columns", nil, "figures of the edit measures, as medians: edits for the usual ones, or names such as strays,leftovers,covered_share")

	watch := a.withPrices(&cobra.Command{Use: "watch [CONTEST]", Short: "Follow a contest until it ends", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, d, err := a.contest(cmd.Context(), args)
			if err != nil {
				return err
			}
			return a.watch(cmd.Context(), c, d)
		}})

	stop := &cobra.Command{Use: "stop CONTEST", Short: "Stop a contest; what has not ended is void", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			id, err := contestID(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if err := c.StopContest(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Contest %s is being stopped. What has ended stays; the rest is void.\n", id)
			return nil
		}}
	settings := a.withFormat(&cobra.Command{Use: "settings [CONTEST]", Short: "How the contenders differ in what is not being compared", Args: cobra.MaximumNArgs(1),
		Long: "The settings of a contest's contenders next to each other: may a tool ask, may it use the network, guidance, first use, effort. What differs is marked.",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, d, err := a.contest(cmd.Context(), args)
			if err != nil {
				return err
			}
			return a.settings(d)
		}})
	return noun("contest", "Contests: some tasks x some contenders x repeats", a.contestStart(), list, show, settings, watch, stop, standings, a.contestLedger(), a.contestRejudge(), a.contestRemeasure())
}

func (a *app) settings(d api.ContestDetail) error {
	columns := []column{{head: "Setting"}, {head: "", key: "differs"}}
	var names []string
	for _, con := range d.Contenders {
		if con.Driver != "elsewhere" {
			names = append(names, con.Contender)
			columns = append(columns, column{head: con.Contender})
		}
	}
	var lines [][]cell
	for _, s := range d.Differences {
		differs := cell{plain: strconv.FormatBool(s.Differs)}
		if s.Differs {
			differs.shown, differs.color = "differs", text.Colors{text.FgYellow}
		}
		line := []cell{plain(s.Name), differs}
		for _, n := range names {
			line = append(line, cell{shown: text.Snip(visible(s.Values[n]), 45, "…"), plain: s.Values[n]})
		}
		lines = append(lines, line)
	}
	limits := cell{plain: "false"}
	line := []cell{plain("limits, repair rounds"), limits}
	for range names {
		line = append(line, plain("the contest's, for all alike"))
	}
	if err := a.rows(a.format, d.Differences, columns, append(lines, line), "No contenders."); err != nil || a.format != formatTable {
		return err
	}
	for _, u := range d.FirstUses {
		words := "took " + duration(u.ElapsedMS)
		if u.Used.Source != string(ledger.NotKnown) {
			words += ", " + usedWords(u.Used)
		}
		if u.Trouble != "" {
			words = "came to nothing: " + u.Trouble
		}
		fmt.Fprintf(a.out, "First use: %s in %s %s.\n", u.Contender, filepath.Base(u.Repository), visible(words))
	}
	return nil
}

func (a *app) contest(ctx context.Context, args []string) (*client.Client, api.ContestDetail, error) {
	c, err := a.client()
	if err != nil {
		return nil, api.ContestDetail{}, err
	}
	given := ""
	if len(args) > 0 {
		given = args[0]
	}
	id, err := contestID(ctx, c, given)
	if err != nil {
		return nil, api.ContestDetail{}, err
	}
	d, err := c.Contest(ctx, id)
	return c, d, err
}

func (a *app) contestStart() *cobra.Command {
	var yes, watch, prove bool
	var seed int64
	cmd := &cobra.Command{Use: "start FILE", Short: "Start a contest", Args: cobra.ExactArgs(1),
		Long: `Start the contest that FILE describes. The client reads the file and everything that it names and sends it to the
service; nothing is started when anything in them is wrong. It first says what will be run, and asks when in a terminal.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			b, kind, err := gather(args[0])
			if err != nil {
				return err
			}
			if kind != contest.KindContest {
				return usageError{fmt.Errorf("%s is not a contest file (YAML with the key contest)", args[0])}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var given *int64
			if cmd.Flags().Changed("seed") {
				given = &seed
			}
			plan, err := c.PlanContest(cmd.Context(), b, given)
			if err != nil {
				return err
			}
			if prove {
				if err := a.proveFirst(cmd.Context(), c, b, plan); err != nil {
					return err
				}
				if plan, err = c.PlanContest(cmd.Context(), b, given); err != nil {
					return err
				}
			}
			quiet := a.format == formatJSON
			if !quiet {
				a.plan(plan)
			}
			if !yes && isTerminal(a.in) && isTerminal(a.out) && !quiet {
				fmt.Fprint(a.out, "Start it? [y/N] ")
				answer, _ := bufio.NewReader(a.in).ReadString('\n')
				if answer = strings.ToLower(strings.TrimSpace(answer)); answer != "y" && answer != "yes" {
					fmt.Fprintln(a.out, "Nothing was started.")
					return silentError{}
				}
			}
			d, err := c.StartContest(cmd.Context(), b, given)
			if err != nil {
				return err
			}
			if quiet && !watch {
				return a.json(d.Contest)
			}
			if !quiet {
				fmt.Fprintf(a.out, "Started contest %s, seed %d.\n", d.ID, d.Seed)
			}
			if watch {
				return a.watch(cmd.Context(), c, d)
			}
			fmt.Fprintf(a.out, "Follow it with: agonometer contest watch %s\n", d.ID)
			return nil
		}}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "start without asking")
	cmd.Flags().BoolVar(&watch, "watch", false, "follow it until it ends")
	cmd.Flags().BoolVar(&prove, "prove", false, "first prove the tasks that are not proved, and start only when all are")
	cmd.Flags().Int64Var(&seed, "seed", 0, "use this seed instead of the file's")
	return a.withPrices(a.withFormat(cmd))
}

func (a *app) plan(p api.Plan) {
	fmt.Fprintf(a.out, "%s: %d bouts = %d tasks x %d contenders x %d repeats, %d at once\n", visible(p.Title), p.Bouts, len(p.Tasks), len(p.Contenders), p.Repeats, p.AtOnce)
	for _, t := range p.Tasks {
		wordings := ""
		if len(t.Wordings) > 0 {
			wordings = ", wordings " + strings.Join(t.Wordings, ", ")
		}
		fmt.Fprintf(a.out, "  %-24s start %s, limit %s, %d checks of at most %s%s\n", t.Task, short(t.StartCommit), duration(t.TimeMS), t.Checks, duration(t.CheckMS), wordings)
	}
	fmt.Fprintf(a.out, "  contenders: %s\n", strings.Join(p.Contenders, ", "))
	fmt.Fprintf(a.out, "  at most %s, if every bout and check takes all its time\n", duration(p.LongestMS))
	for _, r := range p.Remarks {
		fmt.Fprintf(a.out, "  note: %s\n", visible(r))
	}
}

func share(v *float64) cell {
	if v == nil {
		return cell{shown: absent}
	}
	return cell{shown: fmt.Sprintf("%.0f%%", *v*100), plain: strconv.FormatFloat(*v, 'f', -1, 64)}
}

func medianMS(v *float64) cell {
	if v == nil {
		return cell{shown: absent}
	}
	return cell{shown: duration(int64(*v + 0.5)), plain: strconv.FormatFloat(*v, 'f', -1, 64)}
}

// medianTokens is the median count, marked where it is of another source than the meter.
func medianTokens(r standings.Row) cell {
	if r.MedianTokens == nil {
		return cell{shown: absent}
	}
	c := cell{shown: humanize.Comma(int64(*r.MedianTokens + 0.5)), plain: strconv.FormatFloat(*r.MedianTokens, 'f', -1, 64)}
	if r.TokensAtLeast {
		c.shown = "at least " + c.shown
	}
	if r.Source != ledger.Metered {
		c.shown += " " + string(r.Source)
	}
	return c
}

func plusMinus(added, removed *float64) string {
	if added == nil || removed == nil {
		return absent
	}
	return "+" + number(added).shown + " -" + number(removed).shown
}

func (a *app) standings(d api.ContestDetail) error {
	st := d.Standings
	if a.format == formatTable {
		title := d.Title
		if a.color {
			title = text.Bold.Sprint(visible(title))
		}
		state := fmt.Sprintf("%d bouts", d.Counts.Bouts)
		if !st.Final {
			state = fmt.Sprintf("%s, %d of %d bouts done", d.State, d.Counts.Done, d.Counts.Bouts)
		}
		fmt.Fprintf(a.out, "%s  (%s)\n\n", title, state)
	}
	var lines [][]cell
	for _, r := range st.Rows {
		lines = append(lines, []cell{plain(r.Contender), {shown: fmt.Sprintf("%d of %d", r.Passed, r.Passed+r.Failed), plain: strconv.Itoa(r.Passed)}, share(r.SuccessShare),
			share(r.FirstShare), plain(strconv.Itoa(r.Failed)), plain(strconv.Itoa(r.Void)), number(r.MedianRounds), medianMS(r.MedianElapsedMS), medianMS(r.MedianPassedMS), medianMS(r.MedianFirstEditMS),
			medianTokens(r), moneyOrRange(r.Spent, r.SpentRange, r.SpentAtLeast), moneyOrRange(r.PerPassed, r.PerPassedRange, r.SpentAtLeast), share(r.Availability.Share), number(r.MedianFiles), {shown: plusMinus(r.MedianAdded, r.MedianRemoved), plain: number(r.MedianAdded).plain}, number(r.MedianRemoved),
			orAbsent(r.Driven), ofPerson(r, r.Corrections), ofPerson(r, r.OwnEdits), attention(r), moneyOrRange(r.PerPassedWithPerson, r.PerPassedWithPersonRange, r.SpentAtLeast)})
	}
	columns := []column{{head: "Contender"}, {head: "Passed", right: true}, {head: "In the end", right: true, key: "success_share"}, {head: "First time", right: true, spare: 6, key: "first_share"}, {head: "Failed", right: true}, {head: "Void", right: true, spare: 2},
		{head: "Rounds", right: true, spare: 1, key: "median_rounds"}, {head: "Elapsed", right: true, key: "median_elapsed_ms"}, {head: "When passed", right: true, key: "median_passed_ms"}, {head: "First edit", right: true, spare: 3, key: "median_first_edit_ms"}, {head: "Tokens", right: true, spare: 8, key: "median_tokens"},
		{head: "Spent", right: true}, {head: "Per passed", right: true, spare: 7, key: "money_per_passed"}, {head: "Available", right: true, spare: 4, key: "available_share"}, {head: "Files", right: true, key: "median_files"},
		{head: "Lines", right: true, spare: 5, key: "median_lines_added"}, {head: "Lines -", right: true, key: "median_lines_removed"},
		{head: "Driven"}, {head: "Corrections", right: true}, {head: "Own edits", right: true, key: "own_edits"}, {head: "Attention", right: true, key: "attention_ms"}, {head: "With person", right: true, key: "money_per_passed_with_person"}}
	shown, cells := columns, lines
	if a.format == formatTable { // what a person did is a table of its own, and some columns are in others too
		withPerson := len(columns) - 5
		shown, cells = pick(columns, lines, func(i int, head string) bool {
			return i < withPerson && head != "Failed" && head != "When passed" && head != "Files" && head != "Lines -"
		})
	}
	if err := a.rows(a.format, st, shown, cells, "No contenders."); err != nil {
		return err
	}
	if a.format == formatTable {
		fmt.Fprintln(a.out, "\nIn the end: the share that passed, repair rounds included. First time: without one.\nRounds, times, tokens, files and lines are medians over the bouts that passed or failed. Per passed: all that was spent, divided by what passed.\nAvailable: the share of tries that were neither refused nor void nor late.")
		if anybody(st.Rows) {
			fmt.Fprintln(a.out, "\nWhat it asked of a person, over all bouts that passed or failed:")
			shown, cells := pick(columns, lines, func(i int, head string) bool {
				return i == 0 || i >= len(columns)-5 && (head != "With person" || d.HourlyRate != "")
			})
			if err := a.rows(a.format, st, shown, cells, ""); err != nil {
				return err
			}
			if d.HourlyRate != "" {
				fmt.Fprintln(a.out, "\nWith person: per passed with that time at "+d.HourlyRate+" an hour.")
			}
		}
		for _, n := range st.Notes {
			fmt.Fprintln(a.out, "Note: "+n+".")
		}
		a.byWording(st)
	}
	return nil
}

// pick leaves the columns that keep says, in every line.
func pick(columns []column, lines [][]cell, keep func(i int, head string) bool) (heads []column, cells [][]cell) {
	cells = make([][]cell, len(lines))
	for i, c := range columns {
		if keep(i, c.head) {
			heads = append(heads, c)
			for j := range lines {
				cells[j] = append(cells[j], lines[j][i])
			}
		}
	}
	return heads, cells
}

// anybody tells whether contenders were driven in several ways, or needed a person.
func anybody(rows []standings.Row) bool {
	ways := map[string]bool{}
	for _, r := range rows {
		if r.Driven != "" {
			ways[r.Driven] = true
		}
		if r.Corrections+r.OwnEdits+r.Permissions > 0 || r.AttentionMS > 0 {
			return true
		}
	}
	return len(ways) > 1
}

func ofPerson(r standings.Row, n int) cell {
	if r.EffortOf == 0 {
		return cell{shown: absent}
	}
	return plain(strconv.Itoa(n))
}

func attention(r standings.Row) cell {
	if r.EffortOf == 0 {
		return cell{shown: absent}
	}
	return msCell(&r.AttentionMS)
}

// moneyOrRange shows money, or the two amounts between which it lies.
func moneyOrRange(m *ledger.Money, r *ledger.Range, atLeast bool) cell {
	if m != nil || r == nil {
		return moneyCell(m, atLeast)
	}
	from, to := moneyCell(&r.From, atLeast), moneyCell(&r.To, false)
	return cell{shown: strings.TrimSuffix(from.shown, " "+string(r.From.Currency)) + " to " + to.shown, plain: from.plain + " to " + to.plain}
}

// byWording shows how results differ by wording, where tasks have several.
func (a *app) byWording(st api.Standings) {
	if len(st.ByWording) == 0 {
		return
	}
	fmt.Fprintln(a.out, "\nBy wording:")
	width := [3]int{}
	for _, r := range st.ByWording {
		width = [3]int{max(width[0], len(r.Task)), max(width[1], len(r.Wording)), max(width[2], len(r.Contender))}
	}
	for _, r := range st.ByWording {
		line := fmt.Sprintf("  %-*s  %-*s  %-*s  %d of %d passed, first time %d", width[0], r.Task, width[2], r.Contender, width[1], r.Wording, r.Passed, r.Passed+r.Failed, r.FirstPassed)
		if r.MedianElapsedMS != nil {
			line += ", " + medianMS(r.MedianElapsedMS).shown
		}
		if r.MedianTokens != nil {
			line += ", " + humanize.Comma(int64(*r.MedianTokens+0.5)) + " tokens"
		}
		fmt.Fprintln(a.out, line)
	}
	differ := false
	for _, s := range st.Spreads {
		if s.Share > 0 {
			differ = true
			fmt.Fprintf(a.out, "%s on %s passed %d of %d with %s, %d of %d with %s.\n", s.Contender, s.Task, s.BestPassed, s.BestOf, s.Best, s.WorstPassed, s.WorstOf, s.Worst)
		}
	}
	if differ {
		fmt.Fprintln(a.out, "Few bouts with each wording differ by chance too: repeats tell whether the words matter.")
	}
}

// watch follows a contest to its end and prints its standings. Ctrl-C leaves
// the contest running, and says so.
func (a *app) watch(ctx context.Context, c *client.Client, d api.ContestDetail) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	p := newProgress(a, d)
	defer p.close()
	if !ended(d.State) {
		err := c.Follow(ctx, d.ID, d.LastEventID, p.take)
		p.close()
		if errors.Is(err, context.Canceled) {
			fmt.Fprintf(a.err, "\nThe contest goes on without being watched. Watch it again: agonometer contest watch %s; stop it: agonometer contest stop %s\n", d.ID, d.ID)
			return silentError{}
		}
		if err != nil {
			return err
		}
	}
	end, err := c.Contest(context.WithoutCancel(ctx), d.ID)
	if err != nil {
		return err
	}
	if a.format == formatTable {
		fmt.Fprintln(a.out)
	}
	if err := a.standings(end); err != nil {
		return err
	}
	if end.State == "by-hand" && a.format == formatTable {
		fmt.Fprintf(a.out, "\n%s left to be worked by hand: agonometer hand start --contest %s\n", plural(end.Counts.Bouts-end.Counts.Done, "bout"), shortID(end.ID))
	}
	return nil
}
