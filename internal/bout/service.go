package bout

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"slices"
	"sync"
	"time"

	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/meter"
	"agonometer/internal/bout/watch"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

// Spent is what a bout has used so far.
type Spent struct {
	Tokens  *int64
	Money   *ledger.Money
	AtLeast bool
}

// maxExchanges is how many exchanges a bout may have: far more than any work
// needs, and few enough to be kept.
const maxExchanges = 20_000

// maxBodies is how much of the bodies of one bout is kept in all, in bytes.
const maxBodies = 256 << 20

// meterPort is the port of the meter in a network that has nothing else.
const meterPort = 7411

// observer is what looks at a contender while it works: the line to its model
// service and the watch over its workspace. It stops the bout at its limits.
type observer struct {
	s     *Session
	line  *meter.Line
	watch *watch.Watch
	// listener is the way to the meter from a network that has nothing else.
	listener net.Listener

	mu        sync.Mutex
	exchanges []*meter.Exchange // not told yet
	bodies    int               // how much of them was kept, in bytes
	events    []timeline.Event
	spent     Spent
	reason    verdict.Reason
	detail    string
	stop      chan struct{}
	arrived   []time.Time // when the exchanges of the last minute came
	waiting   int         // how many exchanges are being paced now
	since     time.Time
	paced     time.Duration
}

// observe opens the line and the watch of a session.
func (s *Session) observe() error {
	start, err := s.e.Git.Files(s.w.Prepared)
	if err != nil {
		return err
	}
	o := &observer{s: s, stop: make(chan struct{})}
	quiet, before := s.job.Limits.Quiet.Std(), ""
	if s.job.Contender.Drive == contender.DriveHand {
		quiet, before = 0, s.w.Prepared.Template() // who thinks is not seen
	}
	o.watch = watch.New(watch.Options{Tree: s.w.Tree(), Start: start, Before: before, Quiet: quiet, Sink: o.tell,
		Stop: func() { o.end(verdict.QuietLimit, "nothing was seen for "+s.job.Limits.Quiet.Std().String()) }})
	s.observer = o
	s.Network = string(contender.NetworkOpen)
	m := s.job.Contender.Meter
	if m == nil {
		return nil
	}
	up, err := url.Parse(m.Upstream)
	if err != nil {
		return err
	}
	ca := m.CAFile
	if ca != "" {
		if ca, err = drive.Place(s.job.Contender, ca); err != nil {
			return err
		}
	}
	o.line, err = s.e.Meter.Open(meter.Options{Upstream: up, CAFile: ca, Reading: m.Reading(), Pacer: s.e.pacer(s.job.Contender), Keep: int64(m.KeepBodies),
		Secrets: drive.Secrets(s.job.Contender), Most: maxExchanges, Began: o.began, Ended: o.ended, Pacing: o.pacing})
	if err != nil {
		return &drive.MissingError{What: err.Error()}
	}
	s.Metered = true
	if s.job.Contender.Network == contender.MeterOnly && s.e.Capability.CutsNetwork && s.world.Mode == confine.Namespaces {
		s.Network = string(contender.MeterOnly)
		s.world.NoNetwork, s.world.Listen = true, meterPort
	}
	return nil
}

// url is what the tool is told instead of its model service's address.
func (o *observer) url() string {
	switch {
	case o.line == nil:
		return ""
	case o.s.world.Listen != 0:
		return o.line.URLOn(fmt.Sprintf("127.0.0.1:%d", meterPort))
	}
	return o.line.URL()
}

// pacer is what a contender's bouts wait for together.
func (e *Engine) pacer(c *contender.Contender) *meter.Pacer {
	pace := c.Meter.Pace
	if pace == nil {
		return nil
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	key := c.Digest()
	if e.pacers[key] == nil {
		e.pacers[key] = &meter.Pacer{Requests: pace.Requests, Tokens: int64(pace.Tokens)}
	}
	return e.pacers[key]
}

// end stops the contender for a reason; the first one counts.
func (o *observer) end(reason verdict.Reason, detail string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.endLocked(reason, detail)
}

func (o *observer) endLocked(reason verdict.Reason, detail string) {
	if o.reason == "" {
		o.reason, o.detail = reason, detail
		text := string(reason)
		if detail != "" {
			text += ": " + detail
		}
		now := time.Now()
		o.watch.Add(timeline.Event{Kind: timeline.Limit, Text: text}, now, now)
		if o.line != nil { // whoever does not stop when it is told uses nothing more
			o.line.Refuse("this bout is being stopped (" + text + ")")
		}
		close(o.stop)
	}
}

func (o *observer) began(*meter.Exchange) { o.watch.Open() }

// pacing is told when an exchange begins and ends to wait for its turn.
func (o *observer) pacing(begins bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if begins {
		if o.waiting++; o.waiting == 1 {
			o.since = time.Now()
		}
	} else if o.waiting--; o.waiting == 0 {
		o.paced += time.Since(o.since)
	}
}

func (o *observer) pacedSoFar() time.Duration {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.waiting > 0 {
		return o.paced + time.Since(o.since)
	}
	return o.paced
}

// leastPaced is how long a wait must be to be one.
const leastPaced = time.Millisecond

// ended takes an exchange that is over.
func (o *observer) ended(x *meter.Exchange) {
	o.watch.Shut()
	if wait := x.Began.Sub(x.Arrived); wait >= leastPaced {
		o.watch.Add(timeline.Event{Kind: timeline.Paced, Round: x.Round, Number: x.Number}, x.Arrived, x.Began)
	}
	e := timeline.Event{Kind: timeline.Exchange, Round: x.Round, Number: x.Number, Text: x.Read.Model, OK: x.Status > 0 && x.Status < 400 && !x.Partial}
	if n := x.Read.Tokens.Total(); n != nil {
		e.Count = *n
	}
	if e.Text == "" {
		e.Text = x.Asked.Model
	}
	if x.Refused {
		e.Kind, e.Text = timeline.Refused, string(x.Cause)
		if x.CauseWords != "" {
			e.Text += ": " + x.CauseWords
		}
	}
	o.watch.Add(e, x.Began, x.Ended)

	o.mu.Lock()
	defer o.mu.Unlock()
	if o.bodies += len(x.RequestBody) + len(x.ReplyBody); o.bodies > maxBodies {
		x.RequestBody, x.ReplyBody, x.BodiesCut = nil, nil, true
	}
	o.exchanges = append(o.exchanges, x)
	if o.arrived = append(o.arrived, x.Arrived); len(o.arrived) > 2*flood {
		o.arrived = slices.Clone(o.arrived[flood:])
	}
	o.spend(ledger.Of([]ledger.Exchange{x.Ledger()}, o.s.job.Prices))
	sheet := &o.spent
	limits := o.s.job.Limits
	switch {
	case x.Refused && o.flooded(x.Arrived):
		o.endLocked(verdict.OwnFlood, fmt.Sprintf("%d requests within a minute; %s", len(o.arrived), e.Text))
	case x.Refused && o.s.job.VoidRefused:
		o.endLocked(verdict.Refused, e.Text)
	case o.s.job.VoidOtherModel && !o.s.job.Contender.Expects.Allows(x.Read.Model):
		o.endLocked(verdict.OtherModel, x.Read.Model)
	case limits.Tokens > 0 && sheet.Tokens != nil && *sheet.Tokens >= int64(limits.Tokens):
		o.endLocked(verdict.TokenLimit, fmt.Sprintf("%d of %d tokens", *sheet.Tokens, limits.Tokens))
	case limits.Spend != nil && sheet.Money != nil && sheet.Money.Amount.GreaterThanOrEqual(limits.Spend.Amount):
		o.endLocked(verdict.SpendLimit, sheet.Money.String()+" of "+limits.Spend.String())
	}
}

// flood is how many requests a minute are a flood: far more than any work needs.
const flood = 240

// flooded tells whether so many exchanges came within the minute before a moment that a
// refusal is the contender's own doing; the lock is held.
func (o *observer) flooded(at time.Time) bool {
	o.arrived = slices.DeleteFunc(o.arrived, func(t time.Time) bool { return at.Sub(t) > time.Minute })
	return len(o.arrived) >= flood
}

// spend adds what an exchange used; the lock is held.
func (o *observer) spend(one ledger.Sheet) {
	if one.Total != nil {
		sum := *one.Total
		if o.spent.Tokens != nil {
			sum += *o.spent.Tokens
		}
		o.spent.Tokens = &sum
	}
	if one.Money != nil {
		sum := *one.Money
		if o.spent.Money != nil {
			sum = sum.Plus(*o.spent.Money)
		}
		o.spent.Money = &sum
	}
	o.spent.AtLeast = o.spent.AtLeast || one.AtLeast
}

// why is the reason for which the contender was stopped; "" where it ended by itself.
func (o *observer) why() (verdict.Reason, string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.reason, o.detail
}

// tell passes on what happened.
func (o *observer) tell(events []timeline.Event) {
	secrets := drive.Secrets(o.s.job.Contender)
	for i := range events {
		if struck := workspace.Strike([]byte(events[i].Text), secrets); struck != nil {
			events[i].Text = string(struck)
		}
	}
	o.mu.Lock()
	exchanges, spent := o.exchanges, o.spent
	o.exchanges = nil
	o.events = append(o.events, events...)
	o.mu.Unlock()
	if o.s.job.Happened != nil {
		o.s.job.Happened(o.watch.Clock(), events, exchanges, spent)
	}
}

// Timing is what the bout's timeline comes to so far.
func (s *Session) Timing() timeline.Timing {
	s.observer.mu.Lock()
	defer s.observer.mu.Unlock()
	return timeline.Summarise(s.observer.events)
}

// Answered is how often a question of the tool was answered by rule so far, and how
// long the tool waited for that, in milliseconds.
func (s *Session) Answered() (n int, ms int64) {
	s.observer.mu.Lock()
	defer s.observer.mu.Unlock()
	var us int64
	for i := range s.observer.events {
		if e := &s.observer.events[i]; e.Kind == timeline.Asked {
			n++
			us += e.Until - e.At
		}
	}
	return n, us / 1000
}

// Machine is how busy the machine was while the contender worked; Scanned tells
// whether edits were found by scanning.
func (s *Session) Machine() timeline.Machine { return s.observer.watch.Machine() }
func (s *Session) Scanned() bool             { return s.observer.watch.Scanned() }

// Checked puts a check of the judge on the timeline.
func (s *Session) Checked(name string, round int, began time.Time, took time.Duration, ok bool) {
	s.observer.watch.Add(timeline.Event{Kind: timeline.Check, Text: name, Round: round, OK: ok}, began, began.Add(took))
}

// seen takes what only the driver sees.
func (o *observer) seen(x drive.Seen) {
	o.watch.Add(timeline.Event{Kind: x.Kind, Text: x.Text, Count: x.Count, OK: x.OK}, x.From, x.Until)
}

// work hands words over under observation, and returns how it ended and how long
// the contender worked without the waits that its pace asked for.
func (o *observer) work(ctx context.Context, round int, h drive.HandOver) (drive.Ended, time.Duration, error) {
	return o.run(ctx, round, h, o.s.driver.HandOver)
}

// run runs a program of the contender under observation.
func (o *observer) run(ctx context.Context, round int, h drive.HandOver, do func(context.Context, drive.HandOver) (drive.Ended, error)) (res drive.Ended, worked time.Duration, err error) {
	if o.line != nil {
		o.line.Round(round)
	}
	before := o.pacedSoFar()
	began := time.Now()
	o.watch.Begin(round, began)
	limit, over := h.Limit, make(chan struct{})
	defer close(over)
	clock := func(from time.Time) { // ends with the work
		for {
			left := limit + o.pacedSoFar() - before - time.Since(from)
			if left <= 0 {
				o.end(verdict.TimeLimit, "")
				return
			}
			t := time.NewTimer(left)
			select {
			case <-over:
				t.Stop()
				return
			case <-t.C:
			}
		}
	}
	started, at := false, began // at is when the tool began
	h.Stop, h.Limit = o.stop, 0
	h.Started = func(p *confine.Process, moment time.Time) {
		if at = moment; !started { // what came before is the harness's time, not the tool's
			o.watch.Started(at)
			go clock(at)
		}
		started = true
		o.watch.Run(p.PID())
		if p.Listener != nil && p.Listener != o.listener {
			o.listener = p.Listener
			go o.line.Serve(p.Listener) // ends with the listener: below, or in close
		}
	}
	res, err = do(ctx, h)
	if reason := LimitReasons()[string(res.Limit)]; reason != "" {
		o.end(reason, res.LimitDetail)
	}
	if !started {
		o.watch.Abandon()
		return res, 0, err
	}
	if o.listener != nil && !res.Stays {
		o.listener.Close()
		o.listener = nil
	}
	if o.line != nil && !o.line.QuietWithin(quietWithin) {
		o.s.e.Log.Warn("an exchange with the model service does not end with its tool", "bout", o.s.job.ID)
	}
	o.watch.EndRound(at.Add(res.Elapsed))
	return res, res.Elapsed - (o.pacedSoFar() - before), err
}

// quietWithin is how long to wait for the last exchanges of a tool that has ended.
const quietWithin = 5 * time.Second

// changed tells the watch what was captured, which makes the round's record whole.
func (o *observer) changed(texts ...[]byte) {
	var names []string
	for _, text := range texts {
		files, err := patch.Parse(text, 1)
		if err != nil {
			continue // a change that cannot be read has no edits that can be told apart
		}
		for _, f := range files {
			names = append(names, f.Path)
			if f.OldPath != "" {
				names = append(names, f.OldPath)
			}
		}
	}
	o.watch.Changed(names)
}

func (o *observer) close() {
	if o.listener != nil {
		o.listener.Close()
		o.listener = nil
	}
	if o.line != nil {
		o.line.Close()
	}
	o.watch.Close()
	o.mu.Lock()
	left := len(o.exchanges)
	o.mu.Unlock()
	if left > 0 {
		o.tell(nil)
	}
}
