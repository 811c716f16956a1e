package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"agonometer/internal/api"
	"agonometer/internal/core/ledger"
)

// progress shows how a contest goes: redrawn in place in a terminal, a line an
// event in a pipe.
type progress struct {
	a       *app
	live    bool
	started time.Time

	mu     sync.Mutex
	order  []string
	slots  map[string]*slot
	drawn  int
	closed bool
	done   chan struct{}
	idle   sync.WaitGroup
}

// slot is a bout's place in the contest; a rerun takes the same one.
type slot struct {
	contender, task, wording       string
	repeat                         int
	state, doing, outcome, verdict string
	tokens                         *int64
	money                          *ledger.Money
	atLeast                        bool
}

func slotKey(task, wording, contender string, repeat int) string {
	return fmt.Sprint(task, "\x00", wording, "\x00", contender, "\x00", repeat)
}

// ended tells whether nothing more happens in a contest by itself: one that waits for
// bouts by hand goes on when a person does.
func ended(state string) bool { return state == "done" || state == "stopped" || state == "by-hand" }

func newProgress(a *app, d api.ContestDetail) *progress {
	p := &progress{a: a, live: isTerminal(a.out) && os.Getenv("TERM") != "dumb" && a.format != formatJSON, slots: map[string]*slot{}, started: time.Now(), done: make(chan struct{})}
	if d.StartedAt != nil {
		p.started = d.StartedAt.Time
	}
	for _, c := range d.Contenders {
		p.order = append(p.order, c.Contender)
	}
	for _, b := range d.Bouts {
		if b.ReplacedBy != "" {
			continue
		}
		s := &slot{contender: b.Contender, task: b.Task, wording: b.Wording, repeat: b.Repeat, state: b.State, doing: b.Doing}
		if b.Verdict != nil {
			s.outcome = string(b.Verdict.Outcome)
		}
		s.tokens, s.money, s.atLeast = b.Used.Tokens, b.Used.Money, b.Used.MoneyAtLeast
		p.slots[slotKey(b.Task, b.Wording, b.Contender, b.Repeat)] = s
	}
	if p.live && !ended(d.State) {
		p.draw()
		p.idle.Add(1)
		go func() { // ends with close
			defer p.idle.Done()
			tick := time.NewTicker(500 * time.Millisecond)
			defer tick.Stop()
			for {
				select {
				case <-tick.C:
					p.mu.Lock()
					p.draw()
					p.mu.Unlock()
				case <-p.done:
					return
				}
			}
		}()
	}
	return p
}

func (p *progress) close() {
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return
	}
	p.closed = true
	if p.live && p.drawn > 0 {
		p.draw()
	}
	p.mu.Unlock()
	close(p.done)
	p.idle.Wait()
}

// take takes in one event; false when the contest has ended.
func (p *progress) take(e api.FeedEvent) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if e.Kind == "contest" {
		if e.State == "running" {
			p.started = e.At.Time
		}
		return !ended(e.State)
	}
	s := p.slots[slotKey(e.Task, e.Wording, e.Contender, e.Repeat)]
	if s == nil {
		return true
	}
	if e.Kind == "happened" {
		s.tokens, s.money, s.atLeast = e.Tokens, e.Money, e.AtLeast
		if p.live {
			p.draw()
		}
		return true
	}
	if e.State != "" {
		s.state, s.doing = e.State, ""
	}
	if e.Doing != "" {
		s.doing = e.Doing
	}
	s.outcome = e.Outcome
	if e.Outcome != "" {
		s.verdict = e.Outcome
		if e.Outcome != "passed" {
			s.verdict += ", " + e.Reason
			if e.Check != "" {
				s.verdict += " (" + e.Check + ")"
			}
		}
	}
	if p.live {
		p.draw()
		return true
	}
	if p.a.format == formatJSON {
		return true
	}
	done, all, running := p.counts()
	at := fmt.Sprintf("%7s  %d/%d", duration(time.Since(p.started).Milliseconds()), done, all)
	name := fmt.Sprintf("%s on %s, repeat %d", s.contender, s.task, s.repeat)
	if s.wording != "" {
		name = fmt.Sprintf("%s on %s (%s), repeat %d", s.contender, s.task, s.wording, s.repeat)
	}
	switch {
	case e.State == "done":
		fmt.Fprintf(p.a.out, "%s  %s: %s (%d running, %d left)\n", at, name, visible(s.verdict), running, all-done-running)
	case e.State == "working":
		fmt.Fprintf(p.a.out, "%s  %s: at work\n", at, name)
	case e.Doing != "" && !strings.HasPrefix(e.Doing, "check "):
		fmt.Fprintf(p.a.out, "%s  %s: %s\n", at, name, visible(e.Doing))
	case e.Rerun > 0:
		fmt.Fprintf(p.a.out, "%s  %s: runs again (rerun %d)\n", at, name, e.Rerun)
	}
	return true
}

func (p *progress) counts() (done, all, running int) {
	for _, s := range p.slots {
		all++
		switch s.state {
		case "done":
			done++
		case "waiting":
		default:
			running++
		}
	}
	return
}

// spent says what a contender has used so far, all of them for ""; the caller
// holds the lock.
func (p *progress) spent(contender string) string {
	var tokens int64
	var money *ledger.Money
	atLeast, any := false, false
	for _, s := range p.slots {
		if contender != "" && s.contender != contender || s.tokens == nil {
			continue
		}
		any = true
		tokens += *s.tokens
		atLeast = atLeast || s.atLeast
		if s.money != nil {
			sum := *s.money
			if money != nil {
				sum = sum.Plus(*money)
			}
			money = &sum
		}
	}
	if !any {
		return ""
	}
	words := ", " + tokensCell(&tokens, atLeast).shown + " tokens"
	if money != nil {
		words += ", " + moneyCell(money, false).shown
	}
	return words
}

// draw redraws the table; the caller holds the lock.
func (p *progress) draw() {
	width := 80
	if f, ok := p.a.out.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 20 {
			width = w
		}
	}
	done, all, running := p.counts()
	lines := []string{fmt.Sprintf("%d of %d bouts done, %d running, %d left, elapsed %s%s", done, all, running, all-done-running, duration(time.Since(p.started).Milliseconds()), p.spent(""))}
	longest := 0
	for _, name := range p.order {
		longest = max(longest, len(name))
	}
	for _, name := range p.order {
		var passed, failed, void, waiting int
		var now []string
		for _, s := range p.slots {
			if s.contender != name {
				continue
			}
			switch {
			case s.state == "waiting":
				waiting++
			case s.state == "done" && s.outcome == "passed":
				passed++
			case s.state == "done" && s.outcome == "failed":
				failed++
			case s.state == "done":
				void++
			default:
				what := s.state
				if s.doing != "" {
					what = s.doing
				} else if what == "working" {
					what = "at work"
				}
				now = append(now, s.task+" ("+what+")")
			}
		}
		bar := strings.Repeat("●", passed) + strings.Repeat("×", failed) + strings.Repeat("○", void) + strings.Repeat("▸", len(now)) + strings.Repeat("·", waiting)
		line := fmt.Sprintf("  %-*s  %s  %d passed, %d failed", longest, name, bar, passed, failed)
		if void > 0 {
			line += fmt.Sprintf(", %d void", void)
		}
		line += p.spent(name)
		slices.Sort(now)
		if len(now) > 0 {
			line += "  now: " + strings.Join(now, ", ")
		}
		lines = append(lines, line)
	}
	var b strings.Builder
	if p.drawn > 0 {
		fmt.Fprintf(&b, "\x1b[%dA", p.drawn)
	}
	for _, l := range lines {
		l = text.Trim(visible(l), width-1)
		if p.a.color {
			l = strings.NewReplacer("●", text.FgGreen.Sprint("●"), "×", text.FgRed.Sprint("×"), "○", text.FgYellow.Sprint("○"), "▸", text.FgCyan.Sprint("▸")).Replace(l)
		}
		b.WriteString("\r\x1b[2K" + l + "\n")
	}
	p.drawn = len(lines)
	fmt.Fprint(p.a.out, b.String())
}
