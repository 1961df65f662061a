package settings

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func at(t *testing.T, zone, text string) time.Time {
	t.Helper()
	location, err := time.LoadLocation(zone)
	require.NoError(t, err)
	parsed, err := time.ParseInLocation("2006-01-02 15:04", text, location)
	require.NoError(t, err)
	return parsed
}

func TestWhenTheNextRunIs(t *testing.T) {
	t.Parallel()
	office := &Hours{From: "06:00", To: "20:00", Days: []string{"mon", "tue", "wed", "thu", "fri"}}
	night := &Hours{From: "22:00", To: "05:00"}
	for name, c := range map[string]struct {
		schedule        Schedule
		last, now, want string // "" for none
	}{
		"after the interval":                       {Schedule{Every: "10m"}, "2026-11-30 12:00", "2026-11-30 12:03", "2026-11-30 12:10"},
		"one that was missed, once":                {Schedule{Every: "10m"}, "2026-11-30 09:00", "2026-11-30 12:03", "2026-11-30 09:10"},
		"the first one at once":                    {Schedule{Every: "10m"}, "", "2026-11-30 12:03", "2026-11-30 12:03"},
		"off":                                      {Schedule{Every: "off"}, "2026-11-30 12:00", "2026-11-30 12:03", ""},
		"within the hours":                         {Schedule{Every: "10m", Hours: office}, "2026-11-30 12:00", "2026-11-30 12:03", "2026-11-30 12:10"},
		"after the hours, with the next day":       {Schedule{Every: "10m", Hours: office}, "2026-11-30 19:55", "2026-11-30 19:57", "2026-12-01 06:00"},
		"missed before the hours":                  {Schedule{Every: "10m", Hours: office}, "2026-11-30 19:55", "2026-12-01 04:00", "2026-12-01 06:00"},
		"missed in the hours of a service away":    {Schedule{Every: "10m", Hours: office}, "2026-11-30 12:00", "2026-11-30 23:00", "2026-12-01 06:00"},
		"over the weekend":                         {Schedule{Every: "10m", Hours: office}, "2026-12-04 19:55", "2026-12-05 10:00", "2026-12-07 06:00"},
		"the first one waits for the hours":        {Schedule{Every: "10m", Hours: office}, "", "2026-12-05 10:00", "2026-12-07 06:00"},
		"over midnight":                            {Schedule{Every: "10m", Hours: night}, "2026-11-30 23:55", "2026-12-01 00:01", "2026-12-01 00:05"},
		"until the morning":                        {Schedule{Every: "10m", Hours: night}, "2026-12-01 04:55", "2026-12-01 04:56", "2026-12-01 22:00"},
		"live needs none":                          {Schedule{Every: "off", Live: "on"}, "2026-11-30 12:00", "2026-11-30 12:03", ""},
		"live, what was told out of hours":         {Schedule{Every: "off", Live: "on", Hours: office}, "2026-11-30 19:00", "2026-11-30 21:00", "2026-12-01 06:00"},
		"live, the hours have begun since":         {Schedule{Every: "off", Live: "on", Hours: office}, "2026-11-30 19:00", "2026-12-01 06:01", "2026-12-01 06:01"},
		"live, and a run was there in these hours": {Schedule{Every: "off", Live: "on", Hours: office}, "2026-12-01 06:01", "2026-12-01 12:00", ""},
	} {
		c.schedule.Zone = "Europe/Oslo"
		var last time.Time
		if c.last != "" {
			last = at(t, "Europe/Oslo", c.last)
		}
		next, is := c.schedule.Next(last, at(t, "Europe/Oslo", c.now))
		got := ""
		if is {
			got = next.In(c.schedule.Location()).Format("2006-01-02 15:04")
		}
		assert.Equal(t, c.want, got, name)
	}
}

func TestARunThatFailedIsTriedAgain(t *testing.T) {
	t.Parallel()
	live := Schedule{Every: "1h"}
	ended := at(t, "UTC", "2026-11-30 05:00")
	for failed, want := range map[int]time.Duration{1: 30 * time.Second, 2: time.Minute, 5: 8 * time.Minute, 6: 10 * time.Minute, 1000: 10 * time.Minute} {
		next, is := live.Retry(failed, ended)
		assert.True(t, is)
		assert.Equal(t, want, next.Sub(ended), "%d", failed)
	}
	_, is := live.Retry(0, ended)
	assert.False(t, is)
	_, is = Schedule{Every: "1h", Live: "off"}.Retry(1, ended)
	assert.False(t, is, "whoever has no live changes waits for the schedule")
	next, _ := Schedule{Every: "1h", Hours: &Hours{From: "06:00", To: "07:00"}, Zone: "UTC"}.Retry(1, ended)
	assert.Equal(t, time.Hour, next.Sub(ended), "not out of hours")
}

func TestTheNextFewRuns(t *testing.T) {
	t.Parallel()
	s := Schedule{Every: "10m", Hours: &Hours{From: "06:00", To: "06:15"}, Zone: "UTC"}
	var got []string
	for _, next := range s.Times(at(t, "UTC", "2026-11-30 05:00"), at(t, "UTC", "2026-11-30 05:30"), 3) {
		got = append(got, next.Format("2006-01-02 15:04"))
	}
	assert.Equal(t, []string{"2026-11-30 06:00", "2026-11-30 06:10", "2026-12-01 06:00"}, got)
	assert.Empty(t, Schedule{Every: "off"}.Times(time.Time{}, time.Now(), 3))
	assert.Len(t, Schedule{Every: "1s"}.Faults(), 1)
}

func TestWhenEverythingIsCompared(t *testing.T) {
	t.Parallel()
	_, is := Schedule{Every: "2m"}.NextFull(time.Now())
	assert.False(t, is)
	s := Schedule{Every: "2m", Full: "02:30", Zone: "Europe/Oslo"}
	for last, want := range map[string]string{
		"2026-11-30 02:30": "2026-12-01 02:30",
		"2026-11-30 02:29": "2026-11-30 02:30",
		"2026-11-30 14:00": "2026-12-01 02:30",
		"2026-03-28 03:00": "2026-03-29 03:30", // the night in which 02:30 is left out
		"2026-10-25 01:00": "2026-10-25 02:30", // and the one in which it comes twice
	} {
		next, is := s.NextFull(at(t, "Europe/Oslo", last))
		require.True(t, is)
		assert.Equal(t, want, next.Format("2006-01-02 15:04"), last)
	}
}

func TestSchedulesThatMakeNoSense(t *testing.T) {
	t.Parallel()
	v := &validation{}
	v.schedule(Schedule{Every: "2s", Live: "yes", Zone: "Atlantis", Full: "3", Hours: &Hours{From: "6:00", To: "6:00", Days: []string{"monday", "tue", "tue"}}})
	paths := map[string]bool{}
	for _, fault := range v.faults {
		paths[fault.Path] = true
	}
	for _, path := range []string{"schedule.every", "schedule.live", "schedule.zone", "schedule.full", "schedule.hours", "schedule.hours.from", "schedule.hours.to", "schedule.hours.days[0]", "schedule.hours.days[2]"} {
		assert.True(t, paths[path], path)
	}
	v = &validation{}
	v.schedule(Schedule{Every: "off", Full: "00:00", Zone: "UTC", Hours: &Hours{From: "22:00", To: "05:00"}})
	assert.Empty(t, v.faults)
}
