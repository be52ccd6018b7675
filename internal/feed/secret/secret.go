// Package secret keeps what nobody else is to read: in the system's keyring, else in a file for the user only.
package secret

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"

	"github.com/zalando/go-keyring"

	"morvant/internal/problem"
	"morvant/internal/volume"
)

const service = "morvant"

// useKeyring reports whether the system's keyring should be tried. MORVANT_KEYRING=file
// keeps secrets out of it.
func useKeyring() bool { return os.Getenv("MORVANT_KEYRING") != "file" }

// One is a single secret.
type One struct {
	Name string // in the keyring
	File string
}

// Load returns it; nil: there is none.
func (k One) Load() ([]byte, error) {
	if useKeyring() {
		if s, err := keyring.Get(service, k.Name); err == nil {
			return []byte(s), nil
		}
	}
	b, err := volume.ReadFile(k.File, volume.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return b, err
}

// Save keeps it and returns where, for people.
func (k One) Save(b []byte) (string, error) {
	if useKeyring() && keyring.Set(service, k.Name, string(b)) == nil {
		return "the system's keyring", volume.RemoveFile(k.File)
	}
	return k.File, volume.Replace(k.File, b, 0o600) // readable by the user only
}

// Forget removes it.
func (k One) Forget() error {
	if useKeyring() {
		_ = keyring.Delete(service, k.Name) // none there, or no keyring at all
	}
	return volume.RemoveFile(k.File)
}

// Several keep what an adapter wants kept: in the system's keyring, else in a file for the user only.
type Several struct {
	keyring string // the beginning of their names there
	file    string
	moves   bool // a feed that is being added: what is in the keyring would be lost
}

// Of returns those that are kept in a file, or in the keyring under names that begin so. Where the file is about to be moved, it is
// the file.
func Of(keyring, file string, moves bool) *Several { return &Several{keyring, file, moves} }

// load reads the file: values, empty for those in the keyring.
func (s *Several) load() (map[string]string, error) {
	b, err := volume.ReadFile(s.file, volume.Small)
	m := make(map[string]string)
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &m)
	}
	return m, err
}

func (s *Several) save(m map[string]string) error {
	if len(m) == 0 {
		return volume.RemoveFile(s.file)
	}
	b, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return volume.Replace(s.file, b, 0o600)
}

// Get returns a secret.
func (s *Several) Get(name string) (string, bool, error) {
	m, err := s.load()
	if err != nil {
		return "", false, err
	}
	value, ok := m[name]
	if ok && value == "" {
		value, err = keyring.Get(service, s.keyring+name)
		return value, err == nil, nil // gone from the keyring: there is none
	}
	return value, ok, nil
}

// Set keeps a secret; nil forgets it.
func (s *Several) Set(name string, value *string) error {
	const most = 16
	m, err := s.load()
	if err != nil {
		return err
	}
	if value == nil || *value == "" {
		if useKeyring() {
			_ = keyring.Delete(service, s.keyring+name)
		}
		delete(m, name)
		return s.save(m)
	}
	if _, known := m[name]; !known && len(m) >= most {
		return problem.New("an adapter can keep 16 secrets", "Sign out of the feed, which forgets them")
	}
	m[name] = *value
	if !s.moves && useKeyring() && keyring.Set(service, s.keyring+name, *value) == nil {
		m[name] = ""
	}
	return s.save(m)
}

// Forget forgets them all.
func (s *Several) Forget() error {
	m, err := s.load()
	if err != nil {
		return errors.Join(err, volume.RemoveFile(s.file))
	}
	for name := range m {
		if useKeyring() {
			_ = keyring.Delete(service, s.keyring+name)
		}
	}
	return volume.RemoveFile(s.file)
}
