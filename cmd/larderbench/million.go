package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	dialect "jollylarder/internal/core/dialect/postgres"
)

const (
	millionSchema = `create table if not exists kept_notes as select i as id from generate_series(1, 1300000) i;
create unique index if not exists kept_notes_id on kept_notes (id);
analyze kept_notes`
	// million is how many results of a KiB are kept, and few how many they are compared with.
	million, few = 1_000_000, 1_000
	// beyond is how many more are asked for then, so that results are pushed out.
	beyond       = 300_000
	millionLimit = 2800 << 20 // which all of them fit in: a miss among those asked for would be the slowest
)

func note(id int) []byte {
	return message('Q', fmt.Appendf(nil, "select id, repeat(md5('note'), 31) from kept_notes where id = %d\x00", id))
}

// millionResults measures hits among a million results against hits among a thousand, what the process takes of memory,
// and for how long it stands still to collect it. It is long, as it is one script whose steps share all they have.
func (b *bench) millionResults() error {
	const name = "a million results"
	c, err := pgConn(b.direct)
	if err != nil {
		return err
	}
	if _, err := ask(c, message('Q', []byte(millionSchema+"\x00"))); err != nil {
		return err
	}
	c.Close()
	file := filepath.Join(b.dir, "million.toml")
	id := dialect.Dialect.Syntax.Of("select id, repeat(md5('note'), 31) from kept_notes where id = 1")
	if err := os.WriteFile(file, fmt.Appendf(nil, "[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"none\"\ncontrol_sample = 0.0\n", id), 0o600); err != nil {
		return err
	}
	socket := filepath.Join(b.dir, "million.sock")
	larder, address, err := b.spawn("the larder with a million results", b.program, func(a string) []string {
		return []string{"serve", "--listen", a, "--origin", b.direct, "--rules", file, "--control", socket, "--memory", "2800MiB"}
	})
	if err != nil {
		return err
	}
	defer larder.stop()
	api := client.NewClient(socket)
	var most int64 // of real memory
	look := func() (control.Stock, error) {
		st, err := api.Stock(context.Background())
		most = max(most, st.Process.Resident)
		return st, err
	}
	fill := func(from, to int) error {
		var wg sync.WaitGroup
		errs := make(chan error, 17)
		for k := range 16 {
			wg.Go(func() {
				c, err := pgConn(address)
				if err != nil {
					errs <- err
					return
				}
				defer c.Close()
				for i := from + k; i < to; i += 16 {
					if _, err := ask(c, note(i+1)); err != nil {
						errs <- err
						return
					}
				}
			})
		}
		done := make(chan struct{})
		go func() { wg.Wait(); close(done) }()
		for {
			select {
			case <-done:
				select {
				case err := <-errs:
					return err
				default:
					_, err := look()
					return err
				}
			case <-time.After(time.Second):
				if _, err := look(); err != nil {
					return err
				}
			}
		}
	}
	if c, err = pgConn(address); err != nil {
		return err
	}
	defer c.Close()
	hits := func(among int) (took []float64, err error) {
		for range 4000 {
			request := note(rand.IntN(among) + 1)
			from := time.Now()
			if _, err := ask(c, request); err != nil {
				return nil, err
			}
			took = append(took, float64(time.Since(from).Nanoseconds())/1000)
		}
		slices.Sort(took)
		return took, nil
	}
	for range 2000 { // nothing is kept before the catalog has been read
		if _, err := ask(c, note(1)); err != nil {
			return err
		}
		if st, err := api.Status(context.Background()); err != nil || st.Total.Hits > 0 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	time.Sleep(3 * time.Second) // what is kept while the rest of it is read may be dropped when it is known
	if err := fill(0, million); err != nil {
		return err
	}
	st, err := look()
	if err != nil {
		return err
	}
	p50, p99 := map[int][]float64{}, map[int][]float64{}
	for round := range b.rounds {
		for i := range 2 {
			among := []int{few, million}[(i+round)%2]
			took, err := hits(among)
			if err != nil {
				return err
			}
			p50[among] = append(p50[among], took[len(took)/2])
			p99[among] = append(p99[among], took[len(took)*99/100])
		}
	}
	atMost := func(r Ratio, most float64) Ratio {
		met := r.Median <= most
		r.Aim, r.Met = fmt.Sprintf("at most %g", most), &met
		return r
	}
	b.results.Ratios = append(b.results.Ratios,
		atMost(ratio(name, "p50 of a hit, 10⁶", "10³", p50[million], p50[few], 0), 1.3),
		atMost(ratio(name, "p99 of a hit, 10⁶", "10³", p99[million], p99[few], 0), 1.3))
	kept := st.Results
	loaded, err := larder.pauses()
	if err != nil {
		return err
	}
	for i := range beyond / 6 { // by one client, so that the machine has time to spare
		if _, err := ask(c, note(million+i+1)); err != nil {
			return err
		}
	}
	quiet, err := larder.pauses()
	if err != nil {
		return err
	}
	quiet = quiet[len(loaded):]
	if err := fill(million+beyond/6, million+beyond); err != nil { // results are pushed out
		return err
	}
	if st, err = look(); err != nil {
		return err
	}
	b.results.Figures = append(b.results.Figures,
		Figure{Case: name, What: "results cached", Value: float64(kept), Unit: "results"},
		Figure{Case: name, What: "a result of a KiB", Value: float64(st.Bytes-st.Beside) / float64(st.Results), Unit: "bytes"},
		Figure{Case: name, What: "most real memory / limit", Value: float64(most) / millionLimit, Unit: "times"}.atMost(1.15),
		Figure{Case: name, What: "pauses while it fills, 16 clients", Value: float64(len(loaded)), Unit: "times"},
		Figure{Case: name, What: "p99 of those", Value: percentile(loaded, 99), Unit: "ms"}.atMost(1),
		Figure{Case: name, What: "pauses with one client", Value: float64(len(quiet)), Unit: "times"},
		Figure{Case: name, What: "p99 of those with one client", Value: percentile(quiet, 99), Unit: "ms"}.atMost(1))
	return nil
}

// traced finds the two pauses in what the runtime writes of each collection.
var traced = regexp.MustCompile(`(?m)^gc \d+ @.*: ([\d.]+)\+[\d.]+\+([\d.]+) ms clock`)

// pauses gives for how long a process that traces its collections stood still for each, in milliseconds.
func (p *process) pauses() (out []float64, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, m := range traced.FindAllStringSubmatch(p.log.String(), -1) {
		for _, text := range m[1:] {
			ms, err := strconv.ParseFloat(text, 64)
			if err != nil {
				return nil, err
			}
			out = append(out, ms)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("the larder says nothing of its collections")
	}
	return out, nil
}

func percentile(list []float64, p int) float64 {
	s := slices.Sorted(slices.Values(list))
	if len(s) == 0 {
		return 0
	}
	return s[min(len(s)*p/100, len(s)-1)]
}
