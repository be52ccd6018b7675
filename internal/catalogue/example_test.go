package catalogue_test

import (
	"crypto/rand"
	"fmt"
	"time"

	"aead.dev/minisign"

	"morvant/internal/catalogue"
	"morvant/internal/digest"
)

func Example() {
	public, secret, err := minisign.GenerateKey(rand.Reader)
	if err != nil {
		panic(err)
	}
	c := &catalogue.Channel{
		Format: catalogue.ChannelFormat, Feed: "quay-archive", Channel: "public", Serial: 1,
		Builds: []catalogue.Build{{
			Label: "1.1.1", Date: time.Date(2031, 8, 5, 17, 0, 0, 0, time.UTC),
			Components: []catalogue.Part{{Name: "base", Manifest: digest.Of([]byte("the manifest")), Layout: digest.Of([]byte("the layout")), Files: 2, Bytes: 100}},
		}},
	}
	body, err := c.Encode()
	if err != nil {
		panic(err)
	}
	signature := catalogue.Sign(secret, body, "channel public")

	// Whoever reads it checks the signature first.
	key, err := catalogue.ParseKey(catalogue.KeyText(public))
	if err != nil {
		panic(err)
	}
	fmt.Println(catalogue.Verify(key, body, signature))
	fmt.Println(catalogue.Verify(key, append(body, ' '), signature))
	back, err := catalogue.DecodeChannel(body)
	fmt.Println(back.Builds[0].Label, err)
	// Output:
	// <nil>
	// the signature does not fit
	// 1.1.1 <nil>
}
