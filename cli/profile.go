package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/goccy/go-yaml"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/address"
)

// Profile says which service to ask and with what token. The two belong
// together: a token is never sent to another service than its own.
type Profile struct {
	Service string `yaml:"service"`
	Token   string `yaml:"token"`
	// Authority is the service's own (PEM), which was compared when somebody signed in; "" for
	// one that this host knows.
	Authority string `yaml:"authority,omitempty"`

	file    string // where it was read, "" for nowhere
	written time.Time
}

// findProfile finds the service that is meant and the token for it: flags, then
// the environment, then what login or a running demo has written last.
func findProfile(service, token string) (Profile, error) {
	p := Profile{Service: service, Token: token}
	if own := os.Getenv("KAMBREL_SERVICE"); service == "" || sameService(own, service) || own == "" {
		p.Service = cmp.Or(service, own)
		p.Token = cmp.Or(token, os.Getenv("KAMBREL_TOKEN"))
	}
	kept, err := readProfile(userProfile())
	if err == nil && sameService(kept.Service, p.Service) {
		p.Token, p.Authority = cmp.Or(p.Token, kept.Token), kept.Authority
	}
	switch {
	case p.Service != "":
	case p.Service == "" && p.Token != "":
		return p, errors.New("a token is given, but not the service that it is for: give --service too, or KAMBREL_SERVICE")
	case p.Service == "":
		demo, demoErr := findDemo()
		switch {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return p, err
		case demoErr != nil:
			return p, demoErr
		case demo != nil && (err != nil || demo.written.After(kept.written)):
			p = *demo
		case err == nil:
			p = kept
		default:
			return p, errors.New("no service is known: sign in with 'kambrel login URL', start a demo with 'kambrel-lab demo', or give --service and --token")
		}
	}
	if file := os.Getenv("KAMBREL_CA"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return p, fmt.Errorf("KAMBREL_CA names the authorities by which the service is known: %w", err)
		}
		p.Authority = string(text)
	}
	return p, agent.CheckServices(p.Service)
}

// client is a connection to the profile's service.
func (p Profile) client() (*client.Client, error) {
	c := client.New(p.Service, p.Token)
	if p.Authority == "" {
		return c, nil
	}
	return c.Trusting(p.Authority)
}

// sameService tells whether all services of a list are among those of another, of one
// database, so that the token of those is theirs.
func sameService(known, meant string) bool {
	all, list := address.List(strings.ToLower(known)), address.List(strings.ToLower(meant))
	return len(list) > 0 && !slices.ContainsFunc(list, func(one string) bool { return !slices.Contains(all, one) })
}

func userProfile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "kambrel-profile.yaml"
	}
	return filepath.Join(dir, "kambrel", "profile.yaml")
}

// readProfile reads a profile that nobody else can have written.
func readProfile(file string) (Profile, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return Profile{}, err
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	switch {
	case !info.Mode().IsRegular():
		return Profile{}, fmt.Errorf("%s is no plain file, so it is not used: remove it", file)
	case ok && int(owner.Uid) != os.Geteuid():
		return Profile{}, fmt.Errorf("%s belongs to somebody else, so it is not used: it would choose where your token goes", file)
	case info.Mode().Perm()&0o022 != 0:
		return Profile{}, fmt.Errorf("%s can be written by others (mode %o), so it is not used: run 'chmod 600' on it if it is yours", file, info.Mode().Perm())
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return Profile{}, err
	}
	p := Profile{file: file, written: info.ModTime()}
	if err := yaml.Unmarshal(text, &p); err != nil || p.Service == "" {
		return p, fmt.Errorf("%s is no profile: sign in again with 'kambrel login URL'", file)
	}
	return p, nil
}

// Save writes the profile so that only its owner can read it.
func (p Profile) Save(file string) error {
	text, err := yaml.Marshal(p)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	// Anew, so that an older file's mode and owner do not stay.
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.WriteFile(file, text, 0o600)
}

// DemoProfile is the file that a demo that runs keeps in the folder where it was
// started, so that commands beside it work at once.
const DemoProfile = ".kambrel.yaml"

// checkout is the folder that the program was built in; "" when it was not built
// in one, as where it is installed.
func checkout() string {
	program, err := os.Executable()
	if err != nil {
		return ""
	}
	if program, err = filepath.EvalSymlinks(program); err != nil || filepath.Base(filepath.Dir(program)) != "bin" {
		return ""
	}
	root := filepath.Dir(filepath.Dir(program))
	if root == "/" || root == "/usr" || root == "/usr/local" {
		return ""
	}
	return root
}

// beneath lists a folder and those above it up to the root; nil when it does not
// lie there.
func beneath(folder, root string) []string {
	var folders []string
	for root != "" {
		folders = append(folders, folder)
		if folder == root {
			return folders
		}
		parent := filepath.Dir(folder)
		if parent == folder {
			break
		}
		folder = parent
	}
	return nil
}

// findDemo finds the profile of a demo that runs, beneath the checkout that this
// program was built in; a folder elsewhere cannot choose where tokens go.
func findDemo() (*Profile, error) {
	here, err := os.Getwd()
	if err != nil {
		return nil, nil
	}
	if here, err = filepath.EvalSymlinks(here); err != nil {
		return nil, nil
	}
	for _, folder := range beneath(here, checkout()) {
		file := filepath.Join(folder, DemoProfile)
		running, err := held(file)
		if err != nil || !running {
			continue
		}
		p, err := readProfile(file)
		return &p, err
	}
	return nil, nil
}

// held tells whether a demo that runs holds its file: the lock ends with it,
// however it ends.
func held(file string) (bool, error) {
	opened, err := os.Open(file)
	if err != nil {
		return false, err
	}
	defer opened.Close()
	err = syscall.Flock(int(opened.Fd()), syscall.LOCK_SH|syscall.LOCK_NB)
	return errors.Is(err, syscall.EWOULDBLOCK), nil
}

// KeepDemoProfile writes the profile of a demo into the folder where it was
// started and holds it until release; nil where commands would not look for it,
// outside the checkout that the program was built in.
func KeepDemoProfile(p Profile) (release func(), err error) {
	here, err := filepath.Abs(".")
	if err == nil {
		here, err = filepath.EvalSymlinks(here)
	}
	if err != nil || beneath(here, checkout()) == nil {
		return nil, err
	}
	file := filepath.Join(here, DemoProfile)
	if err := p.Save(file); err != nil {
		return nil, err
	}
	opened, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(opened.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("hold %s: %w", file, err), opened.Close())
	}
	return func() {
		_ = os.Remove(file)
		_ = opened.Close()
	}, nil
}
