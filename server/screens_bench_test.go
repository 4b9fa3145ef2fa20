package server_test

import (
	"fmt"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/e2e/browser"
	"kestite/server"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/web"
)

// BenchmarkScreens opens the main screens in a browser: from the navigation to the last
// strip that is drawn of the hundred rows shown first, with 25 days of history of so many
// services. In the same run a page that asks for nothing but who one is: what the browser
// takes for the program itself.
func BenchmarkScreens(b *testing.B) {
	for _, services := range []int{200, 1000, 3000} {
		srv := storetest.Server(b, func(o *server.Options) { o.Web = web.Handler() })
		define(b, srv, services)
		for i := range services {
			for _, place := range places {
				seed(b, srv, fmt.Sprintf("check-service-%03d", i), place, i)
			}
		}
		url := servertest.Serve(b, srv)
		servertest.As(b, srv, url, access.Viewer)
		tab, err := browser.Open(ctx, 1280, 800)
		if err != nil {
			b.Fatal(err)
		}
		b.Cleanup(tab.Close)
		if err := tab.SignIn(url, "viewer@skerry.example", servertest.Password); err != nil {
			b.Fatal(err)
		}
		drawn := func(row string) string {
			return fmt.Sprintf("document.querySelectorAll('%s').length >= 100 && [...document.querySelectorAll('%s')].every((r) => r.querySelector('svg g rect'))", row, row)
		}
		for _, screen := range []struct{ name, path, shown string }{
			{"program", "/nowhere", "document.querySelector('main h1')"},
			{"standing", "/", drawn("[data-agreement]")},
			{"services", "/services", drawn("[data-service]")},
			{"agreements", "/agreements", drawn("a.entry")},
			{"checks", "/checks", "document.querySelectorAll('[data-check] [class^=word-]').length >= 100"},
			{"service", "/services/service-000", "document.querySelectorAll('[data-lane] svg g rect').length >= 2"},
		} {
			b.Run(fmt.Sprintf("%d/%s", services, screen.name), func(b *testing.B) {
				var took []time.Duration
				for b.Loop() {
					if err := tab.Go(url + screen.path); err != nil {
						b.Fatal(err)
					}
					ms, err := browser.Eval[float64](tab, fmt.Sprintf(`new Promise((done) => {
						const look = () => (%s) ? done(performance.now()) : requestAnimationFrame(look)
						look()
					})`, screen.shown))
					if err != nil {
						b.Fatal(screen.path, err)
					}
					took = append(took, time.Duration(ms*1e6))
				}
				b.ReportMetric(at(took, 0.5), "p50-ms")
				b.ReportMetric(at(took, 0.95), "p95-ms")
			})
		}
	}
}
