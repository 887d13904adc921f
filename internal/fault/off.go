//go:build !faults

package fault

// Point is where a test may put in a fault.
func Point(string) {}
