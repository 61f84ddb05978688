package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"endeixis/internal/wholefile"

	"github.com/goccy/go-yaml"
)

// profile is what login remembers.
type profile struct {
	Server string `yaml:"server"`
	User   string `yaml:"user"`
	Role   string `yaml:"role"`
	Token  string `yaml:"token"`
	// PublicKey verifies receipts without asking the service.
	PublicKey string `yaml:"public_key"`
}

// profileName is the file that may lie beside the program: then it is the
// profile of the person who runs that program, as for the demo.
const profileName = "endeixis.profile.yaml"

// findProfile returns where the profile is, or is to be written: the file
// named in the environment, one beside the program, or the person's own. The
// working directory is not searched: a folder of downloads must not be able to
// name the service.
func findProfile() (string, error) {
	if path := os.Getenv("ENDEIXIS_PROFILE"); path != "" {
		return path, nil
	}
	if program, err := os.Executable(); err == nil {
		neighbour := filepath.Join(filepath.Dir(program), profileName)
		if _, err := os.Stat(neighbour); err == nil {
			return neighbour, nil
		}
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("no place for the profile: %w; set ENDEIXIS_PROFILE to a file", err)
	}
	return filepath.Join(dir, "endeixis", "profile.yaml"), nil
}

func (a *app) loadProfile() error {
	path, err := findProfile()
	if err != nil {
		return err
	}
	a.profilePath = path
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := yaml.Unmarshal(text, &a.profile); err != nil {
		return fmt.Errorf("the profile %s cannot be read: %w; mend or remove it, and sign in again", path, err)
	}
	return nil
}

// SaveProfile writes a profile for the program in dir, readable by its owner
// only.
func SaveProfile(path, server, user, role, token, publicKey string) error {
	return profile{Server: server, User: user, Role: role, Token: token, PublicKey: publicKey}.save(path)
}

// ProfileBeside returns the path of the profile for a program in dir.
func ProfileBeside(dir string) string { return filepath.Join(dir, profileName) }

func (p profile) save(path string) error {
	text, err := yaml.Marshal(p)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return wholefile.Write(path, string(text)) // a token is never half there
}
