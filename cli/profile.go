package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/goccy/go-yaml"
)

// Profile says which service to ask and with what token.
type Profile struct {
	Service string `yaml:"service"`
	Token   string `yaml:"token"`
}

// ProfileName is the file that is looked for from the working folder upward.
const ProfileName = ".kambrel.yaml"

func findProfile(service, token string) (Profile, error) {
	if service == "" {
		service = os.Getenv("KAMBREL_SERVICE")
	}
	if token == "" {
		token = os.Getenv("KAMBREL_TOKEN")
	}
	if service != "" {
		if token == "" {
			if kept, err := readProfile(userProfile()); err == nil && kept.Service == service {
				token = kept.Token
			}
		}
		return Profile{service, token}, nil
	}
	files := []string{}
	if dir, err := os.Getwd(); err == nil {
		for {
			files = append(files, filepath.Join(dir, ProfileName))
			parent := filepath.Dir(dir)
			if parent == dir {
				break
			}
			dir = parent
		}
	}
	for _, file := range append(files, userProfile()) {
		p, err := readProfile(file)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if token != "" {
			p.Token = token
		}
		return p, err
	}
	return Profile{}, errors.New("no service is known: sign in with 'kambrel login URL', start a demo with 'kambrel demo', or give --service and --token")
}

func userProfile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return ProfileName
	}
	return filepath.Join(dir, "kambrel", "profile.yaml")
}

func readProfile(file string) (Profile, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return Profile{}, err
	}
	var p Profile
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
	return os.WriteFile(file, text, 0o600)
}
