// Package browser drives Debian's Chromium for the console's tests and pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Page is one page in a headless browser of its own. What the page's console
// complains of is kept.
type Page struct {
	Ctx    context.Context
	base   string
	mu     sync.Mutex
	errors []string
}

// Open starts a browser. The returned function ends it.
func Open(ctx context.Context, base string, width, height int) (*Page, func(), error) {
	program, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, errors.New("no Chromium here: apt-get install chromium")
	}
	dir, err := os.MkdirTemp("", "ctchromium")
	if err != nil {
		return nil, nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.UserDataDir(dir),
		chromedp.WindowSize(width, height),
		chromedp.Flag("no-sandbox", true), chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-sync", true))
	alloc, stopAlloc := chromedp.NewExecAllocator(ctx, opts...)
	tab, stopTab := chromedp.NewContext(alloc)
	p := &Page{Ctx: tab, base: base}
	chromedp.ListenTarget(tab, p.listen)
	stop := func() {
		stopTab()
		stopAlloc()
		os.RemoveAll(dir)
	}
	if err := chromedp.Run(tab, log.Enable(), runtime.Enable(),
		emulation.SetDeviceMetricsOverride(int64(width), int64(height), 1, false)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start Chromium: %w", err)
	}
	return p, stop, nil
}

func (p *Page) listen(ev any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		p.errors = append(p.errors, e.ExceptionDetails.Error())
	case *runtime.EventConsoleAPICalled:
		if e.Type == runtime.APITypeError || e.Type == runtime.APITypeWarning {
			var words []string
			for _, a := range e.Args {
				words = append(words, string(a.Value)+a.Description)
			}
			p.errors = append(p.errors, strings.Join(words, " "))
		}
	case *log.EventEntryAdded:
		if e.Entry.Level == log.LevelError {
			p.errors = append(p.errors, e.Entry.Text+" "+e.Entry.URL)
		}
	}
}

// Errors returns what the page's console complained of, and forgets it.
func (p *Page) Errors() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.errors
	p.errors = nil
	return out
}

// Run carries out actions within a limit.
func (p *Page) Run(limit time.Duration, actions ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(p.Ctx, limit)
	defer cancel()
	return chromedp.Run(ctx, actions...)
}

// Go opens an address of the console and waits for words on it.
func (p *Page) Go(path string, words ...string) error {
	if err := p.Run(awaitLimit, chromedp.Navigate(p.base+path)); err != nil {
		return err
	}
	return p.Await(words...)
}

// awaitLimit bounds the wait for words.
const awaitLimit = 90 * time.Second

// Await waits until all words stand on the page.
func (p *Page) Await(words ...string) error {
	for end := time.Now().Add(awaitLimit); ; time.Sleep(50 * time.Millisecond) {
		text, err := p.Text()
		missing := ""
		for _, w := range words {
			if !strings.Contains(text, w) {
				missing = w
			}
		}
		if err == nil && missing == "" {
			return nil
		}
		if time.Now().After(end) || p.Ctx.Err() != nil {
			return fmt.Errorf("%q does not stand on the page (%v):\n%s", missing, err, text)
		}
	}
}

// Text returns what a person reads on the page, with white space made single.
func (p *Page) Text() (string, error) {
	var text string
	err := p.Run(5*time.Second, chromedp.Evaluate("document.body.innerText", &text))
	return strings.Join(strings.Fields(text), " "), err
}

// Press clicks the button or link with these words, once it can be clicked.
func (p *Page) Press(words string) error {
	script := fmt.Sprintf(
		`(() => { const e = [...document.querySelectorAll("button, a")].filter(
		  e => e.innerText.replace(/\s+/g, " ").trim() === %q
		  && !e.disabled && !e.closest("[inert]")).at(-1);
		  if (!e) return false; e.focus(); e.click(); return true; })()`, words)
	for end := time.Now().Add(awaitLimit); ; time.Sleep(50 * time.Millisecond) {
		var done bool
		// A press whose answer is late has happened all the same.
		if err := p.Run(awaitLimit, chromedp.Evaluate(script, &done)); err == nil && done {
			return nil
		}
		if time.Now().After(end) {
			text, _ := p.Text()
			return fmt.Errorf("nothing to press that says %q:\n%s", words, text)
		}
	}
}

// Click clicks what a selector finds, once it is there.
func (p *Page) Click(selector string) error {
	return p.Run(awaitLimit, chromedp.Click(selector, chromedp.ByQuery))
}

// Keys presses keys wherever the focus is.
func (p *Page) Keys(keys string) error { return p.Run(awaitLimit, chromedp.KeyEvent(keys)) }

// Focused returns the words of what has the focus.
func (p *Page) Focused() (string, error) {
	var text string
	return text,
		p.Run(awaitLimit,
			chromedp.Evaluate(
				`(document.activeElement.innerText || document.activeElement.getAttribute("aria-label")
				  || document.activeElement.placeholder || "").trim()`, &text))
}

// Type writes into the field with this label.
func (p *Page) Type(label, text string) error {
	return p.Run(awaitLimit, chromedp.SendKeys(fmt.Sprintf(`input[aria-label=%q]`, label), text, chromedp.ByQuery))
}

// TypeInto writes into the field that a selector finds.
func (p *Page) TypeInto(selector, text string) error {
	return p.Run(awaitLimit, chromedp.SendKeys(selector, text, chromedp.ByQuery))
}

// Size sets the window's size.
func (p *Page) Size(width, height int) error {
	return p.Run(awaitLimit, emulation.SetDeviceMetricsOverride(int64(width), int64(height), 1, false))
}

// Overflow returns by how many pixels the page is wider than its window.
func (p *Page) Overflow() (int, error) {
	var over int
	return over, p.Run(awaitLimit, chromedp.Evaluate("document.documentElement.scrollWidth - window.innerWidth",
		&over))
}

// Widest names the element that reaches furthest to the right.
func (p *Page) Widest() string {
	var name string
	p.Run(awaitLimit,
		chromedp.Evaluate(
			`(() => { let w = 0, n = "";
			  for (const e of document.querySelectorAll("body *")) {
			    if (e.closest(".overflow-x-auto, .overflow-auto, .vh, svg")) continue;
			  const r = e.getBoundingClientRect();
			  if (r.right > w) { w = r.right;
			    n = e.tagName + "." + e.className + " " + e.textContent.slice(0, 40); } } return n; })()`, &name))
	return name
}

// Promise waits for what a script's promise comes to.
func (p *Page) Promise(script string, into any) error {
	return p.Run(60*time.Second, chromedp.Evaluate(script, into,
		func(e *runtime.EvaluateParams) *runtime.EvaluateParams { return e.WithAwaitPromise(true) }))
}

// Picture takes a picture of what is seen.
func (p *Page) Picture(file string) error {
	var b []byte
	if err := p.Run(20*time.Second, chromedp.CaptureScreenshot(&b)); err != nil {
		return err
	}
	return os.WriteFile(file, b, 0o644)
}

// Theme chooses light or dark for the pages opened from now on.
func (p *Page) Theme(name string) error {
	return p.Run(awaitLimit, chromedp.Evaluate(fmt.Sprintf(`localStorage.setItem("theme", %q)`, name), nil))
}
