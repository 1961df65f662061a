package checkup

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/settings"
)

var now = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// well is an installation of which nothing is to be said.
func well() Facts {
	yesterday := now.AddDate(0, 0, -1)
	return Facts{
		Version: "1.1", Linked: 600, Database: Database{Version: "15.8", Synced: true}, Backup: &yesterday, Live: true, LastRun: &Run{ID: 7, Ended: yesterday},
		Settings:  &settings.Document{Guard: settings.DefaultGuard(), Directories: []settings.Directory{{Name: "halvard"}}, Notices: settings.Notices{Webhook: "https://told.halvard.example"}},
		Agents:    []Agent{{Name: "a", Version: "1.1", Online: true, Serves: []string{"halvard"}}, {Name: "b", Version: "1.1", Online: true, Serves: []string{"halvard"}}},
		Operators: []Operator{{Name: "ingrid", Administrator: true, SecondFactor: true}, {Name: "safe", Administrator: true, Emergency: true}},
		Tokens:    []Token{{Name: "metrics", Made: now.AddDate(-1, 0, 0), Used: &yesterday, Expires: now.AddDate(1, 0, 0)}},
	}
}

// TestWhatIsNotWellIsNamed spoils one thing after the other: it is named with what to do, and
// nothing else is.
func TestWhatIsNotWellIsNamed(t *testing.T) {
	t.Parallel()
	for _, f := range Look(well(), now) {
		assert.Equal(t, Good, f.Outcome, "%s: %s", f.Step, f.Detail)
	}
	long := now.AddDate(0, -6, 0)
	for name, c := range map[string]struct {
		spoil   func(*Facts)
		step    string
		outcome Outcome
	}{
		"a certificate ends":          {func(f *Facts) { f.Certificates = []Certificate{{"directory halvard", now}} }, "certificates", Doubtful},
		"no TLS":                      {func(f *Facts) { f.Plain = true }, "certificates", Doubtful},
		"nothing reaches the disk":    {func(f *Facts) { f.Database.Synced = false }, "database", Bad},
		"clocks that are apart":       {func(f *Facts) { f.Database.Ahead = -time.Minute }, "database", Doubtful},
		"a superuser":                 {func(f *Facts) { f.Database.Superuser = true }, "database", Doubtful},
		"no backup":                   {func(f *Facts) { f.Backup = nil }, "backup", Doubtful},
		"an old backup":               {func(f *Facts) { f.Backup = &long }, "backup", Doubtful},
		"no guard":                    {func(f *Facts) { f.Settings.Guard.Share = 100 }, "settings", Bad},
		"few people for the guard":    {func(f *Facts) { f.Linked = 20 }, "settings", Bad},
		"a wide guard":                {func(f *Facts) { f.Settings.Guard.Share = 30 }, "settings", Doubtful},
		"an agent that asks for more": {func(f *Facts) { f.Agents[1].Asks = []string{"brisling"} }, "agent", Doubtful},
		"an agent that fails":         {func(f *Facts) { f.Agents[1].Faults = []string{"bind"} }, "agent", Bad},
		"an agent without TLS":        {func(f *Facts) { f.Agents[1].Plain = []string{"halvard"} }, "agent", Doubtful},
		"an older agent":              {func(f *Facts) { f.Agents[1].Version = "1.0" }, "agent", Doubtful},
		"one agent":                   {func(f *Facts) { f.Agents = f.Agents[:1] }, "agents", Doubtful},
		"no agent":                    {func(f *Facts) { f.Agents = nil }, "agents", Bad},
		"paused":                      {func(f *Facts) { f.Pauses = []string{"everything, by ingrid"} }, "work", Doubtful},
		"nothing starts a run":        {func(f *Facts) { f.Live = false }, "work", Doubtful},
		"never run":                   {func(f *Facts) { f.LastRun = nil }, "last run", Doubtful},
		"failed":                      {func(f *Facts) { f.LastRun.Failed = "The cloud cannot be reached" }, "last run", Bad},
		"late":                        {func(f *Facts) { f.LastRun.Ended, f.NextRun = long, &now }, "last run", Doubtful},
		"one administrator":           {func(f *Facts) { f.Operators = f.Operators[:1] }, "administrators", Doubtful},
		"no second factor":            {func(f *Facts) { f.Operators[0].SecondFactor = false }, "administrators", Doubtful},
		"a group that is gone":        {func(f *Facts) { f.Groups = []Group{{"CN=IT", true}} }, "operator group", Doubtful},
		"a token that ends":           {func(f *Facts) { f.Tokens[0].Expires = now.AddDate(0, 0, 9) }, "token", Doubtful},
		"a token that lies idle":      {func(f *Facts) { f.Tokens[0].Used = nil }, "token", Doubtful},
		"nobody is told":              {func(f *Facts) { f.Settings.Notices.Webhook = "" }, "notices", Doubtful},
		"notices are stuck":           {func(f *Facts) { f.Stuck = "the mail server refuses" }, "notices", Bad},
	} {
		facts := well()
		c.spoil(&facts)
		findings := Look(facts, now)
		assert.Equal(t, c.outcome, Worst(findings), name)
		var named []string
		for _, f := range findings {
			if f.Outcome != Good {
				named = append(named, f.Step)
				assert.NotEmpty(t, f.Advice, name)
			}
		}
		assert.Equal(t, []string{c.step}, named, name)
	}
	assert.Equal(t, Bad, Worst(Look(Facts{Database: Database{Synced: true}}, now)), "before the first activation")
}
