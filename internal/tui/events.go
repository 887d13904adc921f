package tui

import (
	"context"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
)

// feed gathers events between two redraws.
type feed struct {
	mu     sync.Mutex
	events []control.Event
	values bool
	again  chan struct{} // asks for another stream, with values or without
}

func newFeed() *feed { return &feed{again: make(chan struct{}, 1)} }

// show has values shown from now on, or not.
func (f *feed) show(values bool) {
	f.mu.Lock()
	f.values = values
	f.mu.Unlock()
	select {
	case f.again <- struct{}{}:
	default:
	}
}

func (f *feed) run(ctx context.Context, c *client.Client) {
	for ctx.Err() == nil {
		f.mu.Lock()
		values := f.values
		f.mu.Unlock()
		one, cancel := context.WithCancel(ctx)
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			_ = c.Stream(one, "", values, func(e control.Event) {
				f.mu.Lock()
				defer f.mu.Unlock()
				if len(f.events) < 20_000 {
					f.events = append(f.events, e)
				}
			})
		}()
		select {
		case <-f.again:
			cancel()
			<-ended
			continue
		case <-ended: // the larder is gone: try again
		case <-ctx.Done():
		}
		cancel()
		select {
		case <-time.After(time.Second):
		case <-f.again:
		case <-ctx.Done():
		}
	}
}

func (f *feed) take() []control.Event {
	f.mu.Lock()
	defer f.mu.Unlock()
	e := f.events
	f.events = nil
	return e
}
