package daemon

import (
	"fmt"
	"time"

	systemd "github.com/coreos/go-systemd/v22/daemon"
	"golang.org/x/sys/unix"

	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/core/ledger"
)

// Supervised tells a service manager what the larder does, if one has started it and wants to know: that it is ready, every
// few seconds a line of status, and that it does not hang. It does so until the larder ends.
func (l *Larder) Supervised() {
	l.tells(systemd.SdNotifyReady, l.statusLine())
	every := statusEvery
	if bound, err := systemd.SdWatchdogEnabled(false); err != nil {
		l.log.Warn("the service manager's watchdog is not told anything: WATCHDOG_USEC is not understood", "error", err)
	} else if bound > 0 {
		every = min(every, bound/2)
	}
	l.wg.Go(func() {
		schedule{{every: every, do: func(time.Time) {
			if err := l.Healthy(); err != nil {
				l.log.Error("the larder hangs", "problem", err)
				return // the watchdog starts another
			}
			l.tells(systemd.SdNotifyWatchdog, l.statusLine())
		}}}.runUntil(l.ended)
	})
}

const statusEvery = 5 * time.Second

// Reloading tells a service manager that the configuration is read again; Reloaded that this has ended.
func (l *Larder) Reloading() { l.tells(systemd.SdNotifyReloading, monotonic()) }

// Reloaded tells the end of it, well or not.
func (l *Larder) Reloaded() { l.tells(systemd.SdNotifyReady, l.statusLine()) }

// Stopping tells a service manager that the larder has begun to stop.
func (l *Larder) Stopping() {
	l.stopping.Store(true)
	l.tells(systemd.SdNotifyStopping, l.statusLine())
}

func (l *Larder) tells(states ...string) {
	if l.silent.Load() {
		return // another larder does
	}
	text := ""
	for _, s := range states {
		text += s + "\n"
	}
	if _, err := systemd.SdNotify(false, text); err != nil {
		l.log.Warn("the service manager was not told what the larder does", "error", err)
	}
}

// statusLine says in one line what is going on, for people.
func (l *Larder) statusLine() string {
	if l.stopping.Load() {
		return fmt.Sprintf("STATUS=stopping: %d clients finish", l.Clients())
	}
	m := l.engine.Ledger.Total.Minute()
	calls := m.Calls()
	_, kept, _ := l.engine.Cached()
	return fmt.Sprintf("STATUS=clients: %d; last minute: %d statements, hit rate %.0f%%, %.1f s saved; cached: %s",
		l.Clients(), calls, 100*float64(m.Count[ledger.Hit])/float64(max(calls, 1)), m.Saved.Seconds(), bytesize.About(kept))
}

// monotonic gives the moment of a reload as systemd wants it: by the clock that counts from the machine's start.
func monotonic() string {
	var now unix.Timespec
	if unix.ClockGettime(unix.CLOCK_MONOTONIC, &now) != nil {
		return ""
	}
	return fmt.Sprintf("MONOTONIC_USEC=%d", now.Nano()/1000)
}
