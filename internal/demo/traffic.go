package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"
)

// The statements of the applications. A board writes its values into the text; the others bind them. Each says which order
// its rows have: servers may put equal ones in another at each time.
const (
	sqlDepartures = "SELECT s.id, s.departs_at, s.state, v.name FROM sailings s JOIN routes r ON r.id = s.route_id JOIN vessels v ON v.id = s.vessel_id " +
		"WHERE r.from_port = %d AND s.departs_at >= '%s' ORDER BY s.departs_at, s.id LIMIT 8 /*screen='departures'*/"
	sqlNotices  = "SELECT text, posted_at FROM notices WHERE port_id = %d ORDER BY posted_at DESC LIMIT 3 /*screen='notices'*/"
	sqlTide     = "SELECT height, at FROM tide_readings WHERE port_id = %d ORDER BY at DESC LIMIT 1 /*screen='tides'*/"
	sqlRoutes   = "select r.id, f.name, t.name, r.minutes from routes r join ports f on f.id = r.from_port join ports t on t.id = r.to_port order by f.name, t.name, r.id"
	sqlSailings = "select s.id, s.departs_at, s.seats_left, v.name from sailings s join vessels v on v.id = s.vessel_id " +
		"where s.route_id = $1 and s.departs_at >= $2 and s.departs_at < $3 and s.state in ('open', 'late') order by s.departs_at"
	sqlFares     = "select class, price from fares where route_id = $1 order by price, class"
	sqlOpen      = "select count(*) from open_sailings where route_id = $1"
	sqlMine      = "select b.id, b.seats, s.departs_at from bookings b join sailings s on s.id = b.sailing_id where b.passenger_id = $1 order by s.departs_at, b.id"
	sqlBook      = "insert into bookings (id, sailing_id, passenger_id, seats, made_at) values ($1, $2, $3, $4, $5)"
	sqlSeats     = "update sailings set seats_left = seats_left - $2 where id = $1 and seats_left >= $2"
	sqlPerson    = "select id, name, home from passengers where card = $1 /*page='login'*/"
	sqlManifest  = "select p.name, b.seats from bookings b join passengers p on p.id = b.passenger_id where b.sailing_id = $1 order by p.name, b.id /*page='manifest'*/"
	sqlOccupancy = "select r.id, count(*) as bookings, sum(b.seats) as seats, min(s.departs_at) as first, max(s.departs_at) as last " +
		"from bookings b join sailings s on s.id = b.sailing_id join routes r on r.id = s.route_id group by r.id order by seats desc, r.id"
	sqlTideWrite = "insert into tide_readings (id, port_id, at, height) values ($1, $2, $3, $4)"
)

// asked is one read as it was sent, to be asked again in a quiet moment.
type asked struct {
	sql  string
	args []any
}

// traffic is the five applications at work.
type traffic struct {
	db             database
	larder, origin string // URLs
	seed           uint64

	quiet  sync.RWMutex // held for reading by every statement, for writing while all is to be quiet
	errors atomic.Int64
	mu     sync.Mutex
	first  error
	reads  map[string]asked
	nextID atomic.Int64

	settles time.Duration // how long it takes until what was written around the larder is known to it

	wg   sync.WaitGroup
	stop context.CancelFunc
}

// mostReads is how many distinct reads are remembered for asking again.
const mostReads = 3000

// startTraffic lets the applications begin.
func startTraffic(db database, larder, origin string, seed uint64) *traffic {
	ctx, stop := context.WithCancel(context.Background())
	t := &traffic{db: db, larder: larder, origin: origin, seed: seed, reads: map[string]asked{}, stop: stop}
	t.nextID.Store(1_000_000)
	for i := range 3 {
		t.run(ctx, "quay-boards", 10+uint64(i), plain, false, t.board(i))
	}
	for i := range 6 {
		t.run(ctx, "booking-web", 20+uint64(i), prepared, false, t.web)
	}
	for i := range 2 {
		t.run(ctx, "crew-tablet", 30+uint64(i), once, true, t.tablet)
	}
	t.run(ctx, "harbour-report", 40, once, false, t.report)
	t.run(ctx, "tide-logger", 50, prepared, false, t.tide)
	return t
}

// end stops all applications and waits for them.
func (t *traffic) end() {
	t.stop()
	t.wg.Wait()
}

func (t *traffic) fail(app string, err error) {
	t.errors.Add(1)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.first == nil {
		t.first = fmt.Errorf("%s: %w", app, err)
	}
}

// request is one round of an application on a connection; it says how long it rests afterwards.
type request func(ctx context.Context, c connection, r *rand.Rand) (rest time.Duration, err error)

// run lets one client of an application make requests until the end, on one connection or, if it logs in every time, on
// one for each.
func (t *traffic) run(ctx context.Context, app string, stream uint64, mode way, everyTime bool, f request) {
	url := t.larder
	if app == "tide-logger" {
		url = t.origin // around the larder
	}
	t.wg.Go(func() {
		r := rand.New(rand.NewPCG(t.seed, stream))
		var c connection
		defer func() {
			if c != nil {
				c.close()
			}
		}()
		for ctx.Err() == nil {
			t.quiet.RLock()
			if c == nil {
				var err error
				if c, err = t.db.connect(ctx, url, app, mode); err != nil {
					t.quiet.RUnlock()
					if ctx.Err() == nil {
						t.fail(app, err)
						sleep(ctx, time.Second)
					}
					continue
				}
			}
			// A request once begun is finished: its statements must not fail only because the demo ends.
			rest, err := f(context.WithoutCancel(ctx), c, r)
			if everyTime || err != nil {
				c.close()
				c = nil
			}
			t.quiet.RUnlock()
			if err != nil {
				t.fail(app, err)
			}
			sleep(ctx, rest)
		}
	})
}

func sleep(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
}

// read runs a read and remembers it.
func (t *traffic) read(ctx context.Context, c connection, sql string, args ...any) error {
	t.mu.Lock()
	if len(t.reads) < mostReads {
		t.reads[fmt.Sprint(sql, args)] = asked{sql, args}
	}
	t.mu.Unlock()
	_, err := c.rows(ctx, sql, args...)
	return err
}

// popular picks a number below n, the low ones far more often.
func popular(r *rand.Rand, n int) int {
	return int(float64(n) * r.Float64() * r.Float64() * r.Float64())
}

// board is a departure screen: it shows the same ports all day, every few seconds.
func (t *traffic) board(screen int) request {
	return func(ctx context.Context, c connection, r *rand.Rand) (time.Duration, error) {
		for port := screen*4 + 1; port <= screen*4+4; port++ {
			for _, sql := range []string{fmt.Sprintf(sqlDepartures, port, Today.Add(7*time.Hour).Format("2006-01-02 15:04")), fmt.Sprintf(sqlNotices, port), fmt.Sprintf(sqlTide, port)} {
				if err := t.read(ctx, c, sql); err != nil {
					return time.Second, err
				}
			}
		}
		return 500 * time.Millisecond, nil
	}
}

// web is the booking pages: many readers of few routes, and now and then a booking.
func (t *traffic) web(ctx context.Context, c connection, r *rand.Rand) (time.Duration, error) {
	rest := time.Duration(40+r.IntN(120)) * time.Millisecond
	route := 1 + popular(r, routeCount)
	day := Today.AddDate(0, 0, popular(r, daysOfSailings))
	for _, a := range []asked{{sqlRoutes, nil}, {sqlSailings, []any{route, day, day.AddDate(0, 0, 1)}}, {sqlFares, []any{route}}} {
		if err := t.read(ctx, c, a.sql, a.args...); err != nil {
			return time.Second, err
		}
	}
	switch n := r.IntN(100); {
	case n < 20:
		return rest, t.read(ctx, c, sqlOpen, route)
	case n < 32:
		return rest, t.read(ctx, c, sqlMine, 1+popular(r, passengerCount))
	case n < 36:
		return rest, t.book(ctx, c, r)
	}
	return rest, nil
}

func (t *traffic) book(ctx context.Context, c connection, r *rand.Rand) error {
	sailing, seats := 1+r.IntN(routeCount*perDay*daysOfSailings), 1+r.IntN(3)
	passenger := 1 + r.IntN(passengerCount)
	return c.block(ctx, func() error {
		if err := c.run(ctx, sqlSeats, sailing, seats); err != nil {
			return err
		}
		return c.run(ctx, sqlBook, t.nextID.Add(1), sailing, passenger, seats, Today.Add(7*time.Hour))
	})
}

// tablet is the crew's: it connects for every request, and looks up who holds it each time.
func (t *traffic) tablet(ctx context.Context, c connection, r *rand.Rand) (time.Duration, error) {
	if err := t.read(ctx, c, sqlPerson, card(r.IntN(6))); err != nil {
		return time.Second, err
	}
	return time.Duration(150+r.IntN(250)) * time.Millisecond, t.read(ctx, c, sqlManifest, 1+popular(r, 400))
}

// report is the harbour office's: heavy, and seldom.
func (t *traffic) report(ctx context.Context, c connection, r *rand.Rand) (time.Duration, error) {
	return time.Duration(1500+r.IntN(2000)) * time.Millisecond, t.read(ctx, c, sqlOccupancy)
}

// tide writes what the gauges say, straight to the database.
func (t *traffic) tide(ctx context.Context, c connection, r *rand.Rand) (time.Duration, error) {
	n := t.nextID.Add(1)
	err := c.run(ctx, sqlTideWrite, n, 1+r.IntN(len(portNames)), Today.Add(time.Duration(n-1_000_000)*time.Second), float64(100+r.IntN(300))/100)
	return 900 * time.Millisecond, err
}

// checker is the application as which answers are asked again.
const checker = "quiet-check"

// compare stops all applications for a moment and asks every read again, through the larder and of the origin itself.
// It gives how many answers differ.
func (t *traffic) compare(ctx context.Context) (stale int, err error) {
	t.quiet.Lock()
	defer t.quiet.Unlock()
	if t.settles > 0 {
		time.Sleep(t.settles)
	}
	t.mu.Lock()
	reads := t.reads
	t.reads = map[string]asked{}
	t.mu.Unlock()
	conns := map[bool][2]connection{}
	for _, bound := range []bool{false, true} {
		mode := map[bool]way{false: plain, true: prepared}[bound]
		var pair [2]connection
		for i, url := range []string{t.larder, t.origin} {
			if pair[i], err = t.db.connect(ctx, url, checker, mode); err != nil {
				return 0, err
			}
			defer pair[i].close()
		}
		conns[bound] = pair
	}
	for _, a := range reads {
		pair := conns[len(a.args) > 0]
		kept, err := pair[0].rows(ctx, a.sql, a.args...)
		if err != nil {
			return stale, err
		}
		true_, err := pair[1].rows(ctx, a.sql, a.args...)
		if err != nil {
			return stale, err
		}
		if fmt.Sprint(kept) != fmt.Sprint(true_) {
			stale++
		}
	}
	return stale, nil
}
