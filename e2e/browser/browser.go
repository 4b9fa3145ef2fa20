// Package browser drives the real interface in headless Chromium, for the
// journeys of package e2e and for taking pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Browser is one tab of one browser.
type Browser struct {
	ctx   context.Context
	close []context.CancelFunc
}
