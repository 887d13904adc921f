//go:build faults

package fault

import "sync/atomic"

var at atomic.Pointer[func(point string)]

// Set has a function called at every point that is passed, by whichever goroutine; nil ends that.
func Set(f func(point string)) {
	if f == nil {
		at.Store(nil)
		return
	}
	at.Store(&f)
}

// Point is where a test may put in a fault.
func Point(point string) {
	if f := at.Load(); f != nil {
		(*f)(point)
	}
}
