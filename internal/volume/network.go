package volume

// Network returns the kind of network file system that holds dir, such as "nfs"; empty
// if it is none, or the system does not tell.
func Network(dir string) string { return network(dir) }
