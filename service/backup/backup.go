// Package backup writes all that a service needs to go on into one file, and brings it back.
// The file is a tar archive: backup.json, the records as PostgreSQL's own dump, and the
// authority by which the service is known; encrypted by age where a key is given.
package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"filippo.io/age"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/service/store"
)

const (
	aboutName   = "backup.json"
	recordsName = "records.dump"
	tlsFolder   = "tls/"
)

// partNames are the files that a backup may hold behind its first, in their order: the records,
// and the service's own authority and certificate.
var partNames = []string{recordsName, tlsFolder + "ca.pem", tlsFolder + "ca.key", tlsFolder + "service.pem", tlsFolder + "service.key"}

// About says what a backup holds.
type About struct {
	Version string            `json:"version"` // of the program that made it
	Made    time.Time         `json:"made"`
	Holds   store.Holding     `json:"holds"`
	Sums    map[string]string `json:"sums"` // SHA-256 of each other file, by its name
}

// Source is what is backed up: the records, and the folder of the service's own authority,
// which need not exist.
type Source struct {
	DSN       string
	TLSFolder string
	Version   string
	// Recipient is the public key of age for which the file is encrypted, "" for none.
	Recipient string
}

// Write makes a backup in a file that must not be there yet, and checks it. The service may
// run meanwhile: the records are those of one moment.
func Write(ctx context.Context, from Source, file string) (About, error) {
	about := About{Version: from.Version, Sums: map[string]string{}}
	recipient, err := recipientOf(from.Recipient)
	if err != nil {
		return about, err
	}
	if _, err := os.Lstat(file); !errors.Is(err, fs.ErrNotExist) {
		return about, problem.New(problem.BadInput, "%s is there already: give another name, or remove it first.", file)
	}
	folder, err := os.MkdirTemp(filepath.Dir(file), ".kambrel-backup-")
	if err != nil {
		return about, fmt.Errorf("make a folder for the backup: %w", err)
	}
	defer os.RemoveAll(folder)
	about.Made = time.Now().UTC().Truncate(time.Second)
	if about.Holds, err = store.HoldingOf(ctx, from.DSN); err != nil {
		return about, err
	}
	if about.Holds.Schema == 0 {
		return about, problem.New(problem.BadInput, "the database has no records of Kambrel: give the one that the service uses.")
	}
	parts := map[string]string{recordsName: filepath.Join(folder, recordsName)}
	if err := dump(ctx, from.DSN, parts[recordsName]); err != nil {
		return about, err
	}
	for _, name := range partNames[1:] {
		path := filepath.Join(from.TLSFolder, filepath.Base(name))
		if _, err := os.Stat(path); err == nil {
			parts[name] = path
		}
	}
	for name, path := range parts {
		if about.Sums[name], err = sumOf(path); err != nil {
			return about, err
		}
	}
	part := filepath.Join(folder, "archive")
	written, err := archive(about, parts, part, recipient)
	if err != nil {
		return about, fmt.Errorf("write the backup: %w", err)
	}
	if err := check(part, written, recipient == nil); err != nil {
		return about, fmt.Errorf("the backup was written and does not read as it should: %w", err)
	}
	return about, os.Rename(part, file)
}

func recipientOf(text string) (age.Recipient, error) {
	if text == "" {
		return nil, nil
	}
	recipient, err := age.ParseX25519Recipient(text)
	if err != nil {
		return nil, problem.New(problem.BadInput, "%q is no public key of age: it begins with age1 (%s)", text, err)
	}
	return recipient, nil
}

// archive writes the parts, and returns the sum of the file.
func archive(about About, parts map[string]string, file string, recipient age.Recipient) (sum string, err error) {
	out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	digest := sha256.New()
	to := io.MultiWriter(out, digest)
	closers := []io.Closer{}
	if recipient != nil {
		sealed, err := age.Encrypt(to, recipient)
		if err != nil {
			return "", err
		}
		to, closers = sealed, append(closers, sealed)
	}
	tarred := tar.NewWriter(to)
	text, err := json.MarshalIndent(about, "", "  ")
	if err != nil {
		return "", err
	}
	if err := add(tarred, aboutName, about.Made, int64(len(text)), bytes.NewReader(text)); err != nil {
		return "", err
	}
	for _, name := range partNames {
		if parts[name] == "" {
			continue
		}
		if err := addFile(tarred, name, parts[name], about.Made); err != nil {
			return "", err
		}
	}
	for _, closer := range append([]io.Closer{tarred}, closers...) {
		if err := closer.Close(); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(digest.Sum(nil)), out.Sync()
}

func addFile(to *tar.Writer, name, path string, made time.Time) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	return add(to, name, made, info.Size(), in)
}

func add(to *tar.Writer, name string, made time.Time, size int64, from io.Reader) error {
	if err := to.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: made, Format: tar.FormatPAX}); err != nil {
		return err
	}
	_, err := io.Copy(to, from)
	return err
}

// check reads a backup again: the file as it is on the disk, and, where that can be read, each
// part.
func check(file, sum string, readable bool) error {
	found, err := sumOf(file)
	if err != nil {
		return err
	}
	if found != sum {
		return errors.New("the file on the disk is not what was written")
	}
	if !readable {
		return nil
	}
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	_, err = unpack(in, func(string) (io.WriteCloser, error) { return discarded{io.Discard}, nil })
	return err
}

type discarded struct{ io.Writer }

func (discarded) Close() error { return nil }

// unpack reads an archive and asks of each part where it goes; what is not of a backup, or not
// as its sum says, is an error.
func unpack(from io.Reader, place func(name string) (io.WriteCloser, error)) (About, error) {
	var about About
	tarred := tar.NewReader(from)
	head, err := tarred.Next()
	if err != nil || head.Name != aboutName || head.Size > 1<<20 {
		return about, problem.New(problem.BadInput, "the file is no backup of Kambrel, or only its end.")
	}
	if err := json.NewDecoder(io.LimitReader(tarred, 1<<20)).Decode(&about); err != nil {
		return about, problem.Wrap(problem.BadInput, err, "the backup's first part cannot be read")
	}
	left := map[string]string{}
	for name, sum := range about.Sums {
		left[name] = sum
	}
	for {
		head, err := tarred.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return about, problem.Wrap(problem.BadInput, err, "the backup is cut short or damaged")
		}
		sum, known := left[head.Name]
		if !known || head.Typeflag != tar.TypeReg || !slices.Contains(partNames, head.Name) {
			return about, problem.New(problem.BadInput, "the backup holds %q, which no backup holds: it was changed.", head.Name)
		}
		delete(left, head.Name)
		if err := unpackOne(tarred, head.Name, sum, place); err != nil {
			return about, err
		}
	}
	for name := range left {
		return about, problem.New(problem.BadInput, "the backup is cut short: %s is missing.", name)
	}
	return about, nil
}

func unpackOne(from io.Reader, name, sum string, place func(name string) (io.WriteCloser, error)) error {
	to, err := place(name)
	if err != nil {
		return err
	}
	digest := sha256.New()
	_, err = io.Copy(io.MultiWriter(to, digest), from)
	if err := errors.Join(err, to.Close()); err != nil {
		return problem.Wrap(problem.BadInput, err, "the backup is cut short or damaged at %s", name)
	}
	if hex.EncodeToString(digest.Sum(nil)) != sum {
		return problem.New(problem.BadInput, "the backup is damaged: %s is not what its sum says.", name)
	}
	return nil
}

func sumOf(file string) (string, error) {
	in, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer in.Close()
	digest := sha256.New()
	if _, err := io.Copy(digest, in); err != nil {
		return "", err
	}
	return hex.EncodeToString(digest.Sum(nil)), nil
}
