package store

import (
	"context"
)

// ObjectCounts tells how many objects are where.
type ObjectCounts struct {
	Entries   int // people in the directories
	Linked    int // people with a resource
	Suspended int // of these, those who left
	Groups    int
	Contacts  int
	CloudOnly int // resources that no entry owns
	Dirty     int // entries that the next run looks at
}

// Count counts what is where, but for the entries.
func (s Search) Count(ctx context.Context) (ObjectCounts, error) {
	var c ObjectCounts
	// Each of them is counted along an index.
	err := s.raw(ctx, `WITH others AS (SELECT count(*) FILTER (WHERE kind = 'group') AS groups, count(*) FILTER (WHERE kind = 'contact') AS contacts FROM links WHERE kind <> 'user')
		SELECT (SELECT count(*) FROM links) - groups - contacts AS linked, groups, contacts,
			(SELECT count(*) FROM links WHERE kind = 'user' AND left_at IS NOT NULL) AS suspended,
			(SELECT count(*) FROM loose_resources) AS cloud_only,
			(SELECT count(*) FROM dirty) AS dirty FROM others`).Scan(&c).Error
	return c, err
}

// CountPeople counts the people of each directory.
func (s Entries) CountPeople(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Directory string
		N         int
	}
	if err := s.raw(ctx, `SELECT directory, sum(n) AS n FROM container_counts WHERE kind = 'user' GROUP BY directory`).Scan(&rows).Error; err != nil {
		return nil, err
	}
	counts := map[string]int{}
	for _, row := range rows {
		counts[row.Directory] = row.N
	}
	return counts, nil
}
