package publish

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"aead.dev/minisign"

	"morvant/internal/strict"
	"morvant/internal/volume"
)

// ErrKeyFile is returned for a file that holds no secret key, or one whose
// password is another.
var ErrKeyFile = errors.New("the secret key cannot be read")

// NewKey makes a key pair and writes the secret key to file, for its owner only. A
// file that is there is not touched.
func NewKey(file string) (minisign.PrivateKey, error) {
	_, key, err := minisign.GenerateKey(rand.Reader)
	if err != nil {
		return key, err
	}
	text, err := key.MarshalText()
	if err != nil {
		return key, err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return key, err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return key, err
	}
	_, err = f.Write(text)
	return key, errors.Join(err, f.Sync(), f.Close())
}

// LoadKey reads a secret key in minisign format. password is asked for if the key
// is protected by one; unlocking it takes a second and a GiB of memory, as the
// format wants it.
func LoadKey(file string, password func() (string, error)) (minisign.PrivateKey, error) {
	var key minisign.PrivateKey
	text, err := volume.ReadFile(file, volume.Small)
	if err != nil {
		return key, err
	}
	text = strict.Text(text)
	if !minisign.IsEncrypted(text) {
		if err := key.UnmarshalText(text); err != nil {
			return key, fmt.Errorf("%s: %w", file, ErrKeyFile)
		}
		return key, nil
	}
	secret, err := password()
	if err != nil {
		return key, err
	}
	if key, err = minisign.DecryptKey(secret, text); err != nil {
		return key, fmt.Errorf("%s: %w", file, ErrKeyFile)
	}
	return key, nil
}

// Missing reports whether there is no key file yet.
func Missing(file string) bool {
	_, err := os.Stat(file)
	return errors.Is(err, fs.ErrNotExist)
}
