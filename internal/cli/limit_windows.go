package cli

// openFiles tells of no limit, for there is none of this kind.
func openFiles() uint64 { return leastFiles }

// addressSpace tells of no limit either.
func addressSpace() uint64 { return leastSpace }
