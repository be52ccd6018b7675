// Signrelease signs a file in minisign format, beside it: signrelease KEYFILE FILE.
package main

import (
	"errors"
	"fmt"
	"os"

	"aead.dev/minisign"

	"morvant/internal/publish"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: signrelease KEYFILE FILE")
		os.Exit(2)
	}
	if err := sign(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "signrelease:", err)
		os.Exit(1)
	}
}

func sign(keyFile, file string) error {
	key, err := publish.LoadKey(keyFile, func() (string, error) { return os.Getenv("MORVANT_RELEASE_PASSWORD"), nil })
	if err != nil {
		return err
	}
	content, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	signature := minisign.SignWithComments(key, content, "timestamp:"+os.Getenv("SOURCE_DATE_EPOCH"), "signature of a Morvant release")
	public, ok := key.Public().(minisign.PublicKey)
	if !ok || !minisign.Verify(public, content, signature) {
		return errors.New("the signature does not fit")
	}
	return os.WriteFile(file+".minisig", signature, 0o644)
}
