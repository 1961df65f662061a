// Package budget says how many requests a minute a cloud takes. It learns that where the
// cloud answers that it was too much (429, RFC 6585 section 4), shares what is left
// between what is urgent and what is much, and tells how long work takes by it.
package budget

import (
	"cmp"
	"fmt"
	"math"
	"time"
)

// Budget is what is known of the limit, and what may be sent at once. The zero value
// knows of no limit.
type Budget struct {
	PerMinute float64 // when it was learned
	// Window is by what time the cloud seems to count: a minute or less.
	Window  time.Duration
	Learned time.Time // when the cloud last said that it was too much
	Left    float64   // requests that may be sent at once, as of At
	At      time.Time
	// Words are how often the cloud has said so lately, although less was sent each time.
	Words int
}

const (
	// least is the lowest limit in requests a minute that is learned.
	least = 10
	// margin is how much of what was too much is sent from then on, and shortMargin the same
	// where the cloud counts by seconds: what is sent at once weighs more there.
	margin, shortMargin = 0.9, 0.75
	// growth is by how much the limit is raised with each minute in which it was not too
	// much: a cloud that was busy is busy no more.
	growth = 1.1
	// forgotten is after how long without a word a limit that was learned counts no more.
	forgotten = time.Hour
	// minute is the window of most limits.
	minute = time.Minute
	// short is how long a cloud asks to wait whose window is shorter than a minute.
	short = 5 * time.Second
	// atOnce is for which part of the window requests may be sent in one go.
	atOnce = 6
	// leastAtOnce lets a low limit be shared too.
	leastAtOnce = 4
	// urgent is which part of that only urgent requests take.
	urgent = 0.25
	// together is within which time words of the cloud are one, said to several workers.
	together = 5 * time.Second
	// lately is how soon after the one before a word is not explained by a limit that has
	// grown again.
	lately = 30 * time.Second
	// mostWords is after how many of them the limit is not believed in: the cloud refuses
	// for another cause, and only the pauses that it asks for are kept.
	mostWords = 3
)

// Rate is how many requests a minute may be sent at a time, 0 for no limit. fixed is the
// limit that operators have set, 0 for none.
func (b Budget) Rate(now time.Time, fixed int) float64 {
	rate := 0.0
	if since := now.Sub(b.Learned); b.PerMinute > 0 && since < forgotten {
		rate = b.PerMinute * math.Pow(growth, max(since.Minutes(), 0))
	}
	if fixed > 0 && (rate == 0 || rate > float64(fixed)) {
		rate = float64(fixed)
	}
	return rate
}

// Take asks for some requests and returns how many are granted; where none are, how long
// to wait before asking again. Those of what is much leave some to what is urgent.
func (b Budget) Take(now time.Time, fixed, want int, much bool) (left Budget, granted int, wait time.Duration) {
	rate := b.Rate(now, fixed)
	if rate == 0 {
		return b, want, 0
	}
	most := max(rate*(cmp.Or(b.Window, minute)/atOnce).Minutes(), leastAtOnce)
	b.Left = min(b.Left+rate*max(now.Sub(b.At).Minutes(), 0), most)
	if b.At.IsZero() {
		b.Left = most
	}
	b.At = now
	usable := b.Left
	if much {
		usable -= most * urgent
	}
	granted = min(want, int(max(usable, 0)))
	b.Left -= float64(granted)
	if granted == 0 {
		wait = max(time.Duration((1-usable)/rate*float64(time.Minute)), time.Millisecond)
	}
	return b, granted, wait
}

// TooMuch learns from the cloud's word that it was too much. sent tells how many requests
// were sent within the time before, and pause is how long the cloud asks to wait, 0 where
// it does not say.
func (b Budget) TooMuch(now time.Time, fixed int, sent func(within time.Duration) int, pause time.Duration) Budget {
	b.Left, b.At = 0, now
	if now.Sub(b.Learned) < together {
		return b
	}
	if b.Words++; now.Sub(b.Learned) > lately {
		b.Words = 1
	}
	if b.Words > mostWords {
		b.PerMinute, b.Learned = 0, now
		return b
	}
	window, margin := minute, margin
	if pause > 0 && pause <= short {
		window, margin = max(pause, time.Second), shortMargin
	}
	measured := float64(sent(window)) / window.Minutes() * margin
	if rate := b.Rate(now, fixed); rate > 0 {
		measured = min(max(measured, rate/2), rate*margin) // others may have sent some of it
	}
	b.PerMinute, b.Learned, b.Window = max(measured, least), now, window
	return b
}

// Takes is how long requests take at a rate, 0 where there is no limit.
func Takes(requests int, perMinute float64) time.Duration {
	if perMinute <= 0 {
		return 0
	}
	return time.Duration(float64(requests) / perMinute * float64(time.Minute))
}

// About puts a time into words that promise no more than is known.
func About(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "less than a minute"
	case d < 90*time.Second:
		return "about a minute"
	case d < 2*time.Hour:
		return fmt.Sprintf("about %d minutes", int(d.Round(time.Minute).Minutes()))
	}
	return fmt.Sprintf("about %d hours", int(d.Round(time.Hour).Hours()))
}
