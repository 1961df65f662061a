package directory

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/go-ldap/ldap/v3"
)

// stream is an answer of many messages, of which only the time between them is bounded: how
// long all of it takes depends on how large the directory is, and on who takes it.
type stream struct {
	ldap.Response
	ctx    context.Context
	cancel context.CancelCauseFunc
	conn   *ldap.Conn
	silent time.Duration // for how long nothing may come
}

// stream asks for an answer of many messages; end it when it is done with.
func (s *Session) stream(ctx context.Context, ask func(context.Context) ldap.Response) *stream {
	ctx, cancel := context.WithCancelCause(ctx)
	s.conn.SetTimeout(0) // the library would bound all of it
	return &stream{Response: ask(ctx), ctx: ctx, cancel: cancel, conn: s.conn, silent: cmp.Or(s.silent, requestTimeout)}
}

// Next waits for a message.
func (s *stream) Next() bool {
	timer := time.AfterFunc(s.silent, func() {
		s.cancel(ldap.NewError(ldap.ErrorNetwork, fmt.Errorf("nothing more came for %s", s.silent)))
	})
	defer timer.Stop()
	return s.Response.Next()
}

// Err is why there is no message more, nil at the end of the answer.
func (s *stream) Err() error {
	if cause := context.Cause(s.ctx); cause != nil && ldap.IsErrorWithCode(cause, ldap.ErrorNetwork) {
		return cause
	}
	return s.Response.Err()
}

func (s *stream) end() {
	s.cancel(nil)
	s.conn.SetTimeout(requestTimeout)
}
