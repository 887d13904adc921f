package postgres

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func FuzzStartup(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x21\x00\x03\x00\x00user\x00ines\x00database\x00x\x00\x00"))
	f.Add([]byte("\x00\x00\x00\x08\x04\xd2\x16\x2f"))
	f.Fuzz(func(t *testing.T, b []byte) {
		raw, err := readStartupMessage(bytes.NewReader(b))
		if err != nil {
			return
		}
		assert.Equal(t, b[:len(raw)], raw, "what is passed on is what came")
		s := parseStartup(raw, nil)
		assert.LessOrEqual(t, len(s.identity.User)+len(s.identity.Application), len(raw))
	})
}

func FuzzTextRow(f *testing.F) {
	f.Add([]byte("\x00\x02\x00\x00\x00\x01a\xff\xff\xff\xff"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if row, ok := textRow(b); ok {
			settings([][]string{row})
			catalogRows([][]string{row})
		}
	})
}

func FuzzBoundValues(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x01\x00\x00\x00\x03now\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) { boundMayMeanNow(b) })
}

func TestPatience(t *testing.T) {
	for setting, want := range map[string]time.Duration{"0": 0, "": 0, "250ms": 250 * time.Millisecond, "5s": 5 * time.Second, "2min": 2 * time.Minute, "3h": 3 * time.Hour, "1d": 24 * time.Hour, "soon": 0} {
		assert.Equal(t, want, patience(setting), setting)
	}
}

func TestBoundValuesThatMayMeanNow(t *testing.T) {
	bound := func(v string) []byte { return append(append([]byte{0, 0, 0, 1, 0, 0, 0, byte(len(v))}, v...), 0, 0) }
	assert.True(t, boundMayMeanNow(bound("now")))
	assert.True(t, boundMayMeanNow(bound(" Tomorrow 10:00")))
	assert.False(t, boundMayMeanNow(bound("2027-03-01")))
	assert.False(t, boundMayMeanNow([]byte{0, 0, 0, 1, 0xff, 0xff, 0xff, 0xff, 0, 0}), "a null")
	assert.True(t, boundMayMeanNow([]byte{0, 0, 0, 9}), "what is cut short is not trusted")
}

// What a server says of itself and of an error is read without harm, whatever it is.
func FuzzServersWords(f *testing.F) {
	f.Add([]byte("SERROR\x00C42601\x00Msyntax error\x00\x00"), "15.18 (Debian)")
	f.Add([]byte("M"), "99999999999999999999")
	f.Fuzz(func(t *testing.T, body []byte, version string) {
		if why := messageOf(body); len(why) > len(body) {
			t.Fatal(why)
		}
		if majorVersion(version) < 0 {
			t.Fatal(version)
		}
	})
}
