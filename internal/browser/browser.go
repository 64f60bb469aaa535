// Package browser drives headless Chromium against a service on loopback, for the tests of the console and for the
// pictures in the documentation. It is no part of the service.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Browser is a Chromium with one page. Close ends it, by its own process, and removes its profile.
type Browser struct {
	ctx   context.Context
	close []func()
}

// Open starts Chromium with a fresh profile and a window of the given size in CSS pixels.
func Open(ctx context.Context, width, height int) (*Browser, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, fmt.Errorf("find Chromium: %w (make deps installs it)", err)
	}
	profile, err := os.MkdirTemp("", "humble-rewind-browser-")
	if err != nil {
		return nil, err
	}
	b := &Browser{close: []func(){func() { os.RemoveAll(profile) }}}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.UserDataDir(profile),
		chromedp.WindowSize(width, height),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.NoFirstRun,
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
	)
	ctx, cancel := chromedp.NewExecAllocator(ctx, options...)
	b.close = append(b.close, cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	b.close = append(b.close, cancel)
	b.ctx = ctx
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		b.Close()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return b, nil
}

// Close ends the browser.
func (b *Browser) Close() {
	for i := len(b.close) - 1; i >= 0; i-- {
		b.close[i]()
	}
}

// patience is how long anything may take to appear.
const patience = time.Minute

// Do runs actions within patience.
func (b *Browser) Do(actions ...chromedp.Action[chromedp.Void]) error {
	ctx, done := context.WithTimeout(b.ctx, patience)
	defer done()
	return chromedp.Do(ctx, actions...)
}

// Visit opens an address and waits for the console to be drawn.
func (b *Browser) Visit(url string) error {
	return b.Do(chromedp.Navigate(url), chromedp.WaitVisible("h1"))
}

// Show opens an address that is not the console's, such as a report behind a sandbox, in which nothing can be asked.
func (b *Browser) Show(url string) error { return b.Do(chromedp.Navigate(url)) }

// Dark switches between the light and the dark looks.
func (b *Browser) Dark(on bool) error {
	scheme := "light"
	if on {
		scheme = "dark"
	}
	return b.Do(func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
		})
		return chromedp.Void{}, err
	})
}

// Press types keys one after the other as a person would: a single character, or one of the Key constants.
func (b *Browser) Press(keys ...string) error {
	for _, key := range keys {
		action := chromedp.KeyEvent(key)
		if len(key) == 1 && key >= " " && key <= "~" {
			action = pressCharacter(key)
		}
		if err := b.Do(action); err != nil {
			return fmt.Errorf("press %q: %w", key, err)
		}
	}
	return nil
}

// Type types a text into whatever has the focus.
func (b *Browser) Type(text string) error {
	return b.Do(chromedp.KeyEvent(text))
}

// pressCharacter sends a key and its character as one event. Sent apart, as KeyEvent does, a page that handles the key
// could not keep the character from also being typed, or from scrolling.
func pressCharacter(key string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		code := int64(strings.ToUpper(key)[0])
		down := input.DispatchKeyEventParams{Type: input.DispatchKeyEventTypeKeyDown, Key: key, Text: key, WindowsVirtualKeyCode: code}
		up := input.DispatchKeyEventParams{Type: input.DispatchKeyEventTypeKeyUp, Key: key, WindowsVirtualKeyCode: code}
		_, err := cdp.Call(ctx, t, input.DispatchKeyEvent, down)
		if err == nil {
			_, err = cdp.Call(ctx, t, input.DispatchKeyEvent, up)
		}
		return chromedp.Void{}, err
	}
}

// Keys that are not characters.
const (
	Enter  = kb.Enter
	Tab    = kb.Tab
	Escape = kb.Escape
	Down   = kb.ArrowDown
	Up     = kb.ArrowUp
	Left   = kb.ArrowLeft
	Right  = kb.ArrowRight
	Space  = " "
	Back   = kb.Backspace
)

// ShiftTab goes back one control.
func (b *Browser) ShiftTab() error {
	return b.Do(chromedp.KeyEvent(kb.Tab, chromedp.KeyModifiers(chromedp.ModifierShift)))
}

// run runs one action that has a result within patience.
func run[T any](b *Browser, action chromedp.Action[T]) (T, error) {
	ctx, done := context.WithTimeout(b.ctx, patience)
	defer done()
	return chromedp.Run(ctx, action)
}

// WaitText waits until the page shows a text, also across a change of pages.
func (b *Browser) WaitText(text string) error {
	var err error
	for range 5 {
		_, err = run(
			b,
			chromedp.Poll[bool](
				fmt.Sprintf("document.body.innerText.includes(%q)", text),
				chromedp.WithPollingInterval(50*time.Millisecond),
			),
		)
		if err == nil || errors.Is(err, context.DeadlineExceeded) {
			break
		}
		if err := b.Do(chromedp.Sleep(100 * time.Millisecond)); err != nil { // the page that was asked has gone
			return err
		}
	}
	if err != nil {
		shown, _ := b.Text("body")
		return fmt.Errorf("wait for %q: %w; the page shows:\n%s", text, err, shown)
	}
	return nil
}

// Text returns the text that the first element matching a selector shows.
func (b *Browser) Text(selector string) (string, error) {
	return b.Evaluate(fmt.Sprintf("document.querySelector(%q)?.innerText ?? ''", selector))
}

// Evaluate runs an expression in the page whose value is a string.
func (b *Browser) Evaluate(expression string) (string, error) {
	return run(b, chromedp.Evaluate[string](expression))
}

// Focused describes the element that has the focus, by its role or tag and its name.
func (b *Browser) Focused() (string, error) {
	return b.Evaluate(
		`(() => {
			const e = document.activeElement;
			const name = e?.getAttribute("aria-label") ?? e?.labels?.[0]?.innerText ?? e?.innerText ?? "";
			return e ? (e.getAttribute("role") ?? e.tagName.toLowerCase()) + ": " + name.trim() : "";
		})()`,
	)
}

// WaitFocus waits until the focus is on what Focused describes by text: a dialogue moves it when it has been drawn.
func (b *Browser) WaitFocus(text string) error {
	const pause = 50 * time.Millisecond
	var last string
	for begun := time.Now(); time.Since(begun) < patience; {
		name, err := b.Focused()
		if err == nil && strings.Contains(name, text) {
			return nil
		}
		last = name
		if err := b.Do(chromedp.Sleep(pause)); err != nil {
			return err
		}
	}
	return fmt.Errorf("wait for the focus on %q: it is on %q", text, last)
}

// TabTo presses Tab until the focus is on what Focused describes by text, at most the given number of times.
func (b *Browser) TabTo(text string, most int) error {
	var last string
	for range most {
		if err := b.Press(Tab); err != nil {
			return err
		}
		name, err := b.Focused()
		if err != nil {
			return err
		}
		if last = name; strings.Contains(name, text) {
			return nil
		}
	}
	return fmt.Errorf("tab to %q: not within %d presses; the focus is on %q", text, most, last)
}

// Screenshot takes a picture of the window as PNG.
func (b *Browser) Screenshot() ([]byte, error) {
	if err := b.Do(chromedp.Sleep(300 * time.Millisecond)); err != nil { // fonts and images settle
		return nil, err
	}
	return run(b, chromedp.CaptureScreenshot())
}
