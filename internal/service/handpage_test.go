package service_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/person"
	"agonometer/internal/core/verdict"
)

// The page of a bout by hand from its start to its verdict, with the keyboard alone,
// while a script edits the workspace.
func TestTheHandPage(t *testing.T) {
	p := newPort(t, "repair_rounds: 1\n", map[string]string{"ruff": handFile})
	p.files["lamp.md"] = strings.Replace(portTask, "time: 20s", "time: 5m", 1)
	p.write(t)
	s, c := start(t, t.TempDir())
	ctx, complaints, _ := newBrowser(t)
	d := begin(t, c, p)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "contest" && e.State == "by-hand" })
	do := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		step, cancel := context.WithTimeout(ctx, 40*time.Second)
		defer cancel()
		if err := chromedp.Do(step, steps...); err != nil {
			shown, _ := chromedp.Run(ctx, chromedp.Text(`main`))
			require.NoError(t, err, shown)
		}
	}
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`main table`))
	before := len(complaints())
	do(chromedp.Navigate(s.URL()+"/contests/"+d.ID), chromedp.WaitVisible(`section[aria-label="Left to a person"]`))
	do(chromedp.SendKeys(`section[aria-label="Left to a person"] input`, "Ines"), chromedp.Click(`//button[text()='Work it']`), chromedp.WaitVisible(`[data-phase="ready"]`))
	hands, err := c.Hands(t.Context())
	require.NoError(t, err)
	require.Len(t, hands, 1)
	h := hands[0]
	id := h.Bout.ID
	shows(t, ctx, "main", h.Workspace)
	shows(t, ctx, "main", `Write "on" into lamp.txt`)

	press := func(keys string) { t.Helper(); do(chromedp.KeyEvent(keys)) }
	do(chromedp.Focus(`main a`), chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`))
	press(" ")
	do(chromedp.WaitVisible(`[data-phase="running"]`))
	edit(t, h, "lamp.txt", "half\n")
	do(chromedp.WaitVisible(`//section[@aria-label='Files touched']//li[contains(., 'lamp.txt')]`))

	// Noticed late: after a while of quiet the page offers the time since the last sign.
	handUntil(t, c, id, func(h api.Hand) bool { return h.SignUS != nil && h.NowUS-*h.SignUS > 4_500_000 })
	press("w")
	do(chromedp.WaitVisible(`[aria-label="Since when has it waited"]`))
	press("s")
	do(chromedp.WaitVisible(`//section[@aria-label='Marks']//li[contains(., 'It waited for me')]`))
	press("c")
	do(chromedp.WaitVisible(`[aria-label="What was sent"]`))
	do(chromedp.Click(`//div[@aria-label='What was sent']//button[contains(., 'information')]`), chromedp.WaitVisible(`//label[contains(., 'Its words')]//input`), chromedp.SendKeys(`//label[contains(., 'Its words')]//input`, "The lamp is the red one"+kb.Enter),
		chromedp.WaitVisible(`//section[@aria-label='Marks']//li[contains(., 'The lamp is the red one')]`))
	press("p")
	do(chromedp.WaitVisible(`//section[@aria-label='Marks']//li[contains(., 'Permission')]`))
	press("e")
	do(chromedp.WaitVisible(`//button[contains(., 'I am done editing')]`))
	edit(t, h, "mine.txt", "my own\n")
	press("e")
	do(chromedp.WaitVisible(`//button[contains(., 'I edit now')]`))

	// Correct a mark: the permission was none.
	do(chromedp.Click(`//section[@aria-label='Marks']//li[contains(., 'Permission')]//button`), chromedp.WaitVisible(`//button[text()='Take it back']`), chromedp.Click(`//button[text()='Take it back']`),
		chromedp.WaitVisible(`//section[@aria-label='Marks']//li[contains(., '(taken back)')]`))

	// Finish: a check fails, the text to paste is there, the next round begins.
	do(chromedp.Evaluate[chromedp.Void](`document.activeElement.blur()`))
	press("f")
	do(chromedp.WaitVisible(`section[aria-label="Say this next"]`))
	shows(t, ctx, `section[aria-label="Say this next"]`, "grep -qx on lamp.txt")
	press(" ")
	do(chromedp.WaitVisible(`[data-phase="running"]`))
	edit(t, h, "lamp.txt", "on\n")
	handUntil(t, c, id, func(h api.Hand) bool { return h.Round == 2 && len(h.Files) > 0 })
	press("f")
	do(chromedp.WaitVisible(`section[aria-label="Verdict"]`))
	shows(t, ctx, `section[aria-label="Verdict"]`, "passed")
	do(chromedp.Click(`section[aria-label="Verdict"] a`), chromedp.WaitVisible(`section[aria-label="Facts"]`))
	shows(t, ctx, "main", "worked by hand, by Ines")
	shows(t, ctx, "main", "own edits 1 time")
	assert.Empty(t, complaints()[before:])

	b := show(t, c, h.Bout)
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome)
	assert.Equal(t, 1, b.Effort.Information)
	assert.Zero(t, b.Effort.Permissions)
	assert.Equal(t, 1, b.Effort.OwnLinesAdded)
	assert.GreaterOrEqual(t, b.Effort.WaitingMS, int64(3000))
	var kinds []person.Kind
	for _, m := range b.Marks {
		kinds = append(kinds, m.Kind)
	}
	assert.Equal(t, []person.Kind{"waiting", "correction", "permission", "editing", "permission"}, kinds)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "contest" && e.State == "done" })
}

// The pages of contenders and settings, and a patch that is given to a task.
func TestContendersAndAPatch(t *testing.T) {
	p := newPort(t, "", map[string]string{
		"knot": "contender: knot\ntitle: Knot\nmodel: spring\nversion_command: [echo, knot 2]\nrun: [sh, -c, 'echo on > lamp.txt; echo all lamps are lit > LAMPS.txt']\nsetup_notes: {minutes: 7, steps: [Sign in]}\n",
		"ruff": handFile,
	})
	s, c := start(t, t.TempDir())
	ctx, complaints, _ := newBrowser(t)
	d := begin(t, c, p)
	until(t, c, d, func(e api.FeedEvent) bool { return e.Kind == "contest" && e.State == "by-hand" })
	do := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		require.NoError(t, chromedp.Do(ctx, steps...))
	}
	do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`main table`))
	before := len(complaints())
	do(chromedp.Click(`//nav/a[text()='Contenders']`), chromedp.Click(`//button[contains(., 'knot')]`), chromedp.Click(`//button[contains(., 'with a trial bout')]`), chromedp.WaitVisible(`//li[contains(., 'it made the change that was asked for')]`))
	shows(t, ctx, "main", "worked by hand", "not checked", "ready", "knot 2", "7 minutes of a person", "Sign in")
	do(chromedp.Navigate(s.URL()+"/contests/"+d.ID), chromedp.WaitVisible(`section[aria-label="Settings of the contenders"]`))
	shows(t, ctx, `section[aria-label="Settings of the contenders"]`, "may ask", "differs", "no: nobody answers", "yes: a person answers", "7 minutes")

	patch := filepath.Join(t.TempDir(), "far.patch")
	require.NoError(t, os.WriteFile(patch, []byte("diff --git a/lamp.txt b/lamp.txt\n--- a/lamp.txt\n+++ b/lamp.txt\n@@ -1 +1 @@\n-off\n+on\n"), 0o644))
	do(chromedp.Navigate(s.URL()+"/tasks/lamp"), chromedp.WaitVisible(`section[aria-label="Made elsewhere"]`), chromedp.SetUploadFiles(`input[type="file"]`, []string{patch}),
		chromedp.SendKeys(`//label[contains(., 'Who made it')]//input`, "stint"), chromedp.SendKeys(`//label[contains(., 'Minutes')]//input`, "12"),
		chromedp.Click(`//button[text()='Have it judged']`), chromedp.WaitVisible(`//span[contains(., 'Taken:')]/a`))
	until(t, c, d, func(e api.FeedEvent) bool { return e.Contender == "stint" && e.State == "done" })
	var err error
	for range 200 { // the contest's own state follows that of its bouts
		if d, err = c.Contest(t.Context(), d.ID); err != nil || d.State == "by-hand" {
			break
		}
		waitAMoment(t)
	}
	require.NoError(t, err)
	b := only(t, d, "stint")
	assert.Equal(t, verdict.Passed, b.Verdict.Outcome)
	assert.Equal(t, int64(720_000), *b.ElapsedMS)
	assert.Nil(t, b.Effort, "what it asked of a person is not known")
	assert.Equal(t, "by-hand", d.State, "the contest still waits for its own bout by hand")
	assert.Empty(t, complaints()[before:])
}
