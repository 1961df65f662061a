package api

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/crypto/bcrypt"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// fewestSigns is how many different characters a password has at least.
const fewestSigns = 5

// checkPassword tells what is wrong with a password, whoever sets it.
func checkPassword(name, password string) error {
	signs := map[rune]bool{}
	for _, r := range password {
		signs[r] = true
	}
	switch {
	case len(password) < 10:
		return problem.New(problem.BadInput, "the password is too short: use at least 10 characters.")
	case len(password) > 72:
		return problem.New(problem.BadInput, "the password is too long: use up to 72 bytes.")
	case len(signs) < fewestSigns:
		return problem.New(problem.BadInput, "the password repeats itself: use at least %d different characters.", fewestSigns)
	case strings.Contains(strings.ToLower(password), strings.ToLower(name)):
		return problem.New(problem.BadInput, "the password holds the name of the operator: choose another.")
	}
	return nil
}

// hashPassword is what is kept of a password that may be used.
func hashPassword(name, password string) (string, error) {
	if err := checkPassword(name, password); err != nil {
		return "", err
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return "", problem.New(problem.BadInput, "the password cannot be used.")
	}
	return string(hash), nil
}

// SetPassword gives an operator a new password and ends all sessions but one.
func SetPassword(ctx context.Context, s *store.Store, name, password, but string) error {
	hash, err := hashPassword(name, password)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(tx *store.Store) error {
		found, err := tx.SetPassword(ctx, name, hash)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no operator %s.", name)
		}
		if err != nil {
			return err
		}
		return tx.DropSessions(ctx, name, but)
	})
}

func (s *Server) operatorRoutes() {
	type named struct {
		Name string `path:"name" maxLength:"63"`
	}
	huma.Register(s.api, operation("DELETE", "/operators/{name}", "remove-operator", "Remove somebody who can sign in, and end their sessions", wire.Administrator), func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, orNil(s.removeOperator(ctx, in.Name))
	})
	huma.Register(s.api, operation("PUT", "/operators/{name}/password", "set-password", "Give an operator a new password, and end their sessions", wire.Administrator), func(ctx context.Context, in *struct {
		named
		Body wire.NewPassword
	}) (*struct{}, error) {
		err := SetPassword(ctx, s.store, in.Name, in.Body.Password, who(ctx).tokenID)
		if err == nil {
			err = s.store.Audit(ctx, who(ctx).Name, "set password", in.Name)
		}
		return nil, orNil(err)
	})
	huma.Register(s.api, operation("PUT", "/session/password", "change-password", "Change your own password, and end your other sessions", wire.Viewer), func(ctx context.Context, in *body[wire.OwnPassword]) (*struct{}, error) {
		return nil, orNil(s.changePassword(ctx, in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/session/everywhere", "sign-out-everywhere", "End all your sessions, this one too", wire.Viewer), func(ctx context.Context, _ *struct{}) (*signOutAnswer, error) {
		me, err := s.operator(ctx)
		if err == nil {
			err = s.store.DropSessions(ctx, me.Name, "")
		}
		if err == nil {
			err = s.store.Audit(ctx, me.Name, "sign out everywhere", "")
		}
		if err != nil {
			return nil, fail(err)
		}
		return &signOutAnswer{s.cookie("", -1)}, nil
	})
}

func (s *Server) removeOperator(ctx context.Context, name string) error {
	return s.store.Tx(ctx, func(tx *store.Store) error {
		operators, err := tx.Operators(ctx)
		if err != nil {
			return err
		}
		others := 0
		for _, o := range operators {
			if o.Name != name && wire.Role(o.Role) == wire.Administrator {
				others++
			}
		}
		if others == 0 {
			return problem.New(problem.BadInput, "%s is the last administrator: add another one first.", name)
		}
		found, err := tx.RemoveOperator(ctx, name)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no operator %s.", name)
		}
		if err != nil {
			return err
		}
		return tx.Audit(ctx, who(ctx).Name, "remove operator", name)
	})
}

// operator is the person who makes the request; a program with a token is none.
func (s *Server) operator(ctx context.Context) (store.Operator, error) {
	if !who(ctx).session {
		return store.Operator{}, problem.New(problem.BadInput, "this is for operators who have signed in; a token has no password and no other sessions.")
	}
	operator, err := s.store.Operator(ctx, who(ctx).Name)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no operator %s.", who(ctx).Name)
	}
	return operator, err
}

func (s *Server) changePassword(ctx context.Context, in wire.OwnPassword) error {
	me, err := s.operator(ctx)
	if err != nil {
		return err
	}
	if bcrypt.CompareHashAndPassword([]byte(me.PasswordHash), []byte(in.Current)) != nil {
		return problem.New(problem.BadInput, "the current password is wrong.")
	}
	if err := SetPassword(ctx, s.store, me.Name, in.Password, who(ctx).tokenID); err != nil {
		return err
	}
	return s.store.Audit(ctx, me.Name, "change password", "")
}
