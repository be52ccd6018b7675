// Command failed reads what go test -json writes and prints what the tests that failed have
// said, so that the one thing that matters is not among ten thousand lines.
package main

import (
	"encoding/json"
	"fmt"
	"os"
)

type event struct {
	Action, Package, Test, Output string
}

func main() {
	said := make(map[string]string)
	for d := json.NewDecoder(os.Stdin); d.More(); {
		var e event
		if err := d.Decode(&e); err != nil {
			fmt.Fprintln(os.Stderr, "failed:", err)
			os.Exit(1)
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output":
			if len(said[key]) < 64<<10 {
				said[key] += e.Output
			}
		case "fail":
			fmt.Printf("%s:\n%s", key, said[key])
		}
	}
}
