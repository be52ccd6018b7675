package chunk_test

import (
	"bytes"
	"fmt"

	"morvant/internal/chunk"
)

// What is inserted moves everything behind it, and changes one chunk only.
func ExampleCutter_Next() {
	c := chunk.New()
	cut := func(data []byte) (list [][]byte) {
		for len(data) > 0 {
			n := c.Next(data)
			list = append(list, data[:n])
			data = data[n:]
		}
		return list
	}
	var data []byte
	for i := range 200_000 {
		data = fmt.Appendf(data, "%d,", i*i)
	}
	before := cut(data)
	after := cut(append([]byte("inserted"), data...))
	same := 0
	for _, a := range after {
		for _, b := range before {
			if bytes.Equal(a, b) {
				same++
				break
			}
		}
	}
	fmt.Println(len(after)-same, "of", len(after), "chunks are new")
	// Output: 1 of 34 chunks are new
}
