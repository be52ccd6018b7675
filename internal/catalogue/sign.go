package catalogue

import (
	"fmt"
	"strings"

	"aead.dev/minisign"
)

// PublicKey says who signs a feed. Its text form, 56 characters, is what people
// compare.
type PublicKey = minisign.PublicKey

// ParseKey reads the text form of a public key.
func ParseKey(s string) (PublicKey, error) {
	var k PublicKey
	if err := k.UnmarshalText([]byte(strings.TrimSpace(strings.TrimPrefix(s, "\uFEFF")))); err != nil {
		return k, fmt.Errorf("%w: \"%s\" is not a public key", ErrFormat, s)
	}
	return k, nil
}

// KeyText returns the text form of a public key.
func KeyText(k PublicKey) string {
	text, err := k.MarshalText()
	if err != nil {
		return "" // cannot fail: the key is plain bytes
	}
	// The text may have a comment line before the key itself.
	lines := strings.Fields(string(text))
	return lines[len(lines)-1]
}

// Sign returns the signature of a file in minisign format. what goes into its
// trusted comment.
func Sign(key minisign.PrivateKey, body []byte, what string) []byte {
	return minisign.SignWithComments(key, body, what, "signature of a Morvant feed")
}

// Verify returns an error unless signature is that of body by key.
func Verify(key PublicKey, body, signature []byte) error {
	if !minisign.Verify(key, body, signature) {
		return ErrSignature
	}
	return nil
}
