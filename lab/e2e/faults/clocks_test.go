package faults_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestClocksThatAreOff has directory, cloud and database live at another time than the service,
// ahead or behind: each change arrives by itself, what is done in the cloud is seen, agents are
// there, nothing waits for a time that has been or is to come, and a full run finds nothing.
func TestClocksThatAreOff(t *testing.T) {
	t.Parallel()
	const people = 12
	for name, o := range map[string]worldtest.Options{
		"ahead": {Clocks: map[string]time.Duration{"openldap": time.Hour, "cloud": 40 * time.Minute, "postgresql": 15 * time.Minute}},
		// PostgreSQL's own timers fail where libfaketime puts its clock back; see service/store.
		"behind": {NoSync: true, // so that changes are read by the directory's times
			Clocks: map[string]time.Duration{"openldap": -time.Hour, "cloud": -40 * time.Minute}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o.Database = true
			w := worldtest.NewWith(t, worldtest.LDIFPeople(people), o)
			d := worldtest.Document()
			d.Schedule.Live = "on"
			w.Activate(d)
			require.Equal(t, progress.InStep, w.Run(wire.NewRun{}).State)
			for i := range 4 {
				title := fmt.Sprintf("Mate %d", i)
				w.Set(worldtest.Crew(i), "title", title)
				w.Arrives(fmt.Sprintf("crew%05d@brisling.example", i), title)
			}
			w.Person("Nora Ny", map[string]string{"mail": "nora@brisling.example", "title": "Pilot"})
			w.Arrives("nora@brisling.example", "Pilot")
			w.ByHand("crew00007@brisling.example", "title", "By hand")
			w.Arrives("crew00007@brisling.example", "Hand")
			require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(worldtest.Crew(9), nil)))
			require.Eventually(t, func() bool { return w.User("crew00009@brisling.example")["active"] == false }, 30*time.Second, 20*time.Millisecond)

			health, err := w.Client.Health(t.Context())
			require.NoError(t, err)
			assert.Equal(t, "Everything is in step", health.Summary, "%+v", health.Attention)
			for _, agent := range health.Agents {
				assert.Equal(t, "online", agent.State)
			}
			require.NotNil(t, health.LastRun.Started)
			assert.WithinDuration(t, time.Now(), *health.LastRun.Started, time.Minute, "told by the service's own clock")
			full := w.Run(wire.NewRun{Purpose: purpose.Full})
			require.Equal(t, progress.InStep, full.State, "%+v", full)
			assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
			assert.Len(t, worldtest.Users(t, w.Address(), ""), people+1, "nobody twice")
		})
	}
}
