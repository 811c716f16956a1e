package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/patch"
	plaintext "agonometer/internal/core/plain"
	"agonometer/internal/core/verdict"
)

func (a *app) taskCommand() *cobra.Command {
	list := a.withFormat(&cobra.Command{Use: "list", Short: "List the tasks that contests have used", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Tasks(cmd.Context())
			if err != nil {
				return err
			}
			var lines [][]cell
			for _, t := range all {
				lines = append(lines, []cell{plain(t.Task), plain(t.Title), orAbsent(t.Size), plain(strings.Join(t.Labels, " ")),
					{shown: short(t.StartCommit), plain: t.StartCommit}, plain(strconv.Itoa(len(t.Checks))), plain(t.Proved), plain(strconv.Itoa(t.Contests))})
			}
			return a.rows(a.format, all, []column{{head: "Task"}, {head: "Title"}, {head: "Size"}, {head: "Labels", spare: 3}, {head: "Start", spare: 1}, {head: "Checks", right: true}, {head: "Proved"}, {head: "Contests", right: true, spare: 2}},
				lines, "No tasks yet: they come with the first contest. Check a file with: agonometer validate FILE")
		}})
	show := a.withFormat(&cobra.Command{Use: "show TASK", Short: "Show a task as it was last used", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.Task(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			facts := [][2]string{{"Task", t.Task}, {"Title", t.Title}, {"Repository", t.Repository}, {"Start commit", t.StartCommit}, {"Size", t.Size},
				{"Labels", strings.Join(t.Labels, " ")}, {"Prepare", t.Prepare}, {"Time limit", duration(t.TimeMS)}, {"Limit per check", duration(t.CheckMS)}}
			for _, check := range t.Checks {
				facts = append(facts, [2]string{"Check " + check.Name, check.Run + "  (reads " + check.Reads + ")"})
			}
			facts = append(facts, [2]string{"Kind", t.Kind}, [2]string{"Proved", provedWords(t.Proved)}, [2]string{"Reference", t.ReferenceFails}, [2]string{"Digest", t.Digest}, [2]string{"Contests", strconv.Itoa(t.Contests)}, [2]string{"Brief", t.Brief})
			return a.facts(t, facts)
		}})
	return noun("task", "Tasks: wanted changes, with what judges them", list, show, a.taskProve(), a.taskLog(), a.taskDraft(), a.taskSurvey())
}

func orAbsent(s string) cell {
	if s == "" {
		return cell{shown: absent}
	}
	return plain(s)
}

func short(commit string) string {
	if len(commit) > 12 {
		return commit[:12]
	}
	return commit
}

// facts prints one record as names and values.
func (a *app) facts(data any, facts [][2]string) error {
	switch a.format {
	case formatJSON:
		return a.json(data)
	case formatTable:
		width := 0
		for _, f := range facts {
			width = max(width, len(f[0]))
		}
		for _, f := range facts {
			if f[1] == "" {
				continue
			}
			value := strings.ReplaceAll(visible(strings.TrimRight(f[1], "\n")), "\n", "\n"+strings.Repeat(" ", width+2))
			name := f[0] + strings.Repeat(" ", width-len(f[0]))
			if a.color {
				name = text.Faint.Sprint(name)
			}
			if _, err := fmt.Fprintf(a.out, "%s  %s\n", name, value); err != nil {
				return err
			}
		}
		return nil
	}
	var lines [][]cell
	for _, f := range facts {
		lines = append(lines, []cell{plain(f[0]), plain(f[1])})
	}
	return a.rows(a.format, data, []column{{head: "Fact"}, {head: "Value"}}, lines, "")
}

func (a *app) contenderCommand() *cobra.Command {
	list := a.withFormat(&cobra.Command{Use: "list", Short: "List the contenders that contests have used", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Contenders(cmd.Context())
			if err != nil {
				return err
			}
			var lines [][]cell
			for _, one := range all {
				lines = append(lines, []cell{plain(one.Contender), plain(one.Title), plain(one.Driven), orAbsent(one.Model), readyCell(one.Readiness), plain(strconv.Itoa(one.Contests)), plain(one.File)})
			}
			return a.rows(a.format, all, []column{{head: "Contender"}, {head: "Title", spare: 2}, {head: "Driven"}, {head: "Model"}, {head: "Ready"}, {head: "Contests", right: true, spare: 1}, {head: "File", spare: 3, whole: true}}, lines,
				"No contenders yet: they come with the first contest. Check a file with: agonometer contender check FILE")
		}})
	show := a.withFormat(&cobra.Command{Use: "show CONTENDER", Short: "Show a contender as it was last used", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			one, err := c.Contender(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			facts := [][2]string{{"Contender", one.Contender}, {"Title", one.Title}, {"Driven", one.Driven}, {"Model", one.Model}, {"Effort", one.Effort}, {"File", one.File}, {"Digest", one.Digest},
				{"Contests", strconv.Itoa(one.Contests)}, {"Ready", readyCell(one.Readiness).shown}}
			if r := one.Readiness; r != nil {
				for _, f := range r.Findings {
					facts = append(facts, [2]string{"", f.Level + "  " + f.What + ": " + f.Detail})
				}
				for i := len(facts) - len(r.Findings); i < len(facts); i++ {
					facts[i][0] = "  found"
				}
			}
			if s := one.Setup; s != nil {
				words := strings.Join(s.Steps, "\n")
				if s.Minutes != nil {
					words = strings.TrimSpace(plural(*s.Minutes, "minute") + " of a person's time\n" + words)
				}
				if len(s.Accounts) > 0 {
					words += "\naccounts: " + strings.Join(s.Accounts, ", ")
				}
				facts = append(facts, [2]string{"Set up", words})
			}
			return a.facts(one, append(facts, [2]string{"Definition", one.Source}))
		}})
	var noTrial bool
	check := a.withFormat(&cobra.Command{Use: "check FILE|CONTENDER", Short: "Say whether a contender can start on the service's machine, and what is missing", Args: cobra.ExactArgs(1),
		Long: `Say whether a contender can start on the service's machine, and what is missing: its program and version, the state that it
carries, its keys (not their values), whether its model service answers and, over the protocol, whether it shakes hands. Then it
does a trial bout on a tiny repository that ships with Agonometer; that asks its model service a little. What is found is
kept, and contests that use the same file show it.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			slug := args[0]
			if !noTrial {
				fmt.Fprintln(a.err, "Checking, with a trial bout on a tiny repository (two minutes at most; --no-trial leaves it out) ...")
			}
			var report api.Report
			if strings.ContainsAny(slug, "./") {
				b, _, err := gather(slug)
				if err != nil {
					return err
				}
				if report, err = c.CheckContender(cmd.Context(), "file", b, !noTrial); err != nil {
					return err
				}
			} else if report, err = c.CheckContender(cmd.Context(), slug, nil, !noTrial); err != nil {
				return err
			}
			return a.report(report)
		}})
	check.Flags().BoolVar(&noTrial, "no-trial", false, "no trial bout")
	return noun("contender", "Contenders: tools with their settings", list, show, check)
}

// readyCell says what the newest check of a contender found.
func readyCell(r *api.Readiness) cell {
	if r == nil {
		return cell{shown: "not checked", plain: ""}
	}
	s, color := "no", text.Colors{text.FgRed}
	if r.OK {
		s, color = "yes", text.Colors{text.FgGreen}
	}
	s += ", " + when(r.At)
	if r.TrialMS != nil {
		s += ", trial bout " + duration(*r.TrialMS)
	}
	if r.Version != "" {
		s += ", " + r.Version
	}
	return cell{shown: s, plain: strconv.FormatBool(r.OK), color: color}
}

func (a *app) report(r api.Report) error {
	var lines [][]cell
	for _, f := range r.Findings {
		color := text.Colors{text.FgGreen}
		switch f.Level {
		case "warning":
			color = text.Colors{text.FgYellow}
		case "missing":
			color = text.Colors{text.FgRed}
		}
		lines = append(lines, []cell{{shown: f.Level, plain: f.Level, color: color}, plain(f.What), plain(f.Detail), plain(f.Remedy)})
	}
	if err := a.rows(a.format, r, []column{{head: "", key: "level"}, {head: "What"}, {head: "Found"}, {head: "To do"}}, lines, "Nothing to report."); err != nil {
		return err
	}
	if !r.OK {
		return silentError{}
	}
	return nil
}

var outcomeColors = map[verdict.Outcome]text.Colors{verdict.Passed: {text.FgGreen}, verdict.Failed: {text.FgRed}, verdict.Void: {text.FgYellow}}

// verdictText is a bout's verdict in a few words, or its state.
func verdictText(b api.Bout) cell {
	if b.Verdict == nil {
		s := b.State
		if b.Doing != "" {
			s += ": " + b.Doing
		}
		return cell{shown: s, plain: b.State}
	}
	v := b.Verdict
	s := string(v.Outcome)
	if v.Outcome != verdict.Passed {
		s += ", " + string(v.Reason)
		if v.Check != "" {
			s += " (" + v.Check + ")"
		}
	}
	return cell{shown: s, plain: string(v.Outcome), color: outcomeColors[v.Outcome]}
}

func sizeText(f *patch.Footprint) cell {
	if f == nil {
		return cell{shown: absent}
	}
	return plain(fmt.Sprintf("+%d -%d", f.LinesAdded, f.LinesRemoved))
}

func filesText(f *patch.Footprint) cell {
	if f == nil {
		return cell{shown: absent}
	}
	return plain(strconv.Itoa(f.Files))
}

func boutNotes(b api.Bout) string {
	var notes []string
	if b.Rerun > 0 {
		notes = append(notes, fmt.Sprintf("rerun %d", b.Rerun))
	}
	if b.ReplacedBy != "" {
		notes = append(notes, "replaced")
	}
	if b.Unconfined {
		notes = append(notes, "unconfined")
	}
	if b.Beside > 0 {
		notes = append(notes, fmt.Sprintf("beside %d", b.Beside))
	}
	if b.Limit != "" && (b.Verdict == nil || string(b.Verdict.Reason) != b.Limit) {
		notes = append(notes, "stopped at the "+b.Limit)
	}
	notes = append(notes, b.Flags...)
	switch b.Driver {
	case "elsewhere":
		notes = append(notes, "made elsewhere")
	case "hand":
		notes = append(notes, "by hand")
	}
	if b.Wording != "" {
		notes = append(notes, "wording "+b.Wording)
	}
	if b.Rounds > 1 {
		notes = append(notes, plural(b.Rounds, "round"))
	}
	if v := b.Verdict; v != nil {
		if n := len(v.Weakened); n > 0 {
			notes = append(notes, "tests weakened")
		}
		if strings.Contains(v.Detail, verdict.MadeOnlyWords) {
			notes = append(notes, verdict.MadeOnlyWords)
		}
		notes = append(notes, v.Notes...)
	}
	return strings.Join(notes, "; ")
}

// bout opens the service and finds a bout by its id, or the end of one.
func (a *app) bout(ctx context.Context, given string) (*client.Client, string, error) {
	c, err := a.client()
	if err != nil {
		return nil, "", err
	}
	id, err := boutID(ctx, c, given)
	return c, id, err
}

func (a *app) boutCommand() *cobra.Command {
	var filter client.BoutFilter
	list := a.withPrices(a.withFormat(&cobra.Command{Use: "list", Short: "List bouts, of all contests or of one", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			f := filter
			if f.Contest != "" {
				if f.Contest, err = contestID(cmd.Context(), c, f.Contest); err != nil {
					return err
				}
			}
			all, err := c.Bouts(cmd.Context(), f)
			if err != nil {
				return err
			}
			var lines [][]cell
			for _, b := range all {
				lines = append(lines, []cell{plain(b.ID), plain(b.Task), plain(b.Contender), plain(strconv.Itoa(b.Repeat)), plain(b.State), verdictText(b), msCell(b.ElapsedMS),
					filesText(b.Footprint), sizeText(b.Footprint), msCell(b.FirstEditMS), usedCell(b.Used), moneyCell(b.Used.Money, b.Used.MoneyAtLeast), plain(boutNotes(b))})
			}
			return a.rows(a.format, all, []column{{head: "Bout", id: true}, {head: "Task"}, {head: "Contender"}, {head: "Repeat", right: true, spare: 9}, {head: "State", spare: 1}, {head: "Verdict"},
				{head: "Elapsed", right: true, key: "elapsed_ms", spare: 8}, {head: "Files", right: true, spare: 3}, {head: "Lines", right: true, spare: 5}, {head: "First edit", right: true, key: "first_edit_ms", spare: 2},
				{head: "Tokens", right: true, spare: 6}, {head: "Money", right: true, spare: 7}, {head: "Notes", spare: 4}}, lines, "No bouts.")
		}}))
	list.Flags().StringVar(&filter.Contest, "contest", "", "only bouts of this contest")
	list.Flags().StringVar(&filter.Task, "task", "", "only bouts on this task")
	list.Flags().StringVar(&filter.Contender, "contender", "", "only bouts of this contender")

	var allTests bool
	show := a.withPrices(a.withFormat(&cobra.Command{Use: "show BOUT", Short: "Show a bout: facts, verdict and checks", Args: cobra.ExactArgs(1),
		Long: "Show a bout: its facts, its verdict in words, and how each check ended.\nBOUT is an id, or the end of one (at least four characters).",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			b, err := c.Bout(cmd.Context(), id, allTests)
			if err != nil {
				return err
			}
			t, err := c.Timeline(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.facts(b, boutFacts(b, allTests, a.timingFacts(b, t.Events)))
		}}))
	show.Flags().BoolVar(&allTests, "tests", false, "list every test of every round, not only what is notable in the last")

	var asFiles bool
	var round int
	diff := &cobra.Command{Use: "diff BOUT", Short: "Print a bout's captured change as git applies it", Args: oneBout,
		Long: "Print a bout's captured change as git applies it. In a terminal control characters are made visible;\nin a pipe the bytes are exact, so that `agonometer bout diff BOUT | git apply` works.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if asFiles || a.format != formatTable {
				d, err := c.Diff(cmd.Context(), id, round)
				if err != nil {
					return err
				}
				return a.diffFiles(d)
			}
			text, err := c.Patch(cmd.Context(), id, round)
			if err != nil {
				return err
			}
			if len(text) == 0 {
				fmt.Fprintln(a.err, "The bout changed nothing.")
				return nil
			}
			return a.contenderText(text, true)
		}}
	diff.Flags().IntVar(&round, "round", 0, "the change up to this round; default: the last")
	diff.Flags().BoolVar(&asFiles, "stat", false, "list the changed files instead")
	a.withFormat(diff)

	var check string
	var recording bool
	log := &cobra.Command{Use: "log BOUT", Short: "Print what the tool printed, or a check", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if recording {
				cast, err := c.Recording(cmd.Context(), id, round)
				if err != nil {
					return err
				}
				if isTerminal(a.out) {
					cast = []byte(plaintext.JSON(string(cast)))
				}
				_, err = a.out.Write(cast)
				return err
			}
			text, err := c.Log(cmd.Context(), id, check, round)
			if err != nil {
				return err
			}
			if len(text) == 0 {
				fmt.Fprintln(a.err, "Nothing was printed.")
				return nil
			}
			return a.contenderText(text, false)
		}}
	log.Flags().IntVar(&round, "round", 0, "of this round; default: the last")
	log.Flags().BoolVar(&recording, "recording", false, "what a terminal showed, as an asciicast (version 2)")
	log.Flags().StringVar(&check, "check", "", "the output of this check instead of the tool's")

	stop := &cobra.Command{Use: "stop BOUT", Short: "Stop a bout; it is void and not run again", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := c.StopBout(cmd.Context(), id); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Bout %s is being stopped; it counts neither for nor against.\n", id)
			return nil
		}}
	return noun("bout", "Bouts: one contender, one task, once", list, show, diff, a.boutMeasures(), a.boutFinding(), a.boutCompare(), log, a.boutLedger(), a.boutExchange(), a.boutImport(), stop)
}

// oneBout takes one bout, and sends those who name several to the command for that.
func oneBout(cmd *cobra.Command, args []string) error {
	if len(args) > 1 {
		return fmt.Errorf("diff prints one bout's change; results stand next to each other with: agonometer bout compare %s", strings.Join(args, " "))
	}
	return cobra.ExactArgs(1)(cmd, args)
}

// contenderText prints text that a contender wrote. A terminal gets its control
// characters made visible, and for a diff colours; a pipe gets the bytes.
func (a *app) contenderText(data []byte, isDiff bool) error {
	if !isTerminal(a.out) {
		_, err := a.out.Write(data)
		return err
	}
	for line := range strings.SplitSeq(strings.TrimSuffix(string(data), "\n"), "\n") {
		line = visible(line)
		if isDiff && a.color {
			switch {
			case strings.HasPrefix(line, "+"):
				line = text.FgGreen.Sprint(line)
			case strings.HasPrefix(line, "-"):
				line = text.FgRed.Sprint(line)
			case strings.HasPrefix(line, "@@"):
				line = text.FgCyan.Sprint(line)
			case strings.HasPrefix(line, "diff "):
				line = text.Bold.Sprint(line)
			}
		}
		if _, err := fmt.Fprintln(a.out, line); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) diffFiles(d api.Diff) error {
	var lines [][]cell
	for _, f := range d.Files {
		name := f.Path
		if f.OldPath != "" {
			name = f.OldPath + " → " + f.Path
		}
		note := ""
		if f.Binary {
			note = "binary"
		}
		if f.OldMode != "" && f.NewMode != "" && f.OldMode != f.NewMode {
			note = strings.TrimSpace(note + " mode " + f.OldMode + " → " + f.NewMode)
		}
		lines = append(lines, []cell{plain(string(f.Status)), plain(name), plain(strconv.Itoa(f.Added)), plain(strconv.Itoa(f.Removed)), plain(note)})
	}
	return a.rows(a.format, d, []column{{head: "Status"}, {head: "File"}, {head: "Added", right: true}, {head: "Removed", right: true}, {head: "Notes"}}, lines, "The bout changed nothing.")
}

func boutFacts(b api.BoutDetail, allTests bool, timing [][2]string) [][2]string {
	facts := [][2]string{{"Bout", b.ID}, {"Contest", b.ContestName + "  " + b.ContestID}, {"Task", b.Task + "  " + b.TaskTitle}, {"Contender", b.Contender + "  " + b.ContenderTitle},
		{"Repeat", strconv.Itoa(b.Repeat)}, {"State", strings.TrimSuffix(b.State+"  "+b.Doing, "  ")}, {"Driven", contender.Drive(b.Driver).Words()}, {"Wording", b.Wording}, {"Tool says it is", b.ToolVersion}}
	facts = append(facts, verdictFacts(b)...)
	facts = append(facts, [2]string{"Elapsed", msCell(b.ElapsedMS).shown})
	facts = append(facts, effortFacts(b)...)
	switch {
	case b.Limit != "":
		facts = append(facts, [2]string{"Tool ended", "stopped: " + b.Limit})
	case b.Signal != "":
		facts = append(facts, [2]string{"Tool ended", "by a signal: " + b.Signal})
	case b.ExitCode != nil:
		facts = append(facts, [2]string{"Tool ended", fmt.Sprintf("exit status %d", *b.ExitCode)})
	}
	if f := b.Footprint; f != nil {
		facts = append(facts, [2]string{"Change", fmt.Sprintf("%d files (%d added, %d deleted, %d renamed, %d binary), lines +%d -%d", f.Files, f.FilesAdded, f.FilesDeleted, f.FilesRenamed, f.FilesBinary, f.LinesAdded, f.LinesRemoved)})
	}
	if words := editWords(b.Edits); words != "" {
		facts = append(facts, [2]string{"Edit measures", words + "  (agonometer bout measures " + shortID(b.ID) + ")"})
	}
	if l := b.LeftOut; l != nil {
		var parts []string
		for _, p := range []struct {
			n    int
			what string
		}{{l.Ignored, "ignored by the repository's rules"}, {len(l.TooLarge), "too large"}, {l.Special, "neither file nor link"}, {l.Unreadable, "unreadable"},
			{l.NestedGit, "nested .git"}, {l.InSubmodules, "in submodules"}, {l.Struck, "with a kept key struck out"}} {
			if p.n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
			}
		}
		facts = append(facts, [2]string{"Left out", strings.Join(parts, ", ")})
	}
	facts = append(facts, timing...)
	confinement := b.Confinement
	if confinement != "" && b.ConfinementWhy != "" {
		confinement += ", walls " + visible(b.ConfinementWhy)
	}
	if b.Unconfined {
		confinement = "UNCONFINED: " + visible(b.ConfinementWhy)
	}
	facts = append(facts, [2]string{"Confinement", confinement})
	if b.Beside > 0 {
		facts = append(facts, [2]string{"Beside", "up to " + plural(b.Beside, "other bout") + " ran at the same time; times may have suffered"})
	}
	for _, t := range b.Tries {
		why := t.State
		if t.Verdict != nil {
			why = string(t.Verdict.Outcome) + ", " + string(t.Verdict.Reason)
		}
		facts = append(facts, [2]string{fmt.Sprintf("Other try %d", t.Rerun), t.ID + "  " + why})
	}
	facts = append(facts, roundFacts(b, allTests)...)
	if c := b.Costs; c.WorkspaceMS != nil && c.HomeMS != nil && c.CaptureMS != nil {
		words := fmt.Sprintf("workspace %s, HOME %s", duration(*c.WorkspaceMS), duration(*c.HomeMS))
		if c.HomeBytes != nil {
			words += fmt.Sprintf(" (%.1f MiB", float64(*c.HomeBytes)/(1<<20))
			if c.HomeLayered {
				words += ", layered, not copied"
			}
			words += ")"
		}
		words += ", capture " + duration(*c.CaptureMS)
		if c.JudgeCopyMS != nil {
			words += ", judging copy " + duration(*c.JudgeCopyMS)
		}
		facts = append(facts, [2]string{"Harness", words})
	}
	if b.Kept != "" {
		facts = append(facts, [2]string{"Workspace kept", b.Kept})
	}
	return facts
}

// effortFacts say what a bout asked of a person.
func effortFacts(b api.BoutDetail) [][2]string {
	var facts [][2]string
	if h := b.Hand; h != nil {
		who := h.Worker
		if h.Familiarity != "" {
			who = strings.TrimSpace(who + " (used to the tool: " + h.Familiarity + ")")
		}
		facts = append(facts, [2]string{"Worker", who}, [2]string{"Discarded", h.Discarded})
	}
	e := b.Effort
	if e == nil {
		if b.State == "done" {
			facts = append(facts, [2]string{"Person", "what it asked of a person is not known"})
		}
		return facts
	}
	var parts []string
	add := func(n int, what string) {
		if n > 0 {
			parts = append(parts, plural(n, what))
		}
	}
	add(e.Errors, "bare error")
	add(e.Information, "correction with information")
	add(e.Hints, "hint")
	add(e.Permissions, "permission")
	add(e.Taken, "suggestion taken")
	add(e.Refused, "suggestion refused")
	add(e.Edited, "suggestion edited")
	if e.OwnEdits > 0 {
		parts = append(parts, fmt.Sprintf("own edits %s (lines +%d -%d, %s)", plural(e.OwnEdits, "time"), e.OwnLinesAdded, e.OwnLinesRemoved, duration(e.EditingMS)))
	}
	if e.WaitingMS > 0 {
		parts = append(parts, "kept the tool waiting "+duration(e.WaitingMS))
	}
	words := "nobody was needed"
	if e.Needed() {
		words = strings.Join(parts, ", ") + "; attention " + duration(e.AttentionMS)
	}
	if e.Keys != nil && e.Wanted != nil {
		words += fmt.Sprintf("; %d keys for %d characters", *e.Keys, *e.Wanted)
	}
	facts = append(facts, [2]string{"Person", words})
	if e.Answered > 0 {
		facts = append(facts, [2]string{"Asked", fmt.Sprintf("%s answered by rule, after %s in all", plural(e.Answered, "question"), duration(e.AnsweredMS))})
	}
	if e.Kept != nil && e.OwnEdits > 0 {
		facts = append(facts, [2]string{"Kept", fmt.Sprintf("%.0f%% of the tool's lines", 100**e.Kept)})
	}
	var marks []string
	for _, m := range b.Marks {
		marks = append(marks, markLine(m))
	}
	return append(facts, [2]string{"Marks", strings.Join(marks, "\n")})
}

func when(t api.Time) string { return t.Local().Format("2006-01-02 15:04") }

// took is the time between two moments, or since the first one; absent before it.
func took(from, to *api.Time) cell {
	if from == nil {
		return cell{shown: absent}
	}
	end := time.Now()
	if to != nil {
		end = to.Time
	}
	ms := end.Sub(from.Time).Milliseconds()
	return msCell(&ms)
}
