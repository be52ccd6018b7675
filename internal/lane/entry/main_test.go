package entry_test

import (
	"testing"

	"morvant/internal/testdir"
)

func TestMain(m *testing.M) { testdir.Main(m) }
