package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Truth values of the start-up message are read as the server does: see its bool.c.
func TestTruthValuesAsTheServerReadsThem(t *testing.T) {
	for text, want := range map[string][2]bool{
		"t": {true, true}, "TRUE": {true, true}, "tr": {true, true}, "y": {true, true}, "Yes": {true, true}, "on": {true, true}, "1": {true, true},
		"f": {false, true}, "False": {false, true}, "fals": {false, true}, "n": {false, true}, "NO": {false, true}, "of": {false, true}, "OFF": {false, true}, "0": {false, true},
		"": {}, "o": {}, "database": {}, "10": {}, "truest": {}, "off ": {}, "nope": {}, "2": {},
	} {
		value, ok := serversBool([]byte(text))
		assert.Equal(t, want, [2]bool{value, ok}, text)
	}
}

// What an error says decides whether a connection that then ends was lost as in a crash.
func TestWhatEndsAConnection(t *testing.T) {
	fields := func(list ...string) []byte { return []byte(strings.Join(list, "\x00") + "\x00\x00") }
	assert.True(t, saysWhy(fields("SFATAL", "VFATAL", "C57P01", "Mterminating connection")))
	assert.True(t, saysWhy(fields("SFATALE", "VFATAL", "C57P05", "Midle")), "whatever its language")
	assert.False(t, saysWhy(fields("SFATAL", "VFATAL", "C57P02", "Mcrash")))
	assert.False(t, saysWhy(fields("SERROR", "VERROR", "C42601", "MFATAL")))
	assert.False(t, saysWhy(fields("SFATAL", "VERROR", "C57P01")))
	assert.False(t, saysWhy(nil))
	assert.False(t, saysWhy([]byte("VFATAL")))
}
