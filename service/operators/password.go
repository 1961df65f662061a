package operators

import (
	"context"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
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

// Add adds an operator; only a hash of the password is kept.
func Add(ctx context.Context, s *store.Store, o wire.NewOperator) error {
	if _, err := s.Operators.Get(ctx, o.Name); err == nil {
		return problem.New(problem.BadInput, "there is an operator %s already", o.Name)
	}
	hash, err := hashPassword(o.Name, o.Password)
	if err != nil {
		return err
	}
	return s.Operators.Add(ctx, &store.Operator{Name: o.Name, PasswordHash: hash, Role: string(o.Role), Emergency: o.Emergency})
}

// SetPassword gives an operator a new password and ends all sessions but one. factor is their
// second factor sealed by it, nil for none: it is taken away where nobody knows the old password.
func SetPassword(ctx context.Context, s *store.Store, name, password string, factor []byte, but string) error {
	hash, err := hashPassword(name, password)
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(tx *store.Store) error {
		found, err := tx.Operators.SetPassword(ctx, name, hash, factor)
		if err == nil && !found {
			err = problem.New(problem.NotFound, "there is no operator %s.", name)
		}
		if err != nil {
			return err
		}
		return tx.Operators.DropSessions(ctx, name, but)
	})
}
