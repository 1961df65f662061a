package agent

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/orders"
)

// rotation is after how long an agent makes a new key for passwords by itself.
const rotation = 30 * 24 * time.Hour

// forgetAfter is how long the agent remembers an event after it has expired.
const forgetAfter = 10 * time.Minute

// vault is what an agent keeps of its own beside its configuration: the keys that open
// passwords, and which events it has carried out. Nothing else has these keys.
type vault struct {
	dir string // "" keeps everything in memory

	mu     sync.Mutex
	read   time.Time // of which time the file was that was read last
	keys   []sealKey // the newest first; the one before it still opens what is on its way
	events map[string]*remembered
}

// sealKey is a key pair for ECDH-ES.
type sealKey struct {
	Key  jose.JSONWebKey `json:"key"`
	Made time.Time       `json:"made"`
}

// remembered is an event that was begun.
type remembered struct {
	ID    string `json:"jti"`
	Until int64  `json:"until"`
	// Done is what became of it; nil while that is not known, as after a crash.
	Done *orders.PasswordDone `json:"done,omitempty"`

	busy sync.Mutex
}

// StateFolder is where an agent of a configuration file keeps what is its own.
func StateFolder(file string) string {
	if file == "" {
		return ""
	}
	return strings.TrimSuffix(file, filepath.Ext(file)) + ".state"
}

func openVault(dir string) (*vault, error) {
	v := &vault{dir: dir, events: map[string]*remembered{}}
	if dir == "" {
		return v, v.rotate(time.Now())
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := v.recall(time.Now()); err != nil {
		return nil, err
	}
	return v, v.rotateWhenDue(time.Now())
}

// load reads the keys when they have changed, as by a command on the same host.
func (v *vault) load() error {
	if v.dir == "" {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	info, err := os.Stat(v.file("keys.json"))
	if errors.Is(err, os.ErrNotExist) || err == nil && info.ModTime().Equal(v.read) {
		return nil
	}
	var text []byte
	if err == nil {
		text, err = os.ReadFile(v.file("keys.json"))
	}
	var keys []sealKey
	if err == nil {
		err = json.Unmarshal(text, &keys)
	}
	if err != nil {
		return problem.New(problem.BadInput, "%s cannot be read: delete it, and the agent makes a new key", v.file("keys.json"))
	}
	v.keys, v.read = keys, info.ModTime()
	return nil
}

func (v *vault) file(name string) string { return filepath.Join(v.dir, name) }

// recall reads which events were begun, and drops those that can come no more.
func (v *vault) recall(now time.Time) error {
	text, err := os.ReadFile(v.file("events.ndjson"))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	scanner := bufio.NewScanner(strings.NewReader(string(text)))
	for scanner.Scan() {
		one := &remembered{}
		if json.Unmarshal(scanner.Bytes(), one) == nil && now.Unix() < one.Until {
			v.events[one.ID] = one
		}
	}
	return v.rewrite()
}

// rewrite keeps just what is remembered.
func (v *vault) rewrite() error {
	var b strings.Builder
	for _, one := range v.events {
		line, err := json.Marshal(one)
		if err != nil {
			return err
		}
		b.Write(append(line, '\n'))
	}
	return replaceFile(v.file("events.ndjson"), []byte(b.String()))
}

// replaceFile writes a file so that after a crash the old one or the new one is there.
func replaceFile(file string, text []byte) error {
	made, err := os.OpenFile(file+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = made.Write(text)
	if err = errors.Join(err, made.Sync(), made.Close()); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// note appends what is known of an event, on the disk when it returns.
func (v *vault) note(one *remembered) error {
	if v.dir == "" {
		return nil
	}
	line, err := json.Marshal(one)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(v.file("events.ndjson"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(append(line, '\n'))
	return errors.Join(err, file.Sync(), file.Close())
}

// begin remembers that an event is being carried out before anything is done. before tells
// that it was begun already, and done is what became of it then, nil where that is not
// known. Nobody else carries it out until end is called.
func (v *vault) begin(id string, expires time.Time) (done *orders.PasswordDone, before bool, end func(*orders.PasswordDone) error, err error) {
	v.mu.Lock()
	now := time.Now()
	for known, one := range v.events {
		if now.Unix() > one.Until {
			delete(v.events, known)
		}
	}
	one, before := v.events[id]
	if !before {
		one = &remembered{ID: id, Until: expires.Add(forgetAfter).Unix()}
		v.events[id] = one
	}
	v.mu.Unlock()
	one.busy.Lock()
	if one.Done == nil && !before {
		if err := v.keep(one, nil); err != nil {
			one.busy.Unlock()
			return nil, false, nil, fmt.Errorf("remember the event before it is carried out: %w", err)
		}
	}
	return one.Done, before, func(done *orders.PasswordDone) error {
		defer one.busy.Unlock()
		if done == nil {
			return nil
		}
		return v.keep(one, done)
	}, nil
}

func (v *vault) keep(one *remembered, done *orders.PasswordDone) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	one.Done = done
	return v.note(one)
}

// rotate makes a new key. The one before it is kept, for envelopes on their way.
func (v *vault) rotate(now time.Time) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	made, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	key := jose.JSONWebKey{Key: made, Algorithm: string(jose.ECDH_ES_A256KW), Use: "enc"}
	if key.KeyID, err = fingerprint.OfKey(key); err != nil {
		return err
	}
	v.keys = append([]sealKey{{key, now}}, v.keys[:min(len(v.keys), 1)]...)
	if v.dir == "" {
		return nil
	}
	text, err := json.Marshal(v.keys)
	if err != nil {
		return err
	}
	return replaceFile(v.file("keys.json"), text)
}

func (v *vault) rotateWhenDue(now time.Time) error {
	if err := v.load(); err != nil {
		return err
	}
	v.mu.Lock()
	due := len(v.keys) == 0 || now.Sub(v.keys[0].Made) > rotation
	v.mu.Unlock()
	if due {
		return v.rotate(now)
	}
	return nil
}

// current is the key that passwords are sealed for, and since when.
func (v *vault) current() sealKey {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.keys[0]
}

func (v *vault) all() []sealKey {
	v.mu.Lock()
	defer v.mu.Unlock()
	return append([]sealKey{}, v.keys...)
}

// open decrypts an envelope that may serve for just one thing, which belongs tells by what it
// is bound to.
func (v *vault) open(envelope json.RawMessage, belongs func(bound []byte) bool) (events.Secret, error) {
	sealed, err := jose.ParseEncryptedJSON(string(envelope), []jose.KeyAlgorithm{jose.ECDH_ES_A256KW}, []jose.ContentEncryption{jose.A256GCM})
	if err != nil {
		return events.Secret{}, errors.New("the envelope is no JWE with ECDH-ES+A256KW and A256GCM")
	}
	if !belongs(sealed.GetAuthData()) {
		return events.Secret{}, errors.New("the envelope was sealed for something else")
	}
	for _, key := range v.all() {
		_, _, plain, err := sealed.DecryptMulti(key.Key)
		if err != nil {
			continue
		}
		var secret events.Secret
		// What it was is not told: the library's errors quote what they cannot read.
		if json.Unmarshal(plain, &secret) != nil || secret.Password == "" {
			return events.Secret{}, errors.New("the envelope holds no password")
		}
		return secret, nil
	}
	return events.Secret{}, errors.New("the envelope was sealed for other keys")
}

// just tells whether an envelope is bound to one thing.
func just[T comparable](must T) func([]byte) bool {
	return func(bound []byte) bool {
		var said T
		return json.Unmarshal(bound, &said) == nil && said == must
	}
}

// state signs that the current key is this agent's, to seal for a directory.
func (v *vault) state(identity, directory, name string) (string, error) {
	var own jose.JSONWebKey
	if err := json.Unmarshal([]byte(identity), &own); err != nil {
		return "", problem.New(problem.BadInput, "the agent's key cannot be read: enrol the agent anew")
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: own}, &jose.SignerOptions{EmbedJWK: true})
	if err != nil {
		return "", fmt.Errorf("use the agent's key: %w", err)
	}
	current := v.current()
	key, err := json.Marshal(current.Key.Public())
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(events.Statement{Directory: directory, Agent: name, Key: key, Made: current.Made.Unix()})
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// Keys are the thumbprint of an agent's identity, and the id of its key for passwords with
// when that was made; rotate makes a new one first.
func Keys(c Config, file string, rotate bool) (identity, key string, made time.Time, err error) {
	var own jose.JSONWebKey
	if err := json.Unmarshal([]byte(c.Key), &own); err != nil {
		return "", "", made, problem.New(problem.BadInput, "the agent is not enrolled: run 'kambrel agent enrol'")
	}
	if identity, err = fingerprint.OfKey(own); err != nil {
		return "", "", made, err
	}
	// What is remembered of events is left to the agent, which may be running.
	v := &vault{dir: StateFolder(file)}
	if err := os.MkdirAll(v.dir, 0o700); err != nil {
		return "", "", made, err
	}
	if err := v.rotateWhenDue(time.Now()); err != nil {
		return "", "", made, err
	}
	if rotate {
		if err := v.rotate(time.Now()); err != nil {
			return "", "", made, err
		}
	}
	current := v.current()
	return identity, current.Key.KeyID, current.Made, nil
}
