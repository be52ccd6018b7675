// Morvant pins a game installation to a chosen build.
package main

import (
	"os"

	"morvant/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr))
}
