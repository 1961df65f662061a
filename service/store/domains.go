package store

import (
	"context"
	"fmt"
	"strings"
)

// LoginDomain is how people of the cloud are spread over a login domain.
type LoginDomain struct {
	Name    string
	People  int // in the cloud
	Active  int
	Linked  int // to an entry that takes part
	Digests int // of those: with a digest of the directory's password
}

// manyPeople is how many are counted; of more a part is looked at.
const manyPeople = 20_000

// LoginDomains counts people by the domain of their login. Of very many it looks at a part, and
// tells at how many of how many; the counts are then of all, estimated.
func (s Resources) LoginDomains(ctx context.Context) (domains []LoginDomain, looked, of int, err error) {
	var rows float64 // of all kinds, as PostgreSQL has learnt it
	if err := s.raw(ctx, `SELECT reltuples FROM pg_class WHERE oid = 'resources'::regclass`).Scan(&rows).Error; err != nil {
		return nil, 0, 0, err
	}
	sample, share := "", 1.0
	if rows > manyPeople {
		share = manyPeople / rows
		sample = fmt.Sprintf("TABLESAMPLE SYSTEM (%f)", 100*share)
	}
	if err := s.raw(ctx, `SELECT coalesce(r.domain, '') AS name, count(*) AS people, count(*) FILTER (WHERE r.active) AS active, count(l.resource_id) AS linked, count(d.entry_id) AS digests
		FROM (SELECT id, active, lower(substring(login FROM '@([^@]*)$')) AS domain FROM resources `+sample+` WHERE kind = 'user') r
		LEFT JOIN links l ON l.resource_id = r.id AND l.left_at IS NULL
		LEFT JOIN password_digests d ON d.directory = l.directory AND d.entry_id = l.entry_id AND d.sent <> '' AND d.sent = d.mark AND d.fault = ''
		GROUP BY 1 ORDER BY 1`).Scan(&domains).Error; err != nil {
		return nil, 0, 0, err
	}
	for _, d := range domains {
		looked += d.People
	}
	if sample == "" {
		return domains, looked, looked, nil
	}
	scale := func(n int) int { return int(float64(n)/share + 0.5) }
	of = scale(looked)
	for i, d := range domains {
		domains[i] = LoginDomain{d.Name, scale(d.People), scale(d.Active), scale(d.Linked), scale(d.Digests)}
	}
	return domains, looked, of, nil
}

// WaitingLogins counts by domain whose login ends in one that the cloud has not verified.
func (s Problems) WaitingLogins(ctx context.Context, code string) (map[string]int, error) {
	var rows []struct {
		Name  string
		Count int
	}
	if err := s.raw(ctx, `SELECT coalesce(lower(substring(facts->>'value' FROM '@([^@]*)$')), '') AS name, count(*) AS count FROM problems WHERE closed IS NULL AND code = (@code)::text GROUP BY 1`,
		map[string]any{"code": code}).Scan(&rows).Error; err != nil {
		return nil, err
	}
	waiting := map[string]int{}
	for _, r := range rows {
		waiting[r.Name] = r.Count
	}
	return waiting, nil
}

// ByLogin is the id of the one resource that has a login, "" where nobody or several have it.
func (s Resources) ByLogin(ctx context.Context, login string) (string, error) {
	var ids []string
	err := s.raw(ctx, `SELECT id FROM resources WHERE keys && ARRAY[(@key)::text] AND kind = 'user' LIMIT 2`, map[string]any{"key": "userName=" + strings.ToLower(login)}).Scan(&ids).Error
	if err != nil || len(ids) != 1 {
		return "", err
	}
	return ids[0], nil
}
