//go:build unix

package userpath

// systemFolders are full of what the system needs.
func systemFolders() []string {
	return []string{"/proc", "/sys", "/etc", "/boot", "/bin", "/sbin", "/usr/bin", "/usr/sbin", "/System", "/private/etc"}
}

// sharedFolders hold what belongs to many programs or users: a game may lie within.
func sharedFolders() []string {
	return []string{
		"/usr", "/usr/lib", "/usr/share", "/usr/local", "/lib", "/lib64", "/var", "/var/lib", "/opt", "/home", "/tmp", "/mnt", "/media", "/srv", "/run", "/dev",
		"/Library", "/Applications", "/Users", "/Volumes", "/private",
	}
}
