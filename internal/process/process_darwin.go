package process

// in finds nothing yet: macOS offers the paths of other programs only through a
// C library.
func in(string) ([]Running, error) { return nil, nil }
