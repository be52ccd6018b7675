// Package standin holds small simulations of what Morvant cannot reach on its
// own, and the generator of made-up data. In this version: Cinder Quay, a
// harbour game that does not exist, in six builds.
//
// Everything is generated from a fixed seed by code in this package, so that it
// is the same on every computer and in any size, from megabytes for the demo to
// gigabytes for benchmarks.
package standin
