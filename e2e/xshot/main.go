package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"kambrel.example/kambrel/e2e/browser"
)

func main() {
	text, _ := os.ReadFile("var/demo/endpoints.json")
	var e struct {
		Console  string
		Operator struct{ Name, Password string }
	}
	_ = json.Unmarshal(text, &e)
	ctx, stop, err := browser.New(context.Background())
	if err != nil {
		fmt.Println(err)
		return
	}
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, 100*time.Second)
	defer cancel()
	if err := chromedp.Run(ctx, browser.SignIn(e.Console, e.Operator.Name, e.Operator.Password)); err != nil {
		fmt.Println("sign in", err)
		return
	}
	for _, a := range os.Args[1:] {
		parts := strings.Split(a, "|")
		acts := []chromedp.Action{chromedp.EmulateViewport(1280, 800), chromedp.Navigate(strings.TrimSuffix(e.Console, "/") + parts[1]), chromedp.WaitVisible("#main h1", chromedp.ByQuery), chromedp.Sleep(1500 * time.Millisecond)}
		for _, js := range parts[2:] {
			acts = append(acts, chromedp.Evaluate(js, nil), chromedp.Sleep(1500*time.Millisecond))
		}
		var png []byte
		acts = append(acts, chromedp.CaptureScreenshot(&png))
		if err := chromedp.Run(ctx, acts...); err != nil {
			fmt.Println(a, err)
			return
		}
		_ = os.WriteFile("/tmp/shot/"+parts[0]+".png", png, 0o644)
	}
}
