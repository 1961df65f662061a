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
	err := s.raw(ctx, `SELECT
		count(*) FILTER (WHERE kind = 'user') AS linked,
		count(*) FILTER (WHERE kind = 'group') AS groups,
		count(*) FILTER (WHERE kind = 'contact') AS contacts,
		count(*) FILTER (WHERE kind = 'user' AND left_at IS NOT NULL) AS suspended,
		(SELECT count(*) FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)) AS cloud_only,
		(SELECT count(*) FROM dirty) AS dirty FROM links`).Scan(&c).Error
	return c, err
}

// CountPeople counts the people of each directory.
func (s Entries) CountPeople(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Directory string
		N         int
	}
	if err := s.raw(ctx, `SELECT directory, count(*) AS n FROM entries WHERE kind = 'user' AND gone IS NULL GROUP BY directory`).Scan(&rows).Error; err != nil {
		return nil, err
	}
	counts := map[string]int{}
	for _, row := range rows {
		counts[row.Directory] = row.N
	}
	return counts, nil
}
