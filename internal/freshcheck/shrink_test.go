package freshcheck

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A failure is made as short as it can be.
func TestShrinking(t *testing.T) {
	var long Script
	for i := range 60 {
		long = append(long, step{session: i})
	}
	tries := 0
	short := shrink(long, 1000, func(s Script) bool {
		tries++
		seven, fifty := false, false
		for _, x := range s {
			seven, fifty = seven || x.session == 7, fifty || x.session == 50
		}
		return seven && fifty
	})
	assert.Equal(t, Script{{session: 7}, {session: 50}}, short)
	assert.Less(t, tries, 100)
}
