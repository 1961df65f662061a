package passwords

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/events"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// inHand is how long after an event's expiry an agent that is at it is waited for.
const inHand = 1700 * time.Millisecond

// outcome is what becomes of an event.
type outcome struct {
	protocol.PasswordDone
	agent string
}

func refused(reason password.Reason, format string, facts ...any) outcome {
	return outcome{PasswordDone: protocol.PasswordDone{Reason: reason, Detail: fmt.Sprintf(format, facts...)}}
}

// take deals with one token to its end, and tells the cloud.
func (l *listener) take(ctx context.Context, id, text string) {
	token, failed := l.read(ctx, id, text)
	if failed == nil {
		if state, trial := verification(token); trial {
			l.noteClock(ctx, token)
			if err := l.store.Passwords.Verified(ctx, state); err != nil {
				slog.Error("note that the stream was tried", logkey.Error, err)
				return
			}
			l.answer(ctx, id, nil)
			return
		}
	}
	var ask events.Ask
	if failed == nil {
		var err error
		if ask, err = token.Asked(); err != nil {
			failed = refuse(events.InvalidRequest, "%v", err)
		}
	}
	if failed != nil {
		slog.Warn("an event was not taken", logkey.Event, id, logkey.Code, failed.Code, logkey.Detail, failed.Description)
		if err := l.store.Passwords.Refused(ctx, failed.Description); err != nil && ctx.Err() == nil {
			slog.Error("count what was not taken", logkey.Error, err)
		}
		l.answer(ctx, id, failed)
		return
	}
	l.noteClock(ctx, token)
	event := store.PasswordEvent{JTI: token.ID, Act: ask.Act, AskedBy: ask.By, Directory: ask.Directory, EntryID: ask.Entry, ResourceID: token.Subject.Subject, Expires: time.Unix(ask.Expires, 0)}
	if err := l.carry(ctx, &event, ask, text); err != nil {
		if ctx.Err() == nil {
			slog.Error("an event was not carried out; it comes again", logkey.Event, id, logkey.Error, err)
		}
		return
	}
	l.tell(ctx, event)
}

// tell answers the cloud by what is kept of an event.
func (l *listener) tell(ctx context.Context, event store.PasswordEvent) {
	slog.Info("password", logkey.Event, event.JTI, logkey.Kind, event.Act, logkey.Directory, event.Directory, logkey.Code, event.Reason, logkey.Detail, event.Detail)
	if event.Reason == password.Done {
		l.answer(ctx, event.JTI, nil)
		return
	}
	l.answer(ctx, event.JTI, &events.SetFailed{Code: string(event.Reason), Description: password.ForPerson(event.Reason, event.Least)})
}

// noteClock keeps how far the cloud's clock is ahead, as far as whole seconds tell.
func (l *listener) noteClock(ctx context.Context, token events.Token) {
	if err := l.store.Passwords.Clock(ctx, time.Until(time.Unix(token.IssuedAt, 0))); err != nil && ctx.Err() == nil {
		slog.Warn("note the cloud's clock", logkey.Error, err)
	}
}

// verification tells whether a token tries the stream, and its state.
func verification(token events.Token) (state string, trial bool) {
	text, trial := token.Events[events.Verification]
	var said struct {
		State string `json:"state"`
	}
	_ = json.Unmarshal(text, &said) // none is one, too
	return said.State, trial
}

// carry brings an event to its end, once: one that is there already goes on from where it
// is.
func (l *listener) carry(ctx context.Context, event *store.PasswordEvent, ask events.Ask, text string) error {
	fresh, err := l.store.Passwords.Begin(ctx, event)
	if err != nil || event.Ended != nil {
		return err
	}
	if !fresh && event.OrderID != nil {
		return l.follow(ctx, event)
	}
	document, ok := l.settings(ctx)
	if !ok {
		return l.end(ctx, event, refused(password.Off, "no settings are active"))
	}
	no, err := l.may(ctx, event, ask, document)
	if err != nil {
		return err
	}
	if no != nil {
		return l.end(ctx, event, *no)
	}
	directory, _ := document.Directory(ask.Directory)
	among, err := l.able(ctx, directory.Name, ask)
	if err != nil {
		return err
	}
	if len(among) == 0 {
		return l.end(ctx, event, refused(password.Nobody, "no agent of %s is there that trusts the cloud and can open the envelope", directory.Name))
	}
	order := store.Order{Directory: directory.Name, Among: among, Request: protocol.Order{
		Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base,
		Password: &protocol.Password{Event: text, Protected: document.Passwords.Protected},
	}}
	if err := l.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Orders.Add(ctx, &order); err != nil {
			return err
		}
		return tx.Passwords.Ordered(ctx, event.ID, order.ID)
	}); err != nil {
		return err
	}
	event.OrderID = &order.ID
	return l.follow(ctx, event)
}

// may tells why somebody's password may not be touched, nil when it may. Whether the
// account is protected or disabled the agent finds out, as it is at that moment.
func (l *listener) may(ctx context.Context, event *store.PasswordEvent, ask events.Ask, document settings.Document) (*outcome, error) {
	no := func(reason password.Reason, format string, facts ...any) (*outcome, error) {
		out := refused(reason, format, facts...)
		return &out, nil
	}
	directory, known := document.Directory(ask.Directory)
	if !known {
		return no(password.NotLinked, "the settings name no directory %s", ask.Directory)
	}
	if !directory.Allows(ask.Act) {
		return no(password.Off, "%s is not switched on for %s", ask.Act, directory.Name)
	}
	pauses, err := l.store.Pauses.Now(ctx)
	if err != nil {
		return nil, err
	}
	if p, stopped := pauses.ToDirectory(directory.Name); stopped { // why, and by whom, is not for the person
		return no(password.Off, "%s", p.What())
	}
	id, err := entry.NewID(ask.Entry)
	if err != nil {
		return no(password.NotLinked, "%q is no id of an entry", ask.Entry)
	}
	ref := entry.Ref{Directory: directory.Name, ID: id}
	if err := l.store.Passwords.Named(ctx, event, ref); err != nil {
		return nil, err
	}
	link, err := l.store.Links.Of(ctx, ref)
	switch {
	case store.NotFound(err):
		return no(password.NotLinked, "the entry %s is linked to nothing", ask.Entry)
	case err != nil:
		return nil, err
	case link.ResourceID != event.ResourceID:
		return no(password.NotLinked, "the entry %s is linked to another resource, %s", ask.Entry, link.ResourceID)
	}
	if link.LeftAt != nil {
		return no(password.OutOfScope, "the entry left on %s", link.LeftAt.Format(time.DateOnly))
	}
	person, all := document.Passwords.Limits()
	now := time.Now()
	mine, total, err := l.store.Passwords.Attempts(ctx, event.ResourceID, now.Add(-person.Time()), now.Add(-all.Time()))
	switch {
	case err != nil:
		return nil, err
	case mine > person.Number: // this one is counted
		return no(password.TooMany, "%d attempts of this person within %s", mine, person.Within)
	case total > all.Number:
		return no(password.TooMany, "%d attempts of all within %s", total, all.Within)
	}
	return nil, nil
}

// able are the agents that serve the directory, trust the cloud, and for which the envelope
// is sealed.
func (l *listener) able(ctx context.Context, directory string, ask events.Ask) ([]string, error) {
	sealedFor, err := recipients(ask.Envelope)
	if err != nil && ask.Act != password.Unlock {
		return nil, nil // the agents could not read it either
	}
	agents, err := l.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	var able []string
	for _, agent := range agents {
		if agent.Trusts != l.stream.Transmitter.Issuer || !slices.Contains(agent.Serves(), directory) {
			continue
		}
		if ask.Act != password.Unlock && !slices.Contains(sealedFor, keyOf(agent.Keys[directory])) && !slices.Contains(sealedFor, keyOf(agent.KeysBefore[directory])) {
			continue
		}
		able = append(able, agent.ID)
	}
	return able, nil
}

// recipients are the ids of the keys for which an envelope is sealed, from its headers,
// which anybody can read.
func recipients(envelope json.RawMessage) ([]string, error) {
	sealed, err := jose.ParseEncryptedJSON(string(envelope), []jose.KeyAlgorithm{jose.ECDH_ES_A256KW}, []jose.ContentEncryption{jose.A256GCM})
	if err != nil {
		return nil, err
	}
	var parts struct {
		Header     struct{ KID string }
		Recipients []struct {
			Header struct{ KID string }
		}
	}
	if err := json.Unmarshal(envelope, &parts); err != nil {
		return nil, err
	}
	ids := []string{parts.Header.KID, sealed.Header.KeyID}
	for _, one := range parts.Recipients {
		ids = append(ids, one.Header.KID)
	}
	return slices.DeleteFunc(ids, func(id string) bool { return id == "" }), nil
}

// keyOf is the id of the key in an agent's statement, "" for none. The statement is not
// checked here: that is for the cloud, and what is wrong with it harms nobody but the agent.
func keyOf(statement string) string {
	said, ok := statementOf(statement)
	if !ok {
		return ""
	}
	var key struct{ KID string }
	_ = json.Unmarshal(said.Key, &key) // none has no id
	return key.KID
}

func statementOf(text string) (events.Statement, bool) {
	var said events.Statement
	signed, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return said, false
	}
	return said, json.Unmarshal(signed.UnsafePayloadWithoutVerification(), &said) == nil
}

// follow waits for the end of the order that carries an event out. Once it has expired
// nobody may begin it any more.
func (l *listener) follow(ctx context.Context, event *store.PasswordEvent) error {
	told, stop := l.hub.Subscribe()
	defer stop()
	for {
		order, err := l.store.Orders.Get(ctx, *event.OrderID)
		if store.NotFound(err) {
			return l.end(ctx, event, refused(password.Unknown, "its order is not there any more"))
		}
		if err != nil {
			return err
		}
		now := time.Now()
		switch {
		case order.Outcome != nil:
			return l.end(ctx, event, outcome{*order.Outcome, l.nameOf(ctx, order.AgentID)})
		case order.State == "done", order.State == "failed":
			return l.end(ctx, event, failed(order))
		case now.After(event.Expires) && order.Begun == 0:
			if gone, err := l.store.Orders.WithdrawUnbegun(ctx, order.ID); err != nil {
				return err
			} else if gone {
				return l.end(ctx, event, refused(password.Nobody, "no agent began it before it expired"))
			}
			continue // somebody has just begun it
		case now.After(event.Expires.Add(inHand)):
			if err := l.store.Orders.End(ctx, order.ID, string(problem.Cancelled), "", order.Counts); err != nil {
				return err
			}
			return l.end(ctx, event, outcome{protocol.PasswordDone{Reason: password.Unknown, Detail: "the agent that had begun it did not answer"}, l.nameOf(ctx, order.AgentID)})
		}
		await(ctx, told, 100*time.Millisecond, "order")
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// failed is what becomes of an event whose order failed before anything was begun.
func failed(order store.Order) outcome {
	reason := map[problem.Code]password.Reason{
		problem.DirectoryUnreachable: password.Unreachable, problem.DirectoryNotServed: password.Nobody, problem.AgentOffline: password.Nobody,
		problem.AgentRetired: password.Nobody, problem.RightMissing: password.RightMissing,
	}[problem.Code(order.FailureCode)]
	switch {
	case order.Begun > 0: // somebody has begun it and has not said what became of it
		reason = password.Unknown
	case problem.Code(order.FailureCode) == problem.Cancelled:
		reason = password.Nobody
	case reason == "":
		reason = password.Refused
	}
	return refused(reason, "%s", order.FailureDetail)
}

func (l *listener) nameOf(ctx context.Context, id *string) string {
	if id == nil {
		return ""
	}
	agent, err := l.store.Agents.Get(ctx, *id)
	if err != nil {
		return "" // retired meanwhile
	}
	return agent.Name
}

func (l *listener) end(ctx context.Context, event *store.PasswordEvent, o outcome) error {
	event.Reason, event.Least, event.Detail, event.Agent, event.Micros = o.Reason, o.Least, o.Detail, o.agent, o.Micros
	return l.store.Passwords.End(ctx, event)
}

// resume takes up what a service has left that listened before. What has no order yet
// comes again from the cloud.
func (l *listener) resume(ctx context.Context) error {
	open, err := l.store.Passwords.Open(ctx)
	if err != nil {
		return err
	}
	for _, event := range open {
		l.mu.Lock()
		l.busy[event.JTI] = event.OrderID != nil
		l.mu.Unlock()
		switch {
		case event.OrderID != nil:
			l.work.Go(func() {
				defer func() {
					l.mu.Lock()
					delete(l.busy, event.JTI)
					l.mu.Unlock()
				}()
				if err := l.follow(ctx, &event); err == nil {
					l.tell(ctx, event)
				} else if !errors.Is(err, context.Canceled) {
					slog.Error("take an event up again", logkey.Event, event.JTI, logkey.Error, err)
				}
			})
		case time.Now().After(event.Expires):
			if err := l.end(ctx, &event, refused(password.Nobody, "the service ended before it was carried out")); err != nil {
				return err
			}
		}
	}
	return nil
}
