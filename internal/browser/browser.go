// Package browser drives a headless Chromium, for the console's tests and for taking its pictures.
//
// It imports nothing of the project. Start with Open.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// Browser is one open tab of 1280x800.
type Browser struct{ ctx context.Context }

// starts is how often Chromium is started until it is given up: on a busy machine it ends at its start now and then.
const starts = 3

// Open starts Chromium with a new profile. Close it with the returned function.
func Open(ctx context.Context) (b *Browser, done func(), err error) {
	for range starts {
		if b, done, err = open(ctx); err == nil || errors.Is(err, errNone) {
			break
		}
	}
	return b, done, err
}

var errNone = errors.New("no chromium is installed: install the package chromium")

func open(ctx context.Context) (*Browser, func(), error) {
	program := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if p, err := exec.LookPath(name); err == nil {
			program = p
			break
		}
	}
	if program == "" {
		return nil, nil, errNone
	}
	profile, err := os.MkdirTemp("", "vinescale-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.NoSandbox,
		chromedp.UserDataDir(profile),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-gpu", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("js-flags", "--expose-gc"),
		chromedp.Flag("enable-precise-memory-info", true))
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, endTab := chromedp.NewContext(allocator)
	done := func() {
		endTab()
		endAllocator()
		os.RemoveAll(profile)
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		done()
		return nil, nil, fmt.Errorf("start %s: %w", program, err)
	}
	return &Browser{tab}, done, nil
}

// patience is how long a page may take to show what is waited for: others may hold the machine's CPUs most of the time.
const patience = 3 * time.Minute

func (b *Browser) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Go opens an address.
func (b *Browser) Go(url string) error { return b.do(chromedp.Navigate(url)) }

// Before runs a script in every page that is opened from now on, before those of the page.
func (b *Browser) Before(script string) error {
	return b.do(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument,
			page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return err
	}))
}

// Resize makes the window another size.
func (b *Browser) Resize(width, height int64) error {
	return b.do(chromedp.EmulateViewport(width, height))
}

// Eval runs an expression and returns its value.
func Eval[T any](b *Browser, expression string) (T, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
}

// WaitText waits until the page shows a text.
func (b *Browser) WaitText(text string) error {
	return b.WaitFor(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// WaitFor waits until an expression is true. The error shows what the page holds instead.
func (b *Browser) WaitFor(expression string) error {
	deadline := time.Now().Add(patience)
	for {
		ok, err := Eval[bool](b, "Boolean("+expression+")")
		if err == nil && ok {
			return nil
		}
		if time.Now().After(deadline) {
			page, _ := Eval[string](b, "location.href + '\\n' + document.body.innerText.slice(0, 2000)")
			return fmt.Errorf("waited %s for %s (%v); the page shows:\n%s", patience, expression, err, page)
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// Type sends keys to the element a CSS selector finds.
func (b *Browser) Type(selector, keys string) error {
	return b.do(chromedp.SendKeys(chromedp.CSS(selector), keys))
}

// Click clicks the element a CSS selector finds.
func (b *Browser) Click(selector string) error { return b.do(chromedp.Click(chromedp.CSS(selector))) }

// Drag presses the mouse at one place, moves to another and lets go, in page pixels.
func (b *Browser) Drag(x0, y0, x1, y1 float64) error {
	return b.do(
		chromedp.MouseEvent("mousePressed", x0, y0, chromedp.Button("left"), chromedp.ClickCount(1)),
		chromedp.MouseEvent("mouseMoved", (x0+x1)/2, y1, chromedp.Button("left")),
		chromedp.MouseEvent("mouseMoved", x1, y1, chromedp.Button("left")),
		chromedp.MouseEvent("mouseReleased", x1, y1, chromedp.Button("left"), chromedp.ClickCount(1)),
	)
}

// Picture is the window as a PNG.
func (b *Browser) Picture() ([]byte, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// PDF prints the page, on the paper that its style asks for, without anything of the browser around it.
func (b *Browser) PDF() ([]byte, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	byStyle := true
	return chromedp.Run(ctx, chromedp.PrintToPDF(func(p *page.PrintToPDFParams) { p.PreferCSSPageSize = &byStyle }))
}

// Print shows the page as on paper, or again as on a screen.
func (b *Browser) Print(isPaper bool) error {
	media := ""
	if isPaper {
		media = "print"
	}
	return b.do(chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: media})
		return err
	}))
}

// SignIn signs the console at an address in.
func (b *Browser) SignIn(address, token string) error {
	if err := b.Go(address); err != nil {
		return err
	}
	if err := b.WaitFor("document.querySelector('#token')"); err != nil {
		return err
	}
	if err := b.Type("#token", token); err != nil {
		return err
	}
	if err := b.Click("button[type=submit]"); err != nil {
		return err
	}
	return b.WaitText("Balance of the fleet")
}

// Heap is how much memory the page's scripts hold, in bytes, once what is no longer needed was let go.
func (b *Browser) Heap() (int64, error) {
	return Eval[int64](b, "(gc(), gc(), performance.memory.usedJSHeapSize)")
}

// Press sends keys to whatever has the focus, with shift held down or not.
func (b *Browser) Press(keys string, shift ...bool) error {
	if len(shift) > 0 && shift[0] {
		return b.do(chromedp.KeyEvent(keys, chromedp.KeyModifiers(chromedp.ModifierShift)))
	}
	return b.do(chromedp.KeyEvent(keys))
}
