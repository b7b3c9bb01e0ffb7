// Package browser drives Debian's Chromium, headless, for the browser stories and the screenshots.
package browser

import (
	"context"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Open starts a browser of 1280x800 with a fresh profile; end stops it. dark asks pages for their dark look.
func Open(parent context.Context, dark bool) (ctx context.Context, end func(), err error) {
	profile, err := os.MkdirTemp("", "kembrel-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("force-color-profile", "srgb"),
		chromedp.Flag("hide-scrollbars", true))
	if dark {
		options = append(options, chromedp.Flag("blink-settings", "preferredColorScheme=0"))
	}
	allocated, cancel := chromedp.NewExecAllocator(parent, options...)
	tab, cancelTab := chromedp.NewContext(allocated)
	// starts it; a time limit here would end the browser itself
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		cancelTab()
		cancel()
		return nil, nil, err
	}
	ctx, cancelTime := context.WithTimeout(tab, 10*time.Minute)
	return ctx, func() {
		cancelTime()
		cancelTab()
		cancel()
		os.RemoveAll(profile)
	}, nil
}
