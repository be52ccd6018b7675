// Package status compares a lane with what it is held at: which files differ, which update may have
// changed them. It also compares two builds. It reads, and changes nothing.
package status
