package larder

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
)

// days is traffic that goes on for days in an imagined time, and never asks quite the same again: sailings of the day,
// whose numbers go up, new sessions all the time, statements of which each release has a few more, and callers that come
// and go.
type days struct {
	l     *Larder
	r     *rand.Rand
	at    time.Time
	day   int
	count [len(ledger.Outcomes)]int
}

func (d *days) open(application string, n int) *engine.Session {
	s := d.l.NewSession(engine.Identity{Database: "skerrow", User: "ines", Application: application, Address: fmt.Sprintf("10.1.%d.%d:%d", n%200, n%7, 1000+n%60000)})
	s.Asking(engine.NeedSettings, d.at)
	s.Learned(engine.Settings{Values: []string{"UTC"}, Isolation: analysis.ReadCommitted})
	return s
}

// step is how many seconds pass at a time.
const step = 4

// run lets a day pass.
func (d *days) run() {
	d.day++
	for second := 0; second < 24*60*60; second += step {
		hour := second / 3600
		perSecond := 4 + 8*min(hour, 24-hour)/12 // most at noon
		s := d.open([]string{"quay-boards", "booking-web", fmt.Sprint("job-", d.day, "-", hour)}[second/step%3], second)
		ask := func(sql string) { d.count[ask(s, sql, d.at)]++ }
		sailing := d.day*2000 + second/60
		for range perSecond {
			ask(fmt.Sprintf(ofBoards, sailing+d.r.IntN(60)))
			ask(fmt.Sprintf("select name from ports where card = %d", sailing*1000+d.r.IntN(2000)))
		}
		if second%(5*step) == 0 {
			ask(fmt.Sprintf("update berths set n = %d where id = %d", second, sailing+d.r.IntN(60)))
		}
		if second%600 == 0 {
			ask(fmt.Sprintf("select n, n + %d as release_%d_%d from berths", second, d.day, hour))
		}
		s.Close(d.at)
		d.at = d.at.Add(step * time.Second)
		d.l.Tick(d.at)
	}
}

// What days of traffic leave behind is as much after the fourth as after the second, whatever was new in each.
func TestMemoryIsFlatOverDays(t *testing.T) {
	l, _ := begin(t, engine.Options{Memory: 4 << 20})
	l.SetRules(keeping(10 * time.Minute))
	d := &days{l: l, r: rand.New(rand.NewPCG(7, 7)), at: now}
	used := func() uint64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	var heap [4]uint64
	var goroutines [4]int
	for day := range heap {
		d.run()
		heap[day], goroutines[day] = used(), runtime.NumGoroutine()
		t.Logf("day %d: %d KiB, %d goroutines, %v", day+1, heap[day]>>10, goroutines[day], d.count)
	}
	for _, o := range ledger.Outcomes {
		require.Greater(t, d.count[o], 500, o)
	}
	assert.InEpsilon(t, heap[1], heap[3], 0.05)
	assert.LessOrEqual(t, goroutines[3], goroutines[0])
	runtime.KeepAlive(d)
}
