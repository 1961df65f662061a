package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

// runProblems is what a run has to tell of problems: those that it has opened and closed.
// What stood before it and still does is one line.
type runProblems struct{ opened, gone wire.Page[wire.Problem] }

// mostOfRun is how many problems of a run are named.
const mostOfRun = 10

func problemsOfRun(ctx context.Context, c *client.Client, run wire.Run) (of runProblems, err error) {
	if !run.Purpose.Writes() || run.Ended == nil {
		return of, nil
	}
	for _, part := range []struct {
		share string
		n     int
		into  *wire.Page[wire.Problem]
	}{{"new", run.Counts.ProblemsNew, &of.opened}, {"gone", run.Counts.ProblemsGone, &of.gone}} {
		if part.n == 0 {
			continue
		}
		if *part.into, err = c.Problems(ctx, url.Values{"run": {strconv.FormatInt(run.ID, 10)}, "share": {part.share}, "limit": {strconv.Itoa(mostOfRun)}}); err != nil {
			return of, err
		}
	}
	return of, nil
}

func (p runProblems) print(w io.Writer, run wire.Run) {
	if len(p.opened.Items) > 0 {
		fmt.Fprintf(w, "\nNew problems\n")
		printProblems(w, p.opened.Items)
		p.more(w, run, p.opened, "")
	}
	if len(p.gone.Items) > 0 {
		fmt.Fprintf(w, "\nGone\n")
		for _, one := range p.gone.Items {
			fmt.Fprintf(w, "  %s: %s\n", thingText(one.About, one.Name), one.Title)
		}
		p.more(w, run, p.gone, " --gone")
	}
	if n := run.Counts.ProblemsStanding; n > 0 {
		fmt.Fprintf(w, "\n%s from before: 'kambrel problems'\n", plural(n, "problem"))
	}
}

func (p runProblems) more(w io.Writer, run wire.Run, page wire.Page[wire.Problem], flag string) {
	if more := page.Total - len(page.Items); more > 0 {
		fmt.Fprintf(w, "  %d more: 'kambrel problems list --run %d%s'\n", more, run.ID, flag)
	}
}
