// Package resolve finds the build that a reference names, among all that are known of a game:
// snapshots, what feeds offer, and recorded builds that no feed offers any more.
package resolve
