package directory

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

const (
	// pollBack is from how long ago changes count at the first look: an entry is changed by
	// the server's clock, which may be behind.
	pollBack = time.Hour
	// pollShare is how much of the time a directory may be asked, so that one that has no
	// index of times is not kept busy.
	pollShare = 20
)

// Poll is Watch for a directory that does not tell: it asks every so often whether something
// was changed, by uSNChanged on an AD-compatible server and by modifyTimestamp on others.
// What is deleted it does not see. Where neither can be read it ends with ErrNotWatched.
func (s *Session) Poll(ctx context.Context, dialect entry.Dialect, base string, every time.Duration, opened, changed func()) error {
	parsed, err := entry.ParseDN(base)
	if err != nil {
		return problem.Wrap(problem.BadInput, err, "base of the directory")
	}
	own, err := s.ownPath(dialect, parsed)
	if err != nil {
		return err
	}
	look := dialectOf(dialect).look(s, parsed)
	for first := true; ; first = false {
		began := time.Now()
		some, err := look(ctx, own)
		switch {
		case err != nil:
			return err
		case first: // it has seen how things are
			opened()
		case some:
			changed()
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(max(every, pollShare*time.Since(began))):
		}
	}
}

// look tells whether anything but the own account was changed since it looked last.
type look func(ctx context.Context, own string) (bool, error)

// lookByTime looks for times that it has not seen. They are of whole seconds: an entry that is
// changed once more within the second in which it was found shows nothing new, so what was
// found is told again when that second is over.
func (s *Session) lookByTime(base entry.DN) look {
	since := time.Now().Add(-pollBack).UTC().Format(stampForm)
	var seen map[string]string // times by distinguished names, from since on
	var found time.Time        // when something was, and has not been told again
	return func(ctx context.Context, own string) (bool, error) {
		if seen == nil {
			if _, err := s.shown(base.String(), "modifyTimestamp"); err != nil {
				return false, err
			}
		}
		newest, times, some := since, map[string]string{}, false
		began := time.Now()
		err := s.pages(ctx, base.String(), "(&"+standardFilter+"(modifyTimestamp>="+since+"))", []string{"modifyTimestamp"}, func(raw *ldap.Entry) error {
			stamp := raw.GetAttributeValue("modifyTimestamp")
			if path, err := entry.PathOf(raw.DN); err == nil && path == own {
				return nil
			}
			some = some || seen[raw.DN] != stamp
			times[raw.DN] = stamp
			if second, _, _ := strings.Cut(strings.TrimSuffix(stamp, "Z"), "."); second+"Z" > newest && len(second)+1 == len(stampForm) {
				newest = second + "Z"
			}
			return nil
		})
		if err != nil {
			return false, err
		}
		for dn, stamp := range times { // of what lies before, nothing is found again
			if stamp < strings.TrimSuffix(newest, "Z") {
				delete(times, dn)
			}
		}
		first := seen == nil
		since, seen = newest, times
		again := !found.IsZero() && began.Sub(found) > time.Second
		switch {
		case some:
			found = time.Now()
		case again:
			found = time.Time{}
		}
		return (some || again) && !first, nil
	}
}

// lookByUSN looks for what was changed after the highest number that the server had then.
func (s *Session) lookByUSN(base entry.DN) look {
	var highest int64
	return func(ctx context.Context, own string) (bool, error) {
		shown, err := s.shown("", "highestCommittedUSN")
		if err != nil {
			return false, err
		}
		now, err := strconv.ParseInt(shown[0], 10, 64)
		if err != nil {
			return false, fmt.Errorf("%w: highestCommittedUSN is no number", ErrNotWatched)
		}
		before := highest
		if highest = now; before == 0 || now == before {
			return false, nil
		}
		some := false
		err = s.pages(ctx, base.String(), fmt.Sprintf("(&%s(uSNChanged>=%d))", adFilter, before+1), []string{"1.1"}, func(raw *ldap.Entry) error {
			path, err := entry.PathOf(raw.DN)
			some = some || err != nil || path != own
			return nil
		})
		return some || now < before, err // another server, or one that was set back
	}
}
