// Package browser drives the real interface in headless Chromium as a person
// would — by what can be read, with mouse and keys — for the journeys of
// package e2e and for taking pictures.
package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Browser is one tab of a browser of its own.
type Browser struct {
	ctx  context.Context
	ends []context.CancelFunc
}

// Patience is how long things may take to appear. It bounds a wait and asserts nothing.
const Patience = 45 * time.Second

var candidates = []string{"/usr/bin/chromium-headless-shell", "/usr/bin/chromium"}

// Open starts a browser with a window of the given size.
func Open(ctx context.Context, width, height int64) (*Browser, error) {
	path := ""
	for _, c := range candidates {
		if _, err := os.Stat(c); err == nil {
			path = c
			break
		}
	}
	if path == "" {
		return nil, errors.New("no Chromium is installed; run make install, or apt-get install chromium-headless-shell")
	}
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.Headless, chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck, chromedp.DisableGPU, chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("force-prefers-reduced-motion", true), chromedp.WindowSize(int(width), int(height)),
	}
	b := &Browser{}
	allocated, end := chromedp.NewExecAllocator(ctx, options...)
	b.ends = append(b.ends, end)
	b.ctx, end = chromedp.NewContext(allocated)
	b.ends = append(b.ends, end)
	if err := chromedp.Do(b.ctx, chromedp.EmulateViewport(width, height)); err != nil {
		b.Close()
		return nil, fmt.Errorf("start %s: %w", path, err)
	}
	return b, nil
}

// MoveClock lets all pages from the next on take the present instant for one later by so
// much.
func (b *Browser) MoveClock(by time.Duration) error {
	// A proxy, since libraries look at the prototype.
	script := fmt.Sprintf(`(() => {
		const Real = Date, now = () => Real.now() + %d
		globalThis.Date = new Proxy(Real, {
			construct: (of, given, as) => Reflect.construct(of, given.length > 0 ? given : [now()], as),
			get: (of, name) => (name === 'now' ? now : Reflect.get(of, name)),
		})
	})()`, by.Milliseconds())
	if _, err := chromedp.Call(b.ctx, page.AddScriptToEvaluateOnNewDocument,
		page.AddScriptToEvaluateOnNewDocumentParams{Source: script}); err != nil {
		return fmt.Errorf("move the browser's clock: %w", err)
	}
	return nil
}

// Close ends the browser.
func (b *Browser) Close() {
	for i := len(b.ends) - 1; i >= 0; i-- {
		b.ends[i]()
	}
}

// Go opens an address.
func (b *Browser) Go(url string) error {
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	if err := chromedp.Do(ctx, chromedp.Navigate(url)); err != nil {
		return fmt.Errorf("go to %s: %w", url, err)
	}
	return nil
}

// Eval runs a JavaScript expression and decodes its value.
func Eval[T any](b *Browser, expression string) (T, error) {
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	return chromedp.Run(ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
}

// Until waits for a JavaScript condition; what is waited for is said in words.
func (b *Browser) Until(what, condition string) error {
	deadline := time.Now().Add(Patience)
	for {
		ok, err := Eval[bool](b, "Boolean("+condition+")")
		if err == nil && ok {
			return nil
		}
		if time.Now().After(deadline) {
			text, _ := Eval[string](b, "location.href + '\\n' + document.body.innerText")
			return fmt.Errorf("waited %s for %s; the page reads:\n%s", Patience, what, text)
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// Reads waits until the page shows a text.
func (b *Browser) Reads(text string) error {
	return b.Until("the text "+quote(text), "("+holds+")(document.body, "+quote(text)+") && document.body.innerText.includes("+quote(text)+")")
}

func quote(s string) string {
	text, _ := json.Marshal(s)
	return string(text)
}

// holds says whether an element may read a text: what it reads is costly to tell, for
// that needs the layout, and what it holds is not.
const holds = `((e, text) => e.textContent.replace(/\s+/g, '').includes(text.replace(/\s+/g, '')))`

// finder returns the visible element of a selector whose text or label matches.
const finder = `((selector, text) => [...document.querySelectorAll(selector)].find((e) => {
	if (!` + holds + `(e, text) && !(e.getAttribute('aria-label') || '').includes(text)) return false
	const shown = (e.innerText || e.getAttribute('aria-label') || '').trim()
	const box = e.getBoundingClientRect()
	return box.width > 0 && (shown === text || shown.startsWith(text))
}))`

// Click clicks what can be clicked by its text, with the mouse.
func (b *Browser) Click(text string) error {
	return b.ClickOn("button, a, [role=button], [role=option], [role=combobox], label, li", text)
}

// ClickOn clicks the element of a CSS selector with a text; "" is any text.
func (b *Browser) ClickOn(selector, text string) error {
	find := finder + "(" + quote(selector) + ", " + quote(text) + ")"
	if text == "" {
		find = "document.querySelector(" + quote(selector) + ")"
	}
	// A person clicks what is enabled, in sight and not covered, such as by a list that is still closing.
	at := `(() => {
		const e = ` + find + `
		if (!e || e.disabled) return null
		e.scrollIntoView({ block: 'center' })
		const r = e.getClientRects()[0] ?? e.getBoundingClientRect() // the first line of a link over several
		const x = r.x + Math.min(r.width / 2, 200), y = r.y + r.height / 2
		const top = document.elementFromPoint(x, y)
		return top && (e.contains(top) || top.contains(e)) ? [x, y] : null
	})()`
	if err := b.Until("something to click: "+selector+" "+quote(text), at); err != nil {
		return err
	}
	// It is clicked when it stands still.
	var point, before []float64
	for tries := 0; tries < 50 && (point == nil || !slices.Equal(point, before)); tries++ {
		if before = point; tries > 0 {
			time.Sleep(40 * time.Millisecond)
		}
		var err error
		if point, err = Eval[[]float64](b, at); err != nil {
			return err
		}
	}
	if len(point) != 2 {
		return fmt.Errorf("%s %q went away before it could be clicked", selector, text)
	}
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	return chromedp.Do(ctx, chromedp.MouseClickXY(point[0], point[1]))
}

// Drag presses the mouse on an element at a share of its width, moves it to another
// and lets go.
func (b *Browser) Drag(selector string, from, to float64) error {
	box := "(() => { const r = document.querySelector(" + quote(selector) + ")?.getBoundingClientRect(); return r && r.width > 0 ? [r.x, r.y + r.height / 2, r.width] : null })()"
	if err := b.Until("something to drag along: "+selector, box); err != nil {
		return err
	}
	at, err := Eval[[]float64](b, box)
	if err != nil {
		return err
	}
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	mouse := func(what input.DispatchMouseEventType, share float64) chromedp.Action[chromedp.Void] {
		return chromedp.MouseEvent(what, at[0]+share*at[2], at[1], func(p *input.DispatchMouseEventParams) {
			p.Button, p.Buttons, p.ClickCount = input.MouseButtonLeft, 1, 1
		})
	}
	return chromedp.Do(ctx, mouse(chromedp.MousePressed, from), mouse(chromedp.MouseMoved, (from+to)/2), mouse(chromedp.MouseMoved, to),
		mouse(chromedp.MouseReleased, to))
}

// Fill types into the field of a label, replacing what is there.
func (b *Browser) Fill(label, text string) error {
	field := `[...document.querySelectorAll('label')].filter((l) => l.innerText.replace('*', '').trim() === ` + quote(label) + `).map((l) => l.control).find(Boolean)`
	if err := b.Until("the field "+quote(label), field); err != nil {
		return err
	}
	if _, err := Eval[bool](b,
		"(() => { const f = "+field+"; const part = f.parentElement.querySelector('.MuiPickersSectionList-root[contenteditable=true], [role=spinbutton]'); (part ?? f).focus(); if (!part) f.select(); return true })()"); err != nil {
		return err
	}
	// A field of a date has parts, which are gone through by typing digits; all of them are chosen at first.
	parts, err := Eval[bool](b, "document.activeElement.closest('.MuiPickersInputBase-root') !== null")
	if err != nil {
		return err
	}
	if parts {
		if err := b.Press(kb.Control, "a"); err != nil {
			return err
		}
		if err := b.Type(kb.Backspace); err != nil {
			return err
		}
		text = strings.Map(func(r rune) rune {
			if r < '0' || r > '9' {
				return -1
			}
			return r
		}, text)
		if text == "" {
			return nil
		}
		return b.Type(text)
	}
	if text == "" {
		text = kb.Backspace // of what is selected
	}
	return b.Type(text)
}

// Enter presses the enter key.
func (b *Browser) Enter() error {
	return b.key(input.DispatchKeyEventParams{Key: "Enter", Code: "Enter", Text: "\r", WindowsVirtualKeyCode: 13})
}

// Key presses the key of a letter.
func (b *Browser) Key(letter string) error {
	return b.key(input.DispatchKeyEventParams{Key: letter, Code: "Key" + strings.ToUpper(letter), Text: letter})
}

// key presses and releases a key, whose character comes to nobody where the press was
// taken for something, as from a keyboard.
func (b *Browser) key(key input.DispatchKeyEventParams) error {
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	key.Type = input.DispatchKeyEventTypeKeyDown
	if _, err := chromedp.Call(ctx, input.DispatchKeyEvent, key); err != nil {
		return err
	}
	key.Type, key.Text = input.DispatchKeyEventTypeKeyUp, ""
	_, err := chromedp.Call(ctx, input.DispatchKeyEvent, key)
	return err
}

// Press types a key while another is held.
func (b *Browser) Press(held, key string) error {
	modifier := map[string]chromedp.Modifier{kb.Control: chromedp.ModifierCtrl, kb.Shift: chromedp.ModifierShift}[held]
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	return chromedp.Do(ctx, chromedp.KeyEvent(key, chromedp.KeyModifiers(modifier)))
}

// Type types into what has the focus.
func (b *Browser) Type(keys string) error {
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	return chromedp.Do(ctx, chromedp.KeyEvent(keys))
}

// Choose picks an option of a list field by its label. Who sees that another one was hit,
// as what comes in above moves the list, picks again.
func (b *Browser) Choose(label, option string) error {
	for range 3 {
		if err := b.choose(label, option); err != nil {
			return err
		}
		for range 15 {
			shows := "(() => { const c = " + comboOf(label) + "; return !c || c.innerText.includes(" + quote(option) + ") })()"
			if took, err := Eval[bool](b, shows); err != nil || took {
				return err
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	return fmt.Errorf("%q was picked of %q, and something else stands there", option, label)
}

// comboOf finds a list by its label, which is no label element: it names the list by its id.
func comboOf(label string) string {
	return `[...document.querySelectorAll('label, .MuiInputLabel-root')]
		.filter((l) => l.innerText.replace('*', '').trim() === ` + quote(label) + `)
		.map((l) => document.querySelector('[role=combobox][aria-labelledby~="' + l.id + '"]')).find(Boolean)`
}

func (b *Browser) choose(label, option string) error {
	combo := comboOf(label)
	if err := b.Until("the list "+quote(label), combo); err != nil {
		return err
	}
	if _, err := Eval[bool](b, "("+combo+").setAttribute('data-choosing', '1') || true"); err != nil {
		return err
	}
	// What comes in above it may move it from under the mouse: whoever misses it presses again.
	for open, tries := false, 0; !open && tries < 3; tries++ {
		if err := b.ClickOn("[data-choosing='1']", ""); err != nil {
			return err
		}
		for waited := 0; !open && waited < 20; waited++ {
			time.Sleep(100 * time.Millisecond)
			var err error
			if open, err = Eval[bool](b, "document.querySelector('[role=listbox]') !== null"); err != nil {
				return err
			}
		}
	}
	if err := b.ClickOn("[role=option]", option); err != nil {
		return err
	}
	_, err := Eval[bool](b, "document.querySelector('[data-choosing]')?.removeAttribute('data-choosing') || true")
	return err
}

// SignIn signs in at a server.
func (b *Browser) SignIn(url, email, password string) error {
	for _, step := range []func() error{
		func() error { return b.Go(url + "/sign-in") },
		func() error { return b.Fill("E-mail", email) },
		func() error { return b.Fill("Password", password) },
		func() error { return b.Click("Sign in") },
		func() error { return b.Until("the areas", "document.querySelector('nav[aria-label=Areas]')") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// Picture returns the window as a PNG, after fonts and requests have settled.
func (b *Browser) Picture() ([]byte, error) {
	if _, err := Eval[bool](b, "document.fonts.ready.then(() => true)"); err != nil {
		return nil, err
	}
	time.Sleep(500 * time.Millisecond)
	ctx, end := context.WithTimeout(b.ctx, Patience)
	defer end()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// Late makes the answers of a path come so much later, as over a slow line; not later for 0.
// The path is a pattern of URLs.
func (b *Browser) Late(path string, by time.Duration) error {
	line := network.Conditions{URLPattern: "http://*:*" + path, Latency: float64(by.Milliseconds()), DownloadThroughput: -1, UploadThroughput: -1}
	if _, err := chromedp.Call(b.ctx, network.Enable, network.EnableParams{}); err != nil {
		return err
	}
	_, err := chromedp.Call(b.ctx, network.EmulateNetworkConditionsByRule,
		network.EmulateNetworkConditionsByRuleParams{MatchedNetworkConditions: []*network.Conditions{&line}})
	return err
}

// Resize changes the window's size.
func (b *Browser) Resize(width, height int64) error {
	return chromedp.Do(b.ctx, chromedp.EmulateViewport(width, height))
}

// Downloads makes downloads go into a directory.
func (b *Browser) Downloads(dir string) error {
	_, err := chromedp.CallBrowser(b.ctx, cdpbrowser.SetDownloadBehavior, cdpbrowser.SetDownloadBehaviorParams{
		Behavior: cdpbrowser.SetDownloadBehaviorBehaviorAllow, DownloadPath: dir,
	})
	return err
}
