package setup_test

import (
	"compress/gzip"
	"context"
	"io"
	"net/url"
	"os"
	"strconv"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/wire"
)

// passwordBefore is that of the administrator in the dump, a demo that is gone.
const passwordBefore = "2UJCLINNDY5COOHWDJYZ5F7GFH"

// TestADatabaseOfTheVersionBeforeIsTakenOver starts the service on a dump that was
// made of a demo before person rules and purposes had their names: what it held is
// there after the upgrade, under the new ones.
func TestADatabaseOfTheVersionBeforeIsTakenOver(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	lab := serverstest.New(t)
	lab.Many = true
	postgres, err := lab.StartPostgres(ctx, 0, true)
	require.NoError(t, err)
	dsn, err := postgres.Create(ctx, "kambrel")
	require.NoError(t, err)
	db, err := pgx.Connect(ctx, dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close(context.Background()) })
	file, err := os.Open("testdata/before.sql.gz")
	require.NoError(t, err)
	defer file.Close()
	packed, err := gzip.NewReader(file)
	require.NoError(t, err)
	dump, err := io.ReadAll(packed)
	require.NoError(t, err)
	_, err = db.PgConn().Exec(ctx, string(dump)).ReadAll()
	require.NoError(t, err)
	_, err = db.Exec(ctx, `SET search_path = public`)
	require.NoError(t, err)
	tables := []string{"entries", "resources", "links", "problems", "changes", "decisions", "settings_revisions", "claims", "findings", "repair_items", "memberships", "operators", "agents"}
	rows := func(table string) (n int) {
		require.NoError(t, db.QueryRow(ctx, `SELECT count(*) FROM `+table+map[string]string{"problems": " WHERE entry_id IS NOT NULL"}[table]).Scan(&n), table)
		return n
	}
	count := func() map[string]int {
		counts := map[string]int{}
		for _, table := range tables {
			counts[table] = rows(table)
		}
		return counts
	}
	audited := rows("audit")
	before := count()
	require.Greater(t, before["links"], 300)

	cloud, err := lab.StartCloud(ctx, worldtest.Raced.Lab, 0, []string{"halvard.example"})
	require.NoError(t, err)
	w := &worldtest.World{T: t, Lab: lab, Programs: worldtest.Raced, DSN: dsn, Cloud: cloud, SCIMURL: cloud.URL}
	w.Port, err = servers.FreePort(0)
	require.NoError(t, err)
	w.URL = "http://127.0.0.1:" + strconv.Itoa(w.Port)
	w.StartService()
	assert.Equal(t, before, count(), "nothing is lost on the way")

	c, _, err := client.Login(ctx, w.URL, wire.Credentials{Name: "administrator", Password: passwordBefore})
	require.NoError(t, err)
	active, err := c.Settings(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, active.Revision)
	person := []settings.PersonRule{{Name: "same employee number", Formula: "first([entry.employeeID, entry.employeeNumber])"}}
	assert.Equal(t, person, active.Document.Users.Person)
	draft, err := c.Draft(ctx)
	require.NoError(t, err)
	assert.NotZero(t, draft.Version)
	assert.Equal(t, person, draft.Document.Users.Person)
	assert.Empty(t, draft.Faults)

	runs, err := c.Runs(ctx, url.Values{})
	require.NoError(t, err)
	purposes, changes := map[int64]purpose.Purpose{}, 0
	for _, run := range runs.Items {
		if run.ID <= 9 { // the schedule may have begun another
			purposes[run.ID] = run.Purpose
		}
		if run.ID == 1 {
			changes = run.Counts.Changes
		}
	}
	assert.Equal(t, map[int64]purpose.Purpose{1: "sync", 2: "forecast", 3: "survey", 4: "survey", 5: "sync", 6: "sync", 7: "sync", 8: "impact", 9: "sync"}, purposes)
	assert.Equal(t, 610, changes)
	held, err := c.Changes(ctx, 9, url.Values{"state": {"held"}})
	require.NoError(t, err)
	assert.Equal(t, 60, held.Total)
	forecast, err := c.Forecast(ctx, 2)
	require.NoError(t, err)
	rules := map[string]int{}
	for _, outcome := range forecast.Outcomes {
		rules[outcome.Rule] += outcome.Count
	}
	assert.NotEmpty(t, rules)

	acts, err := c.Acts(ctx, url.Values{"limit": {"500"}})
	require.NoError(t, err)
	assert.Equal(t, audited+1, acts.Total, "and who has just signed in")
	for _, a := range acts.Items {
		assert.NotEqual(t, string(a.Kind), a.Title, "%s is an act of today", a.Kind)
	}

	problems, err := c.Problems(ctx, url.Values{"limit": {"500"}, "about": {"entry"}})
	require.NoError(t, err)
	assert.Equal(t, before["problems"], problems.Total)
	of := problems.Items[0]
	object, err := c.Object(ctx, of.EntryID)
	require.NoError(t, err)
	require.NotNil(t, object.Problem)
	assert.Equal(t, of.Code, object.Problem.Code)
	assert.Equal(t, of.Code, object.Why.Code, "and it is explained as it was")
}
