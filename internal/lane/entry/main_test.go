package entry

import (
	"testing"

	"morvant/internal/testdir"
)

func TestMain(m *testing.M) { testdir.Main(m) }
