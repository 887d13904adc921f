package main

import (
	"context"
	"io"
	"net"
	"net/http"
	"sync"
	"time"
)

// hits makes a fleet that asks for what is answered from memory.
func (b *bench) hits(n int) (*fleet, error) {
	hit := target{name: "hit", address: b.through, process: b.larder, request: message('Q', []byte(keptPoint+"\x00")), open: func(a string) (net.Conn, error) { return pgConn(a) }}
	c, err := hit.open(b.direct)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	value, err := ask(c, hit.request)
	if err != nil {
		return nil, err
	}
	hit.reply = len(value)
	return hit.fleet(n)
}

// tenWatchers measures hits while ten terminals are attached, against the same without.
func (b *bench) tenWatchers() error {
	const name = "ten watchers"
	f, err := b.hits(16)
	if err != nil {
		return err
	}
	defer f.close()
	rates, used, calls := map[string][]float64{}, map[string]float64{}, map[string]float64{}
	for round := range b.rounds {
		for i := range 2 {
			what := []string{"alone", "watched"}[(i+round)%2]
			stop := func() {}
			if what == "watched" {
				stop = b.watched(10)
			}
			before, answered := b.larder.processor(), f.answered
			rate, err := f.run(4 * b.slice)
			used[what] += float64(b.larder.processor() - before)
			calls[what] += float64(f.answered - answered)
			stop()
			if err != nil {
				return err
			}
			rates[what] = append(rates[what], rate)
		}
	}
	for _, what := range []string{"alone", "watched"} {
		b.results.Figures = append(b.results.Figures, Figure{Case: name, What: "processor time of a hit, " + what, Value: used[what] / calls[what] / 1000, Unit: "µs"})
	}
	b.results.Ratios = append(b.results.Ratios, ratio(name, "hit, watched", "hit", rates["watched"], rates["alone"], 0.98))
	return nil
}

// watched attaches so many watchers, who ask what a terminal asks, and reads what they are sent.
func (b *bench) watched(n int) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 3 * n, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", b.control)
	}}}
	read := func(path string) {
		req, _ := http.NewRequestWithContext(ctx, "GET", "http://larder"+path, nil)
		if resp, err := client.Do(req); err == nil {
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	}
	var wg sync.WaitGroup
	for range n {
		wg.Go(func() { read("/v1/stream") })
		wg.Go(func() {
			t := time.NewTicker(250 * time.Millisecond)
			defer t.Stop()
			for i := 0; ; i++ {
				read("/v1/status")
				if i%4 == 0 {
					read("/v1/patterns")
				}
				select {
				case <-ctx.Done():
					return
				case <-t.C:
				}
			}
		})
	}
	time.Sleep(100 * time.Millisecond) // they are there
	return func() {
		cancel()
		wg.Wait()
		client.CloseIdleConnections()
	}
}
