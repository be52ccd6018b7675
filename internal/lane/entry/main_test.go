package entry

import (
	"fmt"
	"os"
	"testing"

	"morvant/internal/standin"
)

func TestMain(m *testing.M) {
	end, err := standin.InMemory()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	end()
	os.Exit(code)
}
