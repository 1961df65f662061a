package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/demo"
)

// usage: zz name=path[@dark] ...
func main() {
	var e demo.Endpoints
	text, _ := os.ReadFile("/tmp/demo/state/endpoints.json")
	_ = json.Unmarshal(text, &e)
	page, stop, err := browser.New(context.Background())
	if err != nil {
		panic(err)
	}
	defer stop()
	ctx, cancel := context.WithTimeout(page, 90*time.Second)
	defer cancel()
	if err := chromedp.Run(ctx, emulation.SetDeviceMetricsOverride(1280, 800, 1, false), browser.SignIn(e.Console, e.Operator.Name, e.Operator.Password)); err != nil {
		panic(err)
	}
	for _, arg := range os.Args[1:] {
		name, path, _ := strings.Cut(arg, "=")
		path, click, _ := strings.Cut(path, "~")
		var shot []byte
		tasks := chromedp.Tasks{chromedp.Navigate(e.Console + path), chromedp.Sleep(1500 * time.Millisecond)}
		if click != "" {
			tasks = append(tasks, chromedp.Click(click, chromedp.BySearch), chromedp.Sleep(900*time.Millisecond))
		}
		tasks = append(tasks, chromedp.CaptureScreenshot(&shot))
		if err := chromedp.Run(ctx, tasks); err != nil {
			fmt.Println(name, err)
			continue
		}
		_ = os.WriteFile("/tmp/shots/"+name+".png", shot, 0o644)
	}
}
