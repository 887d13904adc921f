package mysql_test

import (
	"io"
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
	return listens(t, func(c net.Conn) {
		o, err := net.Dial("tcp", server.Address())
		if err != nil {
			return
		}
		if tell != nil {
			tell(o)
		}
		go copied(o, c)
		copied(c, o)
	})
}

// together has all of some clients ask 4000 times in all, and gives how long that takes.
func together[C any](clients []C, ask func(c C, buffer []byte) error) time.Duration {
	var all sync.WaitGroup
	from := time.Now()
	for _, c := range clients {
		all.Go(func() {
			buffer := make([]byte, 64<<10)
			for range 4000 / len(clients) {
				if ask(c, buffer) != nil {
					return
				}
			}
		})
	}
	all.Wait()
	return time.Since(from)
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
					return together(connections[address], func(x *talk, buffer []byte) error {
						_, _ = x.Write(ask)
						for {
							n, err := x.Read(buffer)
							// The last packet of the reply is its mark.
							if err != nil || n >= 9 && buffer[n-5] == 0xfe && buffer[n-9] == 5 {
								return err
							}
						}
					})
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

// canned answers whatever it is sent with the same bytes.
func canned(t testing.TB, reply []byte) string {
	return listens(t, func(c net.Conn) {
		b := make([]byte, 64<<10)
		for {
			if _, err := c.Read(b); err != nil {
				return
			}
			if _, err := c.Write(reply); err != nil {
				return
			}
		}
	})
}

// BenchmarkHit compares an answer from memory with a canned reply and with the server's own, in turn: more than 1 is faster.
func BenchmarkHit(b *testing.B) {
	a := newAnswering(b)
	const read = "select ship from berths where id = 7"
	for _, clients := range []int{1, 16} {
		for _, kind := range []string{"text", "prepared"} {
			b.Run(map[int]string{1: "1", 16: "16"}[clients]+" "+kind, func(b *testing.B) {
				command := func(x *conversing) []byte {
					if kind == "text" {
						return query(read)
					}
					_, err := x.command(0x16, []byte("select ship from berths where id = ?"))
					require.NoError(b, err)
					return packet(0, append([]byte{0x17}, execution(x.prepared, []string{"7"}, true)...))
				}
				one := func(address string) (*conversing, []byte) {
					c, err := net.Dial("tcp", address)
					require.NoError(b, err)
					b.Cleanup(func() { c.Close() })
					x, err := enters(c, "skerrow", 0)
					require.NoError(b, err)
					return x, command(x)
				}
				var reply []byte
				type pair struct {
					net.Conn
					ask []byte
				}
				x, ask := one(server.Address())
				_, err := x.Write(ask)
				require.NoError(b, err)
				buffer := make([]byte, 1<<16)
				n, err := x.Read(buffer)
				require.NoError(b, err)
				reply = buffer[:n]
				stub := canned(b, reply)
				connections := map[string][]pair{}
				for range clients {
					for _, address := range []string{server.Address(), a.address} {
						x, ask := one(address)
						connections[address] = append(connections[address], pair{x, ask})
					}
					c, err := net.Dial("tcp", stub)
					require.NoError(b, err)
					b.Cleanup(func() { c.Close() })
					connections[stub] = append(connections[stub], pair{c, query(read)})
				}
				round := func(address string) time.Duration {
					return together(connections[address], func(x pair, buffer []byte) error {
						_, _ = x.Write(x.ask)
						_, err := io.ReadFull(x, buffer[:len(reply)])
						return err
					})
				}
				before := a.hits()
				var toStub, toServer []float64
				for b.Loop() {
					served := round(a.address)
					toStub = append(toStub, float64(round(stub))/float64(served))
					toServer = append(toServer, float64(round(server.Address()))/float64(served))
				}
				slices.Sort(toStub)
				slices.Sort(toServer)
				b.ReportMetric(toStub[len(toStub)/2], "×canned")
				b.ReportMetric(toServer[len(toServer)/2], "×server")
				require.Greater(b, a.hits()-before, uint64(len(toStub)*3900))
			})
		}
	}
}
