package backup

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/service/store"
)

// Target is where a backup is brought back: an empty database, and the folder for the
// service's own authority.
type Target struct {
	DSN       string
	TLSFolder string
	// Identity is the text of an identity file of age, "" where the backup is not encrypted.
	Identity string
}

// Restored is what was brought back.
type Restored struct {
	About
	// Authority tells that the service's own authority was brought back; false where the
	// backup has none, or the folder has one.
	Authority bool
}

// sealedMark is how files of age begin.
const sealedMark = "age-encryption.org/v1\n"

// Restore brings a backup back. What it holds is of an earlier moment, so nothing is written
// anywhere until a rehearsal has shown what that would do; see store.BeRestored.
func Restore(ctx context.Context, file string, to Target) (Restored, error) {
	var done Restored
	in, err := os.Open(file)
	if err != nil {
		return done, problem.Wrap(problem.BadInput, err, "open the backup")
	}
	defer in.Close()
	archive, err := opened(in, to.Identity)
	if err != nil {
		return done, err
	}
	if err := store.CheckEmpty(ctx, to.DSN); err != nil {
		return done, err
	}
	folder, err := os.MkdirTemp("", "kambrel-restore-")
	if err != nil {
		return done, err
	}
	defer os.RemoveAll(folder)
	if err := os.Mkdir(filepath.Join(folder, tlsFolder), 0o700); err != nil {
		return done, err
	}
	if done.About, err = unpack(archive, func(name string) (io.WriteCloser, error) {
		return os.OpenFile(filepath.Join(folder, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	}); err != nil {
		return done, err
	}
	if err := store.CheckSchema(done.Holds.Schema); err != nil {
		return done, err
	}
	if err := load(ctx, to.DSN, filepath.Join(folder, recordsName)); err != nil {
		return done, err
	}
	records, err := store.Open(ctx, to.DSN)
	if err != nil {
		return done, err
	}
	defer records.Close()
	if err := records.BeRestored(ctx, done.Made); err != nil {
		return done, fmt.Errorf("note that the records are those of a backup: %w", err)
	}
	done.Authority, err = bringAuthority(filepath.Join(folder, tlsFolder), to.TLSFolder)
	return done, err
}

// opened reads what is sealed by an identity.
func opened(in io.Reader, identity string) (io.Reader, error) {
	buffered := bufio.NewReader(in)
	mark, _ := buffered.Peek(len(sealedMark)) // a file that is shorter is not sealed
	if !bytes.Equal(mark, []byte(sealedMark)) {
		return buffered, nil
	}
	if identity == "" {
		return nil, problem.New(problem.BadInput, "the backup is encrypted: give the file with the identity of age (--identity) for whose public key it was made.")
	}
	identities, err := age.ParseIdentities(strings.NewReader(identity))
	if err != nil {
		return nil, problem.New(problem.BadInput, "the identity file cannot be read: it holds AGE-SECRET-KEY-1... on a line.")
	}
	plain, err := age.Decrypt(buffered, identities...)
	if err != nil {
		return nil, problem.Wrap(problem.BadInput, err, "the backup was encrypted for another key, or is damaged")
	}
	return plain, nil
}

// bringAuthority copies the service's own authority where there is none.
func bringAuthority(from, to string) (bool, error) {
	if _, err := os.Stat(filepath.Join(from, "ca.pem")); errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if _, err := os.Stat(filepath.Join(to, "ca.pem")); err == nil {
		return false, nil
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return false, err
	}
	for _, part := range partNames[1:] {
		name := filepath.Base(part)
		text, err := os.ReadFile(filepath.Join(from, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return false, err
		}
		if err := os.WriteFile(filepath.Join(to, name), text, 0o600); err != nil {
			return false, err
		}
	}
	return true, nil
}
