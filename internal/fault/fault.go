// Package fault marks the points of the program at which tests put in faults of its own. Without the build tag "faults"
// a point is nothing at all.
package fault
