package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

// pagesOf lists what the console's pages ask for; %[1]d is a run that changed
// everybody, %[2]d a rehearsal, %[3]d a survey, %[4]s to %[5]s the last month.
const pagesOf = `/health
/runs
/runs?changed=true
/runs?cursor=100
/runs/%[1]d/changes?state=done&limit=100
/search?text=crew001234
/search?text=crew
/search?text=700
/health/trend
/report?from=%[4]s&to=%[5]s
/acts
/pins
/leavers
/kept
/object/history?text=crew001234@brisling.example
/problems/groups
/problems/kinds
/notices
/runs/%[1]d
/runs/%[1]d/changes
/runs/%[1]d/changes?operation=create&text=crew0001
/runs/%[1]d/changes?text=strand&limit=50
/objects
/objects?cursor=50
/objects?sort=-name
/objects?state=in-step
/objects?state=problem
/objects?state=suspended
/objects?state=not-synced
/objects?state=cloud-only
/objects?kind=group
/objects?text=crew0001
/objects?text=crew001234
/objects?text=nobody
/object?text=crew001234@brisling.example
/problems
/forecasts/%[2]d
/forecasts/%[2]d/unclaimed
/surveys/%[3]d
/surveys/%[3]d/findings
/directories
/settings/defaults/user
/formulas/functions
/agents
/directories/brisling/containers
/cloud
/settings/draft
/settings/revisions
/removals
/repairs
/objects?sort=login
/objects?sort=state
/objects?text=strand`

// pages asks for the data of every console page a few times, and returns the
// time within which 95 of 100 answers came.
func (s *stage) pages(ctx context.Context) (float64, error) {
	token, err := s.client.NewToken(ctx, wire.NewToken{Name: "bench", Role: wire.OperatorRole})
	if err != nil {
		return 0, err
	}
	get := func(path string) error {
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.address+"/api/v1"+path, nil)
		if err != nil {
			return err
		}
		request.Header.Set("Authorization", "Bearer "+token.Secret)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		if err == nil && response.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s answers %s: %.200s", path, response.Status, text)
		}
		return err
	}
	all := func(paths string) (times []float64, err error) {
		for _, path := range strings.Split(paths, "\n") {
			var own []float64
			for range tries {
				took, err := timed(func() error { return get(path) })
				if err != nil {
					return nil, err
				}
				own = append(own, took)
			}
			if middle := median(own); middle > 0.1 {
				fmt.Fprintf(os.Stderr, "bench:     %-48s %8.3f s\n", path, middle)
			}
			times = append(times, own...)
		}
		slices.Sort(times)
		return times, nil
	}
	times, err := all(fmt.Sprintf(pagesOf, s.runs[purpose.Sync], s.runs[purpose.Forecast], s.runs[purpose.Survey], time.Now().AddDate(0, 0, -30).UTC().Format(time.RFC3339), time.Now().UTC().Format(time.RFC3339)))
	if err != nil {
		return 0, err
	}
	s.slowest = times[len(times)-1]
	return slow(times), nil
}
