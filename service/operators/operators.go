// Package operators is who may use the interface: people who sign in, their
// sessions, and tokens for programs. Passwords and secrets are kept as hashes
// alone, and every act is audited in the transaction in which it is done.
package operators

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/sync/singleflight"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/orders"
	"kambrel.example/kambrel/service/store"
)

// SessionTime is how long a session lasts.
const SessionTime = 12 * time.Hour

// Operators knows who may do what. Its methods may be called from many goroutines.
type Operators struct {
	store      *store.Store
	orders     *orders.Orders
	attempts   attempts
	confirming singleflight.Group
	silent     sync.Map // by directory, when last nobody answered for it
}

// New makes one.
func New(s *store.Store, desk *orders.Orders) *Operators { return &Operators{store: s, orders: desk} }

// Caller is who makes a request.
type Caller struct {
	wire.Session
	TokenID  string
	SignedIn bool // an operator in a session, not a program with a token
}

// Identify finds out whose a secret is; false says nobody's. address is where the request
// comes from.
func (o *Operators) Identify(ctx context.Context, secret, address string) (Caller, bool, error) {
	token, err := o.store.Operators.TokenBySecret(ctx, secret)
	if store.NotFound(err) {
		return Caller{}, false, nil
	}
	if err != nil {
		return Caller{}, false, err
	}
	if still, err := o.confirm(ctx, &token); err != nil || !still {
		return Caller{}, false, err
	}
	if err := o.store.Operators.Use(ctx, token, address); err != nil { // as while the database is read-only
		slog.Debug("note that a token was used", logkey.Error, err)
	}
	return Caller{sessionView(token), token.ID, token.Kind == "session"}, true, nil
}

// nobody is compared with when there is no such operator, so that an answer
// takes as long as with one.
var nobody = sync.OnceValue(func() []byte {
	hash, _ := bcrypt.GenerateFromPassword([]byte(rand.Text()), bcrypt.DefaultCost) // the text is short enough
	return hash
})

// TooManyAttempts says after how long somebody may try again.
type TooManyAttempts struct{ Wait time.Duration }

func (t TooManyAttempts) Error() string { return "too many attempts to sign in" }

// SignIn begins a session and returns its secret. address is where the request
// comes from; too many attempts from there or for the name are TooManyAttempts.
func (o *Operators) SignIn(ctx context.Context, in wire.Credentials, address string) (string, wire.Session, error) {
	if in.Directory != "" {
		return o.signInByDirectory(ctx, in, address)
	}
	if wait := o.attempts.wait(in.Name, address, time.Now()); wait > 0 {
		return "", wire.Session{}, TooManyAttempts{wait}
	}
	operator, err := o.store.Operators.Get(ctx, in.Name)
	if err != nil && !store.NotFound(err) {
		return "", wire.Session{}, err
	}
	hash := []byte(operator.PasswordHash)
	if err != nil {
		hash = nobody()
	}
	wrong := bcrypt.CompareHashAndPassword(hash, []byte(in.Password))
	if wrong == nil && err == nil {
		if wrong = o.checkFactor(ctx, operator, in); wrong != nil && !errors.Is(wrong, errWrongCode) {
			return "", wire.Session{}, wrong
		}
	}
	if wrong != nil || err != nil {
		o.attempts.failed(in.Name, address, time.Now())
		slog.Warn("sign-in refused", logkey.Operator, in.Name, logkey.Address, address)
		if err := o.store.Acts.Record(ctx, signIn(in.Name, address, act.Refused)); err != nil {
			return "", wire.Session{}, err
		}
		return "", wire.Session{}, problem.New(problem.SignInRefused, "check both, and the code if there is one: each serves once.")
	}
	o.attempts.succeeded(operator.Name, address, time.Now())
	return o.begin(ctx, store.Token{ID: uuid.NewString(), Kind: "session", Name: operator.Name, Role: operator.Role, Expires: time.Now().Add(SessionTime), SecondFactor: operator.SecondFactor != nil}, address)
}

// begin keeps a session and returns its secret.
func (o *Operators) begin(ctx context.Context, token store.Token, address string) (string, wire.Session, error) {
	secret := rand.Text()
	token.Hash, token.CreatedBy = store.HashSecret(secret), token.Name
	err := o.done(ctx, signIn(token.Name, address, act.Done), func(tx *store.Store) error { return tx.Operators.AddToken(ctx, &token) })
	return secret, sessionView(token), err
}

func sessionView(t store.Token) wire.Session {
	return wire.Session{Name: t.Name, Role: wire.Role(t.Role), Directory: t.Directory, SecondFactor: t.SecondFactor}
}

func signIn(name, address string, result act.Result) act.Act {
	return act.Act{Kind: act.SignIn, By: name, About: named(name), After: map[string]string{"address": address}, Result: result}
}

func named(operator string) about.Thing { return about.Thing{Type: about.Operator, Key: operator} }

// role is what somebody may do, as an act notes it.
type role struct {
	Name string `json:"name"`
	Role string `json:"role"`
}

// done does something and notes it, both or neither.
func (o *Operators) done(ctx context.Context, a act.Act, do func(tx *store.Store) error) error {
	return o.store.Tx(ctx, func(tx *store.Store) error {
		if err := do(tx); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, a)
	})
}

// SignOut ends the caller's session.
func (o *Operators) SignOut(ctx context.Context, by Caller) error {
	_, err := o.store.Operators.DropToken(ctx, by.TokenID)
	return err
}

// SignOutEverywhere ends all sessions of the caller.
func (o *Operators) SignOutEverywhere(ctx context.Context, by Caller) error {
	if !by.SignedIn {
		return errNoOperator
	}
	return o.done(ctx, act.Act{Kind: act.SignOut, By: by.Name, About: named(by.Name)}, func(tx *store.Store) error { return tx.Operators.DropSessions(ctx, by.Name, "") })
}

// Tokens lists tokens for programs.
func (o *Operators) Tokens(ctx context.Context) ([]wire.Token, error) {
	tokens, err := o.store.Operators.Tokens(ctx)
	views := make([]wire.Token, len(tokens))
	for i, t := range tokens {
		views[i] = tokenView(t)
	}
	return views, err
}

// MakeToken makes a token; its secret is told just now.
func (o *Operators) MakeToken(ctx context.Context, by string, t wire.NewToken) (wire.Token, error) {
	days := t.Days
	if days == 0 {
		days = 365
	}
	secret := rand.Text() + rand.Text()
	token := store.Token{ID: uuid.NewString(), Hash: store.HashSecret(secret), Kind: "token", Name: t.Name, Role: string(t.Role), CreatedBy: by, Expires: time.Now().AddDate(0, 0, days), Purpose: t.Purpose}
	made := act.Act{Kind: act.MakeToken, By: by, About: about.Thing{Type: about.Token, Key: token.ID}, After: role{t.Name, string(t.Role)}}
	err := o.done(ctx, made, func(tx *store.Store) error { return tx.Operators.AddToken(ctx, &token) })
	view := tokenView(token)
	view.Secret = secret
	return view, err
}

func tokenView(t store.Token) wire.Token {
	return wire.Token{ID: t.ID, Name: t.Name, Role: wire.Role(t.Role), CreatedBy: t.CreatedBy, Created: t.Created, Expires: t.Expires, Purpose: t.Purpose, Used: t.Used, From: t.UsedFrom}
}

// EndToken ends a token.
func (o *Operators) EndToken(ctx context.Context, by, id string) error {
	return o.done(ctx, act.Act{Kind: act.EndToken, By: by, About: about.Thing{Type: about.Token, Key: id}}, func(tx *store.Store) error {
		found, err := tx.Operators.DropToken(ctx, id)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no token %s", id)
		}
		return err
	})
}

// List lists who can sign in.
func (o *Operators) List(ctx context.Context) ([]wire.Operator, error) {
	operators, err := o.store.Operators.List(ctx)
	if err != nil {
		return nil, err
	}
	sessions, err := o.store.Operators.Sessions(ctx)
	views := make([]wire.Operator, len(operators))
	for i, one := range operators {
		view := wire.Operator{Name: one.Name, Role: wire.Role(one.Role), Created: one.Created, Emergency: one.Emergency, SecondFactor: one.SecondFactor != nil}
		for _, session := range sessions {
			if session.Name != one.Name || session.ByDirectory() {
				continue
			}
			if view.Sessions++; view.Used == nil { // the last used is first
				view.Used = session.Used
			}
		}
		views[i] = view
	}
	return views, err
}

// Sessions lists those that go on.
func (o *Operators) Sessions(ctx context.Context, by Caller) ([]wire.OpenSession, error) {
	sessions, err := o.store.Operators.Sessions(ctx)
	views := make([]wire.OpenSession, len(sessions))
	for i, s := range sessions {
		views[i] = wire.OpenSession{ID: s.ID, Name: s.Name, Role: wire.Role(s.Role), Created: s.Created, Expires: s.Expires, Used: s.Used, From: s.UsedFrom, Own: s.ID == by.TokenID, Directory: s.Directory}
	}
	return views, err
}

// EndSession ends a session of anybody's.
func (o *Operators) EndSession(ctx context.Context, by, id string) error {
	return o.store.Tx(ctx, func(tx *store.Store) error {
		sessions, err := tx.Operators.Sessions(ctx)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(sessions, func(s store.Token) bool { return s.ID == id })
		if at < 0 {
			return problem.New(problem.NotFound, "there is no session %s; it may have ended.", id)
		}
		if _, err := tx.Operators.DropToken(ctx, id); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.EndSession, By: by, About: named(sessions[at].Name), Before: map[string]string{"address": sessions[at].UsedFrom}})
	})
}

// SetRole gives an operator another role, which counts from the next request on. The last
// administrator stays one.
func (o *Operators) SetRole(ctx context.Context, by, name string, to wire.Role) error {
	return o.store.Tx(ctx, func(tx *store.Store) error {
		operators, err := tx.Operators.List(ctx)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(operators, func(one store.Operator) bool { return one.Name == name })
		if at < 0 {
			return problem.New(problem.NotFound, "there is no operator %s.", name)
		}
		was := role{name, operators[at].Role}
		if to != wire.Administrator && lastAdministrator(operators, name) {
			return problem.New(problem.BadInput, "%s is the last administrator: give somebody else that role first.", name)
		}
		if _, err := tx.Operators.SetRole(ctx, name, string(to)); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.SetRole, By: by, About: named(name), Before: was, After: role{name, string(to)}})
	})
}

// lastAdministrator tells whether nobody but one is administrator.
func lastAdministrator(operators []store.Operator, name string) bool {
	return !slices.ContainsFunc(operators, func(one store.Operator) bool { return one.Name != name && wire.Role(one.Role) == wire.Administrator })
}

// Add adds somebody who can sign in.
func (o *Operators) Add(ctx context.Context, by string, in wire.NewOperator) (wire.Session, error) {
	added := act.Act{Kind: act.AddOperator, By: by, About: named(in.Name), After: role{in.Name, string(in.Role)}}
	err := o.done(ctx, added, func(tx *store.Store) error { return Add(ctx, tx, in) })
	return wire.Session{Name: in.Name, Role: in.Role}, err
}

// Remove removes somebody who can sign in, but never the last administrator.
func (o *Operators) Remove(ctx context.Context, by, name string) error {
	return o.store.Tx(ctx, func(tx *store.Store) error {
		operators, err := tx.Operators.List(ctx)
		if err != nil {
			return err
		}
		was := role{Name: name}
		for _, one := range operators {
			if one.Name == name {
				was.Role = one.Role
			}
		}
		if lastAdministrator(operators, name) {
			return problem.New(problem.BadInput, "%s is the last administrator: add another one first.", name)
		}
		found, err := tx.Operators.Remove(ctx, name)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no operator %s.", name)
		}
		if err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.RemoveOperator, By: by, About: named(name), Before: was})
	})
}

// SetPassword gives an operator a new password and ends their sessions, but for
// the caller's own. A second factor goes with the old one, by which it is sealed.
func (o *Operators) SetPassword(ctx context.Context, by Caller, name, password string) error {
	return o.done(ctx, act.Act{Kind: act.SetPassword, By: by.Name, About: named(name)}, func(tx *store.Store) error {
		return SetPassword(ctx, tx, name, password, nil, by.TokenID)
	})
}

// ChangePassword changes the caller's own, and ends their other sessions.
func (o *Operators) ChangePassword(ctx context.Context, by Caller, in wire.OwnPassword) error {
	me, err := o.proven(ctx, by, in.Current)
	if err != nil {
		return err
	}
	var factor []byte
	if me.SecondFactor != nil {
		secret, err := openFactor(me.Name, in.Current, me.SecondFactor)
		if err != nil {
			return fmt.Errorf("open the second factor of %s: %w", me.Name, err)
		}
		if factor, err = sealFactor(me.Name, in.Password, secret); err != nil {
			return err
		}
	}
	return o.done(ctx, act.Act{Kind: act.ChangePassword, By: me.Name, About: named(me.Name)}, func(tx *store.Store) error {
		return SetPassword(ctx, tx, me.Name, in.Password, factor, by.TokenID)
	})
}

// proven is the person who calls, and knows their current password.
func (o *Operators) proven(ctx context.Context, by Caller, current string) (store.Operator, error) {
	me, err := o.operator(ctx, by)
	if err == nil && bcrypt.CompareHashAndPassword([]byte(me.PasswordHash), []byte(current)) != nil {
		err = problem.New(problem.BadInput, "the current password is wrong.")
	}
	return me, err
}

// errNoOperator is what a program with a token is told.
var errNoOperator = problem.New(problem.BadInput, "this is for operators who have signed in; a token has no password and no other sessions.")

// operator is the person who calls; a program with a token is none.
func (o *Operators) operator(ctx context.Context, by Caller) (store.Operator, error) {
	if !by.SignedIn {
		return store.Operator{}, errNoOperator
	}
	if by.Directory != "" {
		return store.Operator{}, problem.New(problem.BadInput, "you have signed in by the directory %s, which has your password.", by.Directory)
	}
	operator, err := o.store.Operators.Get(ctx, by.Name)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no operator %s.", by.Name)
	}
	return operator, err
}
