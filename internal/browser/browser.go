// Package browser drives Debian's Chromium for tests and for the pictures in the documentation.
package browser

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// Browser is one headless Chromium with one page.
type Browser struct {
	ctx   context.Context
	close []func()
}

// program is Debian's Chromium without windows, which does with a third of the processor time. Debian's command for it is a
// script that stays behind when it is ended.
const program = "/usr/lib/chromium/chromium-headless-shell"

// Wait is how long anything that is waited for may take, on a machine that does much else.
const Wait = 4 * time.Minute

// Start starts it with a profile of its own, and with these further flags. Close ends it.
func Start(flags ...string) (*Browser, error) {
	b := &Browser{}
	profile, err := os.MkdirTemp("", "echolane-browser-")
	if err != nil {
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	b.close = append(b.close, func() { os.RemoveAll(profile) })
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(program), chromedp.NoSandbox, chromedp.UserDataDir(profile), chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("blink-settings", "lazyLoadingImageMarginPxUnknown=1250")) // as over a fast line
	// Letters aren't fitted to pixels: where they are differs from machine to machine.
	plain := profile + "/fonts.conf"
	if err := os.WriteFile(plain, []byte(`<?xml version="1.0"?><!DOCTYPE fontconfig SYSTEM "urn:fontconfig:fonts.dtd"><fontconfig><include>/etc/fonts/fonts.conf</include>
<match target="font"><edit name="hinting" mode="assign"><bool>false</bool></edit><edit name="autohint" mode="assign"><bool>false</bool></edit><edit name="hintstyle" mode="assign"><const>hintnone</const></edit><edit name="rgba" mode="assign"><const>none</const></edit></match>
<match target="pattern"><edit name="hinting" mode="assign"><bool>false</bool></edit><edit name="hintstyle" mode="assign"><const>hintnone</const></edit><edit name="rgba" mode="assign"><const>none</const></edit></match></fontconfig>`), 0o644); err != nil {
		b.Close()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	options = append(options, chromedp.Env("FONTCONFIG_FILE="+plain))
	for _, f := range flags {
		name, value, given := strings.Cut(f, "=")
		if given {
			options = append(options, chromedp.Flag(name, value))
		} else {
			options = append(options, chromedp.Flag(name, true))
		}
	}
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	b.close = append(b.close, cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	b.close = append(b.close, cancel)
	b.ctx = ctx
	if err := chromedp.Do(ctx); err != nil { // the first call starts the browser, and must have no deadline
		b.Close()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return b, nil
}

// Window opens another page, which shares no cookies or storage with the first. Close closes it; it must be closed before
// the browser that it belongs to.
func (b *Browser) Window() (*Browser, error) {
	ctx, cancel := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	if err := chromedp.Do(ctx); err != nil {
		cancel()
		return nil, fmt.Errorf("open a window of Chromium: %w", err)
	}
	return &Browser{ctx: ctx, close: []func(){cancel}}, nil
}

// Close ends the browser, or closes the window.
func (b *Browser) Close() {
	for i := len(b.close) - 1; i >= 0; i-- {
		b.close[i]()
	}
}

// Do runs actions in order.
func (b *Browser) Do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(b.ctx, Wait)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Run runs one action and gives its value.
func Run[T any](b *Browser, a chromedp.Action[T]) (T, error) {
	ctx, cancel := context.WithTimeout(b.ctx, Wait)
	defer cancel()
	return chromedp.Run(ctx, a)
}

// Look sets the window's size and the colours that the system prefers, "light" or "dark".
func (b *Browser) Look(w, h int64, scheme string) error {
	return b.Do(chromedp.EmulateViewport(w, h), chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
		})
		return err
	}))
}

// Open goes to an address.
func (b *Browser) Open(url string) error { return b.Do(chromedp.Navigate(url)) }

// Until waits until a JavaScript expression is true.
func (b *Browser) Until(expression string) error {
	for until := time.Now().Add(Wait); ; {
		_, err := Run(b, chromedp.Poll[bool]("!!("+expression+")", chromedp.WithPollingTimeout(Wait)))
		switch {
		case err == nil:
			return nil
		case !strings.Contains(err.Error(), "Cannot find context") || time.Now().After(until): // the page made way for another one
			return fmt.Errorf("wait for %s: %w", expression, err)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// Shot is a PNG of what is in view.
func (b *Browser) Shot() ([]byte, error) { return Run(b, chromedp.CaptureScreenshot()) }
