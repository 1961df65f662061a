// Package browser drives Debian's headless Chromium for tests and pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Width and Height are the size of the window in pixels.
const (
	Width  = 1280
	Height = 800
)

// ErrNone says that there is no Chromium.
var ErrNone = errors.New("no Chromium is installed: run lab/servers/install.sh")

// New starts a browser with an empty profile of its own; stop ends it.
func New(ctx context.Context) (page context.Context, stop func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrNone
	}
	profile, err := os.MkdirTemp("", "kambrel-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(Width, Height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-background-networking", true), chromedp.WSURLReadTimeout(40*time.Second),
	)
	allocator, endBrowser := chromedp.NewExecAllocator(ctx, options...)
	page, endPage := chromedp.NewContext(allocator)
	stop = func() {
		endPage()
		endBrowser()
		_ = os.RemoveAll(profile)
	}
	if err := chromedp.Run(page, emulation.SetDeviceMetricsOverride(Width, Height, 1, false)); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start Chromium: %w", err)
	}
	return page, stop, nil
}

// Awaits lets an evaluation end when what it comes to, a promise, does.
func Awaits(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// Until waits until an expression is true in the page. It looks often, but not at each frame,
// which would have the page drawn all the time.
func Until(expression string, within time.Duration) chromedp.Action {
	return chromedp.Poll(expression, nil, chromedp.WithPollingInterval(40*time.Millisecond), chromedp.WithPollingTimeout(within))
}

// SignIn opens the console and signs in.
func SignIn(console, name, password string) chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.Navigate(console), chromedp.WaitVisible("#name"), chromedp.SendKeys("#name", name, chromedp.ByQuery), chromedp.SendKeys("#password", password, chromedp.ByQuery),
		chromedp.Click("button[type=submit]", chromedp.ByQuery), chromedp.WaitVisible("#main h1"),
	}
}
