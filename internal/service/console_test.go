package service_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/browser"
)

// newBrowser starts a browser, and gathers what it complains of and asks for.
func newBrowser(t *testing.T) (ctx context.Context, complaints, requests func() []string) {
	t.Helper()
	ctx, cancel, err := browser.New(t.Context())
	if errors.Is(err, browser.ErrNone) {
		t.Fatal(err, "; make test installs it")
	}
	require.NoError(t, err)
	t.Cleanup(cancel)
	ctx, stop := context.WithTimeout(ctx, 3*time.Minute)
	t.Cleanup(stop)
	var mu sync.Mutex
	var said, asked []string
	entries := chromedp.Events(ctx, log.EntryAdded)
	sent := chromedp.Events(ctx, network.RequestWillBeSent)
	go func() { // ends with the browser
		for e, err := range entries {
			if err != nil {
				return
			}
			mu.Lock()
			said = append(said, string(e.Entry.Level)+" "+e.Entry.Text)
			mu.Unlock()
		}
	}()
	go func() { // ends with the browser
		for e, err := range sent {
			if err != nil {
				return
			}
			mu.Lock()
			asked = append(asked, e.Request.URL)
			mu.Unlock()
		}
	}()
	get := func(list *[]string) func() []string {
		return func() []string {
			mu.Lock()
			defer mu.Unlock()
			return append([]string(nil), *list...)
		}
	}
	return ctx, get(&said), get(&asked)
}

func text(t *testing.T, ctx context.Context, selector string) string {
	t.Helper()
	s, err := chromedp.Run(ctx, chromedp.Text(selector))
	require.NoError(t, err, selector)
	return s
}

// shows waits until what a selector finds says some words: a page comes before what it loads.
func shows(t *testing.T, ctx context.Context, selector string, words ...string) {
	t.Helper()
	last := ""
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
		last = text(t, ctx, selector)
		if !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(last, w) }) {
			return
		}
	}
	t.Fatalf("%s never said %q; it said:\n%s", selector, words, last)
}

func TestConsole(t *testing.T) {
	p := newPort(t, "repeats: 2\n", map[string]string{
		"good":    `sleep 0.4; echo on > lamp.txt; printf '<img src=x onerror=document.title="owned">\n\033[31mred\n' > note.html; echo "<script>document.title='owned'</script> done"`,
		"wrong":   "echo dim > lamp.txt; sleep 0.2",
		"unmoved": "sleep 0.2",
	})
	p.files["lamp.md"] = strings.Replace(portTask, "run: grep -qx on lamp.txt", `run: echo "<b>checking</b>"; grep -qx on lamp.txt`, 1)
	s, c := start(t, t.TempDir())
	ctx, complaints, requests := newBrowser(t)

	// A stranger is told how to sign in.
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.URL()+"/"), chromedp.WaitVisible(`[role="alert"]`)))
	shows(t, ctx, `[role="alert"]`, "agonometer console")

	// Sign in by the link; the code is gone from the address.
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`//p[contains(., 'There is no contest yet')]`)))
	at, err := chromedp.Run(ctx, chromedp.Location())
	require.NoError(t, err)
	assert.Equal(t, s.URL()+"/", at)
	before := len(complaints())

	// Watch a contest finish, without reloading.
	d := begin(t, c, p)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/contests/"+d.ID), chromedp.WaitVisible(`p[data-state="running"]`), chromedp.WaitVisible(`p[data-state="done"]`)))
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//nav/a[text()='Contests']`), chromedp.Click(`main table a`), chromedp.WaitVisible(`p[data-state="done"]`)))
	assert.Equal(t, "Done: 6 bouts", text(t, ctx, `p[data-state]`))
	shows(t, ctx, `section[aria-label="Bouts"]`, "passed", "lit", "no-change", "good", "wrong", "unmoved")
	shows(t, ctx, `section[aria-label="Standings"]`, "2 of 2", "final")

	// By keyboard: from a bout to its neighbour, and in.
	first, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(() => { const a = document.querySelector('section[aria-label="Bouts"] td a'); a.focus(); return a.getAttribute('aria-label'); })()`))
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent(kb.ArrowDown)))
	second, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.activeElement.getAttribute('aria-label') ?? ''`))
	require.NoError(t, err)
	assert.Contains(t, first, "repeat 1")
	assert.NotEqual(t, first, second)

	// Open a bout and read its diff: a contender's text is text.
	good := only(t, d, "good")
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//a[contains(@aria-label, 'good on lamp, repeat 1: passed')]`), chromedp.WaitVisible(`section[aria-label="Facts"]`)))
	shows(t, ctx, "main", "every check passed")
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//section[@aria-label='Checks']//button[contains(., 'lit')]`), chromedp.WaitVisible(`section[aria-label="Checks"] [data-state="open"] pre`)))
	shows(t, ctx, `section[aria-label="Checks"] [data-state="open"] pre`, "<b>checking</b>")
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//button[text()='Change']`), chromedp.WaitVisible(`//td[contains(., 'onerror')]`)))
	shows(t, ctx, `[role="tabpanel"][data-state="active"]`, "lamp.txt", "note.html", "<img src=x onerror", "␛[31mred")
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//button[text()='What the tool printed']`), chromedp.WaitVisible(`//pre[contains(., 'done')]`)))
	shows(t, ctx, `[role="tabpanel"][data-state="active"] pre`, "<script>document.title='owned'</script>")
	title, err := chromedp.Run(ctx, chromedp.Title())
	require.NoError(t, err)
	assert.Equal(t, "good on lamp - Agonometer", title)

	// A page that is opened directly, and one that is not there.
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/bouts/"+good.ID+"?show=change"), chromedp.WaitVisible(`//td[contains(., 'onerror')]`)))
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/bouts/01NOSUCHBOUT"), chromedp.WaitVisible(`[role="alert"]`)))
	shows(t, ctx, `[role="alert"]`, "no such record")

	for _, said := range complaints()[before:] {
		assert.NotContains(t, said, "Content Security Policy")
	}
	for _, url := range requests() {
		assert.True(t, strings.HasPrefix(url, s.URL()) || strings.HasPrefix(url, "data:") || strings.HasPrefix(url, "about:"), "asked for %s", url)
	}
}

// The dialog before a contest is stopped works under the strict policy.
func TestConsoleStopsAContest(t *testing.T) {
	p := newPort(t, "", map[string]string{"slow": "while :; do sleep 0.05; done"})
	s, c := start(t, t.TempDir())
	d := begin(t, c, p)
	ctx, complaints, _ := newBrowser(t)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`main table`),
		chromedp.Navigate(s.URL()+"/contests/"+d.ID), chromedp.Click(`//button[contains(., 'Stop the contest')]`), chromedp.WaitVisible(`[role="alertdialog"]`),
		chromedp.Click(`//button[text()='Stop it']`), chromedp.WaitVisible(`p[data-state="stopped"]`)))
	shows(t, ctx, `section[aria-label="Standings"]`, "the contest was stopped before its end")
	for _, said := range complaints() {
		assert.NotContains(t, said, "Content Security Policy")
	}
}

// Rounds as steps, tests before and after with their output one key away, and
// the page of a task.
func TestConsoleShowsTheJudgement(t *testing.T) {
	p := newQuay(t, "repair_rounds: 1\n", map[string]string{
		"mends":   "contender: mends\ntitle: Mends\nrun: [sh, -c, '" + strings.ReplaceAll(spoil+"; "+weaken, "'", "''") + "']\nrun_again: [sh, -c, '" + strings.ReplaceAll(solve+`; echo "echo ok - mine" > test/mine.t`, "'", "''") + "']\n",
		"hostile": `printf 'case $0 in *.t) echo "not ok - <img src=x onerror=document.title=1>";; esac\ndepth() { echo 0; }\n' > depth.sh`,
	})
	s, c := start(t, t.TempDir())
	proved(t, c, p, "quay.md", 3)
	d := finish(t, c, begin(t, c, p))
	ctx, complaints, _ := newBrowser(t)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`main table`),
		chromedp.Navigate(s.URL()+"/bouts/"+only(t, d, "mends").ID), chromedp.WaitVisible(`ol[aria-label="Rounds"]`)))
	shows(t, ctx, "main", "First time: failed. In the end: passed, after 2 rounds.")
	shows(t, ctx, `ol[aria-label="Rounds"]`, "Opening", "Repair")
	shows(t, ctx, `section[aria-label="Own tests"]`, "mine")
	shows(t, ctx, `[role="tabpanel"]`, "This is not yet right")

	// The first round: what broke, with its output opened from the keyboard.
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`ol[aria-label="Rounds"] li:first-child button`), chromedp.WaitVisible(`section[aria-label="Guards broken"]`)))
	shows(t, ctx, `section[aria-label="Goals missed"]`, "silt")
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`(() => { document.querySelector('section[aria-label="Guards broken"] button').focus(); return true; })()`))
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent(kb.Enter), chromedp.WaitVisible(`section[aria-label="Guards broken"] pre`)))
	shows(t, ctx, `section[aria-label="Guards broken"] pre`, "depth = 9, want 10")
	shows(t, ctx, `section[aria-label="Weakened tests"]`, "test/depth.t:4 was changed")
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//button[text()='Change']`), chromedp.WaitVisible(`//td[contains(., '$2 - 1')]`)))

	// The task, with its proving and its bouts.
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`h1 a`), chromedp.WaitVisible(`section[aria-label="Proving"] table`)))
	shows(t, ctx, "main", "Depth must take the silt off.")
	shows(t, ctx, `section[aria-label="Proving"]`, "keeps all 3 guards")
	shows(t, ctx, `section[aria-label="Bouts"]`, "mends")
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//nav/a[text()='Tasks']`), chromedp.WaitVisible(`//h2[text()='Tasks']`)))
	shows(t, ctx, "main table", "proved")

	// A contender's text is text here too.
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/bouts/"+only(t, d, "hostile").ID), chromedp.WaitVisible(`section[aria-label="Guards broken"]`)))
	title, err := chromedp.Run(ctx, chromedp.Title())
	require.NoError(t, err)
	assert.Equal(t, "hostile on quay - Agonometer", title)
	for _, said := range complaints() {
		assert.NotContains(t, said, "Content Security Policy")
	}
}

// A bout's time and tokens: the timeline by keyboard, what was used, every exchange.
func TestConsoleShowsTimeAndTokens(t *testing.T) {
	m := newTides(t)
	m.refuse = 1
	p := newPort(t, "prices: [prices.yaml]\n", map[string]string{"asks": m.asks("asks", "  keep_bodies: 1KiB\nexpects: {models: [{model: spring}]}\n", `
ask '{"model":"spring"}'
ask '{"model":"spring","tokens":1000,"out":10,"cached":400}'
ask '{"model":"spring","as":"<b>neap</b>","tokens":60,"out":4}'
echo on > lamp.txt`), "alone": "echo on > lamp.txt"})
	price(t, p)
	s, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	ctx, complaints, _ := newBrowser(t)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`main table`),
		chromedp.Navigate(s.URL()+"/contests/"+d.ID), chromedp.WaitVisible(`section[aria-label="Standings"]`)))
	shows(t, ctx, `section[aria-label="Standings"]`, "1,074", "0%", "token counts are of different sources") // its one try was refused
	shows(t, ctx, `section[aria-label="Bouts"]`, "other model")

	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/bouts/"+only(t, d, "asks").ID+"?show=time"), chromedp.WaitVisible(`table[aria-label="Exchanges"]`),
		chromedp.Focus(`[role="application"]`), chromedp.KeyEvent(kb.ArrowRight)))
	shows(t, ctx, "output", "Exchange 2 with spring, 1,010 tokens")
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent(kb.ArrowDown)))
	shows(t, ctx, "output", "First edit of lamp.txt, at ")
	shows(t, ctx, `[role="tabpanel"][data-state="active"]`, "Where ", "another model replied: <b>neap</b>, 1 exchange", "refused, own-allowance, rate_limit: too many requests per minute", "0.002070 AVM", "no price for <b>neap</b>")
	shows(t, ctx, `section[aria-label="Facts"]`, "open: what the tool looked up is not known")
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/bouts/"+only(t, d, "alone").ID+"?show=time"), chromedp.WaitVisible(`[role="application"]`)))
	shows(t, ctx, `[role="tabpanel"][data-state="active"]`, "What it used is not known")
	for _, said := range complaints() {
		assert.NotContains(t, said, "Content Security Policy")
	}
}
