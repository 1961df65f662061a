package agent

import (
	"context"
	"encoding/json"
	"log/slog"
	"time"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// signIn tells who somebody is who signs in to the service, and to which groups they belong.
func signIn(ctx context.Context, w work) (orders.Done, error) {
	answer, err := w.signIn(ctx, *w.order.SignIn)
	if err != nil {
		return orders.Done{}, err
	}
	slog.Info("sign-in", logkey.Order, w.order.ID, logkey.Directory, w.order.Directory, logkey.Code, answer.Standing, logkey.Detail, answer.Detail)
	return orders.Done{}, w.lines.write(orders.Line{SignedIn: &answer})
}

func (w work) signIn(ctx context.Context, asked orders.SignIn) (orders.SignedIn, error) {
	var text secret.Text
	proves := len(asked.Sealed) > 0 || asked.Entry == nil && !asked.Ticket
	if proves {
		known := ""
		if asked.Entry != nil {
			known = asked.Entry.String()
		}
		opened, err := w.agent.vault.open(asked.Sealed, func(bound []byte) bool {
			var said orders.SignInBinding
			return json.Unmarshal(bound, &said) == nil && said.Use == orders.SignInUse && said.Directory == w.order.Directory && said.Name == asked.Name && said.Entry == known && time.Now().Before(time.Unix(said.Expires, 0))
		})
		switch {
		case err != nil:
			return orders.SignedIn{}, problem.New(problem.AgentMessageMalformed, "the password cannot be opened: %v; look whether the clocks of service and agent agree", err)
		case w.own.plain():
			return orders.SignedIn{}, problem.New(problem.DirectoryUnreachable, "the agent reaches the directory without TLS, over which it sends nobody's password: set ldaps:// or startTLS in its configuration")
		}
		text = secret.Text(opened.Password)
	}
	session, err := w.open(ctx)
	if err != nil {
		return orders.SignedIn{}, err
	}
	defer session.Close()
	var person directory.Person
	if asked.Entry != nil {
		person, err = session.PersonNow(w.order.Dialect, w.order.Base, *asked.Entry)
	} else {
		person, err = session.PersonOf(w.order.Dialect, w.order.Base, asked.Name)
	}
	if err == nil && proves && person.Standing == password.StandsWell {
		person.Standing, person.Detail, err = directory.SignIn(ctx, w.connection, person, text)
	}
	if err != nil || person.Standing != password.StandsWell {
		return orders.SignedIn{Standing: person.Standing, Detail: person.Detail}, err
	}
	groups, err := session.Belongs(ctx, w.order.Base, person, asked.Groups)
	return orders.SignedIn{Proven: proves, Entry: person.ID, Login: person.Login, Groups: groups}, err
}
