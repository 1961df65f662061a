package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/orders"
)

// modifyWithin is how long after an event's expiry the directory may still be at it.
const modifyWithin = 1500 * time.Millisecond

// protectedAccounts are those that a domain controller guards itself ([MS-ADTS] section
// 3.1.1.6.1): administrators, and who was one.
const protectedAccounts = "(adminCount=1)"

// setPassword carries out what an event of the cloud asks for.
func setPassword(ctx context.Context, w work) (orders.Done, error) {
	if w.order.Password.Try != nil {
		return orders.Done{}, w.tryPassword(ctx)
	}
	done, err := w.passwordDone(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	slog.Info("password", logkey.Order, w.order.ID, logkey.Directory, w.order.Directory, logkey.Code, done.Reason, logkey.Detail, done.Detail)
	return orders.Done{}, w.lines.write(orders.Line{Password: &done})
}

// passwordDone is what became of an event; an error says that it was not begun, so that
// another agent may do better.
func (w work) passwordDone(ctx context.Context) (orders.PasswordDone, error) {
	token, ask, late, err := w.agent.cloud().read(w.order.Password.Event, time.Now())
	switch {
	case late:
		return orders.PasswordDone{Reason: password.Expired, Detail: err.Error()}, nil
	case err != nil:
		return orders.PasswordDone{Reason: password.Untrusted, Detail: err.Error()}, nil
	case ask.Directory != w.order.Directory:
		return orders.PasswordDone{Reason: password.Untrusted, Detail: "the event is for the directory " + ask.Directory}, nil
	}
	id, err := entry.NewID(ask.Entry)
	if err != nil {
		return orders.PasswordDone{Reason: password.Untrusted, Detail: "the event names no entry"}, nil
	}
	var opened events.Secret
	if ask.Act != password.Unlock {
		if opened, err = w.agent.vault.open(ask.Envelope, just(events.BindingOf(token, ask))); err != nil {
			return orders.PasswordDone{Reason: password.Unreadable, Detail: err.Error()}, nil
		}
	}
	session, err := w.open(ctx)
	if err != nil {
		return orders.PasswordDone{}, err
	}
	defer session.Close()
	account, err := session.Account(w.order.Dialect, w.order.Base, id, w.protected()...)
	switch {
	case problem.CodeOf(err) == problem.NotFound:
		return orders.PasswordDone{Reason: password.NotLinked, Detail: err.Error()}, nil
	case err != nil:
		return orders.PasswordDone{}, err
	case account.Protected:
		return orders.PasswordDone{Reason: password.Protected, Detail: account.DN}, nil
	case account.Disabled:
		return orders.PasswordDone{Reason: password.Disabled, Detail: account.DN}, nil
	}
	if err := w.agent.begin(ctx, w.order.ID); err != nil {
		return orders.PasswordDone{}, err
	}
	before, begun, end, err := w.agent.vault.begin(token.ID, time.Unix(ask.Expires, 0))
	if err != nil {
		return orders.PasswordDone{Reason: password.Refused, Detail: err.Error()}, nil
	}
	if before != nil {
		again := *before
		again.Remembered = true
		return again, end(nil)
	}
	done := w.setOnce(ctx, session, account, ask, opened, begun || w.order.Password.Again)
	if err := end(&done); err != nil {
		// It is done all the same, and in memory; only a new start would not know.
		slog.Error("remember what became of an event", logkey.Event, token.ID, logkey.Error, err)
	}
	return done, nil
}

// begin tells the service that the order is begun now. What is not begun the service can
// take back, so that it knows that nothing was done; then this agent must leave it.
func (a *Agent) begin(ctx context.Context, order int64) error {
	response, err := a.do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/agent/orders/%d/begin", order), nil)
	if err != nil {
		return fmt.Errorf("begin order %d: %w", order, err)
	}
	return response.Body.Close()
}

// setOnce sets a password; again tells that it may have been set before.
func (w work) setOnce(ctx context.Context, session *directory.Session, account directory.Account, ask events.Ask, opened events.Secret, again bool) orders.PasswordDone {
	if again && ask.Act != password.Unlock {
		holds, known := directory.Holds(ctx, w.connection, account, secret.Text(opened.Password))
		switch {
		case holds:
			return orders.PasswordDone{Detail: "it was set before"}
		case !known:
			return orders.PasswordDone{Reason: password.Unknown, Detail: "it was begun before, and the directory does not tell whether it was done"}
		}
	}
	// It is not begun any more once it has expired.
	if time.Now().After(time.Unix(ask.Expires, 0)) {
		return orders.PasswordDone{Reason: password.Expired}
	}
	ctx, cancel := context.WithDeadline(ctx, time.Unix(ask.Expires, 0).Add(modifyWithin))
	defer cancel()
	began := time.Now()
	var note string
	var err error
	if ask.Act == password.Unlock {
		err = session.Unlock(ctx, account)
	} else {
		note, err = session.SetPassword(ctx, account, directory.NewPassword{New: secret.Text(opened.Password), Old: secret.Text(opened.Old), MustChange: ask.MustChange, Own: ask.By == events.ByPerson})
	}
	done := orders.PasswordDone{Detail: note, Micros: time.Since(began).Microseconds()}
	var refusal *password.Refusal
	switch {
	case errors.As(err, &refusal):
		done.Reason, done.Least, done.Detail = refusal.Reason, refusal.Least, refusal.Detail
	case err != nil:
		done.Reason, done.Detail = password.Refused, err.Error()
	}
	return done
}

// protected are the filters of those whose password is never touched: what the settings
// say, and what the agent's own configuration says.
func (w work) protected() []string {
	own := w.own.Protected
	if own == "" && w.order.Dialect == entry.AD {
		own = protectedAccounts
	}
	return []string{w.order.Password.Protected, own}
}

// tryPassword tells what would stand in the way, without setting anything.
func (w work) tryPassword(ctx context.Context) error {
	tell := func(step, subject, outcome, detail, advice string) error {
		return w.lines.write(orders.Line{Verdict: &orders.Verdict{Step: step, Subject: subject, Outcome: outcome, Detail: detail, Advice: advice}})
	}
	trusts := w.agent.cloud()
	if trusts == nil {
		return tell("trust", "", "bad", "this agent trusts no cloud", "Pin the cloud's keys on the agent's host with 'kambrel agent trust'.")
	}
	if err := tell("trust", "", "good", "this agent carries out events of "+trusts.Issuer, ""); err != nil {
		return err
	}
	if err := tell("key", "", "good", "passwords are sealed for its key "+w.agent.vault.current().Key.KeyID, ""); err != nil {
		return err
	}
	session, err := w.open(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	account, err := session.Account(w.order.Dialect, w.order.Base, *w.order.Password.Try, w.protected()...)
	if err != nil {
		return err
	}
	switch {
	case account.Protected:
		err = tell("account", "", "bad", account.DN+" is protected", "Its password is never set from the cloud; the filters are in the settings and in the agent's configuration.")
	case account.Disabled:
		err = tell("account", "", "bad", account.DN+" is disabled", "Enable it in the directory first.")
	default:
		err = tell("account", "", "good", account.DN+" is neither protected nor disabled", "")
	}
	for _, feature := range w.order.Password.Features {
		if err != nil {
			return err
		}
		lacking, failure := session.Lacks(account, feature)
		switch {
		case failure != nil:
			err = tell("right", string(feature), "doubtful", "the right cannot be tried: "+failure.Error(), "")
		case lacking != "":
			err = tell("right", string(feature), "bad", "the agent's account lacks the right to "+lacking, "Hand the text of 'kambrel directory rights "+w.order.Directory+"' to the directory's owner.")
		default:
			err = tell("right", string(feature), "good", "the agent's account may do it", "")
		}
	}
	return err
}

// cloud is whose events are carried out, by the configuration as it is now.
func (a *Agent) cloud() *Cloud {
	config, err := a.now()
	if err != nil {
		slog.Warn("read the configuration", logkey.Error, fmt.Errorf("whom to trust: %w", err))
		return nil
	}
	return config.Cloud
}
