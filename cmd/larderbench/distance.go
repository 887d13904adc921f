package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"

	dialect "jollylarder/internal/core/dialect/postgres"
)

// delayed is a relay that stands for a distance: what is sent arrives half of d later.
func delayed(listen, target string, d time.Duration) error {
	return relay(listen, target, func(dst, src net.Conn) { carry(dst, src, d/2) })
}

// piece is what was read at once, and when it arrives.
type piece struct {
	bytes []byte
	at    time.Time
}

// carry copies bytes, each of which arrives so much later than it was sent, however many are on their way.
func carry(dst, src net.Conn, later time.Duration) {
	pieces := make(chan piece, 1024)
	go func() {
		defer dst.Close()
		for p := range pieces {
			time.Sleep(time.Until(p.at))
			if _, err := dst.Write(p.bytes); err != nil {
				_, _ = io.Copy(io.Discard, src)
			}
		}
	}()
	defer close(pieces)
	for {
		buf := make([]byte, 16<<10)
		n, err := src.Read(buf)
		if n > 0 {
			pieces <- piece{buf[:n], time.Now().Add(later)}
		}
		if err != nil {
			return
		}
	}
}

// distances are how far the database is away, as the time of a round trip.
var distances = []time.Duration{0, time.Millisecond, 20 * time.Millisecond}

// blocksFarAway measures a transaction of three hits before a database that is far away: the time it takes one client,
// through the larder and without.
func (b *bench) blocksFarAway() error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, d := range distances {
		origin := b.direct
		if d > 0 {
			if _, origin, err = b.spawn("the distance", self, func(a string) []string { return []string{"delayed", a, b.direct, d.String()} }); err != nil {
				return err
			}
		}
		rules := filepath.Join(b.dir, "far-"+d.String()+".toml")
		text := fmt.Sprintf("[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1h\"\ncontrol_sample = 0\n", dialect.Dialect.Syntax.Of(keptPoint))
		if err := os.WriteFile(rules, []byte(text), 0o600); err != nil {
			return err
		}
		_, through, err := b.spawn("a larder far away", b.program, func(a string) []string {
			return []string{"serve", "--listen", a, "--origin", origin, "--rules", rules}
		})
		if err != nil {
			return err
		}
		block, err := b.block(keptPoint)
		if err != nil {
			return err
		}
		open := func(a string) (net.Conn, error) {
			c, err := pgConn(a)
			for range 50 { // until its settings are known and the row is kept
				if err != nil {
					break
				}
				for _, s := range block {
					if _, err = ask(c, s.request); err != nil {
						break
					}
				}
			}
			return c, err
		}
		name := fmt.Sprintf("a block of three hits, %s away", d)
		rates, err := b.compare(name, 1, target{name: "direct", address: origin, open: open, steps: block}, target{name: "through", address: through, open: open, steps: block})
		if err != nil {
			return err
		}
		took := 1 / median(rates["through"])
		b.results.Ratios = append(b.results.Ratios, ratio(name, "through", "direct", rates["through"], rates["direct"], 0))
		b.results.Figures = append(b.results.Figures,
			Figure{Case: name, What: "direct", Value: 1e3 / median(rates["direct"]), Unit: "ms"},
			Figure{Case: name, What: "through", Value: took * 1e3, Unit: "ms"})
		if d > 0 {
			b.results.Figures = append(b.results.Figures, Figure{Case: name, What: "through, as a part of the distance", Value: took / d.Seconds(), Unit: "of it"}.atMost(0.1))
		}
	}
	return nil
}
