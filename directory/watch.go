package directory

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// ErrNotWatched says that a directory has no way to tell of changes as they come.
var ErrNotWatched = errors.New("the directory does not tell of changes as they come")

const (
	askStill     = 30 * time.Second // whether a watched directory still answers
	stillPatient = 10 * time.Second
	// watchBuffer is how many entries wait to be counted; what they are plays no part.
	watchBuffer = 256
)

// Watch calls opened once the directory was asked, and then changed for whatever changes
// beneath base, until ctx ends or the connection breaks, which is an error. It tells that something has changed and never what: a read by
// cookie finds that, also what changed while nobody watched. It must be the session's only
// use.
func (s *Session) Watch(ctx context.Context, dialect entry.Dialect, base string, opened, changed func()) error {
	parsed, err := entry.ParseDN(base)
	if err != nil {
		return problem.Wrap(problem.BadInput, err, "base of the directory")
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	s.conn.SetTimeout(0) // the search is answered for as long as it is watched
	go s.askStill(ctx, cancel)
	own, err := s.ownPath(dialect, parsed)
	if err != nil {
		return err
	}
	response, err := dialectOf(dialect).watch(ctx, s, parsed)
	if err != nil {
		return err
	}
	opened()
	for response.Next() {
		// A sign-in is a change of the account that signs in. That of the agent itself would
		// start a read, which signs in again.
		if e := response.Entry(); e != nil {
			if path, err := entry.PathOf(e.DN); err != nil || path != own {
				changed()
			}
		}
	}
	switch {
	case context.Cause(ctx) != nil:
		return context.Cause(ctx)
	case notOffered(response.Err()):
		return fmt.Errorf("%w: %w", ErrNotWatched, plain(response.Err()))
	case response.Err() != nil:
		return refused(response.Err(), "watch %s", base)
	}
	return problem.New(problem.DirectoryUnreachable, "the connection ended while %s was watched", base)
}

// ownPath is the path of the account with which the session signed in, "" where it cannot be
// found.
func (s *Session) ownPath(dialect entry.Dialect, base entry.DN) (string, error) {
	if path, err := entry.PathOf(s.connection.BindDN); err == nil && strings.Contains(s.connection.BindDN, "=") {
		return path, nil
	}
	if dialect != entry.AD { // only there a sign-in takes other names
		return "", nil
	}
	root, err := s.namingContext(base)
	if err != nil {
		return "", err
	}
	name := ldap.EscapeFilter(s.connection.BindDN)
	if _, account, found := strings.Cut(name, `\5c`); found { // DOMAIN\account
		name = account
	}
	account, _, _ := strings.Cut(name, "@")
	result, err := s.conn.Search(search(root, fmt.Sprintf("(|(userPrincipalName=%s)(sAMAccountName=%s))", name, account), []string{"1.1"}))
	if err != nil {
		return "", refused(err, "find the account of the agent")
	}
	if len(result.Entries) != 1 {
		return "", nil
	}
	return entry.PathOf(result.Entries[0].DN)
}

// shown are the values of an attribute of one entry, "" being the root of the directory; it is
// ErrNotWatched that there are none.
func (s *Session) shown(dn, attribute string) ([]string, error) {
	result, err := s.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{attribute}})
	if err != nil {
		return nil, refused(err, "read %s of %q", attribute, dn)
	}
	if len(result.Entries) == 0 || result.Entries[0].GetAttributeValue(attribute) == "" {
		return nil, fmt.Errorf("%w: it shows no %s", ErrNotWatched, attribute)
	}
	return result.Entries[0].GetAttributeValues(attribute), nil
}

// askStill ends a watch whose directory does not answer any more: nothing else would come of
// a connection that is silently gone.
func (s *Session) askStill(ctx context.Context, end context.CancelCauseFunc) {
	ticker := time.NewTicker(askStill)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		answered := make(chan error, 1)
		go func() {
			request := search("", "(objectClass=*)", []string{"1.1"})
			request.Scope = ldap.ScopeBaseObject
			_, err := s.conn.Search(request)
			answered <- err
		}()
		var err error
		select {
		case <-ctx.Done():
			return
		case err = <-answered:
		case <-time.After(stillPatient):
			err = problem.New(problem.DirectoryUnreachable, "it does not answer any more")
		}
		if err != nil {
			end(err)
			_ = s.conn.Close()
			return
		}
	}
}
