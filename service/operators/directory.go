package operators

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/events"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

const (
	// askWithin is how long an agent is waited for, while somebody waits before the screen.
	askWithin = 5 * time.Second
	// confirmEvery is how old what a directory has said of a session may be when it is used.
	confirmEvery = 15 * time.Second
	// confirmGrace is how long a session goes on when nobody can be asked, and askAgain after
	// how long it is tried anew, so that not each request waits for nobody.
	confirmGrace = 15 * time.Minute
	askAgain     = 10 * time.Second
)

// Ways are how one can sign in.
func (o *Operators) Ways(ctx context.Context) (wire.SignInWays, error) {
	ways := wire.SignInWays{Directories: []string{}}
	groups, err := o.store.Operators.Groups(ctx, "")
	for _, group := range groups {
		ways.Directories = append(ways.Directories, group.Directory)
	}
	ways.Directories = slices.Compact(ways.Directories) // they come in order
	return ways, err
}

// signInByDirectory begins a session of whoever a directory vouches for and one of whose
// groups lets sign in.
func (o *Operators) signInByDirectory(ctx context.Context, in wire.Credentials, address string) (string, wire.Session, error) {
	by := nameIn(in.Directory, strings.ToLower(in.Name)) // logins are the same in any case
	if wait := o.attempts.wait(by, address, time.Now()); wait > 0 {
		return "", wire.Session{}, TooManyAttempts{wait}
	}
	groups, err := o.store.Operators.Groups(ctx, in.Directory)
	if err != nil {
		return "", wire.Session{}, err
	}
	said := protocol.SignedIn{Standing: password.StandsNobody, Detail: "no group of the directory lets its members sign in"}
	asked := time.Now()
	if len(groups) > 0 {
		if said, err = o.askWho(ctx, in, groups); err != nil {
			return "", wire.Session{}, unanswered(ctx, in.Directory, err)
		}
	}
	role, may := roleOf(groups, said)
	if !may {
		o.attempts.failed(by, address, time.Now())
		if said.Standing == password.StandsWell {
			said.Detail = "is in no group that lets its members sign in"
		}
		slog.Warn("sign-in refused", logkey.Operator, by, logkey.Address, address, logkey.Code, said.Standing, logkey.Detail, said.Detail)
		refused := signIn(by, address, act.Refused)
		refused.Note = said.Detail
		if err := o.store.Acts.Record(ctx, refused); err != nil {
			return "", wire.Session{}, err
		}
		return "", wire.Session{}, problem.New(problem.SignInRefused, "check both, and whether a group that you are in lets its members sign in.")
	}
	o.attempts.succeeded(by, address, time.Now())
	id := said.Entry.String()
	token := store.Token{ID: uuid.NewString(), Kind: "session", Name: nameIn(in.Directory, said.Login), Role: string(role), Expires: time.Now().Add(SessionTime), Directory: in.Directory, EntryID: &id, Confirmed: &asked}
	return o.begin(ctx, token, address)
}

// nameIn is what somebody of a directory is called: no operator of Kambrel's own has such a
// name.
func nameIn(directory, login string) string { return login + "@" + directory }

// roleOf is the highest role that a group gives of those somebody belongs to.
func roleOf(groups []store.OperatorGroup, said protocol.SignedIn) (role wire.Role, may bool) {
	if said.Standing != password.StandsWell || said.Login == "" {
		return "", false
	}
	for _, group := range groups {
		id, err := entry.NewID(group.EntryID)
		if err == nil && slices.Contains(said.Groups, id) && !role.Allows(wire.Role(group.Role)) {
			role = wire.Role(group.Role)
		}
	}
	return role, role != ""
}

// unanswered is what somebody is told who cannot sign in because nobody could be asked; the
// log tells why.
func unanswered(ctx context.Context, directory string, err error) error {
	if ctx.Err() != nil {
		return err
	}
	var failure *problem.Error
	if !errors.As(err, &failure) {
		return err
	}
	slog.Warn("nobody could say who signs in", logkey.Directory, directory, logkey.Code, failure.Code, logkey.Detail, failure.Detail)
	return problem.New(problem.SignInUnanswered, "%s: no agent has answered for it.", directory)
}

// askWho asks an agent who somebody is, by their password.
func (o *Operators) askWho(ctx context.Context, in wire.Credentials, groups []store.OperatorGroup) (protocol.SignedIn, error) {
	agents, keys, err := o.keysOf(ctx, in.Directory)
	if err != nil {
		return protocol.SignedIn{}, err
	}
	sealed, err := events.Seal(keys, protocol.SignInBinding{Use: protocol.SignInUse, Directory: in.Directory, Name: in.Name, Expires: time.Now().Add(sealedFor).Unix()}, events.Secret{Password: in.Password})
	if err != nil {
		return protocol.SignedIn{}, fmt.Errorf("seal for the agents of %s: %w", in.Directory, err)
	}
	return o.ask(ctx, in.Directory, agents, protocol.SignIn{Name: in.Name, Groups: idsOf(groups), Sealed: sealed})
}

// sealedFor is how long an agent may open what was sealed for it. Clocks may differ by a
// minute, as for signatures of agents.
const sealedFor = time.Minute

func idsOf(groups []store.OperatorGroup) []entry.ID {
	ids := make([]entry.ID, 0, len(groups))
	for _, group := range groups {
		if id, err := entry.NewID(group.EntryID); err == nil { // the database keeps nothing else
			ids = append(ids, id)
		}
	}
	return ids
}

// ask gives an order to one of some agents, nobody for any, and waits for the answer.
func (o *Operators) ask(ctx context.Context, directory string, agents []string, request protocol.SignIn) (protocol.SignedIn, error) {
	revision, ok, err := o.store.Settings.Active(ctx)
	if err != nil {
		return protocol.SignedIn{}, err
	}
	of, known := revision.Document.Directory(directory)
	if !ok || !known {
		return protocol.SignedIn{}, problem.New(problem.DirectoryNotServed, "the settings name no directory %s", directory)
	}
	order := store.Order{Directory: directory, Among: agents, Request: protocol.Order{Directory: directory, Dialect: of.Dialect, Base: of.Base, SignIn: &request}}
	if err := o.store.Orders.Add(ctx, &order); err != nil {
		return protocol.SignedIn{}, err
	}
	ended, err := o.orders.Await(ctx, order, askWithin, func(store.Order) error { return nil })
	// There is one for each session every few seconds.
	err = errors.Join(err, o.store.Orders.Drop(context.WithoutCancel(ctx), order.ID))
	if err != nil {
		return protocol.SignedIn{}, err
	}
	if ended.SignedIn == nil {
		return protocol.SignedIn{}, problem.New(problem.AgentMessageMalformed, "order %d has no answer", order.ID)
	}
	return *ended.SignedIn, nil
}

// confirm asks the directory of a session whether all is still so, unless it has said so just
// before. The session ends when it is not, or when nobody could be asked for long; false then.
func (o *Operators) confirm(ctx context.Context, token *store.Token) (bool, error) {
	if !token.ByDirectory() || token.Confirmed != nil && time.Since(*token.Confirmed) < confirmEvery {
		return true, nil
	}
	inGrace := token.Confirmed != nil && time.Since(*token.Confirmed) < confirmGrace
	if since, silent := o.silent.Load(token.Directory); silent && inGrace {
		if at, _ := since.(time.Time); time.Since(at) < askAgain {
			return true, nil
		}
	}
	// Once for all requests that come meanwhile, whoever of them gives up.
	answer, err, _ := o.confirming.Do(token.ID, func() (any, error) {
		return o.standing(context.WithoutCancel(ctx), *token)
	})
	if err != nil {
		return false, err
	}
	role, _ := answer.(wire.Role)
	token.Role = string(role)
	return role != "", nil
}

// standing is the role that a session has now, "" when it has ended.
func (o *Operators) standing(ctx context.Context, token store.Token) (wire.Role, error) {
	asked := time.Now()
	groups, err := o.store.Operators.Groups(ctx, token.Directory)
	if err != nil {
		return "", err
	}
	said := protocol.SignedIn{Standing: password.StandsNobody, Detail: "no group of the directory lets its members sign in any more"}
	if len(groups) > 0 && token.EntryID != nil {
		id, err := entry.NewID(*token.EntryID)
		if err != nil {
			return "", err
		}
		if said, err = o.ask(ctx, token.Directory, nil, protocol.SignIn{Entry: &id, Groups: idsOf(groups)}); err != nil {
			o.silent.Store(token.Directory, time.Now())
			if token.Confirmed != nil && time.Since(*token.Confirmed) < confirmGrace {
				slog.Warn("a session could not be confirmed, and goes on for now", logkey.Operator, token.Name, logkey.Directory, token.Directory, logkey.Error, err)
				return wire.Role(token.Role), nil
			}
			slog.Warn("a session could not be confirmed", logkey.Operator, token.Name, logkey.Directory, token.Directory, logkey.Error, err)
			return "", unanswered(ctx, token.Directory, err)
		}
	}
	o.silent.Delete(token.Directory)
	role, may := roleOf(groups, said)
	if !may {
		if said.Standing == password.StandsWell {
			said.Detail = "is in no group any more that lets its members sign in"
		}
		slog.Warn("a session ended", logkey.Operator, token.Name, logkey.Directory, token.Directory, logkey.Detail, said.Detail)
		ended := act.Act{Kind: act.EndSession, By: token.Name, About: named(token.Name), Note: said.Detail}
		return "", o.done(ctx, ended, func(tx *store.Store) error {
			_, err := tx.Operators.DropToken(ctx, token.ID)
			return err
		})
	}
	return role, o.store.Operators.Confirm(ctx, token, string(role), asked)
}

// StillAllowed tells whether a session or token has not ended, for what outlives a request.
func (o *Operators) StillAllowed(ctx context.Context, id string) (bool, error) {
	token, err := o.store.Operators.TokenByID(ctx, id)
	if store.NotFound(err) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return o.confirm(ctx, &token)
}

// Groups lists the groups of directories whose members sign in.
func (o *Operators) Groups(ctx context.Context) ([]wire.OperatorGroup, error) {
	groups, err := o.store.Operators.Groups(ctx, "")
	views := make([]wire.OperatorGroup, len(groups))
	for i, g := range groups {
		views[i] = groupView(g)
	}
	return views, err
}

func groupView(g store.OperatorGroup) wire.OperatorGroup {
	return wire.OperatorGroup{Directory: g.Directory, EntryID: g.EntryID, DN: g.DN, Role: wire.Role(g.Role), CreatedBy: g.CreatedBy, Created: g.Created, Gone: g.Gone || g.DN == ""}
}

// AddGroup lets the members of a group sign in, as a role. A group that is written from the
// cloud is refused: whoever changes it there would say who is operator here.
func (o *Operators) AddGroup(ctx context.Context, by string, hit store.Hit, role wire.Role) (wire.OperatorGroup, error) {
	id, err := entry.NewID(hit.EntryID)
	if err != nil {
		return wire.OperatorGroup{}, problem.New(problem.BadInput, "%s is no group of a directory.", hit.Name)
	}
	ref := entry.Ref{Directory: hit.Directory, ID: id}
	found, err := o.store.Entries.Get(ctx, ref.Directory, ref.ID)
	if err != nil {
		return wire.OperatorGroup{}, err
	}
	if found.Kind != entry.Group || found.Gone {
		return wire.OperatorGroup{}, problem.New(problem.BadInput, "%s is no group of the directory %s.", found.DN, ref.Directory)
	}
	written, err := o.store.CloudGroups.OfEntries(ctx, []entry.Ref{ref})
	if err != nil {
		return wire.OperatorGroup{}, err
	}
	if name, is := written[ref]; is {
		return wire.OperatorGroup{}, problem.New(problem.BadInput, "%s is written from the group %s of the cloud: whoever changes that would say who is operator here. Choose a group that the directory keeps.", found.DN, name)
	}
	group := store.OperatorGroup{Directory: hit.Directory, EntryID: id.String(), Role: string(role), CreatedBy: by, Created: time.Now(), DN: found.DN}
	added := act.Act{Kind: act.AddOperatorGroup, By: by, About: about.EntryOf(ref), After: grant{found.DN, string(role)}}
	err = o.done(ctx, added, func(tx *store.Store) error { return tx.Operators.AddGroup(ctx, group) })
	return groupView(group), err
}

// grant is what a group gives, as an act notes it.
type grant struct {
	Group string `json:"group"`
	Role  string `json:"role"`
}

// RemoveGroup lets the members of a group sign in no more; their sessions end.
func (o *Operators) RemoveGroup(ctx context.Context, by, directory, id string) error {
	return o.store.Tx(ctx, func(tx *store.Store) error {
		groups, err := tx.Operators.Groups(ctx, directory)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(groups, func(g store.OperatorGroup) bool { return g.EntryID == id })
		if at < 0 {
			return problem.New(problem.NotFound, "no group %s of %s lets its members sign in.", id, directory)
		}
		if _, err := tx.Operators.RemoveGroup(ctx, directory, id); err != nil {
			return err
		}
		parsed, err := entry.NewID(id)
		if err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.RemoveOperatorGroup, By: by, About: about.EntryOf(entry.Ref{Directory: directory, ID: parsed}), Before: grant{groups[at].DN, groups[at].Role}})
	})
}
