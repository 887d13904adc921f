package daemon

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/lock"
	"jollylarder/internal/succession"
)

// While two larders stand before one database, neither knows what is written through the other. So the one that hands over
// answers nothing from memory from the moment on at which it offers its sockets; and the one that takes over caches nothing
// until the other has gone, which a lock in the directory for state tells. The kernel gives that up in any case.

// handoverSocket is the name of the socket at which a larder waits for one that takes over, in the directory for state.
const handoverSocket = "handover.sock"

// leavingFiles is the pattern of the names of the files that larders hold a lock of which have been taken over from. One that
// leaves nothing behind removes its own.
const leavingFiles = "leaving-*"

// mostWarm is how many results are handed over to be fetched again.
const mostWarm = 1000

// HandedOver says that another process has asked for the clients' sockets, and what has come of it.
type HandedOver struct {
	// Process is the other one.
	Process int
	// Err is why it has not taken over: then another larder is to go on, by Options.Before.
	Err error
}

// HandedOver gives the end of the larder's time, if another process asks for it. Clients that connect are not served any more
// then; Leave and Close are to follow.
func (l *Larder) HandedOver() <-chan HandedOver { return l.handedOver }

// Succeed implements controlserver.Larder.
func (l *Larder) Succeed() (process int, err error) {
	switch {
	case l.opts.Successor == nil:
		return 0, errors.New("this larder cannot start another process: it was not started by jollylarder serve")
	case l.cfg.State == "":
		return 0, errors.New("two larders find each other in their directory for state, and this one has none: set state in the configuration, and restart it")
	}
	l.succeeding.Lock()
	defer l.succeeding.Unlock()
	if x := l.successor.Load(); x != nil && x.Problem == "" {
		return 0, fmt.Errorf("process %d was started for that and has not ended: wait for it, or end it", x.Process)
	}
	cmd, err := l.opts.Successor()
	if err != nil {
		return 0, err
	}
	process = cmd.Process.Pid
	l.successor.Store(&control.Successor{Process: process})
	go func() { // which may last longer than the larder
		problem := "it ended before that; the log has the reason"
		if err := cmd.Wait(); err != nil {
			problem = err.Error() + "; the log has the reason"
		}
		l.successor.Store(&control.Successor{Process: process, Problem: problem})
	}()
	return process, nil
}

// offersHandover waits for a larder that takes over, where there is a place for that.
func (l *Larder) offersHandover() {
	if l.cfg.State == "" {
		return
	}
	ln, err := succession.Listen(filepath.Join(l.cfg.State, handoverSocket))
	if err != nil {
		l.log.Warn("no other larder can take over from this one", "error", err)
		return
	}
	l.close = append(l.close, ln.Close)
	l.wg.Go(func() {
		for {
			r, err := ln.Accept()
			switch {
			case errors.Is(err, net.ErrClosed):
				return
			case err != nil:
				l.log.Warn("a request to hand over was refused", "error", err)
				time.Sleep(50 * time.Millisecond) // out of file descriptors, perhaps
				continue
			}
			if l.handsOver(r) {
				return
			}
		}
	})
}

// handsOver answers a request, and says whether the larder's time has ended.
func (l *Larder) handsOver(r *succession.Request) bool {
	path := filepath.Join(l.cfg.State, fmt.Sprintf("leaving-%d-%d", os.Getpid(), time.Now().UnixNano()))
	release, err := lock.File(path)
	if err != nil {
		r.Refuse(fmt.Sprintf("it could not tell when it has gone: %v", err))
		return false
	}
	offer, err := l.retires(&leaving{path, release})
	if err != nil {
		offer.CloseSockets()
		_ = os.Remove(path)
		release()
		r.Refuse(err.Error())
		return false
	}
	l.log.Info("another larder takes over", "process", r.Process, "clients", l.Clients())
	defer r.Close()
	over := make(chan struct{})
	defer close(over)
	go func() { // a larder that is stopped meanwhile waits for nobody
		select {
		case <-l.ended:
			r.Close()
		case <-over:
		}
	}()
	out := HandedOver{Process: r.Process}
	if out.Err = r.Yield(offer); out.Err != nil {
		l.offered = offer
	} else {
		offer.CloseSockets()
		l.tells(fmt.Sprintf("MAINPID=%d", r.Process))
	}
	l.silent.Store(true)
	l.handedOver <- out
	return true
}

// leaving is a lock that tells that a larder is still there which another has taken over from.
type leaving struct {
	path    string
	release func()
}

// offer gives copies of the sockets, and what was asked for most.
func (l *Larder) offer() (o succession.Offer, err error) {
	for i, x := range l.origins {
		for j, ln := range x.listeners {
			own, err := succession.Duplicate(lock.Under(ln.Listener))
			if err != nil {
				return o, err
			}
			o.Sockets = append(o.Sockets, succession.Socket{Configured: l.cfg.Origins[i].Listen[j], Owned: ln.owned, Listener: own})
		}
	}
	l.mu.Lock()
	warm := l.cfg.KeepWarm
	l.mu.Unlock()
	if warm {
		o.Inputs = l.engine.MostUsedOfAll(mostWarm)
	}
	return o, nil
}

// retires ends whatever only one larder may do at a time, and all answers from memory, and gives what is to be handed over.
// Clients that are connected are served. After an error nothing has changed.
func (l *Larder) retires(as *leaving) (succession.Offer, error) {
	l.handing.Lock()
	defer l.handing.Unlock()
	if l.stopping.Load() {
		return succession.Offer{}, errors.New("it is being stopped: start this one when it has ended")
	}
	offer, err := l.offer()
	if err != nil {
		return offer, err
	}
	l.leaving = as
	l.rememberInputs()
	l.engine.Retires()
	for _, o := range l.origins {
		for _, ln := range o.listeners {
			if u, ok := lock.Under(ln.Listener).(*net.UnixListener); ok {
				u.SetUnlinkOnClose(false)
			}
		}
	}
	if l.opts.BeforeHandover != nil {
		l.opts.BeforeHandover()
	}
	l.once.Do(l.stopAccepting)
	l.accepting.Wait()
	l.endsAlone()
	l.api.Close()
	for _, f := range l.atEnd {
		f()
	}
	l.state.Close()
	l.releaseLocks()
	debug.FreeOSMemory() // two processes need memory for a while
	return offer, nil
}

// endsAlone ends what only one larder may do at a time. It is called once at a time.
func (l *Larder) endsAlone() {
	select {
	case <-l.retired:
	default:
		close(l.retired)
	}
	l.alone.Wait()
}

// Leave lets the clients of a larder go that has handed over: those at rest at once, the others when they are, for as long as
// the configuration says or until the context ends. It is to be followed by Close.
func (l *Larder) Leave(ctx context.Context) {
	l.mu.Lock()
	bound := l.cfg.HandoverTimeout
	l.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, bound)
	defer cancel()
	l.drain(ctx)
	for l.Clients() == 0 && !l.engine.Settled() && ctx.Err() == nil { // what clients who went have left may still run
		select {
		case <-ctx.Done():
		case <-time.After(looksForPredecessor):
		}
	}
	l.drained = true
}

// Config gives the configuration in force.
func (l *Larder) Config() config.Config {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg
}
