// Package browser starts a headless Chromium for the console's tests and pictures.
package browser

import (
	"context"
	"errors"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// ErrNone says that no Chromium is installed.
var ErrNone = errors.New("no Chromium on the PATH (Debian: apt-get install chromium)")

// New starts a browser with an empty profile; cancel ends it.
func New(parent context.Context) (context.Context, context.CancelFunc, error) {
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "chrome"} {
		if found, err := exec.LookPath(name); err == nil {
			path = found
			break
		}
	}
	if path == "" {
		return nil, nil, ErrNone
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true), chromedp.Flag("disable-features", "Translate,OptimizationHints,MediaRouter"),
		chromedp.Flag("lang", "en-GB"))
	alloc, endAlloc := chromedp.NewExecAllocator(parent, opts...)
	ctx, end := chromedp.NewContext(alloc)
	if err := chromedp.Do(ctx); err != nil {
		end()
		endAlloc()
		return nil, nil, err
	}
	return ctx, func() { end(); endAlloc() }, nil
}
