// Package browser starts a headless Chromium for tests and for pictures.
package browser

import (
	"context"
	"fmt"
	"os"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// Start opens a browser of 1280×800 with a profile of its own. The returned
// context is the first tab; stop closes everything.
func Start(parent context.Context) (ctx context.Context, stop func(), err error) {
	profile, err := os.MkdirTemp("", "ubiquon-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := []chromedp.ExecAllocatorOption{chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800)}
	for _, name := range []string{
		"headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run",
		"disable-background-networking",
		"disable-component-update", "disable-sync", "hide-scrollbars",
	} {
		options = append(options, chromedp.Flag(name, true))
	}
	allocator, cancelAllocator := chromedp.NewExecAllocator(parent, options...)
	ctx, cancel := chromedp.NewContext(allocator)
	stop = func() {
		cancel()
		cancelAllocator()
		os.RemoveAll(profile)
	}
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("Chromium (apt-get install chromium): %w", err)
	}
	return ctx, stop, nil
}

// shared is the browser that Tab opens.
var shared struct {
	sync.Mutex
	tab  context.Context
	stop func()
}

// Tab is Start in a browser that runs already, or is started and runs until Close: with cookies and storage of
// its own. It is safe for concurrent use.
func Tab() (ctx context.Context, stop func(), err error) {
	shared.Lock()
	defer shared.Unlock()
	if shared.stop == nil {
		if shared.tab, shared.stop, err = Start(context.Background()); err != nil {
			shared.stop = nil
			return nil, nil, err
		}
	}
	ctx, stop = chromedp.NewContext(shared.tab, chromedp.WithNewBrowserContext())
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("a tab: %w", err)
	}
	return ctx, stop, nil
}

// Close ends the browser of Tab, if it runs.
func Close() {
	shared.Lock()
	defer shared.Unlock()
	if shared.stop != nil {
		shared.stop()
		shared.stop = nil
	}
}

// SignIn signs in to the console of the gateway.
func SignIn(ctx context.Context, gateway, email, password string, dark bool) error {
	mode := "light"
	if dark {
		mode = "dark"
	}
	within, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(within, chromedp.Navigate(gateway+"/console/"),
		chromedp.WaitVisible(chromedp.CSS(`input[name=email]`)),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("localStorage.setItem('ubiquon.mode', %q)", mode)),
		chromedp.SendKeys(chromedp.CSS(`input[name=email]`), email),
		chromedp.SendKeys(chromedp.CSS(`input[name=password]`), password),
		chromedp.Click(chromedp.CSS(`button[type=submit]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-figure]`))); err != nil {
		return fmt.Errorf("signing in to the console: %w", err)
	}
	return nil
}

// LessMotion has the pages of a tab know that its user wants no movement, from the next page on: what is
// animated stands at once where it ends.
func LessMotion() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-reduced-motion", Value: "reduce"}},
		})
		return err
	})
}
