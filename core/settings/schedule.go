package settings

import (
	"fmt"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on hosts that have no list of their own, too

	"kambrel.example/kambrel/core/problem"
)

// Schedule says when runs start by themselves.
type Schedule struct {
	Every string `json:"every" yaml:"every"` // a duration such as 2m, or "off"
	// Live lets agents watch their directories, so that a change starts a run at once: on
	// or off; without it on, unless runs are started by hand only.
	Live string `json:"live,omitempty" yaml:"live,omitempty"`
	// Hours are those within which runs start by themselves, nil for all.
	Hours *Hours `json:"hours,omitempty" yaml:"hours,omitempty"`
	// Full is when each day a run reads and compares everything, such as 03:00; "" for never.
	// It does not heed the hours.
	Full string `json:"full,omitempty" yaml:"full,omitempty"`
	// Zone is where the times are, such as Europe/Oslo; without it where the service runs.
	Zone string `json:"zone,omitempty" yaml:"zone,omitempty"`
}

// Hours are a part of the day on some days of the week. Where To is not after From it is on
// the next day.
type Hours struct {
	From string   `json:"from" yaml:"from"` // such as 06:00
	To   string   `json:"to" yaml:"to"`
	Days []string `json:"days,omitempty" yaml:"days,omitempty"` // on which they begin: mon, tue, ...; none for all
}

// Days of the week, as hours name them.
var Days = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ShortestInterval is the least time between scheduled runs.
const ShortestInterval = 10 * time.Second

// IsLive tells whether a change in a directory starts a run.
func (s Schedule) IsLive() bool { return s.Live == "on" || s.Live == "" && s.Every != "off" }

// Interval returns the time between scheduled runs, 0 when they are off. The
// document must be valid.
func (s Schedule) Interval() time.Duration {
	if s.Every == "off" {
		return 0
	}
	interval, _ := time.ParseDuration(s.Every)
	return interval
}

// Location is where the times are. The document must be valid.
func (s Schedule) Location() *time.Location {
	if s.Zone == "" {
		return time.Local
	}
	location, err := time.LoadLocation(s.Zone)
	if err != nil {
		return time.Local
	}
	return location
}

// window is from when to when the hours last that begin on a day.
func (s Schedule) window(day time.Time) (from, to time.Time, is bool) {
	h := s.Hours
	if len(h.Days) > 0 && !slices.Contains(h.Days, Days[day.Weekday()]) {
		return from, to, false
	}
	from, _ = clock(day, h.From)
	if to, _ = clock(day, h.To); !to.After(from) {
		to, _ = clock(day.AddDate(0, 0, 1), h.To)
	}
	return from, to, true
}

// clock is a time of a day, such as 06:00; the day itself and false where it is none.
func clock(day time.Time, text string) (time.Time, bool) {
	at, err := time.Parse("15:04", text)
	if err != nil {
		return day, false
	}
	return time.Date(day.Year(), day.Month(), day.Day(), at.Hour(), at.Minute(), 0, 0, day.Location()), true
}

// Within tells whether a time lies within the hours.
func (s Schedule) Within(at time.Time) bool { return s.open(at).Equal(at) }

// open is the time itself where it lies within the hours, else when they begin next.
func (s Schedule) open(at time.Time) time.Time {
	if s.Hours == nil {
		return at
	}
	local := at.In(s.Location())
	for ahead := -1; ahead <= 8; ahead++ { // those of yesterday may still last
		from, to, is := s.window(local.AddDate(0, 0, ahead))
		switch {
		case !is || !at.Before(to):
		case at.Before(from):
			return from
		default:
			return at
		}
	}
	return at
}

// Next is when a run is to start that brings in step what has changed; false when none
// does. last is when the latest run was asked for, zero when there was none. What should
// have started before now is made up once: it starts at once, or when the hours begin.
func (s Schedule) Next(last, now time.Time) (time.Time, bool) {
	next := now
	switch {
	case s.Interval() == 0 && (!s.IsLive() || s.Hours == nil):
		return now, false // nothing is missed: whoever watches tells
	case last.IsZero():
	case s.Interval() == 0: // what was told out of hours is read when they begin
		if s.Within(now) && s.sameHours(last, now) {
			return now, false
		}
	default:
		next = last.Add(s.Interval())
	}
	if next.Before(now) && !s.Within(now) {
		next = now
	}
	return s.open(next), true
}

const (
	firstRetry   = 30 * time.Second
	longestRetry = 10 * time.Minute
)

// Retry is when a run is to start since the latest ones have failed, so many one after the
// other, where changes start runs: what they were to bring would else wait for the schedule.
func (s Schedule) Retry(failed int, ended time.Time) (time.Time, bool) {
	if failed == 0 || !s.IsLive() {
		return ended, false
	}
	pause := longestRetry
	if failed < 6 {
		pause = min(firstRetry<<(failed-1), longestRetry)
	}
	return s.open(ended.Add(pause)), true
}

// sameHours tells whether no hours begin between two times.
func (s Schedule) sameHours(from, to time.Time) bool {
	local := to.In(s.Location())
	for back := range 9 {
		if began, _, is := s.window(local.AddDate(0, 0, -back)); is && !began.After(to) {
			return !from.Before(began)
		}
	}
	return true
}

// NextFull is when a run is to start that compares everything; false when none does. last
// is when the latest such run was asked for, or since when the schedule is as it is. Of
// those that were missed one is made up.
func (s Schedule) NextFull(last time.Time) (time.Time, bool) {
	if s.Full == "" {
		return time.Time{}, false
	}
	local := last.In(s.Location())
	at, is := clock(local, s.Full)
	if !at.After(last) {
		at, is = clock(local.AddDate(0, 0, 1), s.Full)
	}
	return at, is
}

// Times are when the schedule starts the next runs from a time on, as many as asked, with the
// latest run asked for at last; none where it is not valid or starts none.
func (s Schedule) Times(last, now time.Time, many int) []time.Time {
	times := []time.Time{}
	for len(times) < many {
		next, is := s.Next(last, now)
		if !is {
			return times
		}
		if next.Before(now) {
			next = now
		}
		times = append(times, next)
		last, now = next, next
	}
	return times
}

// Faults are what is wrong with the schedule.
func (s Schedule) Faults() []problem.Fault {
	v := &validation{faults: []problem.Fault{}}
	v.schedule(s)
	return v.faults
}

func (v *validation) schedule(s Schedule) {
	if s.Live != "" && s.Live != "on" && s.Live != "off" {
		v.add("schedule.live", "%q is neither on nor off", s.Live)
	}
	if s.Every != "off" {
		interval, err := time.ParseDuration(s.Every)
		if err != nil {
			v.add("schedule.every", "%q is no duration; write 30s, 2m or 1h, or off", s.Every)
		} else if interval < ShortestInterval {
			v.add("schedule.every", "%s is too short; the shortest interval is %s", interval, ShortestInterval)
		}
	}
	if s.Zone != "" {
		if _, err := time.LoadLocation(s.Zone); err != nil || s.Zone == "Local" {
			v.add("schedule.zone", "%q is no time zone; write one such as Europe/Oslo or UTC, or leave it out", s.Zone)
		}
	}
	v.clock("schedule.full", s.Full, s.Full == "")
	if s.Hours == nil {
		return
	}
	v.clock("schedule.hours.from", s.Hours.From, false)
	v.clock("schedule.hours.to", s.Hours.To, false)
	if s.Hours.From == s.Hours.To {
		v.add("schedule.hours", "%s to %s is no time at all; leave hours out for the whole day", s.Hours.From, s.Hours.To)
	}
	seen := map[string]bool{}
	for i, day := range s.Hours.Days {
		switch path := fmt.Sprintf("schedule.hours.days[%d]", i); {
		case !slices.Contains(Days, day):
			v.add(path, "%q is no day; write one of %s", day, strings.Join(Days, ", "))
		case seen[day]:
			v.add(path, "%s stands twice", day)
		}
		seen[day] = true
	}
}

// clock checks a time of the day.
func (v *validation) clock(path, text string, none bool) {
	if _, err := time.Parse("15:04", text); !none && (err != nil || len(text) != len("15:04")) {
		v.add(path, "%q is no time of the day; write it as in 06:00", text)
	}
}
