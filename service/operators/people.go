package operators

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/events"
	protocol "kambrel.example/kambrel/protocol/orders"
)

// What follows is of people who sign in to the cloud, and not here: the same agents say who they
// are, under the same limits.

// Proves tries somebody's password at their directory. Too many attempts are refused before
// anybody is asked.
func (o *Operators) Proves(ctx context.Context, ref entry.Ref, text, address string) (protocol.SignedIn, error) {
	who := "person " + ref.String() // no operator is called so
	if wait := o.attempts.wait(who, address, time.Now()); wait > 0 {
		return protocol.SignedIn{}, TooManyAttempts{wait}
	}
	agents, keys, err := o.keysOf(ctx, ref.Directory)
	if err != nil {
		return protocol.SignedIn{}, unanswered(ctx, ref.Directory, err)
	}
	binding := protocol.SignInBinding{Use: protocol.SignInUse, Directory: ref.Directory, Entry: ref.ID.String(), Expires: time.Now().Add(sealedFor).Unix()}
	sealed, err := events.Seal(keys, binding, events.Secret{Password: text})
	if err != nil {
		return protocol.SignedIn{}, fmt.Errorf("seal for the agents of %s: %w", ref.Directory, err)
	}
	said, err := o.ask(ctx, ref.Directory, agents, protocol.SignIn{Entry: &ref.ID, Groups: []entry.ID{}, Sealed: sealed})
	if err != nil {
		return protocol.SignedIn{}, unanswered(ctx, ref.Directory, err)
	}
	if said.Standing == password.StandsWell && !said.Proven {
		return protocol.SignedIn{}, problem.New(problem.SignInUnanswered, "%s: its agent is older than the service and tries no passwords of people.", ref.Directory)
	}
	if said.Standing == password.StandsWell {
		o.attempts.succeeded(who, address, time.Now())
		return said, nil
	}
	o.attempts.failed(who, address, time.Now())
	slog.Warn("a person's sign-in refused", logkey.Directory, ref.Directory, logkey.Address, address, logkey.Code, said.Standing, logkey.Detail, said.Detail)
	return said, nil
}

// Unknown slows down whoever tries logins that nobody has.
func (o *Operators) Unknown(login, address string) (time.Duration, bool) {
	who := "person " + login
	if wait := o.attempts.wait(who, address, time.Now()); wait > 0 {
		return wait, true
	}
	o.attempts.failed(who, address, time.Now())
	return 0, false
}

// Stands tells how somebody stands in their directory now.
func (o *Operators) Stands(ctx context.Context, ref entry.Ref) (protocol.SignedIn, error) {
	said, err := o.ask(ctx, ref.Directory, nil, protocol.SignIn{Entry: &ref.ID, Groups: []entry.ID{}})
	if err != nil {
		return said, unanswered(ctx, ref.Directory, err)
	}
	return said, nil
}

// WithTicket tells who has a login for whom a ticket was shown.
func (o *Operators) WithTicket(ctx context.Context, directory, login string) (protocol.SignedIn, error) {
	said, err := o.ask(ctx, directory, nil, protocol.SignIn{Name: login, Ticket: true, Groups: []entry.ID{}})
	if err != nil {
		return said, unanswered(ctx, directory, err)
	}
	return said, nil
}
