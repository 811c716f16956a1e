package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/timeline"
	"agonometer/internal/core/verdict"
)

const tidePrices = `price_list: tides
currency: AVM
models:
  - model: spring
    rates: {input: 3, cached: "0.3", output: 15}
    context: 1000
  - model: neap
    rates: {input: 1, output: 2}
`

// tides is a model service that answers as its request says, and counts.
type tides struct {
	url    string
	mu     sync.Mutex
	asked  []string
	refuse int // how many requests are refused before one is taken
	// hanging hears of each request that is never answered.
	hanging chan struct{}
}

func newTides(t *testing.T) *tides {
	s := &tides{hanging: make(chan struct{}, 8)}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in struct {
			Model, As           string
			Tokens, Out, Cached int
			Hang                bool
		}
		body, _ := io.ReadAll(r.Body)
		_ = json.Unmarshal(body, &in)
		s.mu.Lock()
		s.asked = append(s.asked, string(body))
		refused := s.refuse > 0
		s.refuse--
		s.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		switch {
		case refused:
			w.WriteHeader(http.StatusTooManyRequests)
			fmt.Fprint(w, `{"error":{"type":"rate_limit","message":"too many requests per minute"}}`)
		case in.Hang:
			s.hanging <- struct{}{}
			<-r.Context().Done()
		default:
			if in.As == "" {
				in.As = in.Model
			}
			fmt.Fprintf(w, `{"model":%q,"usage":{"prompt_tokens":%d,"completion_tokens":%d,"prompt_tokens_details":{"cached_tokens":%d}}}`, in.As, in.Tokens, in.Out, in.Cached)
		}
	}))
	t.Cleanup(server.Close)
	s.url = server.URL
	return s
}

// asks is a contender that talks to its model service over a bare connection: ask
// sends a request and prints the reply.
func (s *tides) asks(name, more, script string) string {
	return "contender: " + name + "\ntitle: Asks\nrun:\n  - bash\n  - -c\n  - |\n" +
		"    u=${METER#http://}; hp=${u%%/*}; at=/${u#*/}\n" +
		"    ask() { exec 3<>/dev/tcp/${hp%:*}/${hp#*:} || return 9; printf 'POST %s/v1/work HTTP/1.1\\r\\nHost: x\\r\\nConnection: close\\r\\nContent-Type: application/json\\r\\nContent-Length: %s\\r\\n\\r\\n%s' \"$at\" ${#1} \"$1\" >&3; cat <&3; }\n    " +
		strings.ReplaceAll(strings.TrimSpace(script), "\n", "\n    ") + "\nenv: {METER: \"{meter_url}\"}\nmeter:\n  upstream: \"" + s.url + "/base\"\n" + more
}

func price(t *testing.T, p *port) {
	p.files["prices.yaml"] = tidePrices
	p.write(t)
}

// Every token and every second of a bout is accounted for.
func TestWhatABoutUsed(t *testing.T) {
	s := newTides(t)
	p := newPort(t, "prices: [prices.yaml]\n", map[string]string{
		"asks": s.asks("asks", "  keep_bodies: 1KiB\nexpects: {models: [{model: spring}], effort: high}\nreports: {input: [/u/in], output: [/u/out], cached: [/u/old]}\n", `
ask '{"model":"spring","tokens":100,"out":10,"cached":40,"reasoning_effort":"high"}'
echo on > lamp.txt
ask '{"model":"spring","as":"neap","tokens":60,"out":4,"reasoning_effort":"low"}'
echo '{"u":{"in":150,"out":14,"old":40}}'`),
		"alone":    "contender: alone\ntitle: No meter, but a report\nrun: [sh, -c, 'echo on > lamp.txt; echo \"{\\\"u\\\":[7,{\\\"out\\\":3}]}\"; echo \"{\\\"cost\\\": 0.25}\"']\nreports: {input: [/u/0], output: [/u/1/out], money: [/cost], currency: AVM}\n",
		"carries":  "contender: carries\ntitle: Reads where to ask from a file\nrun: [bash, -c, 'grep -q ^service=http://127.0.0.1 ~/tool.conf && echo on > lamp.txt']\ncarry: [{from: ../tool.conf, fill: true}]\nmeter: {upstream: \"" + s.url + "\"}\n",
		"unpriced": s.asks("unpriced", "", `ask '{"model":"full","tokens":5,"out":1}'; ask '{"model":"full","tokens":-1}'; echo on > lamp.txt`),
	})
	price(t, p)
	p.files["tool.conf"] = "service={meter_url}\n"
	p.write(t)
	delete(p.files, "tool.conf")
	_, c := start(t, t.TempDir())
	d := begin(t, c, p)
	told := until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "happened" && e.Tokens != nil && *e.Tokens > 100 })
	assert.NotNil(t, told.Money, "money so far is told while it runs")
	d = finish(t, c, d)

	asks := show(t, c, only(t, d, "asks"))
	assert.Equal(t, verdict.Passed, asks.Verdict.Outcome)
	l := asks.Ledger
	assert.Equal(t, ledger.Metered, l.Source)
	assert.Equal(t, int64(174), *l.Total)
	assert.Equal(t, "0.00041 AVM", l.Money.String(), "60*3 + 40*0.3 + 10*15 + 60*1 + 4*2, per million")
	assert.Equal(t, int64(-10), *l.Difference, "the tool's own report stands beside it")
	assert.Equal(t, int64(100), *l.LargestPrompt)
	assert.Equal(t, 0.1, *l.ContextShare)
	var words []string
	for _, one := range asks.Departures {
		words = append(words, one.Words)
	}
	assert.Equal(t, []string{"another model replied: neap, 1 exchange, 36.8% of the tokens", "effort low instead of high in 1 exchange"}, words)
	assert.Subset(t, asks.Flags, words)
	require.NotNil(t, asks.Cold)
	assert.False(t, *asks.Cold)
	require.NotNil(t, asks.Timing)
	assert.Equal(t, asks.Timing.Elapsed, asks.Timing.Parts.Whole())
	assert.InDelta(t, *asks.ElapsedMS, asks.Timing.Elapsed/1000, 1)
	assert.NotNil(t, asks.FirstEditMS)
	assert.Equal(t, "open", asks.Network)
	require.NotNil(t, asks.Machine)

	tl, err := c.Timeline(t.Context(), asks.ID)
	require.NoError(t, err)
	kinds := map[timeline.Kind]int{}
	for _, e := range tl.Events {
		kinds[e.Kind]++
		assert.NoError(t, e.Valid())
	}
	assert.Equal(t, 2, kinds[timeline.Exchange])
	assert.Equal(t, 1, kinds[timeline.Edit])
	assert.Equal(t, 2, kinds[timeline.Check])
	assert.Equal(t, 1, kinds[timeline.Round])
	assert.Positive(t, kinds[timeline.Output])
	assert.Equal(t, *asks.Timing, timeline.Summarise(tl.Events), "the summary follows from what is stored")

	bl, err := c.BoutLedger(t.Context(), asks.ID)
	require.NoError(t, err)
	require.Len(t, bl.Exchanges, 2)
	assert.Equal(t, "/v1/work", bl.Exchanges[0].Path)
	assert.Equal(t, "spring", bl.Exchanges[1].ModelAsked)
	body, err := c.Body(t.Context(), asks.ID, 1, "request")
	require.NoError(t, err)
	assert.Contains(t, string(body), `"reasoning_effort":"high"`)
	_, err = c.Body(t.Context(), asks.ID, 9, "reply")
	assert.Error(t, err)

	alone := show(t, c, only(t, d, "alone"))
	assert.Equal(t, ledger.Reported, alone.Ledger.Source)
	assert.Equal(t, int64(10), *alone.Ledger.Total)
	assert.Equal(t, "0.25 AVM", alone.Ledger.Money.String())
	assert.Equal(t, verdict.Passed, only(t, d, "carries").Verdict.Outcome, "the address is filled into what is carried")
	unpriced := show(t, c, only(t, d, "unpriced"))
	assert.Nil(t, unpriced.Ledger.Money, "unpriced is not free")
	assert.True(t, unpriced.Ledger.AtLeast)
	assert.Subset(t, unpriced.Flags, []string{"1 exchange not counted", "no price for full"})
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "token counts are of different sources")

	// Another price list, long after.
	require.NoError(t, c.UsePrices(t.Context(), "dear.yaml", []byte(strings.Replace(tidePrices, "input: 3,", "input: 1003,", 1))))
	again, err := c.Bout(t.Context(), asks.ID, false)
	require.NoError(t, err)
	assert.Equal(t, "0.06041 AVM", again.Used.Money.String())
	cl, err := c.ContestLedger(t.Context(), d.ID)
	require.NoError(t, err)
	require.Len(t, cl.Rows, 4)
	assert.Equal(t, []string{"tides"}, cl.PriceLists)
	for _, r := range cl.Rows {
		if r.Contender == "asks" {
			assert.Equal(t, "0.06041 AVM", r.PerPassed.String())
			assert.Equal(t, int64(164), *r.Reported.Total)
		}
	}
	assert.ErrorContains(t, c.UsePrices(t.Context(), "bad.yaml", []byte("price_list: x")), "mistakes")
}

// Limits on what is used are enforced as they are reached; what was used is counted.
func TestLimitsOfUse(t *testing.T) {
	s := newTides(t)
	// It does not stop when it is told to, only when nothing is sent on any more.
	work := `trap '' TERM; while ask '{"model":"spring","tokens":100,"out":0}' > said; do ! grep -q ' 403 ' said || exit 0; done`
	p := newPort(t, "prices: [prices.yaml]\nlimits: {tokens: 350, time: 20s}\n", map[string]string{"spender": s.asks("spender", "", work), "quiet": "sleep 30"})
	price(t, p)
	_, c := start(t, t.TempDir())
	plan, err := c.PlanContest(t.Context(), p.bundle(), nil)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(plan.Remarks, "\n"), "cannot hold for quiet: no meter")
	p.files["contest.yaml"] = strings.Replace(p.files["contest.yaml"], "limits: {tokens: 350,", "limits: {tokens: 350, quiet: 1s,", 1)
	d := finish(t, c, begin(t, c, p))
	b := show(t, c, only(t, d, "spender"))
	assert.Equal(t, verdict.TokenLimit, b.Verdict.Reason)
	assert.Equal(t, int64(400), *b.Ledger.Total, "stopped within one exchange")
	assert.Equal(t, "400 of 350 tokens; what it had reached: check lit failed", b.Verdict.Detail)
	quiet := show(t, c, only(t, d, "quiet"))
	assert.Equal(t, verdict.QuietLimit, quiet.Verdict.Reason)
	assert.Less(t, *quiet.ElapsedMS, int64(10_000))
	assert.Positive(t, quiet.Timing.Parts.Quiet)

	p.files["contest.yaml"] = strings.Replace(p.files["contest.yaml"], "limits: {tokens: 350, quiet: 1s,", "limits: {spend: 0.0007 AVM,", 1)
	delete(p.files, "tools/quiet.yaml")
	d = finish(t, c, begin(t, c, p))
	b = show(t, c, only(t, d, "spender"))
	assert.Equal(t, verdict.SpendLimit, b.Verdict.Reason)
	assert.Equal(t, "0.0009 AVM", b.Ledger.Money.String())
	assert.Equal(t, "0.0009 AVM", d.Standings.Rows[0].Spent.String())
	assert.Nil(t, d.Standings.Rows[0].PerPassed, "nothing passed: there is no money per passed bout")

	p.files["contest.yaml"] = strings.Replace(p.files["contest.yaml"], "prices: [prices.yaml]\n", "", 1)
	_, err = c.StartContest(t.Context(), p.bundle(), nil)
	assert.ErrorContains(t, err, "no price list", "a limit of money without prices cannot be kept")
}

// A refusal ends a bout and it runs again, or stands; its availability shows either way.
func TestRefusedBouts(t *testing.T) {
	s := newTides(t)
	s.refuse = 1
	p := newPort(t, "on_refused: void\nrefused_pause: 100ms\n", map[string]string{"asks": s.asks("asks", "", `ask '{"model":"spring","tokens":9,"out":1}'; echo on > lamp.txt; sleep 0.5`)})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	require.Len(t, d.Bouts, 2)
	assert.Equal(t, verdict.Passed, only(t, d, "asks").Verdict.Outcome)
	voids := 0
	for _, b := range d.Bouts {
		if b.Verdict.Outcome == verdict.Void {
			voids++
			assert.Equal(t, verdict.Refused, b.Verdict.Reason)
			assert.Contains(t, b.Verdict.Detail, "own-allowance: rate_limit: too many requests per minute")
		}
		if b.Rerun > 0 {
			assert.NotNil(t, b.NotBefore)
		}
	}
	assert.Equal(t, 1, voids)
	a := d.Standings.Rows[0].Availability
	assert.Equal(t, []int{2, 1, 1, 0}, []int{a.Tries, a.Refused, a.Void, a.Late})
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "asks: of 2 tries 1 refused, 1 void")
	assert.InDelta(t, 1.0/2, *a.Share, 1e-9, "a perfect score on the days when it was there does not help")

	s.refuse = 99
	d = finish(t, c, begin(t, c, p))
	assert.Len(t, d.Bouts, 2, "one rerun, and no more")
	assert.Equal(t, verdict.Failed, only(t, d, "asks").Verdict.Outcome, "being refused is no way out")
	assert.Equal(t, verdict.Refused, only(t, d, "asks").Verdict.Reason)

	s.refuse = 1
	p.files["contest.yaml"] = strings.Replace(p.files["contest.yaml"], "on_refused: void", "on_refused: count", 1)
	d = finish(t, c, begin(t, c, p))
	require.Len(t, d.Bouts, 1)
	b := show(t, c, d.Bouts[0])
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome)
	assert.Contains(t, b.Flags, "refused once")
	assert.Zero(t, *d.Standings.Rows[0].Availability.Share)
	assert.Equal(t, int64(0), *b.Ledger.Total, "a refusal uses nothing")
}

func TestAnotherModelMakesABoutVoid(t *testing.T) {
	s := newTides(t)
	p := newPort(t, "on_other_model: void\n", map[string]string{"asks": s.asks("asks", "expects: {models: [{model: spring}]}\n", `ask '{"model":"spring","as":"ebb","tokens":9,"out":1}'; echo on > lamp.txt; sleep 5`)})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	b := show(t, c, only(t, d, "asks"))
	assert.Equal(t, verdict.OtherModel, b.Verdict.Reason)
	assert.Equal(t, "ebb", b.Verdict.Detail)
	assert.Equal(t, int64(10), *b.Ledger.Total)
	assert.Less(t, b.Timing.Elapsed, timeline.Us(4*time.Second), "it is ended at once")
}

// In a network of its own a contender reaches its model service, and nothing else.
func TestMeterOnly(t *testing.T) {
	srv, c := start(t, t.TempDir())
	if mode, _ := srv.Capability(); mode != "namespaces" {
		t.Skip("no namespaces here")
	}
	s := newTides(t)
	port := srv.URL()[strings.LastIndexByte(srv.URL(), ':')+1:]
	script := `
(exec 4<>/dev/tcp/127.0.0.1/` + port + `) 2>/dev/null && echo the service was reached
(exec 4<>/dev/tcp/` + strings.Replace(strings.TrimPrefix(s.url, "http://"), ":", "/", 1) + `) 2>/dev/null && echo the upstream was reached
timeout 3 bash -c 'exec 4<>/dev/tcp/192.0.2.1/80' 2>/dev/null && echo the world was reached
ask '{"model":"spring","tokens":9,"out":1}'
echo on > lamp.txt`
	p := newPort(t, "", map[string]string{"kept": s.asks("kept", "network: meter-only\n", script), "free": s.asks("free", "", script)})
	d := finish(t, c, begin(t, c, p))
	for _, name := range []string{"kept", "free"} {
		b := show(t, c, only(t, d, name))
		log, err := c.Log(t.Context(), b.ID, "", 0)
		require.NoError(t, err)
		assert.Equal(t, int64(10), *b.Ledger.Total, string(log))
		assert.Equal(t, name == "free", strings.Contains(string(log), "was reached"), string(log))
		assert.Equal(t, map[string]string{"kept": "meter-only", "free": "open"}[name], b.Network)
	}
	assert.Contains(t, strings.Join(d.Standings.Notes, "\n"), "1 bout ran with the network open")
}

// What was used up to a stop, or a crash of the service, is counted.
func TestWhatAStoppedBoutUsed(t *testing.T) {
	s := newTides(t)
	p := newPort(t, "", map[string]string{"hangs": s.asks("hangs", "", `ask '{"model":"spring","tokens":9,"out":1}'; ask '{"hang":true}'`)})
	_, c := start(t, t.TempDir())
	d := begin(t, c, p)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "happened" && e.Tokens != nil })
	<-s.hanging
	require.NoError(t, c.StopBout(t.Context(), only(t, d, "hangs").ID))
	d = finish(t, c, d)
	b := show(t, c, only(t, d, "hangs"))
	assert.Equal(t, verdict.StoppedByPerson, b.Verdict.Reason)
	assert.Equal(t, int64(10), *b.Ledger.Total)
	assert.True(t, b.Ledger.AtLeast, "one exchange was cut: what it used is not known")
	require.NotNil(t, b.Timing)
	assert.Positive(t, b.Timing.Parts.Exchange)
}

// What a person knows of a change that was made elsewhere is shown as typed in.
func TestTypedIn(t *testing.T) {
	p := newPort(t, "prices: [prices.yaml]\n", map[string]string{"none": "true"})
	price(t, p)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	fresh, output := int64(1000), int64(10)
	in := api.ImportBout{Contest: d.ID, Task: "lamp", Contender: "dunlin", Model: "spring", Tokens: &ledger.Tokens{Fresh: &fresh, Output: &output},
		Patch: []byte("diff --git a/lamp.txt b/lamp.txt\n--- a/lamp.txt\n+++ b/lamp.txt\n@@ -1 +1 @@\n-off\n+on\n")}
	b, err := c.ImportBout(t.Context(), in)
	require.NoError(t, err)
	until(t, c, d, func(e api.FeedEvent) bool { return e.BoutID == b.ID && e.State == "done" })
	got := show(t, c, b)
	assert.Equal(t, "typed-in", got.Used.Source)
	assert.Equal(t, "0.00315 AVM", got.Used.Money.String())
	assert.Nil(t, got.Timing, "what was not seen is absent")
	*in.Tokens.Fresh = -1
	_, err = c.ImportBout(t.Context(), in)
	assert.ErrorContains(t, err, "The tokens cannot be")
}

// Waits that the contender's own pace asks for are on the timeline, and are not its time.
func TestPacedBouts(t *testing.T) {
	s := newTides(t)
	p := newPort(t, "limits: {time: 2s}\n", map[string]string{"paced": s.asks("paced", "  pace: {requests_per_minute: 1}\n",
		`ask '{"model":"spring","tokens":9,"out":1}'; (ask '{"model":"spring"}' > /dev/null) & sleep 4; echo on > lamp.txt`)})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	b := show(t, c, only(t, d, "paced"))
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome, "it worked for less than its two seconds: %+v", b.Verdict)
	assert.Greater(t, *b.ElapsedMS, int64(3500))
	assert.Greater(t, b.Timing.Parts.Refused, timeline.Us(3*time.Second))
	tl, err := c.Timeline(t.Context(), b.ID)
	require.NoError(t, err)
	paced := 0
	for _, e := range tl.Events {
		if e.Kind == timeline.Paced {
			paced++
		}
	}
	assert.Equal(t, 1, paced)
	assert.Greater(t, *d.Standings.Rows[0].Availability.WaitedMS, int64(2000))
	assert.Len(t, s.asked, 1, "the second was never sent")
}
