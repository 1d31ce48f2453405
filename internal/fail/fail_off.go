//go:build !failpoints

// Package fail marks the places at which a crash test ends the process: before
// and after each commit and each call that leaves it. Without the build tag
// failpoints a mark does nothing and costs nothing.
package fail

// Point marks a place by name.
func Point(string) {}
