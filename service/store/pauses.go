package store

import (
	"context"

	"kambrel.example/kambrel/core/pause"
)

// Pauses are what operators have stopped.
type Pauses struct{ *session }

// stillPaused holds for a pause whose time has not come.
const stillPaused = `(until IS NULL OR until > now())`

// Allow refuses what one of the pauses stops that hold now.
func (s Pauses) Allow(ctx context.Context, stops func(pause.All) (pause.Pause, bool)) error {
	all, err := s.Now(ctx)
	if err != nil {
		return err
	}
	if p, stopped := stops(all); stopped {
		return p.Problem()
	}
	return nil
}

// Now are those that hold.
func (s Pauses) Now(ctx context.Context) (pause.All, error) {
	all := pause.All{}
	return all, s.raw(ctx, `SELECT * FROM pauses WHERE `+stillPaused+` ORDER BY of <> 'everything', since, of, directory`).Scan(&all).Error
}

// Set stops something, or tells anew why and until when.
func (s Pauses) Set(ctx context.Context, p pause.Pause) error {
	if _, err := s.exec(ctx, `INSERT INTO pauses (of, directory, by, reason, until) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (of, directory) DO UPDATE SET by = excluded.by, reason = excluded.reason, until = excluded.until`, string(p.Of), p.Directory, p.By, p.Reason, p.Until); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "pause"})
}

// End takes pauses away and returns them: the one of what is given, or, of nothing, those
// whose time has come.
func (s Pauses) End(ctx context.Context, of pause.Of, directory string) (pause.All, error) {
	ended := pause.All{}
	if err := s.raw(ctx, `DELETE FROM pauses WHERE CASE WHEN @of = '' THEN until <= now() ELSE of = @of AND directory = @directory END RETURNING *`,
		map[string]any{"of": string(of), "directory": directory}).Scan(&ended).Error; err != nil || len(ended) == 0 {
		return ended, err
	}
	return ended, s.Notify(ctx, Event{Kind: "pause"})
}
