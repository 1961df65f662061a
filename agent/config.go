// Package agent is the process beside a directory: it enrols once, takes
// orders from the service by long poll, and answers them with what package
// directory reads. It only ever connects outward. It keeps nothing but its
// configuration and its key, and decides nothing.
package agent

import (
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"github.com/goccy/go-yaml"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/directory"
)

// Config is the agent's own file, mode 0600: the only place where credentials
// of directories are kept.
type Config struct {
	// Service is its base URL; where several are on one database, all of them with commas
	// between.
	Service string `yaml:"service"`
	// ServiceCA is a PEM bundle for the service's certificate; "" means the
	// system's.
	ServiceCA string `yaml:"serviceCA,omitempty"`
	Name      string `yaml:"name"`
	AgentID   string `yaml:"agentID,omitempty"`
	Key       string `yaml:"key,omitempty"` // private JWK
	// Cloud is whose events about passwords the agent carries out; without it none.
	Cloud *Cloud `yaml:"cloud,omitempty"`
	// Updates is whose programs the agent takes from the service; without it none.
	Updates     *Updates    `yaml:"updates,omitempty"`
	Directories []Directory `yaml:"directories"`
}

// Directory is how to reach one directory. Name is the one in the settings.
type Directory struct {
	Name       string      `yaml:"name"`
	URL        string      `yaml:"url"`
	StartTLS   bool        `yaml:"startTLS,omitempty"`
	AllowPlain bool        `yaml:"allowPlain,omitempty"`
	CA         string      `yaml:"ca,omitempty"`
	BindDN     string      `yaml:"bindDN"`
	Password   secret.Text `yaml:"password,omitempty"`
	// PasswordFile holds the password instead, as a service manager's credential does;
	// $CREDENTIALS_DIRECTORY is put in. It is read with the configuration.
	PasswordFile string `yaml:"passwordFile,omitempty"`
	// Protected is a filter (RFC 4515) of those whose password the agent never touches,
	// whatever the service says.
	Protected string `yaml:"protected,omitempty"`
	// LocalSocket is the privileged local socket of the domain controller on this host, as
	// ldapi:///path, over which stored passwords are read for digests.
	LocalSocket string `yaml:"localSocket,omitempty"`

	filed secret.Text // what is in PasswordFile
}

// Cloud is a cloud that an agent trusts. The keys are those by which it signs, pinned here:
// the service cannot put others in their place.
type Cloud struct {
	Issuer string `yaml:"issuer"`
	// Audience is for whom events must be, "" for anybody.
	Audience string   `yaml:"audience,omitempty"`
	Keys     []string `yaml:"keys"` // public JWKs
	// SealKey is the public JWK for which digests are sealed, "" where the cloud has none.
	SealKey string `yaml:"sealKey,omitempty"`
}

func (d Directory) connection() directory.Connection {
	return directory.Connection{URL: d.URL, StartTLS: d.StartTLS, AllowPlain: d.AllowPlain, CAFile: d.CA, BindDN: d.BindDN, Password: d.password()}
}

// print changes with anything of how the directory is reached, the password included; it is
// for comparing only.
func (d Directory) print() string { return fmt.Sprintf("%+v %q", d, d.password().Reveal()) }

// password is the one in the configuration, or in the file that it names.
func (d Directory) password() secret.Text { return cmp.Or(d.Password, d.filed) }

// readPassword takes in the password that is kept in a file of its own.
func (d *Directory) readPassword() error {
	if d.PasswordFile == "" {
		return nil
	}
	if d.Password != "" {
		return errors.New("password and passwordFile are both given: take one out")
	}
	file := strings.ReplaceAll(d.PasswordFile, "$CREDENTIALS_DIRECTORY", os.Getenv("CREDENTIALS_DIRECTORY"))
	info, err := os.Stat(file)
	if err != nil {
		return fmt.Errorf("read passwordFile: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("passwordFile %s can be read by others: run chmod 600 %s", file, file)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read passwordFile: %w", err)
	}
	if d.filed = secret.Text(strings.TrimRight(string(text), "\r\n")); d.filed == "" {
		return fmt.Errorf("passwordFile %s is empty", file)
	}
	return nil
}

// plain tells whether what is read can be seen on the network.
func (d Directory) plain() bool {
	return strings.HasPrefix(strings.ToLower(d.URL), "ldap://") && !d.StartTLS
}

// SetDirectory adds a directory, or changes how to reach it.
func (c *Config) SetDirectory(d Directory) {
	for i := range c.Directories {
		if c.Directories[i].Name == d.Name {
			c.Directories[i] = d
			return
		}
	}
	c.Directories = append(c.Directories, d)
}

// Check tells what is wrong with how to reach a directory.
func (d Directory) Check() error { return d.connection().Check() }

// DefaultFile is where the configuration lies unless told otherwise.
func DefaultFile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "agent.yaml"
	}
	return filepath.Join(dir, "kambrel", "agent.yaml")
}

// Load reads a configuration and refuses one that others can read.
func Load(file string) (Config, error) {
	info, err := os.Stat(file)
	if errors.Is(err, os.ErrNotExist) {
		return Config{}, problem.New(problem.BadInput, "there is no agent configuration %s: enrol the agent with 'kambrel agent enrol'", file)
	}
	if err != nil {
		return Config{}, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return Config{}, problem.New(problem.BadInput, "%s holds passwords and others can read it: run chmod 600 %s", file, file)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return Config{}, err
	}
	var c Config
	if err := yaml.UnmarshalWithOptions(text, &c, yaml.Strict()); err != nil {
		// The library quotes the lines around the fault, which may hold a
		// password; only its place and message are told.
		var located yaml.Error
		if errors.As(err, &located) && located.GetToken() != nil {
			return Config{}, problem.New(problem.BadInput, "%s, line %d: %s", file, located.GetToken().Position.Line, located.GetMessage())
		}
		return Config{}, problem.New(problem.BadInput, "%s cannot be read as YAML", file)
	}
	if _, _, err := c.Updates.key(); err != nil {
		return Config{}, problem.New(problem.BadInput, "%s, %s", file, err)
	}
	for i := range c.Directories {
		d := &c.Directories[i]
		if err := errors.Join(d.connection().Check(), d.readPassword()); err != nil {
			return Config{}, problem.New(problem.BadInput, "%s, directory %s: %s", file, d.Name, err)
		}
	}
	return c, nil
}

// Save writes the configuration so that only its owner can read it.
func (c Config) Save(file string) error {
	text, err := yaml.Marshal(c)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// newKey makes the agent's key pair as JWKs; the private one stays here.
func newKey() (private, public string, err error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", "", err
	}
	jwk := jose.JSONWebKey{Key: key, Algorithm: string(jose.EdDSA), Use: "sig"}
	privateText, err := json.Marshal(jwk)
	if err != nil {
		return "", "", err
	}
	publicText, err := json.Marshal(jwk.Public())
	return string(privateText), string(publicText), err
}

func signer(private string) (jose.Signer, error) {
	var key jose.JSONWebKey
	if err := json.Unmarshal([]byte(private), &key); err != nil {
		return nil, problem.New(problem.BadInput, "the agent's key cannot be read: enrol the agent anew")
	}
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, nil)
	if err != nil {
		return nil, fmt.Errorf("use the agent's key: %w", err)
	}
	return s, nil
}
