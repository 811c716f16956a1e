package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/person"
)

func (a *app) handCommand() *cobra.Command {
	verb := func(use, short, long string, run func(ctx context.Context, c *client.Client, id string) (api.Hand, error)) *cobra.Command {
		return a.withFormat(&cobra.Command{Use: use + " BOUT", Short: short, Long: long, Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				c, id, err := a.bout(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				h, err := run(cmd.Context(), c, id)
				if err != nil {
					return err
				}
				return a.handFacts(h)
			}})
	}
	list := a.withFormat(&cobra.Command{Use: "list", Short: "List the bouts that persons are working on", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Hands(cmd.Context())
			if err != nil {
				return err
			}
			var lines [][]cell
			for _, h := range all {
				worked := h.WorkedUS / 1000
				lines = append(lines, []cell{plain(h.Bout.ID), plain(h.Bout.Task), plain(h.Bout.Contender), plain(h.Bout.Hand.Phase), plain(strconv.Itoa(h.Round)), msCell(&worked), orAbsent(h.Bout.Hand.Worker), plain(h.Workspace)})
			}
			return a.rows(a.format, all, []column{{head: "Bout", id: true}, {head: "Task"}, {head: "Contender"}, {head: "Phase"}, {head: "Round", right: true}, {head: "Worked", right: true, key: "worked_ms"}, {head: "Worker"}, {head: "Workspace", whole: true}},
				lines, "No bout is being worked by hand. Start one with: agonometer hand start --task T --contender C")
		}})
	var words string
	begin := verb("begin", "Start the clock of a round: the words have been handed over", "Start the clock of the first round, or of the next one behind a failed check.",
		func(ctx context.Context, c *client.Client, id string) (api.Hand, error) {
			return c.BeginHand(ctx, id, words)
		})
	begin.Flags().StringVar(&words, "words", "", "the words that were really sent, where they are not those that were offered")
	var answer string
	finish := verb("finish", "End a round: what is there is captured and judged", "End a round. Where a check fails the text to paste back is shown, and `hand begin` starts the next round; `hand end` ends the bout.",
		func(ctx context.Context, c *client.Client, id string) (api.Hand, error) {
			reply := ""
			if answer != "" {
				data, err := os.ReadFile(answer)
				if err != nil {
					return api.Hand{}, err
				}
				reply = string(data)
			}
			h, err := c.FinishHand(ctx, id, reply)
			if err != nil {
				return h, err
			}
			return a.judged(ctx, c, h)
		})
	finish.Flags().StringVar(&answer, "answer", "", "a file with the tool's closing message, where there is one")
	var reason string
	discard := verb("discard", "Throw a bout away, with a reason; in a contest its place is open again", "",
		func(ctx context.Context, c *client.Client, id string) (api.Hand, error) {
			return c.DiscardHand(ctx, id, reason)
		})
	discard.Flags().StringVar(&reason, "reason", "", "why: it is kept, and counted in the standings")
	_ = discard.MarkFlagRequired("reason")
	return noun("hand", "Bouts that a person works: a tool in an editor or a chat page", a.handStart(), list,
		verb("show", "Show a bout that is worked by hand: where it stands, its marks, the files touched", "", func(ctx context.Context, c *client.Client, id string) (api.Hand, error) { return c.Hand(ctx, id) }),
		a.handWork(), begin, a.handMark(), a.handBack(), a.handCorrect(),
		verb("pause", "Stop the clock for a while", "", func(ctx context.Context, c *client.Client, id string) (api.Hand, error) { return c.PauseHand(ctx, id) }),
		verb("resume", "Let the clock run on", "", func(ctx context.Context, c *client.Client, id string) (api.Hand, error) { return c.ResumeHand(ctx, id) }),
		finish, verb("end", "End a bout whose round failed, without another round", "", func(ctx context.Context, c *client.Client, id string) (api.Hand, error) { return c.EndHand(ctx, id) }),
		discard, a.handUsed())
}

// judged waits until a round has been judged, and shows what is being done.
func (a *app) judged(ctx context.Context, c *client.Client, h api.Hand) (api.Hand, error) {
	return a.until(ctx, c, h, func(h api.Hand) bool { return h.Bout.Hand.Phase != "judging" })
}

// until asks for a bout until something holds of it.
func (a *app) until(ctx context.Context, c *client.Client, h api.Hand, holds func(api.Hand) bool) (api.Hand, error) {
	said := ""
	tick := time.NewTicker(150 * time.Millisecond)
	defer tick.Stop()
	for {
		if holds(h) {
			return h, nil
		}
		if h.Bout.Doing != "" && h.Bout.Doing != said {
			said = h.Bout.Doing
			fmt.Fprintln(a.err, "  "+visible(said)+" ...")
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return h, ctx.Err()
		}
		var err error
		if h, err = c.Hand(ctx, h.Bout.ID); err != nil {
			return h, err
		}
	}
}

func (a *app) handStart() *cobra.Command {
	var in api.StartHand
	var taskName, contenderName, contestGiven string
	var only bool
	cmd := a.withFormat(&cobra.Command{Use: "start (--contest CONTEST [--task T] [--contender C] | --task FILE --contender FILE)", Short: "Make the workspace of a bout, and work it with single keys", Args: cobra.NoArgs,
		Long: `Make the workspace of a bout that a person works, say where it is and show the brief. In a terminal the clock starts at a key,
and single keys make the marks from then on; otherwise, or with --only-prepare, the other hand commands do that.

With --contest the next bout is taken that the contest wants worked by hand; --task and --contender narrow that down, and
a bout that is worked out of order is marked so. Without a contest T and C are files.`,
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
				in.Task, in.Contender = taskName, contenderName
			} else {
				if taskName == "" || contenderName == "" {
					return usageError{errors.New("a bout outside a contest needs --task FILE and --contender FILE; one of a contest needs --contest")}
				}
				b, kind, err := gather(taskName)
				if err != nil {
					return err
				}
				if kind != contest.KindTask {
					return usageError{fmt.Errorf("%s is not a task file", taskName)}
				}
				in.Bundle = b
				if in.ContenderFile, err = os.ReadFile(contenderName); err != nil {
					return fmt.Errorf("the contender's file: %w", err)
				}
			}
			h, err := c.StartHand(ctx, in)
			if err != nil {
				return err
			}
			if h, err = a.until(ctx, c, h, func(h api.Hand) bool { return h.Bout.Hand.Phase != "preparing" }); err != nil {
				return err
			}
			if h.Bout.Hand.Phase == "over" {
				return fmt.Errorf("the bout could not be prepared: %s", handVerdict(h))
			}
			if only || a.format != formatTable || !a.keyboard() {
				if err := a.handFacts(h); err != nil || a.format != formatTable {
					return err
				}
				fmt.Fprintf(a.out, "\nHand the words over, and start the clock at that moment: %s hand begin %s\n", os.Args[0], shortID(h.Bout.ID))
				return nil
			}
			return a.work(ctx, c, h)
		}})
	cmd.Flags().StringVar(&taskName, "task", "", "a task's file, or with --contest the name of one of its tasks")
	cmd.Flags().StringVar(&contenderName, "contender", "", "a contender's file, or with --contest the name of one of its contenders")
	cmd.Flags().StringVar(&contestGiven, "contest", "", "the contest that wants the bout")
	cmd.Flags().StringVar(&in.Worker, "worker", os.Getenv("USER"), "who works the tool")
	cmd.Flags().StringVar(&in.Familiarity, "familiarity", "", "how used to the tool they are, in words: first time, a week, daily for a year")
	cmd.Flags().BoolVar(&only, "only-prepare", false, "do not start the keyboard")
	return cmd
}

func shortID(id string) string { return id[max(0, len(id)-6):] }

// keyboard tells whether a person sits at a terminal.
func (a *app) keyboard() bool {
	in, ok := a.in.(*os.File)
	return ok && term.IsTerminal(int(in.Fd())) && isTerminal(a.out)
}

func (a *app) handWork() *cobra.Command {
	return &cobra.Command{Use: "work BOUT", Short: "Go on with a bout at the keyboard, with single keys", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if !a.keyboard() {
				return usageError{errors.New("the keyboard needs a terminal; elsewhere use: hand begin, mark, back, finish")}
			}
			h, err := c.Hand(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.work(cmd.Context(), c, h)
		}}
}

func (a *app) handMark() *cobra.Command {
	var in api.AddMark
	var at, until string
	cmd := a.withFormat(&cobra.Command{Use: "mark BOUT KIND [CLASS]", Short: "Note something: waiting, correction, permission, editing, suggestion or note", Args: cobra.RangeArgs(2, 3),
		Long: `Note something in a bout whose clock runs. The kinds:
  waiting                 the tool waits for you, until: hand back BOUT waiting
  correction CLASS        words were sent that put the tool right; CLASS is error (an error was pasted and nothing else),
                          information (something that the brief had left out) or hint (the way to go)
  permission              the tool was allowed something
  editing                 you edit yourself, until: hand back BOUT editing
  suggestion CLASS        while typing: taken, refused or edited (taken, and edited after)
  note                    a remark
--at and --until are moments on the bout's clock, such as 90s or 2m10s; --at sign is the tool's last sign of life: for
when you came back late to a tool that had been waiting.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			in.Kind = person.Kind(args[1])
			if len(args) > 2 {
				in.Class = args[2]
			}
			if at == "sign" {
				h, err := c.Hand(cmd.Context(), id)
				if err != nil {
					return err
				}
				in.AtUS = h.SignUS
			} else if in.AtUS, err = onClock("at", at); err != nil {
				return err
			}
			if in.UntilUS, err = onClock("until", until); err != nil {
				return err
			}
			h, err := c.AddMark(cmd.Context(), id, in)
			if err != nil {
				return err
			}
			return a.handFacts(h)
		}})
	cmd.Flags().StringVar(&in.Words, "words", "", "the words that were sent, or the remark")
	cmd.Flags().StringVar(&at, "at", "", "when, on the bout's clock (90s), or sign; default: now")
	cmd.Flags().StringVar(&until, "until", "", "when a span ended, on the bout's clock; default: it stays open")
	return cmd
}

// onClock reads a moment on the bout's clock in microseconds; nil for "".
func onClock(flag, given string) (*int64, error) {
	if given == "" {
		return nil, nil
	}
	d, err := time.ParseDuration(given)
	if err != nil || d < 0 {
		return nil, usageError{fmt.Errorf("--%s %q is no moment on the bout's clock; expected one such as 90s or 2m10.5s", flag, given)}
	}
	us := d.Microseconds()
	return &us, nil
}

func (a *app) handBack() *cobra.Command {
	return a.withFormat(&cobra.Command{Use: "back BOUT [waiting|editing]", Short: "End the open mark: back to the tool", Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			kind := person.Kind("")
			if len(args) > 1 {
				kind = person.Kind(args[1])
			} else {
				h, err := c.Hand(cmd.Context(), id)
				if err != nil {
					return err
				}
				if m := openMark(h); m != nil {
					kind = m.Kind
				}
			}
			if !kind.Spans() {
				return errors.New("no mark is open; waiting and editing are marks that have an end")
			}
			h, err := c.EndSpan(cmd.Context(), id, kind)
			if err != nil {
				return err
			}
			return a.handFacts(h)
		}})
}

// openMark is the span that is open; nil for none.
func openMark(h api.Hand) *api.NotedMark {
	for i := range h.Marks {
		if m := &h.Marks[i]; m.Counts && m.Kind.Spans() && m.UntilUS == nil {
			return m
		}
	}
	return nil
}

func (a *app) handCorrect() *cobra.Command {
	var in api.CorrectMark
	var at, until, kind string
	cmd := a.withFormat(&cobra.Command{Use: "correct BOUT MARK", Short: "Correct a mark, or take it back; the original stays on record", Args: cobra.ExactArgs(2),
		Long: "Correct a mark, during the bout or after it. MARK is its id, or the end of one; `hand show BOUT` lists them. What is not given stays as it was.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			h, err := c.Hand(cmd.Context(), id)
			if err != nil {
				return err
			}
			var ids []string
			for _, m := range h.Marks {
				ids = append(ids, m.ID)
			}
			mark := strings.ToUpper(args[1])
			if len(mark) != 26 {
				if mark, err = byEnding(ids, args[1], "mark"); err != nil {
					return err
				}
			}
			i := slices.Index(ids, mark)
			if i < 0 {
				return fmt.Errorf("the bout has no mark %s", args[1])
			}
			old := h.Marks[i]
			given := cmd.Flags().Changed
			if in.Kind = old.Kind; given("kind") {
				in.Kind = person.Kind(kind)
			}
			if !given("class") {
				in.Class = old.Class
			}
			if !given("words") {
				in.Words = old.Words
			}
			in.AtUS, in.UntilUS = old.AtUS, old.UntilUS
			if given("at") {
				t, err := onClock("at", at)
				if err != nil {
					return err
				}
				in.AtUS = *t
			}
			if given("until") {
				if in.UntilUS, err = onClock("until", until); err != nil {
					return err
				}
			}
			if h, err = c.CorrectMark(cmd.Context(), id, mark, in); err != nil {
				return err
			}
			return a.handFacts(h)
		}})
	cmd.Flags().StringVar(&kind, "kind", "", "another kind")
	cmd.Flags().StringVar(&in.Class, "class", "", "another class")
	cmd.Flags().StringVar(&in.Words, "words", "", "other words")
	cmd.Flags().StringVar(&at, "at", "", "another moment on the bout's clock")
	cmd.Flags().StringVar(&until, "until", "", "another end")
	cmd.Flags().StringVar(&in.Reason, "reason", "", "why")
	cmd.Flags().BoolVar(&in.TakeBack, "take-back", false, "take the mark back")
	return cmd
}

func (a *app) handUsed() *cobra.Command {
	var in api.UsedHand
	var tokens, spent, before, after, of string
	var keys int
	cmd := a.withFormat(&cobra.Command{Use: "used BOUT", Short: "Tell what is known of tokens, money or keys", Args: cobra.ExactArgs(1),
		Long: `Tell what a bout used, where the meter does not count it: as tokens, as money, or as readings of an allowance before and
after, in percent as they were shown. A reading is a range as wide as its last digit, and stays one in every figure.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.bout(cmd.Context(), args[0])
			if err != nil {
				return err
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
			if before != "" || after != "" || of != "" {
				r := &ledger.Allowance{Before: before, After: after}
				if before == "" || after == "" || r.Of.ParseScalar(of) != nil {
					return usageError{errors.New("readings of an allowance need --before 12.3 --after 14.1 (percent, as they were shown) and --of \"20 AVM\", what the whole is worth")}
				}
				in.Allowance = r
			}
			if cmd.Flags().Changed("keys") {
				in.Keys = &keys
			}
			h, err := c.UsedHand(cmd.Context(), id, in)
			if err != nil {
				return err
			}
			return a.handFacts(h)
		}})
	cmd.Flags().StringVar(&tokens, "tokens", "", "tokens by kind: fresh=12000,cached=8000,output=900")
	cmd.Flags().StringVar(&spent, "spent", "", "money, such as \"0.42 AVM\"")
	cmd.Flags().StringVar(&before, "before", "", "the share of the allowance that was used up before, in percent as it was shown")
	cmd.Flags().StringVar(&after, "after", "", "and after")
	cmd.Flags().StringVar(&of, "of", "", "what the whole allowance is worth, such as \"20 AVM\"")
	cmd.Flags().StringVar(&in.Model, "model", "", "the model that replied")
	cmd.Flags().IntVar(&keys, "keys", 0, "how many keys were pressed, for tasks of typing")
	return cmd
}

func handVerdict(h api.Hand) string {
	v := h.Bout.Verdict
	if v == nil {
		return h.Bout.State
	}
	words := string(v.Outcome) + ", " + string(v.Reason)
	if v.Detail != "" {
		words += ": " + v.Detail
	}
	return words
}

// handFacts shows where a bout stands that a person works.
func (a *app) handFacts(h api.Hand) error {
	f := h.Bout.Hand
	facts := [][2]string{{"Bout", h.Bout.ID}, {"Task", h.Bout.Task + "  " + h.TaskTitle}, {"Contender", h.Bout.Contender + "  " + h.ContenderTitle}, {"Phase", phaseShown(h)}}
	if !h.Alone {
		facts = append(facts, [2]string{"Contest", h.ContestName})
	}
	who := f.Worker
	if f.Familiarity != "" {
		who = strings.TrimSpace(who + " (used to the tool: " + f.Familiarity + ")")
	}
	facts = append(facts, [2]string{"Worker", who})
	if f.Phase != "over" {
		facts = append(facts, [2]string{"Workspace", h.Workspace}, [2]string{"Files with it", strings.Join(h.Attachments, "\n")}, [2]string{"Meter", h.MeterURL})
	}
	if h.Round > 0 {
		worked := duration(h.WorkedUS / 1000)
		facts = append(facts, [2]string{"Clock", fmt.Sprintf("round %d (%s), %s of work", h.Round, h.Kind, worked)})
	}
	if h.SignUS != nil && f.Phase == "running" {
		facts = append(facts, [2]string{"Last sign of life", duration(*h.SignUS / 1000)})
	}
	var files []string
	for i, file := range h.Files {
		if i == 12 {
			files = append(files, fmt.Sprintf("... and %d more", len(h.Files)-i))
			break
		}
		files = append(files, fmt.Sprintf("%s  %s", duration(file.LastUS/1000), file.Path))
	}
	facts = append(facts, [2]string{"Files touched", strings.Join(files, "\n")})
	var marks []string
	for _, m := range h.Marks {
		marks = append(marks, markLine(m))
	}
	facts = append(facts, [2]string{"Marks", strings.Join(marks, "\n")})
	if h.Spent.Tokens != nil || h.Spent.Money != nil {
		facts = append(facts, [2]string{"Metered so far", usedWords(h.Spent)})
	} else if h.Bout.Used.Source != string(ledger.NotKnown) {
		facts = append(facts, [2]string{"Used", usedWords(h.Bout.Used)})
	}
	if len(h.Bout.Flags) > 0 {
		facts = append(facts, [2]string{"Flags", strings.Join(h.Bout.Flags, "; ")})
	}
	switch f.Phase {
	case "ready":
		facts = append(facts, [2]string{"Brief", h.Words})
	case "offered":
		facts = append(facts, [2]string{"Say next", h.Words})
	}
	return a.facts(h, facts)
}

func phaseShown(h api.Hand) string {
	switch h.Bout.Hand.Phase {
	case "ready":
		return "ready: the clock has not been started"
	case "offered":
		return "judged: not there yet; `hand begin` starts the next round, `hand end` ends the bout"
	case "over":
		return "over: " + handVerdict(h)
	}
	return h.Bout.Hand.Phase
}

// markLine is a mark on a line.
func markLine(m api.NotedMark) string {
	s := shortID(m.ID) + "  " + duration(m.AtUS/1000)
	if m.Kind.Spans() {
		if m.UntilUS == nil {
			s += " ..."
		} else {
			s += " to " + duration(*m.UntilUS/1000)
		}
	}
	s += "  " + string(m.Kind)
	if m.Class != "" {
		s += " (" + m.Class + ")"
	}
	if m.Words != "" {
		words, more, _ := strings.Cut(m.Words, "\n")
		if more != "" {
			words += " ..."
		}
		s += ": " + words
	}
	switch {
	case m.TakenBack:
		s += "  [takes back " + shortID(m.Corrects) + "]"
	case m.Corrects != "":
		s += "  [corrects " + shortID(m.Corrects) + "]"
	case !m.Counts:
		s += "  [corrected since]"
	}
	return s
}

// keys of the keyboard, in the order in which they are shown.
var handKeys = []struct{ key, what string }{
	{"space", "start the clock / pause / go on"}, {"w", "it waits for me / back to it"}, {"l", "it has waited since its last sign of life: back to it"},
	{"c", "correction sent"}, {"p", "permission given"}, {"e", "I edit now / done"}, {"t", "suggestion: taken, refused, edited"},
	{"n", "note"}, {"f", "finish the round"}, {"q", "leave; the clock goes on"}, {"d", "throw the bout away"},
}

// work works a bout at the keyboard.
func (a *app) work(ctx context.Context, c *client.Client, h api.Hand) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	w := &worker{a: a, c: c, id: h.Bout.ID, keys: bufio.NewReader(a.in), fd: int(a.in.(*os.File).Fd())}
	w.show(h)
	var saved *term.State
	var err error
	if saved, err = term.MakeRaw(w.fd); err != nil {
		return err
	}
	w.saved = saved
	defer func() { _ = term.Restore(w.fd, saved) }()
	pressed := make(chan byte)
	asked := make(chan struct{})
	go func() { // ends with the program's input, or with the program
		defer close(pressed)
		for range asked {
			b, err := w.keys.ReadByte()
			if err != nil {
				return
			}
			pressed <- b
		}
	}()
	defer close(asked)
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	asked <- struct{}{}
	for {
		var key byte
		var ok bool
		select {
		case key, ok = <-pressed:
			if !ok {
				return nil
			}
		case <-tick.C:
			if h, err := c.Hand(ctx, w.id); err == nil {
				w.status(h)
				if h.Bout.Hand.Phase == "over" {
					w.line("Over: " + handVerdict(h))
					return nil
				}
			}
			continue
		case <-ctx.Done():
			key = 'q'
		}
		over, err := w.press(ctx, key)
		if err != nil {
			w.line("agonometer: " + visible(err.Error()))
		}
		if over {
			return nil
		}
		asked <- struct{}{}
	}
}

// worker is the keyboard of a person who works a bout.
type worker struct {
	a     *app
	c     *client.Client
	id    string
	keys  *bufio.Reader
	fd    int
	saved *term.State
}

func (w *worker) line(s string) {
	fmt.Fprint(w.a.out, "\r\x1b[2K"+strings.ReplaceAll(s, "\n", "\r\n")+"\r\n")
}

// show says where to work and what to hand over.
func (w *worker) show(h api.Hand) {
	out := w.a.out
	fmt.Fprintf(out, "Workspace   %s\n", h.Workspace)
	for _, f := range h.Attachments {
		fmt.Fprintf(out, "With it     %s\n", f)
	}
	if h.MeterURL != "" {
		fmt.Fprintf(out, "Meter       %s  (point the tool at it, where it can be)\n", h.MeterURL)
	}
	fmt.Fprintf(out, "\n%s\n\n", visible(h.Words))
	for _, k := range handKeys {
		fmt.Fprintf(out, "  %-5s  %s\n", k.key, k.what)
	}
	fmt.Fprintln(out)
}

// status redraws the one line that shows the clock.
func (w *worker) status(h api.Hand) {
	s := fmt.Sprintf("%s  %s", duration(h.WorkedUS/1000), h.Bout.Hand.Phase)
	if m := openMark(h); m != nil {
		s += map[person.Kind]string{person.Waiting: ", it waits for you", person.Editing: ", you edit"}[m.Kind]
	}
	if n := len(h.Files); n > 0 {
		s += fmt.Sprintf("  %s, last %s", plural(n, "file"), h.Files[0].Path)
	}
	if h.Spent.Tokens != nil {
		s += "  " + usedWords(h.Spent)
	}
	width, _, err := term.GetSize(w.fd)
	if err != nil || width < 20 {
		width = 80
	}
	fmt.Fprint(w.a.out, "\r\x1b[2K"+text.Trim(visible(s), width-1))
}

// ask asks for a line of words; the terminal edits it.
func (w *worker) ask(what string) (string, error) {
	_ = term.Restore(w.fd, w.saved)
	defer func() { _, _ = term.MakeRaw(w.fd) }()
	fmt.Fprint(w.a.out, "\r\x1b[2K"+what+": ")
	s, err := w.keys.ReadString('\n')
	if errors.Is(err, io.EOF) && s != "" {
		err = nil
	}
	return strings.TrimSpace(s), err
}

// choose asks for one of some keys; "" where another was pressed.
func (w *worker) choose(what string, keys map[byte]string) string {
	fmt.Fprint(w.a.out, "\r\x1b[2K"+what+" ")
	b, err := w.keys.ReadByte()
	if err != nil {
		return ""
	}
	return keys[b]
}

// press does what a key means; over is true when the keyboard is left.
func (w *worker) press(ctx context.Context, key byte) (over bool, err error) {
	h, err := w.c.Hand(ctx, w.id)
	if err != nil && key != 'q' && key != 3 {
		return false, err
	}
	mark := func(m api.AddMark) error {
		h, err := w.c.AddMark(ctx, w.id, m)
		if err == nil && len(h.Marks) > 0 {
			w.line(markLine(h.Marks[len(h.Marks)-1]))
		}
		return err
	}
	toggle := func(kind person.Kind) error {
		if m := openMark(h); m != nil && m.Kind == kind {
			h, err := w.c.EndSpan(ctx, w.id, kind)
			if err == nil {
				for _, one := range h.Marks {
					if one.ID == m.ID {
						w.line(markLine(one))
					}
				}
			}
			return err
		}
		return mark(api.AddMark{Kind: kind})
	}
	switch key {
	case ' ':
		switch h.Bout.Hand.Phase {
		case "ready", "offered":
			_, err = w.c.BeginHand(ctx, w.id, "")
			w.line("The clock is running.")
		case "running":
			_, err = w.c.PauseHand(ctx, w.id)
			w.line("Paused.")
		case "paused":
			_, err = w.c.ResumeHand(ctx, w.id)
			w.line("The clock is running on.")
		}
	case 'w':
		return false, toggle(person.Waiting)
	case 'l':
		now := h.NowUS
		if h.SignUS == nil {
			return false, errors.New("nothing has been seen of the tool yet")
		}
		return false, mark(api.AddMark{Kind: person.Waiting, AtUS: h.SignUS, UntilUS: &now})
	case 'e':
		return false, toggle(person.Editing)
	case 'p':
		return false, mark(api.AddMark{Kind: person.Permission})
	case 'c':
		class := w.choose("What was sent? e: a bare error, i: information, h: a hint", map[byte]string{'e': person.BareError, 'i': person.Information, 'h': person.Hint})
		if class == "" {
			w.line("Nothing was noted.")
			return false, nil
		}
		words, err := w.ask("Its words (or nothing)")
		if err != nil {
			return false, err
		}
		return false, mark(api.AddMark{Kind: person.Correction, Class: class, Words: words})
	case 't':
		class := w.choose("The suggestion was: t taken, r refused, e taken and edited", map[byte]string{'t': person.Taken, 'r': person.Refused, 'e': person.Edited})
		if class == "" {
			w.line("Nothing was noted.")
			return false, nil
		}
		return false, mark(api.AddMark{Kind: person.Suggestion, Class: class})
	case 'n':
		words, err := w.ask("Note")
		if err != nil || words == "" {
			return false, err
		}
		return false, mark(api.AddMark{Kind: person.Note, Words: words})
	case 'f':
		return w.finish(ctx, h)
	case 'd':
		reason, err := w.ask("Why is the bout thrown away? (nothing: it is not)")
		if err != nil || reason == "" {
			return false, err
		}
		_, err = w.c.DiscardHand(ctx, w.id, reason)
		return err == nil, err
	case 'q', 3: // Ctrl-C in raw mode
		w.line("The bout goes on without this keyboard. Back to it: agonometer hand work " + shortID(w.id))
		return true, nil
	}
	return false, err
}

// finish ends the round and shows what the judge says.
func (w *worker) finish(ctx context.Context, h api.Hand) (over bool, err error) {
	if h.Bout.Hand.Phase == "offered" {
		_, err := w.c.EndHand(ctx, w.id)
		return err == nil, err
	}
	answer := ""
	if h.TaskKind == "question" {
		if answer, err = w.ask("The tool's reply, on one line"); err != nil {
			return false, err
		}
	}
	if h, err = w.c.FinishHand(ctx, w.id, answer); err != nil {
		return false, err
	}
	w.line("Judging ...")
	if h, err = w.a.judged(ctx, w.c, h); err != nil {
		return false, err
	}
	if h.Bout.Hand.Phase == "over" {
		w.line("Over: " + visible(handVerdict(h)))
		return true, nil
	}
	w.line("Not there yet. Say this to the tool, and press the space bar at that moment; f ends the bout as it is.\n\n" + visible(h.Words) + "\n")
	return false, nil
}
