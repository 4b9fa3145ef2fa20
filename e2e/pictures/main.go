// Command pictures takes the pictures in docs/screenshots from a running demo:
//
//	go run ./e2e/pictures -out docs/screenshots
//
// With -path and -name it takes a single one, of any screen.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kestite/demo"
	"kestite/e2e/browser"
)

type view struct {
	name, path, ready string
	dark              bool
	width, height     int64
	act               func(*browser.Browser) error // what to do before the picture
}

// sunday is the next one.
func sunday() string {
	now := time.Now()
	return now.AddDate(0, 0, 7-int(now.Weekday())).Format(time.DateOnly)
}

func main() {
	url := flag.String("url", "http://127.0.0.1:8480", "the demo's address")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "take those whose names start with this")
	path := flag.String("path", "", "take one picture of this path")
	name := flag.String("name", "one", "its name")
	click := flag.String("click", "", "what to click before it: selectors, by a bar |")
	ready := flag.String("ready", "", "JavaScript condition to wait for")
	dark := flag.Bool("dark", false, "dark look")
	width := flag.Int64("width", 1280, "window width")
	height := flag.Int64("height", 800, "window height")
	as := flag.String("as", "admin@skerry.example", "who signs in; empty for nobody")
	flag.Parse()
	views := all
	if *path != "" {
		views = []view{{name: *name, path: *path, ready: *ready, dark: *dark, width: *width, height: *height}}
		views[0].act = func(b *browser.Browser) error {
			for selector := range strings.SplitSeq(*click, "|") {
				if selector == "" {
					continue
				}
				if err := b.ClickOn(selector, ""); err != nil {
					return err
				}
			}
			return nil
		}
	}
	if err := take(*url, *out, *only, *as, views); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

const rows = "document.querySelectorAll('.entry').length > 3"

var all = []view{
	{name: "standing", path: "/", ready: rows},
	{name: "standing-phone", path: "/", ready: rows, width: 390, height: 844},
	{name: "incidents", path: "/incidents", ready: rows},
	{name: "incident", path: "/incidents", ready: "document.querySelector('[data-phase=reviewed]')", act: func(b *browser.Browser) error {
		return first(
			func() error { return b.ClickOn("section[aria-label=Open] [data-incident], [data-phase=reviewed]", "") },
			func() error { return b.Until("what happened", "document.querySelector('[data-happened]')") },
		)
	}},
	{name: "services", path: "/services", ready: rows},
	{name: "service", path: "/services/ticket-sales", ready: rows},
	{name: "service-moment", path: "/services/boarding-gates?at=now", ready: "document.querySelector('.moment dl')"},
	{name: "new-service", path: "/services/new", ready: "document.querySelector('form')", act: func(b *browser.Browser) error {
		return first(
			func() error { return b.Fill("Name", "Pier kiosk") },
			func() error { return b.Fill("Address", "http://127.77.0.11:8411/") },
			func() error { return b.Click("See what answers") },
			func() error {
				return b.Until("answers", "document.querySelectorAll('[data-candidate] .word-up').length === 6")
			},
		)
	}},
	{name: "check", path: "/checks/ticket-sales-http", ready: "document.querySelector('table')"},
	{name: "agreements", path: "/agreements", ready: rows},
	{name: "agreement", path: "/agreements/tickets-passenger", ready: "document.querySelectorAll('.entry').length > 12"},
	{name: "report", path: "/reports", ready: "document.querySelector('table')", act: func(b *browser.Browser) error {
		return first(
			func() error { return b.ClickOn("table a", "Sailing board") },
			func() error { return b.Until("the report", "document.querySelector('.statement')") },
		)
	}},
	{name: "close", path: "/close", ready: "document.querySelector('[data-close]')", act: func(b *browser.Browser) error {
		return first(
			func() error { return b.ClickOn("[data-close=gates-port-authority] a", "Boarding gates") },
			func() error {
				return b.Fill("What is known of it", "The port turned the gates' power off for its own drill.")
			},
			func() error { return b.ClickOn("label", "Propose an adjustment") },
			func() error {
				return b.Until("what it would do", "document.querySelector('[data-would]')?.innerText.includes('then') && (window.scrollTo(0, 0), true)")
			},
		)
	}},
	{name: "locations", path: "/set-up", ready: "document.querySelector('[data-location]')"},
	{name: "path", path: "/services/quay-network?at=now", ready: "(document.querySelector('table.hops')?.scrollIntoView({ block: 'center' }), !!document.querySelector('table.hops'))"},
	{name: "duty", path: "/notices", ready: "document.querySelector('[data-turn]') && document.querySelector('[data-gaps]')"},
	{name: "rehearsal", path: "/notices/rehearsal?what=service%20boarding-gates&when=" + sunday() + "%2003:10", ready: "document.querySelector('[data-line]')"},
	{name: "calendar", path: "/calendar/plan?service=ticket-sales&lasts=90", ready: "document.querySelectorAll('[data-slot]').length === 5", act: func(b *browser.Browser) error {
		return first(
			func() error { return b.Fill("Name", "Fares import") },
			func() error { return b.ClickOn("[data-slot] button", "") },
			func() error {
				return b.Until("what it costs", "document.querySelector('[data-effect]') && (window.scrollTo(0, 0), document.querySelector('aside').scrollTo(0, 0), true)")
			},
		)
	}},
	{name: "dependencies", path: "/services/dependencies?pick=departure", ready: "document.querySelector('[data-node]') && document.querySelector('[data-modelled]')"},
}

// first does steps until one fails.
func first(steps ...func() error) error {
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func take(url, out, only, as string, views []view) error {
	b, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		return err
	}
	defer b.Close()
	if as != "" {
		if err := b.SignIn(url, as, demo.Password); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	for _, v := range views {
		if !strings.HasPrefix(v.name, only) {
			continue
		}
		if v.width == 0 {
			v.width, v.height = 1280, 800
		}
		if err := b.Resize(v.width, v.height); err != nil {
			return err
		}
		look := "light"
		if v.dark {
			look = "dark"
		}
		if _, err := browser.Eval[bool](b, "localStorage.setItem('mui-mode', '"+look+"') || true"); err != nil {
			return err
		}
		if err := b.Go(url + v.path); err != nil {
			return err
		}
		if v.ready != "" {
			if err := b.Until(v.name, v.ready); err != nil {
				return err
			}
		}
		if v.act != nil {
			if err := v.act(b); err != nil {
				return err
			}
		}
		png, err := b.Picture()
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(out, v.name+".png"), png, 0o644); err != nil {
			return err
		}
		fmt.Println(v.name)
	}
	return nil
}
