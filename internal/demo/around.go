package demo

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/core/dialect"
)

// follow prepares a real server for a change feed, as far as it can: by its replication stream where that is to be had,
// or else by its counters of changes. What is made for it is removed when the demo ends.
func (d *Demo) follow(ctx context.Context, origin *url.URL, out config.Feed) (config.Feed, error) {
	out.Mode = "poll"
	whole := d.kind.Dialect.Realm == dialect.Server
	if !whole {
		out.Databases = []string{Database}
	}
	planner, err := d.kind.Plan(ctx, origin.String())
	if err != nil {
		return out, fmt.Errorf("the demo's database: %w", err)
	}
	defer planner.Close()
	names := planner.UsualNames()
	p, err := planner.SetUp(ctx, names)
	switch {
	case err != nil:
		return out, err
	case len(p.Obstacles) > 0 && whole:
		return config.Feed{}, nil
	case len(p.Obstacles) > 0:
		return out, nil // it has no logical log: its counters are followed
	case whole: // its log is followed as it is: a demo does not set what holds for all
		d.follows, out.Mode = true, "stream"
		return out, nil
	}
	d.closers = append(d.closers, func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		planner, err := d.kind.Plan(ctx, origin.String())
		if err != nil {
			return fmt.Errorf("what the change feed needed could not be removed: %w", err)
		}
		defer planner.Close()
		for try := 0; ; try++ { // the server takes a moment to see that nobody follows any more
			p, err := planner.Remove(ctx, names)
			if err == nil && len(p.Obstacles) > 0 {
				err = errors.New(p.Obstacles[0])
			} else if err == nil {
				err = planner.Run(ctx, p)
			}
			if err == nil || try == 100 {
				return err
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	for _, table := range []string{"sailings", "bookings", "tide_readings"} { // so that it is told what their rows were before
		if step := d.database.toldWhole(table); step != "" {
			p.Steps = append(p.Steps, step)
		}
	}
	if err := planner.Run(ctx, p); err != nil {
		return out, err
	}
	d.follows, out.Mode = true, "stream"
	return out, nil
}

// tideScene has a board answered from memory, writes a tide around the larder, and gives in milliseconds how long the
// board took to show it.
func (d *Demo) tideScene(ctx context.Context) (float64, error) {
	board, err := d.database.connect(ctx, d.through, "quay-boards", plain)
	if err != nil {
		return 0, err
	}
	defer board.close()
	gauge, err := d.database.connect(ctx, d.url, "tide-logger", plain)
	if err != nil {
		return 0, err
	}
	defer gauge.close()
	sql := fmt.Sprintf(sqlTide, 1)
	d.traffic.quiet.Lock()
	defer d.traffic.quiet.Unlock()
	time.Sleep(time.Second) // what was written before is told by then
	var before []string
	for range 3 {
		if before, err = board.rows(ctx, sql); err != nil {
			return 0, err
		}
	}
	n := d.traffic.nextID.Add(1)
	if err := gauge.run(ctx, sqlTideWrite, n, 1, Today.Add(time.Duration(n-1_000_000)*time.Second), 9.99); err != nil {
		return 0, err
	}
	for wrote := time.Now(); ; time.Sleep(time.Millisecond) {
		now, err := board.rows(ctx, sql)
		if err != nil {
			return 0, err
		}
		if took := time.Since(wrote); fmt.Sprint(now) != fmt.Sprint(before) {
			return float64(took) / float64(time.Millisecond), nil
		} else if took > 30*time.Second {
			return 0, fmt.Errorf("a tide that was written directly is not shown after %s", took.Round(time.Second))
		}
	}
}
