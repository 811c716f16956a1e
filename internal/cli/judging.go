package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/draft"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/testlog"
	"agonometer/internal/core/verdict"
)

func provedWords(proved string) string {
	switch proved {
	case "proved":
		return "proved"
	case "changed":
		return "it has changed since it was proved"
	}
	return "nothing has shown yet that it is fair"
}

// verdictFacts say in words what came of a bout.
func verdictFacts(b api.BoutDetail) [][2]string {
	v := b.Verdict
	if v == nil {
		return nil
	}
	facts := [][2]string{{"Verdict", verdictLine(v)}}
	if f := b.First; f != nil && b.Rounds > 1 {
		facts = append(facts, [2]string{"First time", verdictLine(f)}, [2]string{"Rounds used", fmt.Sprint(b.Rounds)})
	}
	facts = append(facts, [2]string{"Detail", v.Detail})
	if v.Goals != nil && v.Goals.Total > 0 {
		facts = append(facts, [2]string{"Goals", fmt.Sprintf("%d of %d reached", v.Goals.Reached, v.Goals.Total)})
	}
	facts = append(facts, [2]string{"Missed", strings.Join(v.Missed, "\n")}, [2]string{"Broken", strings.Join(v.Broken, "\n")})
	if v.Own != nil {
		facts = append(facts, [2]string{"Own tests", fmt.Sprintf("%d added, %d of them pass; they decide nothing", v.Own.Total, v.Own.Reached)})
	}
	facts = append(facts, [2]string{"Weakened tests", strings.Join(v.Weakened, "\n")}, [2]string{"Notes", strings.Join(v.Notes, "; ")})
	if im := b.Import; im != nil {
		words := "taken from a " + im.From + ": " + im.Source
		if im.Notes != "" {
			words += "\n" + im.Notes
		}
		facts = append(facts, [2]string{"Made elsewhere", words})
	}
	if len(b.Judgements) > 1 {
		for _, j := range b.Judgements {
			words := when(j.At) + "  " + verdictLine(&j.Verdict)
			if j.Used {
				words += "  (this one is used)"
			}
			if j.RejudgingID != "" {
				words += "  judged again from the stored change, task " + short(j.TaskDigest)
			}
			facts = append(facts, [2]string{"Judgement", words})
		}
	}
	return facts
}

func verdictLine(v *verdict.Verdict) string {
	words := string(v.Outcome) + ": " + verdict.Reasons()[v.Reason]
	if v.Check != "" {
		words += " (" + v.Check + ")"
	}
	if v.Stage != "" {
		words += ", in " + v.Stage
	}
	return words
}

// canaryWords say which checks saw a test fail that was added and must.
func canaryWords(r api.Round) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(r.Canaries)) {
		out = append(out, name+": "+r.Canaries[name])
	}
	words := strings.Join(out, ", ")
	if words != "" && r.CanaryMS != nil && *r.CanaryMS > 0 {
		words += " (" + duration(*r.CanaryMS) + ")"
	}
	return words
}

// roundFacts tell of each round: what was handed over, and how each check ended.
func roundFacts(b api.BoutDetail, all bool) [][2]string {
	var facts [][2]string
	idle := func(r api.Round) bool { return r.Kind == "repair" && r.Step != nil && r.Step.Files == 0 }
	last := 0
	for i, r := range b.RoundList {
		if !idle(r) {
			last = i
		}
	}
	for i, r := range b.RoundList {
		if len(b.RoundList) > 1 {
			words := r.Kind + ", " + msCell(r.ElapsedMS).shown
			if f := r.Step; f != nil {
				words += fmt.Sprintf(", lines +%d -%d", f.LinesAdded, f.LinesRemoved)
			}
			if r.Verdict != nil {
				words += "; " + verdictLine(r.Verdict)
			}
			if r.Kind != "opening" {
				words += "\n" + indentAll(r.Words)
			}
			if idle(r) && !all {
				words += "\nnothing was changed: what was found before holds"
			}
			facts = append(facts, [2]string{fmt.Sprintf("Round %d", r.Number), words})
		}
		if idle(r) && !all {
			continue
		}
		for _, c := range r.Checks {
			name := "Check " + c.Name
			switch c.Way {
			case "visible":
				name = "Visible " + c.Name
			case "again":
				name = "Again " + c.Name
			case "own-tests":
				name = "Start's tests " + c.Name
			}
			facts = append(facts, [2]string{name, checkWords(c)})
		}
		for _, f := range r.Facts {
			mark := "missed   "
			if f.Reached {
				mark = "reached  "
			}
			facts = append(facts, [2]string{"Fact " + f.Fact, mark + f.Words})
		}
		for i := range r.Figures {
			facts = append(facts, [2]string{"Figure " + r.Figures[i].Check, r.Figures[i].Words()})
		}
		var lines []string
		for n, t := range r.Tests {
			if !all && (i < last || n >= maxTestLines) {
				lines = append(lines, fmt.Sprintf("… %s (--tests lists all)", plural(len(r.Tests)-n, "test")))
				break
			}
			lines = append(lines, testLine(outcome.Row(t)))
		}
		facts = append(facts, [2]string{"Tests", strings.Join(lines, "\n")},
			[2]string{"Put back", strings.Join(r.PutBack, ", ")}, [2]string{"Left out", strings.Join(r.LeftOut, ", ")}, [2]string{"Canaries", canaryWords(r)})
	}
	return facts
}

// maxTestLines is how many tests bout show lists unless it is asked for all.
const maxTestLines = 20

// testLine is one test: what it means, its outcome before and after, and its name.
func testLine(r outcome.Row) string {
	name := outcome.Key{Check: r.Check, Name: r.Name}.String()
	before := string(r.Before)
	if before == "" {
		before = absent
	}
	line := fmt.Sprintf("%-5s  %-7s → %-7s  %s", r.Role, before, r.After, name)
	for flag, on := range map[string]bool{"unsteady": r.Unsteady, "reported more than once": r.Repeated, "from nowhere": r.Unexpected} {
		if on {
			line += "  (" + flag + ")"
		}
	}
	if r.After != testlog.Passed && r.Message != "" && r.Role != outcome.Other {
		line += "\n" + indentAll(firstLines(r.Message, 6))
	}
	return line
}

func firstLines(s string, n int) string {
	lines := strings.Split(strings.TrimRight(s, "\n"), "\n")
	if len(lines) > n {
		lines = append(lines[:n:n], "…")
	}
	return strings.Join(lines, "\n")
}

func indentAll(s string) string {
	return "  " + strings.ReplaceAll(strings.TrimRight(s, "\n"), "\n", "\n  ")
}

func checkWords(r api.CheckResult) string {
	words := r.Outcome
	if r.ElapsedMS != nil {
		words += " in " + duration(*r.ElapsedMS)
	}
	if s := r.Summary; s != nil {
		words += fmt.Sprintf("; tests: %d passed, %d failed, %d skipped", s.Passed, s.Failed, s.Skipped)
	}
	if r.Detail != "" {
		words += "; " + r.Detail
	}
	return words
}

func (a *app) taskProve() *cobra.Command {
	var repeats int
	cmd := a.withFormat(&cobra.Command{Use: "prove FILE...", Short: "Show that tasks are fair: the start fails, the reference passes, repeats agree", Args: cobra.MinimumNArgs(1),
		Long: `Prove tasks on the service's machine: prepare works, the start fails every goal, the reference patch reaches all goals
and keeps all guards, and three repeats of each agree. The result is kept with the task's digest; a contest says when
a task is unproved, or has changed since.

Exit status 0: all are proved; 1: one is not.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var bundles []*specfile.Bundle
			for _, name := range args {
				b, kind, err := gather(name)
				if err != nil {
					return err
				}
				if kind != contest.KindTask {
					return usageError{fmt.Errorf("%s is not a task file (Markdown with front matter)", name)}
				}
				bundles = append(bundles, b)
			}
			_, err = a.prove(cmd.Context(), c, bundles, repeats)
			return err
		}})
	cmd.Flags().IntVar(&repeats, "repeats", 3, "how often each side is run; fewer than 3 prove nothing")
	return cmd
}

// taskLog shows what a command printed that failed while a task was proved.
func (a *app) taskLog() *cobra.Command {
	var step string
	cmd := &cobra.Command{Use: "log PROVING", Short: "Show what a command printed that failed in a proving", Args: cobra.ExactArgs(1),
		Long: `Show all that a prepare command or a check printed that failed while a task was proved. PROVING is the id that
task prove shows beside the end of the output.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			text, err := c.ProvingLog(cmd.Context(), args[0], step)
			if err != nil {
				return err
			}
			if len(text) == 0 {
				fmt.Fprintln(a.err, "Nothing that failed printed anything.")
				return nil
			}
			return a.contenderText(text, false)
		}}
	cmd.Flags().StringVar(&step, "step", "", "the step, as task prove names it; default: the first that failed")
	return cmd
}

// quoted is a word as a shell takes it.
func quoted(s string) string {
	if strings.ContainsAny(s, " :") {
		return "'" + s + "'"
	}
	return s
}

// prove proves tasks one after the other and prints the table; an error is
// returned where one is not proved.
func (a *app) prove(ctx context.Context, c *client.Client, bundles []*specfile.Bundle, repeats int) ([]api.Proving, error) {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	var all []api.Proving
	for _, b := range bundles {
		p, err := a.proveOne(ctx, c, b, repeats)
		if err != nil {
			return all, err
		}
		all = append(all, p)
	}
	if err := a.provings(all); err != nil {
		return all, err
	}
	if slices.ContainsFunc(all, func(p api.Proving) bool { return p.Result == nil || !p.Result.Proved }) {
		return all, silentError{}
	}
	return all, nil
}

// proveOne proves one task and shows on standard error how it goes. Ctrl-C
// stops the proving.
func (a *app) proveOne(ctx context.Context, c *client.Client, b *specfile.Bundle, repeats int) (api.Proving, error) {
	p, err := c.ProveTask(ctx, b, repeats)
	if err != nil {
		return p, err
	}
	live := isTerminal(a.err)
	last := ""
	err = c.FollowProving(ctx, p.ID, func(now api.Proving) bool {
		p = now
		doing := now.Doing
		if now.State == "waiting" {
			doing = "waiting for what came before"
		}
		if doing == "" || doing == last {
			return true
		}
		last = doing
		switch {
		case live:
			fmt.Fprintf(a.err, "\r\x1b[K%s: %d of %d, %s", p.Task, p.StepsDone, p.Steps, visible(doing))
		case a.format == formatTable:
			fmt.Fprintf(a.err, "%s: %d of %d, %s\n", p.Task, p.StepsDone, p.Steps, visible(doing))
		}
		return true
	})
	if live {
		fmt.Fprint(a.err, "\r\x1b[K")
	}
	if ctx.Err() != nil {
		if err := c.StopProving(context.WithoutCancel(ctx), p.ID); err == nil {
			fmt.Fprintf(a.err, "The proving of %s was stopped.\n", p.Task)
		}
		return p, silentError{}
	}
	if err != nil {
		return p, err
	}
	return c.Proving(ctx, p.ID)
}

func mark(ok bool) cell {
	if ok {
		return cell{shown: "ok", plain: "true", color: text.Colors{text.FgGreen}}
	}
	return cell{shown: "no", plain: "false", color: text.Colors{text.FgRed}}
}

// provings prints the proving table: a line for each part of each proof.
func (a *app) provings(all []api.Proving) error {
	var lines [][]cell
	for _, p := range all {
		r := p.Result
		if r == nil {
			lines = append(lines, []cell{plain(p.Task), plain("stopped"), mark(false), plain("the proving was stopped")})
			continue
		}
		for i, s := range r.Steps {
			name := ""
			if i == 0 || a.format != formatTable {
				name = p.Task
			}
			words := s.Words
			if s.Output != "" {
				words += "\n" + indentAll(s.Output) + "\n(all of it: agonometer task log " + p.ID + " --step " + quoted(s.What) + ")"
			}
			lines = append(lines, []cell{plain(name), plain(s.What), mark(s.OK), plain(words)})
		}
		words := "proved: " + plural(r.Goals, "goal") + ", " + plural(r.Guards, "guard")
		if !r.Proved {
			words = "not proved"
			if len(r.Reasons) == 0 {
				words += ": " + strings.Join(r.Warnings, "; ")
			} else if len(r.Steps) == 0 {
				words += ": " + strings.Join(r.Reasons, "; ")
			}
		}
		name := ""
		if a.format != formatTable || len(r.Steps) == 0 {
			name = p.Task
		}
		lines = append(lines, []cell{plain(name), plain("task"), mark(r.Proved), plain(words)})
	}
	if err := a.rows(a.format, all, []column{{head: "Task"}, {head: "Step"}, {head: "", key: "ok"}, {head: "Found"}}, lines, "Nothing was proved."); err != nil {
		return err
	}
	if a.format == formatTable {
		for _, p := range all {
			if p.Result == nil {
				continue
			}
			for i := range p.Result.Figures {
				f := &p.Result.Figures[i]
				fmt.Fprintf(a.out, "Figure: %s, %s: %s\n", p.Task, f.Check, visible(f.Words()))
			}
			for _, w := range p.Result.Warnings {
				fmt.Fprintf(a.out, "Warning: %s: %s\n", p.Task, visible(w))
			}
		}
	}
	return nil
}

// proveFirst proves the tasks of a contest that are not proved yet.
func (a *app) proveFirst(ctx context.Context, c *client.Client, b *specfile.Bundle, plan api.Plan) error {
	var bundles []*specfile.Bundle
	for _, t := range plan.Tasks {
		if t.Proved == "proved" {
			continue
		}
		for name, data := range b.Files {
			if contest.KindOf(name, data) != contest.KindTask || taskSlug(b, name) != t.Task {
				continue
			}
			one := &specfile.Bundle{Main: name, Files: map[string][]byte{name: data}}
			takeNamed(one, name)
			bundles = append(bundles, one)
		}
	}
	if len(bundles) == 0 {
		return nil
	}
	_, err := a.prove(ctx, c, bundles, 3)
	if errors.Is(err, silentError{}) {
		fmt.Fprintln(a.err, "Not every task is proved, so nothing was started.")
	}
	return err
}

func (a *app) taskDraft() *cobra.Command {
	var repository, commit, out, name string
	cmd := &cobra.Command{Use: "draft --repository R --commit C --out DIR", Short: "Write a task from a commit of a repository's history", Args: cobra.NoArgs,
		Long: `Write a task from a commit: its message becomes the brief (marked for rewriting), its diff without the tests the
reference patch, the tests that it changed the sealed files, and the folders that it touched the scope. Both sides are run
on the service's machine to find out which tests are goals.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.draft(cmd.Context(), c, repository, commit, out, name)
		}}
	cmd.Flags().StringVar(&repository, "repository", "", "a repository on the service's machine: a path, or a git URL")
	cmd.Flags().StringVar(&commit, "commit", "", "the commit: an id, a tag, a branch")
	cmd.Flags().StringVar(&out, "out", "", "the folder to write to")
	cmd.Flags().StringVar(&name, "name", "", "the task's slug; default: made from the message")
	for _, flag := range []string{"repository", "commit", "out"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	return cmd
}

// drafted is a task as it was drafted, with what proving found of it.
type drafted struct {
	api.Draft
	bundle  *specfile.Bundle
	proving api.Proving
	goals   []string
	guards  int
}

// draftOne drafts a task for a folder, completes its file and proves it; nothing is written.
func (a *app) draftOne(ctx context.Context, c *client.Client, in api.DraftTask, dir string, repeats int, complete func(main []byte) []byte) (*drafted, error) {
	d, err := c.DraftTask(ctx, in)
	if err != nil {
		return nil, err
	}
	out := &drafted{Draft: d, bundle: &specfile.Bundle{Main: filepath.ToSlash(filepath.Join(dir, d.Main)), Files: map[string][]byte{}}}
	for rel, data := range d.Files {
		if !filepath.IsLocal(rel) {
			return nil, fmt.Errorf("the draft holds a file outside its folder: %s", rel)
		}
		full := filepath.Join(dir, rel)
		if _, err := os.Lstat(full); err == nil {
			return nil, fmt.Errorf("%s is there already; nothing was written. Choose another --out, or another --name", full)
		}
		out.bundle.Files[filepath.ToSlash(full)] = data
	}
	out.bundle.Files[out.bundle.Main] = complete(out.bundle.Files[out.bundle.Main])
	if out.proving, err = a.proveOne(ctx, c, out.bundle, repeats); err != nil {
		return out, err
	}
	for _, t := range out.proving.Tests {
		switch {
		case t.Name == "":
		case t.Role == outcome.Goal:
			out.goals = append(out.goals, t.Name)
		case t.Role == outcome.Guard:
			out.guards++
		}
	}
	return out, nil
}

// write writes a drafted task's files, none of which may be there.
func (d *drafted) write() error {
	for full, data := range d.bundle.Files {
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return err
		}
		f, err := os.OpenFile(full, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%s came to be meanwhile; the draft is not whole", full)
		}
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// repositoryName makes a path on this machine absolute; an address stays as it is.
func repositoryName(name string) (string, error) {
	if _, err := os.Stat(name); err == nil {
		return filepath.Abs(name)
	}
	return name, nil
}

func (a *app) draft(ctx context.Context, c *client.Client, repository, commit, out, name string) error {
	repository, err := repositoryName(repository)
	if err != nil {
		return err
	}
	dir, err := filepath.Abs(out)
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	d, err := a.draftOne(ctx, c, api.DraftTask{Repository: repository, Commit: commit, Name: name}, dir, 1, func(main []byte) []byte { return main })
	if err == nil {
		d.bundle.Files[d.bundle.Main] = draft.WithGoals(d.bundle.Files[d.bundle.Main], d.goals, d.guards)
		err = d.write()
	}
	if err != nil {
		return err
	}
	p := d.proving
	fmt.Fprintf(a.out, "%s: %s, %s.\n", filepath.Join(out, d.Main), plural(len(d.goals), "goal test"), plural(d.guards, "guard test"))
	for _, n := range d.Notes {
		fmt.Fprintln(a.out, "Note: "+visible(n)+".")
	}
	if r := p.Result; r != nil {
		for _, why := range r.Reasons {
			fmt.Fprintln(a.out, "Not yet fair: "+visible(why)+".")
		}
		for _, s := range r.Steps {
			if s.Output == "" {
				continue
			}
			fmt.Fprintf(a.out, "What it printed (all of it: agonometer task log %s --step %s):\n%s\n", p.ID, quoted(s.What), visible(indentAll(s.Output)))
			if help := draft.Advice(s.Output); help != "" {
				fmt.Fprintln(a.out, "Perhaps "+help+".")
			}
		}
	}
	fmt.Fprintf(a.out, "Rewrite the brief, then: agonometer task prove %s\n", filepath.Join(out, d.Main))
	return nil
}

func (a *app) boutImport() *cobra.Command {
	var in api.ImportBout
	var taskName, contenderName, contestGiven, patchFile, folder, started, finished, answerFile, tokens, spent string
	var took time.Duration
	cmd := a.withFormat(&cobra.Command{Use: "import --task T --contender C (--patch FILE | --branch NAME --from REPOSITORY | --folder DIR | --answer FILE)", Short: "Judge a change that was made elsewhere, like any other", Args: cobra.NoArgs,
		Long: `Judge a change that was made elsewhere: by hand in an editor or a chat page, or by a tool that came back with a branch or
a patch. It is judged and measured like any other; what is not known of it stays unknown.

T is a task's file, for a bout that stands alone, or with --contest the name of one of its tasks. C is a contender's
name, or its file. Branches and folders are those of the service's machine. A question needs only the reply (--answer).`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			ctx := cmd.Context()
			if contestGiven != "" {
				if in.Contest, err = contestID(ctx, c, contestGiven); err != nil {
					return err
				}
			}
			if _, statErr := os.Stat(taskName); statErr == nil {
				b, kind, err := gather(taskName)
				if err != nil {
					return err
				}
				if kind != contest.KindTask {
					return usageError{fmt.Errorf("%s is not a task file", taskName)}
				}
				in.Bundle = b
			} else if in.Contest == "" {
				return fmt.Errorf("%s: no such file; a bout that stands alone needs the task's file, one of a contest needs --contest and the task's name", taskName)
			} else {
				in.Task = taskName
			}
			in.Contender = contenderName
			if strings.ContainsAny(contenderName, "./") {
				if in.ContenderFile, err = os.ReadFile(contenderName); err != nil {
					return err
				}
				if in.Contender, err = contenderSlug(contenderName, in.ContenderFile); err != nil {
					return err
				}
			}
			if patchFile != "" {
				if in.Patch, err = os.ReadFile(patchFile); err != nil {
					return err
				}
				if in.PatchName = filepath.Base(patchFile); len(in.Patch) == 0 {
					return fmt.Errorf("%s is empty", patchFile)
				}
			}
			for _, path := range []struct{ from, into *string }{{&folder, &in.Folder}, {&in.From, &in.From}} {
				*path.into = *path.from
				if _, err := os.Stat(*path.from); err == nil {
					if *path.into, err = filepath.Abs(*path.from); err != nil {
						return err
					}
				}
			}
			if in.Started, err = moment("started", started); err != nil {
				return err
			}
			if in.Finished, err = moment("finished", finished); err != nil {
				return err
			}
			if cmd.Flags().Changed("took") {
				ms := took.Milliseconds()
				in.TookMS = &ms
			}
			if tokens != "" {
				if in.Tokens, err = typedTokens(tokens); err != nil {
					return err
				}
			}
			if spent != "" {
				in.Money = &ledger.Money{}
				if err := in.Money.ParseScalar(spent); err != nil {
					return usageError{fmt.Errorf("--spent %q cannot be read; expected %s", spent, in.Money.Expected())}
				}
			}
			if answerFile != "" {
				text, err := os.ReadFile(answerFile)
				if err != nil {
					return err
				}
				in.Answer = string(text)
			}
			fmt.Fprintln(a.err, "Handing it in; where the task was never prepared here, that is done first ...")
			b, err := c.ImportBout(ctx, in)
			if err != nil {
				return err
			}
			return a.importedBout(ctx, c, b)
		}})
	f := cmd.Flags()
	f.StringVar(&taskName, "task", "", "the task's file, or with --contest its name")
	f.StringVar(&contenderName, "contender", "", "the contender's name, or its file")
	f.StringVar(&contestGiven, "contest", "", "the contest that it belongs to; default: it stands alone")
	f.StringVar(&patchFile, "patch", "", "a patch, as git diff prints it")
	f.StringVar(&in.Branch, "branch", "", "a branch or commit of --from")
	f.StringVar(&in.From, "from", "", "the repository of the branch")
	f.StringVar(&folder, "folder", "", "a folder that was worked in")
	f.BoolVar(&in.Anyway, "anyway", false, "take a branch that is not based on the start commit; it is flagged")
	f.StringVar(&started, "started", "", "when the work began: 2031-03-05T10:00:00Z, or local 2031-03-05 10:00")
	f.StringVar(&finished, "finished", "", "when it ended")
	f.StringVar(&tokens, "tokens", "", "tokens that you know it used, such as fresh=12000,cached=8000,output=900; shown as typed in")
	f.StringVar(&spent, "spent", "", "money that you know it cost, such as \"0.31 AVM\"; shown as typed in")
	f.StringVar(&in.Model, "model", "", "the model that was used, by which typed-in tokens are priced")
	f.DurationVar(&took, "took", 0, "how long it took, such as 25m; default: from --started to --finished")
	f.StringVar(&in.Notes, "notes", "", "free notes")
	f.StringVar(&in.Wording, "wording", "", "the wording of the brief that was used; default: the first")
	f.StringVar(&answerFile, "answer", "", "a file with the closing message, for a question")
	for _, flag := range []string{"task", "contender"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	cmd.MarkFlagsOneRequired("patch", "branch", "folder", "answer")
	cmd.MarkFlagsMutuallyExclusive("patch", "branch", "folder")
	cmd.MarkFlagsRequiredTogether("branch", "from")
	return cmd
}

// importedBout waits until an imported bout is judged, and shows it.
func (a *app) importedBout(ctx context.Context, c *client.Client, b api.Bout) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	fmt.Fprintf(a.err, "Bout %s is being judged ...\n", b.ID)
	err := c.Follow(ctx, b.ContestID, 0, func(e api.FeedEvent) bool { return !(e.BoutID == b.ID && e.State == "done") })
	if ctx.Err() != nil {
		fmt.Fprintf(a.err, "It is judged all the same. See it: agonometer bout show %s\n", b.ID)
		return silentError{}
	}
	if err != nil {
		return err
	}
	d, err := c.Bout(ctx, b.ID, false)
	if err != nil {
		return err
	}
	return a.facts(d, boutFacts(d, false, a.timingFacts(d, nil)))
}

// moment reads a point in time; "" is none.
func moment(flag, s string) (*time.Time, error) {
	if s == "" {
		return nil, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(layout, s, time.Local); err == nil {
			return &t, nil
		}
	}
	return nil, usageError{fmt.Errorf("--%s: %q is no point in time; write 2031-03-05T10:00:00Z or 2031-03-05 10:00", flag, s)}
}

func (a *app) contestRejudge() *cobra.Command {
	var tasks []string
	var file string
	cmd := a.withPrices(a.withFormat(&cobra.Command{Use: "rejudge [CONTEST]", Short: "Judge a contest's stored changes again, with the present task files; no tool is run", Args: cobra.MaximumNArgs(1),
		Long: `Judge what a contest's bouts brought again, from the stored changes and with the task files as they are now. No tool is run.
The old judgements stay; standings use the newest, and bout show tells all.

The task files are those that the contest's file names, on this machine; --file names another contest file.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			c, d, err := a.contest(ctx, args)
			if err != nil {
				return err
			}
			if file == "" {
				file = d.File
			}
			b, _, err := gather(file)
			if err != nil {
				return fmt.Errorf("the contest's file cannot be read here (%w); name it with --file", err)
			}
			r, err := c.Rejudge(ctx, d.ID, api.RejudgeContest{Bundle: *b, Tasks: tasks})
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
			defer stop()
			err = c.Follow(ctx, d.ID, d.LastEventID, func(e api.FeedEvent) bool {
				if e.Rejudging != r.ID {
					return true
				}
				if a.format == formatTable {
					fmt.Fprintf(a.err, "%d of %d judged again%s\n", e.Done, e.Total, strings.TrimSuffix(", "+visible(e.Doing), ", "))
				}
				return e.State != "done"
			})
			if ctx.Err() != nil {
				fmt.Fprintf(a.err, "The judging goes on. See: agonometer contest standings %s\n", d.ID)
				return silentError{}
			}
			if err != nil {
				return err
			}
			end, err := c.Contest(ctx, d.ID)
			if err != nil {
				return err
			}
			all, err := c.Rejudgings(ctx, d.ID)
			if err != nil {
				return err
			}
			for _, one := range all {
				if one.ID == r.ID && one.Problem != "" {
					return fmt.Errorf("not everything could be judged again: %s", one.Problem)
				}
			}
			return a.standings(end)
		}}))
	cmd.Flags().StringSliceVar(&tasks, "task", nil, "only bouts on this task; may be given more than once")
	cmd.Flags().StringVar(&file, "file", "", "the contest file whose tasks are used; default: the one that the contest was started with")
	return cmd
}
