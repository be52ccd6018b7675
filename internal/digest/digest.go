// Package digest holds the content digest, by which Morvant names a piece of
// content. It is the 256-bit BLAKE3 hash of the bytes
// (https://github.com/BLAKE3-team/BLAKE3-specs), written as 64 lower-case
// hexadecimal characters.
package digest

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"github.com/zeebo/blake3"
)

// Size is the length of a digest in bytes.
const Size = 32

// ErrFormat is returned for text that is not a digest.
var ErrFormat = errors.New("not a digest: 64 lower-case hexadecimal characters are expected")

// Digest names a piece of content. The zero value names nothing.
type Digest [Size]byte

// Of returns the digest of b.
func Of(b []byte) Digest { return blake3.Sum256(b) }

// Parse reads the form that String writes.
func Parse(s string) (Digest, error) {
	var d Digest
	if len(s) != 2*Size {
		return d, fmt.Errorf("\"%s\": %w", clip(s), ErrFormat)
	}
	if _, err := hex.Decode(d[:], []byte(s)); err != nil || d.String() != s {
		return Digest{}, fmt.Errorf("\"%s\": %w", clip(s), ErrFormat)
	}
	return d, nil
}

// FromBytes returns the digest held in b, which must be Size bytes long.
func FromBytes(b []byte) (Digest, error) {
	var d Digest
	if len(b) != Size {
		return d, fmt.Errorf("%d bytes: %w", len(b), ErrFormat)
	}
	copy(d[:], b)
	return d, nil
}

func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// Short returns the first 12 characters, for people.
func (d Digest) Short() string { return d.String()[:12] }

// IsZero reports whether d names nothing.
func (d Digest) IsZero() bool { return d == Digest{} }

// MarshalText writes the form of String.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads the form of String.
func (d *Digest) UnmarshalText(b []byte) error {
	p, err := Parse(string(b))
	if err == nil {
		*d = p
	}
	return err
}

// Hasher computes the digest of what is written to it.
type Hasher struct{ h *blake3.Hasher }

// NewHasher returns a Hasher that has seen nothing.
func NewHasher() *Hasher { return &Hasher{blake3.New()} }

// Write never fails.
func (h *Hasher) Write(b []byte) (int, error) { return h.h.Write(b) }

// Digest returns the digest of everything written so far.
func (h *Hasher) Digest() Digest {
	var d Digest
	h.h.Sum(d[:0])
	return d
}

// Reset forgets what was written.
func (h *Hasher) Reset() { h.h.Reset() }

// Expand fills out with the extended output of BLAKE3 over seed: reproducible
// bytes for tables and made-up data.
func Expand(seed string, out []byte) {
	h := blake3.New()
	h.WriteString(seed)
	io.ReadFull(h.Digest(), out) // the extended output never ends
}

func clip(s string) string {
	if len(s) > 80 {
		return s[:77] + "..."
	}
	return s
}
