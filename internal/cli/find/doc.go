// Package find finds the build that a command line names, and looks at feeds where it has to.
package find
