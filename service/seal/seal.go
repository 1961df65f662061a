// Package seal keeps a secret in the records so that only this host can open it: it is
// encrypted (age) to a key in a file of the service's own, which no backup of the records has.
package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
)

// Key is the key in a file. The zero value has none.
type Key struct{ file string }

// KeyIn is the key in a file, which is made when something is sealed first.
func KeyIn(file string) Key { return Key{file} }

// File is where the key is.
func (k Key) File() string { return k.file }

// Seal encrypts a secret to the key.
func (k Key) Seal(text secret.Text) ([]byte, error) {
	identity, err := k.read()
	if errors.Is(err, os.ErrNotExist) {
		if err := k.make(); err != nil {
			return nil, fmt.Errorf("make the key %s: %w", k.file, err)
		}
		identity, err = k.read()
	}
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	to, err := age.Encrypt(&sealed, identity.Recipient())
	if err != nil {
		return nil, err
	}
	_, err = io.WriteString(to, text.Reveal())
	if err := errors.Join(err, to.Close()); err != nil {
		return nil, err
	}
	return sealed.Bytes(), nil
}

// Unseal opens what was sealed by the same key.
func (k Key) Unseal(sealed []byte) (secret.Text, error) {
	identity, err := k.read()
	if err != nil {
		return "", err
	}
	from, err := age.Decrypt(bytes.NewReader(sealed), identity)
	if err != nil {
		return "", problem.New(problem.BadInput, "it was sealed by another key than the one in %s: bring the file of the host where it was given, or give it anew", k.file)
	}
	text, err := io.ReadAll(from)
	if err != nil {
		return "", problem.New(problem.BadInput, "what was sealed is damaged: give it anew")
	}
	return secret.Text(text), nil
}

func (k Key) read() (*age.X25519Identity, error) {
	if k.file == "" {
		return nil, problem.New(problem.BadInput, "this service was given no file for the key by which secrets are sealed")
	}
	info, err := os.Stat(k.file)
	if err != nil {
		return nil, fmt.Errorf("read the key by which secrets are sealed: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, problem.New(problem.BadInput, "%s opens what is sealed and others can read it: run chmod 600 %s", k.file, k.file)
	}
	text, err := os.ReadFile(k.file)
	if err != nil {
		return nil, err
	}
	identity, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
	if err != nil {
		return nil, problem.New(problem.BadInput, "%s holds no key of age (AGE-SECRET-KEY-1...)", k.file)
	}
	return identity, nil
}

// make makes the key; one that somebody else has made meanwhile stays.
func (k Key) make() error {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(k.file), 0o700); err != nil {
		return err
	}
	fresh, err := os.CreateTemp(filepath.Dir(k.file), ".seal-") // mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(fresh.Name())
	_, err = fmt.Fprintln(fresh, identity)
	if err := errors.Join(err, fresh.Close()); err != nil {
		return err
	}
	if err := os.Link(fresh.Name(), k.file); !errors.Is(err, os.ErrExist) {
		return err
	}
	return nil
}
