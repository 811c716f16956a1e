// Command shots takes the pictures in docs/screenshots: it signs a headless
// Chromium in to a running service and photographs its pages.
//
//	go run ./internal/shots -link LINK -out docs/screenshots
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"agonometer/internal/browser"
)

func main() {
	link := flag.String("link", "", "a one-time sign-in link")
	out := flag.String("out", "docs/screenshots", "the folder for the pictures")
	page := flag.String("page", "", "take this one page, such as /contenders, in place of all")
	click := flag.String("click", "", "with -page: click this first (a selector)")
	all := flag.Bool("all", false, "take those of the narrow window and the dark colours too")
	flag.Parse()
	if *page != "" {
		if err := one(*link, *page, *click, *out); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if err := shoot(*link, *out, *all); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// one takes a single page, into a file.
func one(link, page, click, file string) error {
	ctx, cancel, err := browser.New(context.Background())
	if err != nil {
		return err
	}
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(link), chromedp.WaitVisible(`main h1`)); err != nil {
		return err
	}
	at, err := chromedp.Run(ctx, chromedp.Location())
	if err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(strings.TrimSuffix(at, "/")+page), chromedp.WaitVisible(`main h1`), chromedp.Sleep(700*time.Millisecond)); err != nil {
		return err
	}
	if click != "" {
		if err := chromedp.Do(ctx, chromedp.Click(click), chromedp.Sleep(500*time.Millisecond)); err != nil {
			return err
		}
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}

func shoot(link, out string, all bool) error {
	ctx, cancel, err := browser.New(context.Background())
	if err != nil {
		return err
	}
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, 5*time.Minute)
	defer stop()
	take := func(name string, width, height int64, steps ...chromedp.Action[chromedp.Void]) error {
		steps = append([]chromedp.Action[chromedp.Void]{chromedp.EmulateViewport(width, height)}, steps...)
		if err := chromedp.Do(ctx, steps...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(link), chromedp.WaitVisible(`main table`)); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	if err := take("console-contests", 1280, 800); err != nil {
		return err
	}
	const ways = `//main//a[contains(., 'worked in four ways')]`
	if err := take("console-ways", 1280, 800, chromedp.Click(ways), chromedp.WaitVisible(`section[aria-label="By wording"]`)); err != nil {
		return err
	}
	if err := take("console-settings", 1280, 800, chromedp.ScrollIntoView(`section[aria-label="Settings of the contenders"] tbody tr:last-child`)); err != nil {
		return err
	}
	if err := take("console-contenders", 1280, 800, chromedp.Click(`//nav/a[text()='Contenders']`), chromedp.Click(`//button[contains(., 'Knot')]`), chromedp.WaitVisible(`//button[contains(., 'with a trial bout')]`)); err != nil {
		return err
	}
	if err := take("console-hand", 1280, 800, chromedp.Click(`//nav/a[text()='By hand']`), chromedp.Click(`//main//a[contains(., 'on ledger')]`), chromedp.WaitVisible(`[data-phase="running"]`), chromedp.Sleep(time.Second)); err != nil {
		return err
	}
	const large = `//main//a[contains(., 'three stand-in tools with two models on six tasks')]`
	if err := take("console-contest", 1280, 800, chromedp.Click(`//nav/a[text()='Contests']`), chromedp.Click(large), chromedp.WaitVisible(`section[aria-label="Standings"]`)); err != nil {
		return err
	}
	if all {
		if err := take("contest-narrow", 420, 900); err != nil {
			return err
		}
	}
	contest, err := chromedp.Run(ctx, chromedp.Location())
	if err != nil {
		return err
	}
	const refused = `//a[contains(@aria-label, 'turnstone on ledger') and contains(@aria-label, 'repeat 1')]`
	if err := take("console-time", 1280, 800, chromedp.Click(refused), chromedp.WaitVisible(`//button[text()='Time and tokens']`), chromedp.Click(`//button[text()='Time and tokens']`),
		chromedp.WaitVisible(`table[aria-label="Exchanges"]`), chromedp.Focus(`[role="application"]`), chromedp.KeyEvent(kb.ArrowRight), chromedp.KeyEvent(kb.ArrowDown)); err != nil {
		return err
	}
	if all {
		if err := take("time-exchanges", 1280, 800, chromedp.ScrollIntoView(`table[aria-label="Exchanges"]`)); err != nil {
			return err
		}
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(contest)); err != nil {
		return err
	}
	const mended = `//a[contains(@aria-label, 'whimbrel on springs, repeat 1')]`
	if err := take("console-rounds", 1280, 800, chromedp.Click(mended), chromedp.WaitVisible(`ol[aria-label="Rounds"]`), chromedp.Click(`ol[aria-label="Rounds"] li:first-child button`),
		chromedp.WaitVisible(`section[aria-label="Goals missed"]`), chromedp.Click(`section[aria-label="Goals missed"] h3:nth-of-type(1) ~ div button:enabled`),
		chromedp.WaitVisible(`section[aria-label="Goals missed"] pre`)); err != nil {
		return err
	}
	if err := take("console-task", 1280, 800, chromedp.Click(`h1 a`), chromedp.WaitVisible(`section[aria-label="Proving"] table`)); err != nil {
		return err
	}
	const broken = `//a[contains(@aria-label, 'sanderling on squat') and contains(@aria-label, 'failed')]`
	if err := take("console-bout", 1280, 800, chromedp.Navigate(contest), chromedp.Click(broken), chromedp.WaitVisible(`section[aria-label="Guards broken"]`),
		chromedp.Click(`section[aria-label="Guards broken"] button`), chromedp.WaitVisible(`section[aria-label="Guards broken"] pre`)); err != nil {
		return err
	}
	const hasty = `//a[contains(@aria-label, 'sanderling on ledger') and contains(@aria-label, 'repeat 2')]`
	if err := take("console-edits", 1280, 800, chromedp.Navigate(contest), chromedp.Click(hasty), chromedp.WaitVisible(`//button[text()='Edits']`), chromedp.Click(`//button[text()='Edits']`), chromedp.WaitVisible(`section[aria-label="Leftovers"]`)); err != nil {
		return err
	}
	if err := take("console-bout-change", 1280, 800, chromedp.Click(`//button[starts-with(@aria-label, 'Added code')]`), chromedp.WaitVisible(`//*[@role='status' and contains(., 'place 1')]`), chromedp.KeyEvent("n"), chromedp.WaitVisible(`//*[@role='status' and contains(., 'place 2')]`)); err != nil {
		return err
	}
	if err := take("console-compare", 1280, 800, chromedp.Click(`//fieldset//label[contains(., 'turnstone') and contains(., 'repeat 2') and not(contains(., 'neap'))]`),
		chromedp.Click(`//fieldset//label[contains(., 'whimbrel') and contains(., 'repeat 2')]`), chromedp.Click(`//button[text()='Compare']`), chromedp.WaitVisible(`nav[aria-label="Files"]`),
		chromedp.Click(`//nav[@aria-label='Files']//button[contains(., 'src/log.js') and not(contains(., 'orig'))]`), chromedp.WaitVisible(`//h2[contains(., 'src/log.js')]`), chromedp.KeyEvent("n"), chromedp.WaitVisible(`//span[contains(., 'change 2 of')]`), chromedp.Sleep(300*time.Millisecond)); err != nil {
		return err
	}
	if !all {
		return nil
	}
	return take("bout-dark", 1280, 800, chromedp.Click(`//button[contains(., 'Dark')]`), chromedp.Click(`//button[text()='Judgement']`), chromedp.WaitVisible(`section[aria-label="Guards broken"]`))
}
