package operators

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"
	"golang.org/x/crypto/argon2"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// The steps of time of a code are 30 s long, and the ones beside the present one are taken
// too, since clocks differ (RFC 6238 section 5.2).
const (
	stepLength = 30 * time.Second
	stepsAside = 1
)

// secretBytes is how long the secret of a second factor is at least, as RFC 4226 section 4
// recommends.
const secretBytes = 20

// imageSide is how wide and high the picture of a secret is, in pixels.
const imageSide = 220

// NewFactor makes a secret for an authenticator. It counts once SetFactor is told a code of it.
// service is the URL by which the service is known.
func (o *Operators) NewFactor(ctx context.Context, by Caller, service string) (wire.NewFactor, error) {
	me, err := o.operator(ctx, by)
	if err != nil {
		return wire.NewFactor{}, err
	}
	issuer := "Kambrel"
	if address, err := url.Parse(service); err == nil && address.Hostname() != "" {
		issuer += " " + address.Hostname()
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: me.Name, SecretSize: secretBytes})
	if err != nil {
		return wire.NewFactor{}, fmt.Errorf("make a second factor: %w", err)
	}
	picture, err := key.Image(imageSide, imageSide)
	if err != nil {
		return wire.NewFactor{}, fmt.Errorf("draw a second factor: %w", err)
	}
	var drawn bytes.Buffer
	if err := png.Encode(&drawn, picture); err != nil {
		return wire.NewFactor{}, err
	}
	return wire.NewFactor{Secret: key.Secret(), URI: key.URL(), Image: "data:image/png;base64," + base64.StdEncoding.EncodeToString(drawn.Bytes())}, nil
}

// SetFactor lets the caller be asked for codes of a secret from now on. Their other sessions end.
func (o *Operators) SetFactor(ctx context.Context, by Caller, in wire.OwnFactor) error {
	me, err := o.proven(ctx, by, in.Current)
	if err != nil {
		return err
	}
	if octets, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(in.Secret); err != nil || len(octets) < secretBytes {
		return problem.New(problem.BadInput, "the secret is none that was made for a second factor.")
	}
	step, fits := stepOf(in.Secret, in.Code, time.Now())
	if !fits {
		return problem.New(problem.BadInput, "the code is not the one of now: look whether the clocks of the authenticator and of the service agree, and give the next code.")
	}
	sealed, err := sealFactor(me.Name, in.Current, in.Secret)
	if err != nil {
		return err
	}
	return o.done(ctx, act.Act{Kind: act.AddFactor, By: me.Name, About: named(me.Name)}, func(tx *store.Store) error {
		if _, err := tx.Operators.SetFactor(ctx, me.Name, sealed, step); err != nil {
			return err
		}
		return tx.Operators.DropSessions(ctx, me.Name, by.TokenID)
	})
}

// RemoveFactor takes an operator's second factor away.
func (o *Operators) RemoveFactor(ctx context.Context, by Caller, name string) error {
	operator, err := o.store.Operators.Get(ctx, name)
	switch {
	case store.NotFound(err):
		return problem.New(problem.NotFound, "there is no operator %s.", name)
	case err != nil:
		return err
	case operator.SecondFactor == nil:
		return problem.New(problem.NotFound, "%s has no second factor.", name)
	}
	return o.done(ctx, act.Act{Kind: act.RemoveFactor, By: by.Name, About: named(name)}, func(tx *store.Store) error {
		_, err := tx.Operators.SetFactor(ctx, name, nil, 0)
		return err
	})
}

// checkFactor asks for the code of somebody whose password was right; each serves once.
func (o *Operators) checkFactor(ctx context.Context, operator store.Operator, in wire.Credentials) error {
	if operator.SecondFactor == nil {
		return nil
	}
	if in.Code == "" {
		return problem.New(problem.SecondFactorNeeded, "")
	}
	secret, err := openFactor(operator.Name, in.Password, operator.SecondFactor)
	if err != nil {
		return fmt.Errorf("open the second factor of %s: %w", operator.Name, err)
	}
	step, fits := stepOf(secret, in.Code, time.Now())
	if fits {
		if fits, err = o.store.Operators.UseFactor(ctx, operator.Name, step); err != nil {
			return err
		}
	}
	if !fits {
		return errWrongCode
	}
	return nil
}

// errWrongCode: the code is not of now, or was used.
var errWrongCode = errors.New("the code is wrong")

// stepOf tells of which step of time a code is; false when it is of none around now.
func stepOf(secret, code string, now time.Time) (int64, bool) {
	for aside := -stepsAside; aside <= stepsAside; aside++ {
		at := now.Add(time.Duration(aside) * stepLength)
		want, err := totp.GenerateCodeCustom(secret, at, totp.ValidateOpts{Period: uint(stepLength / time.Second), Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return at.Unix() / int64(stepLength/time.Second), true
		}
	}
	return 0, false
}

// How a secret is sealed: by a key made of the password (RFC 9106), so that whoever has the
// records alone has no second factor.
const (
	saltBytes                            = 16
	sealMemory, sealPasses, sealParallel = 64 << 10, 1, 4
)

func factorSeal(password string, salt []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(argon2.IDKey([]byte(password), salt, sealPasses, sealMemory, sealParallel, 32))
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

func sealFactor(name, password, secret string) ([]byte, error) {
	salt := make([]byte, saltBytes)
	_, _ = rand.Read(salt) // never fails
	seal, err := factorSeal(password, salt)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, seal.NonceSize())
	_, _ = rand.Read(nonce)
	return seal.Seal(append(salt, nonce...), nonce, []byte(secret), []byte(name)), nil
}

func openFactor(name, password string, sealed []byte) (string, error) {
	if len(sealed) < saltBytes {
		return "", errors.New("it is cut short")
	}
	seal, err := factorSeal(password, sealed[:saltBytes])
	if err != nil {
		return "", err
	}
	rest := sealed[saltBytes:]
	if len(rest) < seal.NonceSize() {
		return "", errors.New("it is cut short")
	}
	secret, err := seal.Open(nil, rest[:seal.NonceSize()], rest[seal.NonceSize():], []byte(name))
	return strings.TrimSpace(string(secret)), err
}
