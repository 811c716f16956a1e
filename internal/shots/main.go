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
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"agonometer/internal/browser"
)

func main() {
	link := flag.String("link", "", "a one-time sign-in link")
	out := flag.String("out", "docs/screenshots", "the folder for the pictures")
	all := flag.Bool("all", false, "take those of the narrow window and the dark colours too")
	flag.Parse()
	if err := shoot(*link, *out, *all); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func shoot(link, out string, all bool) error {
	ctx, cancel, err := browser.New(context.Background())
	if err != nil {
		return err
	}
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, 2*time.Minute)
	defer stop()
	take := func(name string, width, height int64, actions ...chromedp.Action) error {
		var png []byte
		steps := append([]chromedp.Action{chromedp.EmulateViewport(width, height)}, actions...)
		steps = append(steps, chromedp.CaptureScreenshot(&png))
		if err := chromedp.Run(ctx, steps...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	ready := chromedp.WaitVisible(`main h1`)
	if err := chromedp.Run(ctx, emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "light"}}),
		chromedp.Navigate(link), chromedp.WaitVisible(`main table`)); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	const failedBout = `//a[contains(@aria-label, 'failed, check failed')]`
	if err := take("console-contests", 1280, 800, ready); err != nil {
		return err
	}
	if err := take("console-contest", 1280, 800, chromedp.Click(`main table a`), chromedp.WaitVisible(`section[aria-label="Standings"]`)); err != nil {
		return err
	}
	if all {
		if err := take("contest-narrow", 420, 900); err != nil {
			return err
		}
	}
	if err := take("console-bout", 1280, 800, chromedp.Click(failedBout, chromedp.BySearch), chromedp.WaitVisible(`section[aria-label="Facts"]`), chromedp.WaitVisible(`[data-state="open"] pre`)); err != nil {
		return err
	}
	if err := take("console-bout-change", 1280, 800, chromedp.Click(`//button[text()='Change']`, chromedp.BySearch), chromedp.WaitVisible(`h3 button`)); err != nil {
		return err
	}
	if !all {
		return nil
	}
	return take("bout-dark", 1280, 800, chromedp.Click(`//button[contains(., 'Dark')]`, chromedp.BySearch), chromedp.Click(`//button[text()='Checks']`, chromedp.BySearch))
}
