package main

import (
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"time"

	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

// allocations counts what the larder allocates for a hit. For that it runs in this process, whose client allocates
// nothing; what else goes on in the process meanwhile, such as the ledger's clock, is counted too.
func (b *bench) allocations() error {
	e, err := larder.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	if err != nil {
		return err
	}
	e.SetRules(rules.NewSet([]rules.Rule{{Pattern: dialect.Dialect.Syntax.Of(keptPoint), Verdict: rules.Keep, TTL: time.Hour, ControlSample: -1}}))
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	srv := wire.New(link.Options{Engine: e.Engine, Origin: b.direct})
	go func() { _ = srv.Serve(ln) }()
	defer func() {
		ln.Close()
		srv.Close()
	}()
	c, err := pgConn(ln.Addr().String(), strings.Replace(keptPoint, "4711", "$1", 1))
	if err != nil {
		return err
	}
	defer c.Close()
	for _, x := range []struct {
		what    string
		request []byte
	}{{"a simple hit", message('Q', []byte(keptPoint+"\x00"))}, {"a prepared hit", bound("4711")}} {
		var reply []byte
		hits := e.Ledger.Total.Total().Count[ledger.Hit]
		for range 500 {
			if reply, err = ask(c, x.request); err != nil {
				return err
			}
			time.Sleep(100 * time.Microsecond)
		}
		if e.Ledger.Total.Total().Count[ledger.Hit] < hits+100 {
			return fmt.Errorf("%s is not answered from memory", x.what)
		}
		const rounds = 20_000
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		for range rounds {
			if _, err := c.Write(x.request); err != nil {
				return err
			}
			if _, err := io.ReadFull(c, reply); err != nil {
				return err
			}
		}
		runtime.ReadMemStats(&after)
		b.results.Figures = append(b.results.Figures,
			Figure{Case: "allocations", What: "of " + x.what, Value: float64(after.Mallocs-before.Mallocs) / rounds, Unit: "each"}.atMost(0.01))
	}
	return nil
}
