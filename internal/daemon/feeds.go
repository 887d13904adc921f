package daemon

import (
	"context"
	"time"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/feed"
)

// followChanges begins to follow what is written around the larder, as the configuration says. That of a feed counts
// from the start of the larder.
func (l *Larder) followChanges() {
	for i, o := range l.cfg.Origins {
		a, err := account(o.Feed.User, o.Feed.Password)
		if a == nil || err != nil {
			continue // which was looked at before
		}
		databases := o.Feed.Databases
		if l.origins[i].protocol.Dialect.Realm == dialect.Server {
			databases = []string{""}
		}
		for _, database := range databases {
			f := l.origins[i].protocol.Follow(l.origins[i].server, *a, feed.Options{
				Feed: l.engine.Feed(o.Name, database), Origin: o.Name, Database: database, Mode: feed.Mode(o.Feed.Mode),
				Slot: o.Feed.Slot, Publication: o.Feed.Publication, MaxSlotSize: o.Feed.MaxSlotSize, PollEvery: o.Feed.PollEvery, Log: l.log,
			})
			l.feeds = append(l.feeds, following{o.Name, database, f})
			ctx, stop := context.WithCancel(context.Background())
			l.close = append(l.close, stop)
			l.alone.Go(func() { f.Run(ctx) }) // a change stream is for one
		}
	}
}

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
