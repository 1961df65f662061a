package main

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/tracing"
	"github.com/chromedp/chromedp"

	"kambrel.example/kambrel/lab/browser"
)

// opening is how the console opens in a browser that has nothing of it: what comes over the
// wire until the largest part of the page is to be seen, and in all; when something is to be
// seen, and when that part; for how long tasks kept it from answering (of each what is over
// 50 ms); and how far what was to be seen has moved. Times are in seconds from the beginning
// of the navigation.
type opening struct{ kB, all, seen, largest, blocked, moved float64 }

// traceEvent is what is taken of an event of Chromium's trace; times in microseconds.
type traceEvent struct {
	Name string  `json:"name"`
	TS   float64 `json:"ts"`
	Dur  float64 `json:"dur"`
	PID  int     `json:"pid"`
	Args struct {
		Data struct {
			EncodedDataLength float64 `json:"encodedDataLength"`
			Score             float64 `json:"weighted_score_delta"`
			DocumentURL       string  `json:"documentLoaderURL"`
		} `json:"data"`
	} `json:"args"`
}

// traced are the categories of events in which these are.
var traced = []string{"loading", "blink.user_timing", "devtools.timeline", "disabled-by-default-devtools.timeline"}

// opens measures a few times how the overview opens, and keeps the middle of each figure.
func (s *stage) opens(ctx context.Context) (float64, error) {
	page, stop, err := browser.New(ctx)
	if err != nil {
		return 0, err
	}
	defer stop()
	if err := chromedp.Run(page, browser.SignIn(s.address+"/", "administrator", password), chromedp.Poll(`document.querySelector("h1").textContent === "Overview"`, nil)); err != nil {
		return 0, fmt.Errorf("sign in to the console: %w", err)
	}
	var each [6][]float64
	for range 5 {
		o, err := s.opened(page)
		if err != nil {
			return 0, err
		}
		for i, value := range []float64{o.kB, o.all, o.seen, o.largest, o.blocked, o.moved} {
			each[i] = append(each[i], value)
		}
	}
	s.opening = opening{median(each[0]), median(each[1]), median(each[2]), median(each[3]), median(each[4]), median(each[5])}
	return s.opening.largest, nil
}

func (s *stage) opened(page context.Context) (opening, error) {
	var mutex sync.Mutex
	var events []traceEvent
	ended := make(chan struct{})
	ctx, cancel := context.WithCancel(page)
	defer cancel()
	chromedp.ListenTarget(ctx, func(event any) {
		switch event := event.(type) {
		case *tracing.EventDataCollected:
			mutex.Lock()
			defer mutex.Unlock()
			for _, raw := range event.Value {
				var one traceEvent
				if json.Unmarshal(raw, &one) == nil { // events of other forms are of no interest
					events = append(events, one)
				}
			}
		case *tracing.EventTracingComplete:
			close(ended)
		}
	})
	if err := chromedp.Run(page, chromedp.Navigate("about:blank"), network.ClearBrowserCache(),
		tracing.Start().WithTransferMode(tracing.TransferModeReportEvents).WithTraceConfig(&tracing.TraceConfig{IncludedCategories: traced, ExcludedCategories: []string{"*"}}),
		chromedp.Navigate(s.address+"/"),
		chromedp.Poll(`document.querySelector("h1")?.textContent === "Overview" && !document.querySelector("main .n-skeleton")`, nil),
		// Until nothing has come and nothing has been done for a moment.
		chromedp.Evaluate(`new Promise(done => requestIdleCallback(() => setTimeout(done, 500)))`, nil, browser.Awaits),
		tracing.End()); err != nil {
		return opening{}, fmt.Errorf("trace how the console opens: %w", err)
	}
	<-ended
	mutex.Lock()
	defer mutex.Unlock()
	return openingOf(events, s.address+"/")
}

// openingOf reads the figures from a trace.
func openingOf(events []traceEvent, address string) (o opening, err error) {
	var began float64
	var process int
	for _, e := range events {
		if e.Name == "navigationStart" && e.Args.Data.DocumentURL == address {
			began, process = e.TS, e.PID
		}
	}
	if began == 0 {
		return o, fmt.Errorf("the trace has no navigation to %s", address)
	}
	for _, e := range events {
		since := (e.TS - began) / 1e6
		switch {
		case e.TS < began:
		case e.Name == "ResourceFinish":
			o.all += e.Args.Data.EncodedDataLength / 1000
		case e.PID != process:
		case e.Name == "firstContentfulPaint":
			o.seen = since
		case e.Name == "largestContentfulPaint::Candidate":
			o.largest = max(o.largest, since)
		case e.Name == "RunTask" && e.Dur > 50e3:
			o.blocked += (e.Dur - 50e3) / 1e6
		case e.Name == "LayoutShift":
			o.moved += e.Args.Data.Score
		}
	}
	for _, e := range events {
		if e.Name == "ResourceFinish" && e.TS >= began && (e.TS-began)/1e6 <= o.largest {
			o.kB += e.Args.Data.EncodedDataLength / 1000
		}
	}
	if o.kB == 0 || o.seen == 0 || o.largest == 0 {
		return o, fmt.Errorf("the trace tells too little: %+v", o)
	}
	return o, nil
}
