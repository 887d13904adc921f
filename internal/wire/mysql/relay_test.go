package mysql_test

import (
	"net"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// bare relays connections to the server and does nothing else. It tells of each connection to the server, if that is
// wanted.
func bare(t testing.TB, tell func(net.Conn)) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	copied := func(to, from net.Conn) {
		b := make([]byte, 64<<10)
		for {
			n, err := from.Read(b)
			if _, failed := to.Write(b[:n]); err != nil || failed != nil {
				to.Close()
				from.Close()
				return
			}
		}
	}
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			o, err := net.Dial("tcp", server.Address())
			if err != nil {
				c.Close()
				continue
			}
			if tell != nil {
				tell(o)
			}
			go copied(o, c)
			go copied(c, o)
		}
	}()
	return ln.Addr().String()
}

// BenchmarkRelay compares the larder with a bare relay, a read by key at a time, in turn: more than 1 is faster.
func BenchmarkRelay(b *testing.B) {
	l := newLarder(b, link.Settings{})
	relay := bare(b, nil)
	for _, clients := range []int{1, 16} {
		for name, ask := range map[string][]byte{"text": query("select ship from berths where id = 7"), "rows": query("select * from berths")} {
			b.Run(map[int]string{1: "1", 16: "16"}[clients]+" "+name, func(b *testing.B) {
				connections := map[string][]*talk{}
				for range clients {
					for _, address := range []string{relay, l.address} {
						connections[address] = append(connections[address], say(b, address, "ines", "Quay#7", 0).ok())
					}
				}
				round := func(address string) time.Duration {
					var all sync.WaitGroup
					from := time.Now()
					for _, x := range connections[address] {
						all.Go(func() {
							buffer := make([]byte, 64<<10)
							for range 4000 / clients {
								_, _ = x.Write(ask)
								for end := false; !end; {
									n, err := x.Read(buffer)
									if err != nil {
										return
									}
									// The last packet of the reply is its mark.
									end = n >= 9 && buffer[n-5] == 0xfe && buffer[n-9] == 5
								}
							}
						})
					}
					all.Wait()
					return time.Since(from)
				}
				var ratios []float64
				for b.Loop() {
					var sums [2]time.Duration
					for range 2 {
						sums[0] += round(relay)
						sums[1] += round(l.address)
					}
					ratios = append(ratios, float64(sums[0])/float64(sums[1]))
				}
				slices.Sort(ratios)
				b.ReportMetric(ratios[len(ratios)/2], "×relay")
			})
		}
	}
}
