package pack_test

import (
	"fmt"
	"os"

	"morvant/internal/digest"
	"morvant/internal/pack"
)

func Example() {
	f, err := os.CreateTemp("", "example-*.pack")
	if err != nil {
		panic(err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	coder, err := pack.NewCoder(pack.Fast)
	if err != nil {
		panic(err)
	}
	defer coder.Close()

	content := []byte("tides and cargo, tides and cargo, tides and cargo, tides and cargo")
	coding, stored := coder.Encode(content, nil)
	w := pack.NewWriter(f)
	if _, err := w.Append(digest.Of(content), pack.Chunk, coding, len(content), stored); err != nil {
		panic(err)
	}
	name, err := w.Finish()
	if err != nil {
		panic(err)
	}

	info, err := f.Stat()
	if err != nil {
		panic(err)
	}
	read, entries, err := pack.ReadIndex(f, info.Size())
	if err != nil {
		panic(err)
	}
	fmt.Println(read == name, len(entries), entries[0].Plain, int(entries[0].Stored) < len(content))
	bytes, err := pack.ReadStored(f, entries[0], nil)
	if err != nil {
		panic(err)
	}
	plain, err := coder.Decode(entries[0], bytes, nil)
	fmt.Println(string(plain[:15]), err)
	// Output:
	// true 1 66 true
	// tides and cargo <nil>
}
