// Package watch sees what happens while a contender works, without its help:
// edits to its workspace, what it prints, whether its processes use the CPU, and
// how busy the machine is. What it sees becomes events of the bout's timeline, in
// batches.
package watch

import (
	"io"
	"maps"
	"path"
	"sync"
	"sync/atomic"
	"time"

	"agonometer/internal/core/timeline"
)

// How often things are looked at.
const (
	tick  = timeline.Reach // the CPU and quiet
	batch = 2 * tick       // what was seen is told
	// together is how close two edits of one file, or two pieces of output, are
	// taken for one; a burst of output is cut after burst, CPU use after stretch.
	together = 100 * time.Millisecond
	burst    = time.Second
	stretch  = 5 * time.Second
	// maxEvents is how many events of a kind are kept of a bout.
	maxEvents = 20_000
)

// Options are what a Watch needs to know.
type Options struct {
	// Tree is the workspace's folder on this machine.
	Tree string
	// Start lists the files that the start has, as slash paths.
	Start []string
	// Sink takes what was seen, in batches, from one goroutine at a time.
	Sink func([]timeline.Event)
	// Quiet is how long nothing may be seen before Stop is called; 0 for ever.
	Quiet time.Duration
	// Stop is called once when that time is up.
	Stop func()
	// Before is a tree as it was before the contender, with everything that was
	// installed and built; "" where the workspace itself is still like that.
	Before string
	// Scan makes it scan the workspace although it could be watched.
	Scan bool
}

// Watch watches one bout, through all its rounds.
type Watch struct {
	opt   Options
	clock atomic.Pointer[time.Time] // nil before the first round
	files *files

	mu     sync.Mutex
	round  int
	from   int64 // when the present round began
	events []timeline.Event
	// held are edits of files that the start does not have: whether git ignores
	// them is known when the change is captured.
	held    []timeline.Event
	seen    map[string]bool
	last    map[string]int64 // of each file the moment of its last edit that was taken
	counts  map[timeline.Kind]int
	cut     map[timeline.Kind]int64
	output  timeline.Event // the burst that is being gathered
	busy    timeline.Event // the CPU use that is being gathered
	active  int64          // the last moment at which something was seen
	open    int            // exchanges under way, and waits
	stopped bool
	machine pressure

	quit chan struct{}
	done chan struct{}
}

// New makes a watch. Its clock starts with the first round.
func New(o Options) *Watch {
	w := &Watch{opt: o, seen: map[string]bool{}, last: map[string]int64{}, counts: map[timeline.Kind]int{}, cut: map[timeline.Kind]int64{}}
	w.files = newFiles(o.Tree, o.Start, o.Scan, w.edited)
	w.files.before = o.Before
	return w
}

// Clock is when the bout's clock began: at the first hand-over.
func (w *Watch) Clock() time.Time {
	if c := w.clock.Load(); c != nil {
		return *c
	}
	return time.Time{}
}

// At is a moment on the bout's clock, in microseconds.
func (w *Watch) At(t time.Time) int64 {
	c := w.clock.Load()
	if c == nil {
		return 0
	}
	return timeline.Us(t.Sub(*c))
}

// Begin begins a round: words were handed over at a moment. EndRound must follow.
func (w *Watch) Begin(round int, at time.Time) {
	w.mu.Lock()
	w.clock.CompareAndSwap(nil, &at)
	w.round, w.from = round, w.At(at)
	w.active, w.output, w.busy = w.from, timeline.Event{}, timeline.Event{}
	w.mu.Unlock()
	w.machine.begin()
	w.quit, w.done = make(chan struct{}), make(chan struct{})
	w.files.begin()
}

// Started says that the tool began at a moment of this round: what came before was
// Agonometer's own time. What was seen of the tool already, since it is told of only
// later, keeps its place: Run comes after this, so that all of it is still here.
func (w *Watch) Started(at time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.from == 0 {
		shift := w.At(at)
		w.clock.Store(&at)
		sooner := func(e *timeline.Event) { e.At, e.Until = max(0, e.At-shift), max(0, e.Until-shift) }
		for _, list := range [][]timeline.Event{w.events, w.held} {
			for i := range list {
				sooner(&list[i])
			}
		}
		sooner(&w.output)
		for name := range w.last {
			w.last[name] = max(0, w.last[name]-shift)
		}
	}
	w.from = w.At(at)
	w.active = w.from
}

// Resume makes a fresh watch go on with a bout whose clock began at a moment: with
// the edits that are on record. Begin must follow.
func (w *Watch) Resume(clock time.Time, edits []timeline.Event) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.clock.Store(&clock)
	for _, e := range edits {
		w.seen[e.Text] = true
		w.last[e.Text] = max(w.last[e.Text], e.At)
	}
}

// CatchUp takes the files that were written since a moment and of which no edit is
// on record, at their own times: what was edited while nobody looked.
func (w *Watch) CatchUp(since time.Time) {
	w.files.writtenSince(since, func(name string, known bool, at time.Time) { w.editedAt(name, known, w.At(at)) })
}

// Touched are the files that were edited, with the moments of their last edits in
// microseconds; files that git ignores are among them.
func (w *Watch) Touched() map[string]int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return maps.Clone(w.last)
}

// Leave stops looking in the middle of a round, which goes on without a watch.
func (w *Watch) Leave() {
	if w.quit != nil {
		close(w.quit)
		<-w.done
		w.files.end()
		w.quit = nil
	}
	w.mu.Lock()
	w.endGathered(&w.output)
	w.endGathered(&w.busy)
	w.mu.Unlock()
	w.flush()
}

// Run looks after the processes below pid until EndRound; 0 for none.
func (w *Watch) Run(pid int) {
	go w.loop(pid, w.quit) // ends with EndRound, or with Leave
}

func (w *Watch) loop(pid int, quit chan struct{}) {
	defer close(w.done)
	t := time.NewTicker(tick)
	defer t.Stop()
	cpu, told := usage(pid), 0
	for {
		select {
		case <-quit:
			return
		case now := <-t.C:
			used := usage(pid)
			w.look(now, used-cpu)
			cpu = used
			w.machine.sample()
			if told++; told%int(batch/tick) == 0 {
				w.flush()
			}
		}
	}
}

// leastBusy is how much CPU time in a tick counts as work: two of the kernel's
// hundredths of a second.
const leastBusy = 20 * time.Millisecond

func (w *Watch) look(now time.Time, used time.Duration) {
	w.files.look()
	if w.note(now, used) {
		w.opt.Stop()
	}
}

// note takes what a look has found, and tells whether it has been quiet for too long.
func (w *Watch) note(now time.Time, used time.Duration) (tooQuiet bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	at := w.At(now)
	if used >= leastBusy {
		from := max(w.from, at-timeline.Us(tick))
		if w.busy.Kind != "" && w.busy.Until >= from-timeline.Us(tick)/2 && at-w.busy.At <= timeline.Us(stretch) {
			w.busy.Until, w.busy.Count = at, w.busy.Count+timeline.Us(used)
		} else {
			w.endGathered(&w.busy)
			w.busy = timeline.Event{Kind: timeline.Busy, At: from, Until: at, Count: timeline.Us(used), Round: w.round}
		}
		w.active = at
	} else {
		w.endGathered(&w.busy)
	}
	if w.open > 0 {
		w.active = at
	}
	tooQuiet = w.opt.Quiet > 0 && !w.stopped && at-w.active >= timeline.Us(w.opt.Quiet)
	w.stopped = w.stopped || tooQuiet
	return tooQuiet
}

// Add takes an event from elsewhere, with the moments at which it began and ended.
func (w *Watch) Add(e timeline.Event, from, until time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	e.At, e.Until = w.At(from), w.At(until)
	w.add(e)
}

// add takes an event; the lock is held.
func (w *Watch) add(e timeline.Event) {
	if e.Round == 0 {
		e.Round = w.round
	}
	e.At = max(e.At, 0)
	e.Until = max(e.Until, e.At)
	if w.counts[e.Kind]++; w.counts[e.Kind] > maxEvents {
		w.cut[e.Kind]++
		return
	}
	w.events = append(w.events, e)
}

// Open and Shut say that something began, and ended, in which the tool is not
// quiet although nothing is seen of it: an exchange, or a wait.
func (w *Watch) Open() { w.mu.Lock(); w.open++; w.mu.Unlock() }

func (w *Watch) Shut() {
	w.mu.Lock()
	w.open--
	w.active = max(w.active, w.At(time.Now()))
	w.mu.Unlock()
}

// Output is a writer that sees when something is printed.
func (w *Watch) Output() io.Writer { return outputs{w} }

type outputs struct{ w *Watch }

func (o outputs) Write(p []byte) (int, error) {
	o.w.mu.Lock()
	defer o.w.mu.Unlock()
	at := o.w.At(time.Now())
	o.w.active = at
	if len(p) == 0 { // a sign of life, and nothing printed
		return 0, nil
	}
	if e := &o.w.output; e.Kind != "" && at-e.Until <= timeline.Us(together) && at-e.At <= timeline.Us(burst) {
		e.Until, e.Count = at, e.Count+int64(len(p))
		return len(p), nil
	}
	o.w.endGathered(&o.w.output)
	o.w.output = timeline.Event{Kind: timeline.Output, At: at, Until: at, Count: int64(len(p)), Round: o.w.round}
	return len(p), nil
}

// endGathered takes an event that was being gathered; the lock is held.
func (w *Watch) endGathered(e *timeline.Event) {
	if e.Kind != "" {
		w.add(*e)
		*e = timeline.Event{}
	}
}

// edited is told of a change to a file.
func (w *Watch) edited(name string, known bool) { w.editedAt(name, known, w.At(time.Now())) }

func (w *Watch) editedAt(name string, known bool, at int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	at = max(at, w.from)
	w.active = max(w.active, at)
	if last, ok := w.last[name]; ok && at-last < timeline.Us(together) {
		return
	}
	w.last[name] = at
	e := timeline.Event{Kind: timeline.Edit, At: at, Until: at, Text: name, Round: w.round}
	if !known {
		if len(w.held) < maxEvents {
			w.held = append(w.held, e)
		}
		return
	}
	w.edit(e)
}

// edit takes an edit that counts; the lock is held.
func (w *Watch) edit(e timeline.Event) {
	e.First = !w.seen[e.Text]
	w.seen[e.Text] = true
	w.add(e)
}

// EndRound ends a round: the tool has ended at a moment. What was seen after it
// is not taken. changed are the files of the captured change, so that edits of
// files that git ignores, or that are gone again, can be told apart.
func (w *Watch) EndRound(at time.Time) {
	close(w.quit)
	<-w.done
	w.quit = nil
	w.files.look()
	w.files.end()
	w.machine.end()
	w.mu.Lock()
	w.endGathered(&w.output)
	w.endGathered(&w.busy)
	w.add(timeline.Event{Kind: timeline.Round, At: w.from, Until: w.At(at)})
	w.mu.Unlock()
}

// Abandon ends a round that came to nothing: its process was never started.
func (w *Watch) Abandon() {
	close(w.quit)
	w.quit = nil
	w.files.end()
}

// Changed says which files the captured change has; with it a round's record is whole.
func (w *Watch) Changed(names []string) {
	is := map[string]bool{}
	for _, n := range names {
		is[n] = true
	}
	w.mu.Lock()
	for _, e := range w.held {
		if is[e.Text] {
			w.edit(e)
		}
	}
	w.held = nil
	w.mu.Unlock()
	w.flush()
}

// Close ends the watch, and tells what is left.
func (w *Watch) Close() {
	w.mu.Lock()
	for kind, n := range w.cut {
		w.events = append(w.events, timeline.Event{Kind: timeline.Cut, At: w.from, Until: w.from, Text: string(kind), Count: n, Round: w.round})
	}
	w.cut = map[timeline.Kind]int64{}
	w.mu.Unlock()
	w.flush()
	w.files.close()
}

// Machine is how busy the machine was while the contender worked.
func (w *Watch) Machine() timeline.Machine { return w.machine.machine() }

// Scanned tells whether edits were found by scanning.
func (w *Watch) Scanned() bool { return w.files.scanning }

func (w *Watch) flush() {
	w.mu.Lock()
	out := w.events
	w.events = nil
	w.mu.Unlock()
	if len(out) > 0 {
		w.opt.Sink(out)
	}
}

// hidden tells the parts of a workspace that are not the contender's work.
func hidden(name string) bool { return path.Base(name) == ".git" }
