package worldtest

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/browser"
)

// Actor returns how a test acts on a page, and how it waits for what it shows.
func Actor(t *testing.T, page context.Context) (do func(string, ...chromedp.Action), shows func(selector, text string) chromedp.Action) {
	do = func(what string, actions ...chromedp.Action) {
		t.Helper()
		ctx, cancel := context.WithTimeout(page, 30*time.Second)
		defer cancel()
		if err := chromedp.Run(ctx, actions...); err != nil {
			var text string
			after, end := context.WithTimeout(page, 5*time.Second)
			defer end()
			_ = chromedp.Run(after, chromedp.Evaluate("document.body.innerText", &text))
			t.Fatalf("%s: %v; the page shows:\n%s", what, err, text)
		}
	}
	shows = func(selector, text string) chromedp.Action {
		return browser.Until(fmt.Sprintf(`[...document.querySelectorAll(%q)].some(e => e.textContent.includes(%q))`, selector, text), 20*time.Second)
	}
	return do, shows
}

// Console opens a browser and signs the administrator in.
func (w *World) Console() (do func(string, ...chromedp.Action), shows func(selector, text string) chromedp.Action) {
	w.T.Helper()
	page, stop, err := browser.New(w.T.Context())
	require.NoError(w.T, err)
	w.T.Cleanup(stop)
	do, shows = Actor(w.T, page)
	do("sign in", browser.SignIn(w.URL+"/", "administrator", Password), shows("h1", "Overview"))
	return do, shows
}

// Button clicks the button with a text once it can be clicked.
func Button(text string) chromedp.Action {
	return chromedp.Tasks{
		browser.Until(fmt.Sprintf(`[...document.querySelectorAll("button")].some(b => b.textContent.trim() === %q && !b.disabled)`, text), 20*time.Second),
		chromedp.Evaluate(fmt.Sprintf(`[...document.querySelectorAll("button")].find(b => b.textContent.trim() === %q && !b.disabled).click()`, text), nil),
	}
}

// Choose takes an option of the first select within a part of the page.
func Choose(within, option string) chromedp.Action {
	return chromedp.Poll(fmt.Sprintf(`(() => {
		const select = document.querySelector(%q + " .n-base-selection")
		if (select.textContent.includes(%[2]q)) return true
		const option = [...document.querySelectorAll(".n-base-select-option")].find(e => e.textContent.includes(%[2]q))
		;(option ?? select).click()
		return false
	})()`, within, option), nil, chromedp.WithPollingInterval(200*time.Millisecond), chromedp.WithPollingTimeout(20*time.Second))
}
