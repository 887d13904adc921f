//go:build faults

package mysql_test

import (
	"bytes"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/fault"
	"jollylarder/internal/wire/link"
)

// A fault of the larder's own while it follows a conversation costs nobody a byte where everything may be relayed; where it
// matters who the client becomes, the connection ends, and no other does.
func TestAFaultOfOurs(t *testing.T) {
	conversation := bytes.Join([][]byte{query("select * from berths"), prepare("select ?"), execute(last, 0, 3), query("select 1; select 2"), query(theEnd)}, nil)
	for _, who := range []link.Unchallenged{link.Anybody, link.Nobody} {
		l := newLarder(t, link.Settings{Unchallenged: who})
		want := said(t, server.Address(), 0, conversation)
		for _, point := range []string{"sent", "came"} {
			for at := range 6 {
				t.Run(fmt.Sprintf("%s, %s, the %dth time", who, point, at), func(t *testing.T) {
					other := connect(t, l.address, "ines", "Quay#7", "")
					assert.NoError(t, other.Ping())
					var passed atomic.Int32
					x := say(t, l.address, "ines", "Quay#7", 0).ok()
					fault.Set(func(p string) {
						if p == point {
							if passed.Add(1) == int32(at+1) {
								panic("a fault")
							}
						}
					})
					defer fault.Set(nil)
					_, _ = x.Write(conversation)
					got := ids.ReplaceAllString(x.hear(), "(prepared)")
					fault.Set(nil)
					if who == link.Anybody {
						assert.Equal(t, want, got)
					} else if passed.Load() > int32(at) {
						assert.Contains(t, got, "(ended)")
					}
					assert.NoError(t, other.Ping(), "others do not notice")
				})
			}
		}
	}
}

// A fault in telling the engine what is asked costs nobody a byte: the conversation is followed nevertheless, and only its
// statements are not seen any more.
func TestAFaultInWatching(t *testing.T) {
	conversation := bytes.Join([][]byte{query("select * from berths"), prepare("select ?"), execute(last, 0, 3), query("select 1; select 2"), query(theEnd)}, nil)
	for _, who := range []link.Unchallenged{link.Anybody, link.Nobody} {
		l := newLarder(t, link.Settings{Unchallenged: who})
		want := said(t, server.Address(), 0, conversation)
		for _, point := range []string{"begins", "read", "asked", "sends", "answered"} {
			for at := range map[string]int{"begins": 1, "read": 4, "asked": 5, "sends": 4, "answered": 5}[point] {
				t.Run(fmt.Sprintf("%s, %s, the %dth time", who, point, at), func(t *testing.T) {
					var passed atomic.Int32
					fault.Set(func(p string) {
						if p == point && passed.Add(1) == int32(at+1) {
							panic("a fault")
						}
					})
					defer fault.Set(nil)
					x := say(t, l.address, "ines", "Quay#7", 0).ok()
					_, _ = x.Write(conversation)
					assert.Equal(t, want, ids.ReplaceAllString(x.hear(), "(prepared)"))
					assert.Greater(t, passed.Load(), int32(at), "the fault was put in")
				})
			}
		}
	}
}

// A fault in answering from memory has the origin answer.
func TestAFaultInAnswering(t *testing.T) {
	conversation := [][]byte{query("select ship from berths where id = 3"), prepare("select ship from berths where id = ?"), execute(last, 0, 3), query("select ship from berths where id = 3"), query(theEnd)}
	want := said(t, server.Address(), 0, bytes.Join(conversation, nil))
	for at := range 2 {
		l := newLarder(t, link.Settings{Unchallenged: link.Anybody, Catalog: &link.Account{User: "root"}})
		l.keepsAll()
		says := func() string {
			x := say(t, l.address, "ines", "Quay#7", 0).ok()
			defer x.Close()
			for _, command := range conversation { // each when what is before it has been answered, mostly
				_, _ = x.Write(command)
				time.Sleep(2 * time.Millisecond)
			}
			return ids.ReplaceAllString(x.hear(), "(prepared)")
		}
		for end := time.Now().Add(time.Minute); l.hits() < 10 && time.Now().Before(end); {
			assert.Equal(t, want, says())
		}
		var passed atomic.Int32
		fault.Set(func(p string) {
			if p == "answers" && passed.Add(1) == int32(at+1) {
				panic("a fault")
			}
		})
		for end := time.Now().Add(time.Minute); passed.Load() <= int32(at) && time.Now().Before(end); {
			assert.Equal(t, want, says())
		}
		fault.Set(nil)
		assert.Greater(t, passed.Load(), int32(at), "the fault was put in")
	}
}
