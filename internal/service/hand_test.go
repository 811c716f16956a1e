package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/person"
	"agonometer/internal/core/verdict"
)

const handFile = "contender: ruff\ntitle: Worked by hand\ndrive: hand\n"

// handUntil waits until something holds of a bout that is worked by hand.
func handUntil(t *testing.T, c *client.Client, id string, holds func(api.Hand) bool) api.Hand {
	t.Helper()
	for range 600 {
		h, err := c.Hand(t.Context(), id)
		require.NoError(t, err)
		if holds(h) {
			return h
		}
		waitAMoment(t)
	}
	t.Fatal("it never came to that")
	return api.Hand{}
}

// waitAMoment lets other processes go on before something is asked again.
func waitAMoment(t *testing.T) {
	t.Helper()
	select {
	case <-time.After(20 * time.Millisecond):
	case <-t.Context().Done():
	}
}

func inPhase(phase string) func(api.Hand) bool {
	return func(h api.Hand) bool { return h.Bout.Hand.Phase == phase }
}

func edit(t *testing.T, h api.Hand, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(h.Workspace, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(h.Workspace, name), []byte(text), 0o644))
}

// startHand starts a bout by hand and waits until its workspace is there.
func startHand(t *testing.T, c *client.Client, in api.StartHand) api.Hand {
	t.Helper()
	h, err := c.StartHand(t.Context(), in)
	require.NoError(t, err)
	return handUntil(t, c, h.Bout.ID, inPhase("ready"))
}

func alone(t *testing.T, p *port, contender string) api.StartHand {
	t.Helper()
	b := p.bundle()
	b.Main = filepath.Join(p.dir, "lamp.md")
	return api.StartHand{Bundle: b, ContenderFile: []byte(contender), Worker: "Ines", Familiarity: "a week"}
}

// ok is for calls of which only that they went well matters.
func ok(t *testing.T) func(api.Hand, error) api.Hand {
	return func(h api.Hand, err error) api.Hand {
		t.Helper()
		require.NoError(t, err)
		return h
	}
}

// A bout by hand from its start to its verdict: marks, own edits, a failed round, what
// to say next, and what it asked of the person.
func TestByHand(t *testing.T) {
	p := newPort(t, "", nil)
	p.files["lamp.md"] = strings.Replace(strings.Replace(portTask, "time: 20s", "time: 5m", 1), "checks:", "attachments: [sketch.txt]\nchecks:", 1)
	p.files["sketch.txt"] = "a lamp"
	p.write(t)
	_, c := start(t, t.TempDir())
	h := startHand(t, c, alone(t, p, handFile+"guidance: {as: GUIDE.md, text: Be brief}\n"))
	id := h.Bout.ID
	assert.Contains(t, h.Words, "lamp")
	assert.True(t, h.Alone)
	for name, want := range map[string]string{"lamp.txt": "off\n", "GUIDE.md": "Be brief\n"} {
		data, err := os.ReadFile(filepath.Join(h.Workspace, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(data))
	}
	require.Len(t, h.Attachments, 1)
	assert.FileExists(t, h.Attachments[0])
	assert.NoFileExists(t, filepath.Join(h.Workspace, "later.txt"), "no later history")
	refused := func(_ api.Hand, err error, says string) {
		t.Helper()
		var problem *client.Error
		require.ErrorAs(t, err, &problem)
		assert.Equal(t, 409, problem.Status)
		assert.Contains(t, err.Error(), says)
	}
	_, err := c.AddMark(t.Context(), id, api.AddMark{Kind: person.Note, Words: "too early"})
	refused(h, err, "clock has not been started")
	_, err = c.FinishHand(t.Context(), id, "")
	refused(h, err, "clock has not been started")

	do := ok(t)
	h = do(c.BeginHand(t.Context(), id, "Please light the lamp, quickly."))
	assert.Equal(t, "running", h.Bout.Hand.Phase)
	assert.Equal(t, 1, h.Round)
	edit(t, h, "lamp.txt", "tool one\ntool two\ntool three\n")
	edit(t, h, "new/berths.txt", "one\n")
	h = handUntil(t, c, id, func(h api.Hand) bool { return len(h.Files) == 2 && h.SignUS != nil && *h.SignUS > 0 })
	assert.LessOrEqual(t, *h.SignUS, h.NowUS)
	sign := *h.SignUS

	// Noticed late: the span back to the last sign of life was waiting.
	now := h.NowUS
	h = do(c.AddMark(t.Context(), id, api.AddMark{Kind: person.Waiting, AtUS: &sign, UntilUS: &now}))
	h = do(c.AddMark(t.Context(), id, api.AddMark{Kind: person.Permission}))
	h = do(c.AddMark(t.Context(), id, api.AddMark{Kind: person.Correction, Class: person.Hint, Words: "Look at the lamp"}))
	hint := h.Marks[len(h.Marks)-1]
	_, err = c.AddMark(t.Context(), id, api.AddMark{Kind: person.Correction, Class: "shout"})
	refused(h, err, "error, information, hint")
	_, err = c.AddMark(t.Context(), id, api.AddMark{Kind: "sneeze"})
	refused(h, err, "no mark of the kind")
	future := h.NowUS + 1e12
	_, err = c.AddMark(t.Context(), id, api.AddMark{Kind: person.Note, AtUS: &future})
	refused(h, err, "future")

	// What is edited while 'I edit now' is on is the person's.
	h = do(c.AddMark(t.Context(), id, api.AddMark{Kind: person.Editing}))
	_, err = c.AddMark(t.Context(), id, api.AddMark{Kind: person.Waiting})
	refused(h, err, "open")
	edit(t, h, "lamp.txt", "tool one\nmine\n")
	h = do(c.EndSpan(t.Context(), id, person.Editing))
	_, err = c.EndSpan(t.Context(), id, person.Editing)
	refused(h, err, "no mark of the kind editing is open")

	h = do(c.PauseHand(t.Context(), id))
	worked := h.WorkedUS
	_, err = c.FinishHand(t.Context(), id, "")
	require.NoError(t, err, "a paused round can be finished")
	h = handUntil(t, c, id, inPhase("offered"))
	assert.Equal(t, worked, h.WorkedUS, "a pause is no work")
	assert.Contains(t, h.Words, "$ grep -qx on lamp.txt")
	assert.Equal(t, "repair", h.Kind)

	// A mark is corrected; the original stays.
	h = do(c.CorrectMark(t.Context(), id, hint.ID, api.CorrectMark{Kind: person.Correction, Class: person.BareError, AtUS: hint.AtUS, Words: "exit status 1", Reason: "wrong key"}))
	_, err = c.CorrectMark(t.Context(), id, hint.ID, api.CorrectMark{TakeBack: true})
	refused(h, err, "already")

	h = do(c.BeginHand(t.Context(), id, ""))
	assert.Equal(t, 2, h.Round)
	edit(t, h, "lamp.txt", "on\n")
	handUntil(t, c, id, func(h api.Hand) bool { return len(h.Files) > 0 && h.Files[0].LastUS > worked })
	do(c.UsedHand(t.Context(), id, api.UsedHand{Allowance: &ledger.Allowance{Before: "12.3", After: "14.1", Of: money(t, "20 AVM")}, Model: "spring"}))
	do(c.FinishHand(t.Context(), id, ""))
	h = handUntil(t, c, id, inPhase("over"))
	for range 200 { // it is freed behind the verdict
		if _, err := os.Stat(h.Workspace); err != nil {
			break
		}
		waitAMoment(t)
	}
	assert.NoDirExists(t, h.Workspace)

	b := show(t, c, h.Bout)
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome, b.Verdict.Detail)
	assert.Equal(t, verdict.Failed, b.First.Outcome)
	assert.Equal(t, "hand", b.Driver)
	assert.Equal(t, []string{"Ines", "a week"}, []string{b.Hand.Worker, b.Hand.Familiarity})
	assert.Contains(t, strings.Join(b.Flags, ";"), "other words were sent")
	assert.Equal(t, "Please light the lamp, quickly.", b.RoundList[0].Words)
	diff, err := c.Patch(t.Context(), id, 0)
	require.NoError(t, err)
	assert.NotContains(t, string(diff), "GUIDE")
	e := b.Effort
	assert.Equal(t, []int{1, 0, 0, 1, 1}, []int{e.Errors, e.Information, e.Hints, e.Permissions, e.OwnEdits})
	assert.Equal(t, []int{1, 2}, []int{e.OwnLinesAdded, e.OwnLinesRemoved})
	assert.Equal(t, (now-sign)/1000, e.WaitingMS)
	assert.InDelta(t, e.WaitingMS+e.EditingMS, e.AttentionMS, 1)
	require.NotNil(t, e.Kept)
	assert.InDelta(t, 2.0/4, *e.Kept, 1e-9, "of four lines of the tool's two were taken away")
	timing := b.Timing
	assert.Equal(t, timing.Elapsed, timing.Parts.Whole())
	assert.Equal(t, *b.ElapsedMS, timing.Elapsed/1000)
	assert.InDelta(t, float64(e.EditingMS), float64(timing.Parts.Person)/1000, 1)
	assert.InDelta(t, float64(e.WaitingMS), float64(timing.Parts.Asked)/1000, 1)
	require.NotNil(t, b.FirstEditMS)
	assert.Equal(t, "typed-in", b.Used.Source)
	assert.Equal(t, "0.34 AVM", b.Used.MoneyRange.From.String())
	assert.Equal(t, "0.38 AVM", b.Used.MoneyRange.To.String())
	assert.Nil(t, b.Used.Money, "a range stays one")

	// Marks can be corrected afterwards too, and the figures follow.
	var perm api.NotedMark
	for _, m := range b.Marks {
		if m.Kind == person.Permission {
			perm = m
		}
	}
	do(c.CorrectMark(t.Context(), id, perm.ID, api.CorrectMark{TakeBack: true, Reason: "it did not ask"}))
	b = show(t, c, h.Bout)
	assert.Zero(t, b.Effort.Permissions)
	assert.Len(t, b.Marks, 6, "nothing that was noted is gone")
	_, err = c.BeginHand(t.Context(), id, "")
	refused(h, err, "ended already")
}

func money(t *testing.T, text string) ledger.Money {
	t.Helper()
	var m ledger.Money
	require.NoError(t, m.ParseScalar(text))
	return m
}

// The bouts by hand of a contest: its own run first, then it waits for the person, in
// the order that it wants; what is thrown away is counted, and worked again.
func TestHandBoutsOfAContest(t *testing.T) {
	p := newPort(t, "repeats: 2\nhourly_rate: 60 AVM\n", map[string]string{"ruff": handFile, "plain": "echo on > lamp.txt"})
	_, c := start(t, t.TempDir())
	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Equal(t, 2, plan.ByHand)
	d := begin(t, c, p)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "contest" && e.State == "by-hand" })
	do := ok(t)
	h := startHand(t, c, api.StartHand{Contest: d.ID, Worker: "Ines"})
	assert.False(t, h.Alone)
	assert.Equal(t, 1, h.Bout.Hand.Wanted)
	do(c.BeginHand(t.Context(), h.Bout.ID, ""))
	_, err = c.DiscardHand(t.Context(), h.Bout.ID, " ")
	require.ErrorContains(t, err, "with a reason")
	do(c.DiscardHand(t.Context(), h.Bout.ID, "the telephone rang"))

	// Several at once: the second one is out of order as long as the first one waits.
	two, err := c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, "by-hand", two.State)
	first, second := startHand(t, c, api.StartHand{Contest: d.ID}), startHand(t, c, api.StartHand{Contest: d.ID, Contender: "ruff", Task: "lamp"})
	_, err = c.StartHand(t.Context(), api.StartHand{Contest: d.ID})
	require.ErrorContains(t, err, "no bout is left")
	all, err := c.Hands(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 2)
	for _, h := range []api.Hand{first, second} {
		do(c.BeginHand(t.Context(), h.Bout.ID, ""))
		edit(t, h, "lamp.txt", "on\n")
		handUntil(t, c, h.Bout.ID, func(h api.Hand) bool { return len(h.Files) > 0 })
		do(c.FinishHand(t.Context(), h.Bout.ID, ""))
	}
	until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "contest" && e.State == "done" })
	d, err = c.Contest(t.Context(), d.ID)
	require.NoError(t, err)
	assert.True(t, d.Standings.Final)
	for _, r := range d.Standings.Rows {
		assert.Equal(t, 2, r.Passed, r.Contender)
		if r.Contender == "ruff" {
			assert.Equal(t, "hand", r.Driven)
			assert.Equal(t, 1, r.Availability.Discarded)
			assert.NotNil(t, r.PersonMoney)
		}
	}
	notes := strings.Join(d.Standings.Notes, "\n")
	assert.Contains(t, notes, "1 bout was thrown away by a person and worked again")
	assert.Contains(t, notes, "2 bouts were worked by hand")
	for _, b := range d.Bouts {
		if b.ReplacedBy != "" {
			assert.Equal(t, verdict.Discarded, b.Verdict.Reason)
			assert.Equal(t, "the telephone rang", b.Verdict.Detail)
		}
	}
}

// The service is killed in the middle of a bout by hand: the clock goes on, and what
// was edited meanwhile is found.
func TestAHandBoutSurvivesARestart(t *testing.T) {
	p := newPort(t, "", nil)
	p.files["lamp.md"] = strings.Replace(portTask, "time: 20s", "time: 5m", 1)
	p.write(t)
	data := t.TempDir()
	one := startChild(t, data)
	h := startHand(t, one.c, alone(t, p, handFile))
	id := h.Bout.ID
	do := ok(t)
	do(one.c.BeginHand(t.Context(), id, ""))
	edit(t, h, "lamp.txt", "half\n")
	handUntil(t, one.c, id, func(h api.Hand) bool { return len(h.Files) == 1 })
	h = do(one.c.AddMark(t.Context(), id, api.AddMark{Kind: person.Waiting}))
	before := h.NowUS
	one.kill(t)
	edit(t, h, "lamp.txt", "on\n")
	edit(t, h, "fresh/while-away.txt", "new\n")

	two := startChild(t, data)
	h = handUntil(t, two.c, id, func(h api.Hand) bool { return h.NowUS > 0 })
	assert.Equal(t, "running", h.Bout.Hand.Phase)
	assert.Greater(t, h.NowUS, before, "the clock went on")
	assert.Len(t, h.Marks, 1)
	handUntil(t, two.c, id, func(h api.Hand) bool { return len(h.Files) == 2 })
	h = do(two.c.EndSpan(t.Context(), id, person.Waiting))
	assert.Greater(t, *h.Marks[0].UntilUS, before)
	do(two.c.PauseHand(t.Context(), id))
	two.kill(t)

	three := startChild(t, data)
	h = handUntil(t, three.c, id, func(h api.Hand) bool { return h.NowUS > 0 })
	assert.Equal(t, "paused", h.Bout.Hand.Phase)
	do(three.c.ResumeHand(t.Context(), id))
	edit(t, h, "later/after.txt", "new\n")
	handUntil(t, three.c, id, func(h api.Hand) bool { return len(h.Files) >= 1 && h.Files[0].Path == "later/after.txt" })
	do(three.c.FinishHand(t.Context(), id, ""))
	h = handUntil(t, three.c, id, inPhase("over"))
	b := show(t, three.c, h.Bout)
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome, b.Verdict.Detail)
	assert.Equal(t, 1, b.Hand.Pauses)
	assert.Equal(t, 3, b.Footprint.Files)
	assert.Equal(t, b.Timing.Elapsed, b.Timing.Parts.Whole())
	assert.Equal(t, 3, b.Timing.Files)
}

// A bout by hand ends at its limits like any other, its tokens come from the meter
// where the tool can be pointed at it, and typing counts keys.
func TestLimitsAndMetersByHand(t *testing.T) {
	s := newTides(t)
	p := newPort(t, "", nil)
	p.files["lamp.md"] = strings.Replace(strings.Replace(portTask, "checks:", "kind: typing\nchecks:", 1), "time: 20s", "time: 1500ms", 1)
	p.write(t)
	_, c := start(t, t.TempDir())
	h := startHand(t, c, alone(t, p, handFile+"meter: {upstream: \""+s.url+"\"}\n"))
	require.NotEmpty(t, h.MeterURL)
	do := ok(t)
	do(c.BeginHand(t.Context(), h.Bout.ID, ""))
	sh(t, p.dir, `curl -sf --max-time 20 -H 'Content-Type: application/json' -d '{"model":"spring","tokens":50,"out":5}' '`+h.MeterURL+`/v1/work' >/dev/null`)
	edit(t, h, "lamp.txt", "on\n")
	do(c.AddMark(t.Context(), h.Bout.ID, api.AddMark{Kind: person.Suggestion, Class: person.Taken}))
	keys := 2
	do(c.UsedHand(t.Context(), h.Bout.ID, api.UsedHand{Keys: &keys}))
	h = handUntil(t, c, h.Bout.ID, inPhase("over"))
	b := show(t, c, h.Bout)
	assert.Equal(t, "time-limit", b.Limit)
	assert.Equal(t, int64(55), *b.Used.Tokens)
	assert.Equal(t, "metered", b.Used.Source)
	require.NotNil(t, b.Effort)
	assert.Equal(t, []int{1, 2, 3}, []int{b.Effort.Taken, *b.Effort.Keys, *b.Effort.Wanted})
}
