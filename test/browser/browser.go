// Package browser starts Debian's Chromium, without a window, for tests of the console and for its pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// New starts a browser; end stops it. The error says what to type when there is none.
func New(ctx context.Context, width, height int) (tab context.Context, end func(), err error) {
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if p, err := exec.LookPath(name); err == nil {
			path = p
			break
		}
	}
	if path == "" {
		return nil, nil, fmt.Errorf("the tests of the console need Chromium: apt-get install -y chromium")
	}
	opts := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.WindowSize(width, height),
		chromedp.Flag(
			"disable-quic",
			true,
		),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag(
			"disable-sync",
			true,
		),
		chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("force-color-profile", "srgb"),
	)
	alloc, endAlloc := chromedp.NewExecAllocator(ctx, opts...)
	tab, endTab := chromedp.NewContext(alloc)
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		endTab()
		endAlloc()
		return nil, nil, err
	}
	return tab, func() { endTab(); endAlloc() }, nil
}

// Tab is a page being looked at, with the few things that a person does.
type Tab struct{ Context context.Context }

// Open goes to an address and waits until the page was loaded.
func (t Tab) Open(address string) error { return chromedp.Do(t.Context, chromedp.Navigate(address)) }

// Eval runs JavaScript and returns what it gives, as text.
func (t Tab) Eval(script string) (string, error) {
	return chromedp.Run(t.Context, chromedp.Evaluate[string](script))
}

// Text is what the page shows.
func (t Tab) Text() (string, error) { return t.Eval(`document.body.innerText`) }

// See waits until the page shows a text.
func (t Tab) See(text string) error {
	return t.until(fmt.Sprintf("the page to show %q", text), func() (bool, error) {
		shown, err := t.Text()
		return strings.Contains(shown, text), err
	})
}

// Gone waits until the page does not show a text any more.
func (t Tab) Gone(text string) error {
	return t.until(fmt.Sprintf("the page to show %q no more", text), func() (bool, error) {
		shown, err := t.Text()
		return !strings.Contains(shown, text), err
	})
}

func (t Tab) until(what string, done func() (bool, error)) error {
	deadline := time.Now().Add(time.Minute) // against hanging: the machine may be busy
	for {
		ok, err := done()
		if ok {
			return nil
		}
		if time.Now().After(deadline) {
			shown, terr := t.Text()
			return errors.Join(fmt.Errorf("waited in vain for %s; it shows:\n%s", what, shown), err, terr)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// Click clicks the first link, button or row that has a text, or that a CSS selector beginning with # or . finds.
func (t Tab) Click(what string) error {
	script := fmt.Sprintf(`(() => {
		const what = %q
		const all = /^[#.]/.test(what) ? [...document.querySelectorAll(what)] : [...document.querySelectorAll('a,button,tr[tabindex],summary')]
			.filter((e) => e.innerText.trim().startsWith(what) || e.innerText.split(/[\t\n]/).some((s) => s.trim() === what))
		if (!all.length || all[0].disabled) return 'no'
		all[0].click()
		return 'yes'
	})()`, what)
	return t.until("something to click: "+what, func() (bool, error) {
		done, err := t.Eval(script)
		return done == "yes", err
	})
}

// Type sets the value of a field, as typing does, as soon as it is there.
func (t Tab) Type(selector, text string) error {
	script := fmt.Sprintf(
		`(() => { const e = document.querySelector(%q); if (!e) return 'no'; e.focus(); e.value = %q; e.dispatchEvent(new Event('input', { bubbles: true })); return 'yes' })()`,
		selector,
		text,
	)
	return t.until("a field to type into: "+selector, func() (bool, error) {
		done, err := t.Eval(script)
		return done == "yes", err
	})
}

// File chooses a file where one is asked for.
func (t Tab) File(selector, path string) error {
	return chromedp.Do(t.Context, chromedp.SetUploadFiles(selector, []string{path}))
}

// Picture takes a PNG of what the window shows.
func (t Tab) Picture() ([]byte, error) { return chromedp.Run(t.Context, chromedp.CaptureScreenshot()) }
