package digest

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"

	"github.com/pjbgf/sha1cd"
	"github.com/zeebo/blake3"
)

// Foreign is a digest of another kind than Morvant's own, as distributors use them.
type Foreign struct {
	Alg string // one of Algorithms
	Hex string // lower case
}

// Algorithms lists the kinds of digests that are understood, the best first.
var Algorithms = []string{"blake3", "sha512", "sha256", "sha1", "md5"}

var lengths = map[string]int{"blake3": 32, "sha512": 64, "sha256": 32, "sha1": 20, "md5": 16}

// ErrForeign is returned for text that is no digest of another kind.
var ErrForeign = errors.New("not a digest: ALG:HEX is expected, with blake3, sha512, sha256, sha1 or md5")

// ErrCollision is returned for content that was made to have the SHA-1 of other content.
var ErrCollision = errors.New("this content was made to be mistaken for other content (a SHA-1 collision)")

// ParseForeign reads ALG:HEX.
func ParseForeign(s string) (Foreign, error) {
	alg, text, ok := strings.Cut(s, ":")
	text = strings.ToLower(text)
	if b, err := hex.DecodeString(text); !ok || err != nil || lengths[alg] == 0 || len(b) != lengths[alg] {
		return Foreign{}, fmt.Errorf("\"%s\": %w", clip(s), ErrForeign)
	}
	return Foreign{alg, text}, nil
}

func (f Foreign) String() string { return f.Alg + ":" + f.Hex }

// IsZero reports whether f names nothing.
func (f Foreign) IsZero() bool { return f == Foreign{} }

// Strong reports whether the digest names content wherever it comes from. SHA-1 and MD5 do not: content can be made
// that shares them.
func (f Foreign) Strong() bool { return f.Alg == "blake3" || f.Alg == "sha512" || f.Alg == "sha256" }

// Forgeable reports whether content that was made to have another's digest goes unnoticed. With SHA-1 it is detected
// (M. Stevens, Counter-cryptanalysis, 2013).
func (f Foreign) Forgeable() bool { return f.Alg == "md5" }

// ForeignHasher computes a digest of another kind.
type ForeignHasher struct {
	alg string
	h   hash.Hash
}

// NewForeignHasher returns a hasher for one of Algorithms.
func NewForeignHasher(alg string) *ForeignHasher {
	var h hash.Hash
	switch alg {
	case "sha512":
		h = sha512.New()
	case "sha256":
		h = sha256.New()
	case "sha1":
		h = sha1cd.New()
	case "md5":
		h = md5.New()
	default:
		alg, h = "blake3", blake3.New()
	}
	return &ForeignHasher{alg, h}
}

// Write never fails.
func (h *ForeignHasher) Write(b []byte) (int, error) { return h.h.Write(b) }

// Foreign returns the digest of everything written so far.
func (h *ForeignHasher) Foreign() (Foreign, error) {
	var sum []byte
	if c, ok := h.h.(sha1cd.CollisionResistantHash); ok {
		var collision bool
		if sum, collision = c.CollisionResistantSum(nil); collision {
			return Foreign{}, ErrCollision
		}
	} else {
		sum = h.h.Sum(nil)
	}
	return Foreign{h.alg, hex.EncodeToString(sum)}, nil
}

// ForeignOf returns the digest of b.
func ForeignOf(alg string, b []byte) (Foreign, error) {
	h := NewForeignHasher(alg)
	h.Write(b)
	return h.Foreign()
}

// unseen begins what stands for a digest that is not known yet. That the digest of real content begins so is as
// likely as guessing 96 bits.
var unseen = []byte("morvant-none")

// Unseen returns what stands for the digest of content that has not been seen here, and is known by something
// else: the same for the same name.
func Unseen(name string) Digest {
	sum := Of([]byte("morvant unseen\n" + name))
	return Digest(slices.Concat(unseen, sum[:Size-len(unseen)]))
}

// IsUnseen reports whether d stands for the digest of content that has not been seen here.
func (d Digest) IsUnseen() bool { return bytes.HasPrefix(d[:], unseen) }
