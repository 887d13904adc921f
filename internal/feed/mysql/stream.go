package mysql

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"regexp"
	"strconv"
	"time"

	"github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"
	driver "github.com/go-sql-driver/mysql"

	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/feed"
)

// stream is one connection by which a binary log is followed.
type stream struct {
	f       *Follower
	account *driver.Config
	asking  *sql.Conn // for questions beside it

	server  serverRun
	decoder decoder
	goesOn  *mark // the event from which it goes on, until that has come
	at      place // the end of the last event
	told    place // all before has been told

	// waiting is where the server was at a moment, if the stream has not come there.
	waiting *snapshot

	snapshots chan snapshot
	soon      chan struct{} // for a snapshot to be taken now
	pause     feed.Pause    // before the next is, while some groups cannot be seen yet
}

// snapshot is what everybody saw who asked at a moment: what is in the log before a place, and nothing else.
type snapshot struct {
	place
	asked time.Time
}

// serverRun tells a server from others, and from the same one after a restart.
type serverRun struct {
	id, uid string
	since   time.Time
}

func (a serverRun) same(b serverRun) bool {
	return a.id == b.id && a.uid == b.uid && a.since.Sub(b.since).Abs() <= 2*time.Second
}

// run follows the stream until something goes wrong.
func (s *stream) run(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	f := s.f
	server, err := s.look(ctx)
	if err != nil {
		return err
	}
	s.server, s.goesOn = server, f.at.mark
	gap := ""
	switch {
	case f.at.mark == nil:
		gap = "it begins"
	case !f.at.server.same(server):
		gap = "the server is another than before, or has been started anew"
	default:
		s.at = s.goesOn.from
	}
	if gap != "" {
		x, err := s.snapshot(ctx)
		if err != nil {
			return fmt.Errorf("asking where the server is: %w", err)
		}
		s.at, s.goesOn = x.place, nil
	}
	syncer := s.syncer(ctx)
	defer syncer.Close()
	defer stop()
	events, err := syncer.StartSync(s.at.position())
	var refused *mysql.MyError
	if errors.As(err, &refused) && (refused.Code == mysql.ER_ACCESS_DENIED_ERROR || refused.Code == mysql.ER_SPECIFIC_ACCESS_DENIED_ERROR) {
		return fmt.Errorf("its account may not replicate: GRANT REPLICATION SLAVE ON *.* to it (the server says: %s)", refused.Message)
	}
	if err != nil {
		return fmt.Errorf("connecting for replication: %w", err)
	}
	s.snapshots, s.soon = make(chan snapshot), make(chan struct{}, 1)
	beside := make(chan error, 1)
	go func() { beside <- s.beside(ctx, stop) }()
	err = s.receive(ctx, events, gap)
	stop()
	if other := <-beside; other != nil && !errors.Is(other, context.Canceled) {
		err = other
	}
	return err
}

// look says what stands against following the log, and which server that is.
func (s *stream) look(ctx context.Context) (run serverRun, err error) {
	var version, logs string
	var uptime int64
	if err := ask(ctx, s.asking, "select @@version, @@log_bin", &version, &logs); err != nil {
		return run, err
	}
	v, is := serverOf(version)
	switch {
	case !is:
		return run, fmt.Errorf("the server is of version %s: only MariaDB's log is followed", version)
	case logs != "1":
		return run, errors.New("the server has log_bin = OFF: put log_bin and binlog_format = ROW into its configuration, and restart it")
	}
	s.decoder.server = v
	var ignored string
	if err := ask(ctx, s.asking, "select @@server_id", &run.id); err != nil {
		return run, err
	}
	if err := ask(ctx, s.asking, "select @@server_uid", &run.uid); err != nil && code(err) != errUnknownVariable {
		return run, err
	}
	if err := ask(ctx, s.asking, "show global status like 'Uptime'", &ignored, &uptime); err != nil {
		return run, err
	}
	run.since = time.Now().Add(-time.Duration(uptime) * time.Second)
	return run, nil
}

const errUnknownVariable = 1193

var versionForm = regexp.MustCompile(`^(\d+)\.(\d+)\.(\d+)-MariaDB`)

// serverOf reads a version; false if it is not one of MariaDB's.
func serverOf(version string) (v syntax.Server, is bool) {
	m := versionForm.FindStringSubmatch(version)
	if m == nil {
		return v, false
	}
	number := 0
	for _, part := range m[1:] {
		n, _ := strconv.Atoi(part)
		number = number*100 + n
	}
	return syntax.Server{MariaDB: true, Version: number}, true
}

// syncer makes what asks for the log. A server ends another replica's stream that has the same number, so that is a large
// one by chance.
func (s *stream) syncer(running context.Context) *replication.BinlogSyncer {
	a := s.account
	return replication.NewBinlogSyncer(replication.BinlogSyncerConfig{
		ServerID: 1<<31 | rand.Uint32(), Flavor: mysql.MariaDBFlavor, Host: a.Addr, User: a.User, Password: a.Passwd, TLSConfig: a.TLS,
		Localhost: "jolly larder", HeartbeatPeriod: heartbeat, ReadTimeout: silence, DisableRetrySync: true,
		Dialer: func(ctx context.Context, network, address string) (net.Conn, error) {
			if err := running.Err(); err != nil {
				return nil, err // its end needs no word to the server, which sees it at its next heartbeat
			}
			return a.DialFunc(ctx, network, address)
		},
		Logger:          slog.New(slog.DiscardHandler),
		EventCacheCount: 64, DiscardGTIDSet: true,
		RowsEventDecodeFunc: rowsEvent,
	})
}

// receive takes what the stream tells.
func (s *stream) receive(ctx context.Context, from *replication.BinlogStreamer, gap string) error {
	events := make(chan *replication.BinlogEvent)
	failed := make(chan error, 1)
	go func() {
		for {
			e, err := from.GetEvent(ctx)
			if err != nil {
				failed <- err
				return
			}
			select {
			case events <- e:
			case <-ctx.Done():
				failed <- ctx.Err()
				return
			}
		}
	}()
	begun := false
	for {
		select {
		case e := <-events:
			if s.goesOn != nil {
				found, skip := s.goesOn.foundIn(e)
				switch {
				case found:
					s.at.offset = uint64(e.Header.LogPos)
					s.goesOn, s.told = nil, s.at
					continue
				case !skip:
					s.f.at = point{}
					return errors.New("the server's log is another than before")
				}
			}
			if s.goesOn == nil && !begun {
				begun = true
				s.f.Begins(&s.f.Options, gap, s.at.String(), 0)
			}
			if err := s.take(e); err != nil {
				return err
			}
		case x := <-s.snapshots:
			s.seen(x)
		case err := <-failed:
			var server *mysql.MyError
			if errors.As(err, &server) {
				s.f.at = point{} // it does not have what comes next
			}
			return fmt.Errorf("following the binary log: %w", err)
		}
		s.passes()
	}
}

// take takes one event.
func (s *stream) take(e *replication.BinlogEvent) (err error) {
	from := s.at
	switch x := e.Event.(type) {
	case *replication.RotateEvent:
		if s.at, err = placeIn(string(x.NextLogName), x.Position); err != nil {
			return err
		}
	default:
		s.at.offset = max(s.at.offset, uint64(e.Header.LogPos)) // what the server puts before has none
	}
	g, how := s.decoder.take(e)
	now := time.Now()
	switch how {
	case goesOn:
		if !s.decoder.within {
			s.told = s.at
		}
		return nil
	case lost:
		s.f.Feed.Lost(now)
		s.f.Set(func(x *feed.Status) { x.Gaps++ })
	default:
		if e.Header.LogPos == 0 {
			return errors.New("the server does not say where in its log a transaction ends")
		}
		s.tells(g, s.at, now)
	}
	s.told, s.f.at = s.at, point{s.server, &mark{from, e.RawData}}
	return nil
}

// tells hands on what a group has written.
func (s *stream) tells(g group, at place, now time.Time) {
	if g.empty() {
		return
	}
	feeds := s.f.Feed
	if g.unknown {
		s.f.Unseen.Add(at, feeds.Redefining(now))
	}
	if len(g.rows) > 0 {
		s.f.Unseen.Add(at, feeds.Committing(g.rows, now))
	}
	for _, t := range g.texts {
		s.f.Unseen.Add(at, feeds.Ran(t.syntax, t.schema, t.text, t.own, now))
	}
	s.f.Set(func(x *feed.Status) { x.Transactions++; x.Rows += uint64(len(g.rows)) })
	s.looks()
}

// looks has a snapshot be taken at once.
func (s *stream) looks() {
	select {
	case s.soon <- struct{}{}:
	default:
	}
}

// seen takes a snapshot of the server.
func (s *stream) seen(x snapshot) {
	left := s.f.Unseen.Shown(func(at place) bool { return !x.place.before(at) })
	if s.waiting == nil {
		s.waiting = &x
	}
	if !left {
		s.pause = 0
		return
	}
	time.AfterFunc(s.pause.Next(s.f.ProbeEvery), s.looks)
}

// passes notes how far the stream has come.
func (s *stream) passes() {
	w := s.waiting
	if w == nil || s.told.before(w.place) {
		return
	}
	now := time.Now()
	s.f.Feed.Told(w.asked)
	s.f.Set(func(x *feed.Status) { x.Lag, x.At = now.Sub(w.asked), now })
	s.waiting = nil
}

// beside asks what is to be known beside the stream: where in the log a snapshot of this moment is.
func (s *stream) beside(ctx context.Context, stop context.CancelFunc) error {
	defer stop()
	t := time.NewTicker(s.f.ProbeEvery)
	defer t.Stop()
	var checked time.Time
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-t.C:
		case <-s.soon:
		}
		x, err := s.snapshot(ctx)
		if err != nil {
			return fmt.Errorf("asking where the server is: %w", err)
		}
		select {
		case s.snapshots <- x:
		case <-ctx.Done():
			return ctx.Err()
		}
		if now := time.Now(); now.Sub(checked) >= checkEvery {
			checked = now
			if err := s.check(ctx); err != nil {
				return err
			}
		}
	}
}

// snapshot asks for one of this moment.
func (s *stream) snapshot(ctx context.Context) (x snapshot, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	x.asked = time.Now()
	if _, err := s.asking.ExecContext(ctx, "start transaction with consistent snapshot, read only"); err != nil {
		return x, err
	}
	rows, err := s.asking.QueryContext(ctx, "show status like 'binlog_snapshot_%'")
	if err != nil {
		return x, err
	}
	defer rows.Close()
	var file string
	var offset uint64
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return x, err
		}
		switch name {
		case "Binlog_snapshot_file":
			file = value
		case "Binlog_snapshot_position":
			if offset, err = strconv.ParseUint(value, 10, 64); err != nil {
				return x, err
			}
		}
	}
	if err := rows.Err(); err != nil {
		return x, err
	}
	if file == "" {
		return x, errors.New("the server does not say where in its log a snapshot is: expected binlog_snapshot_file in its status")
	}
	if x.place, err = placeIn(file, offset); err != nil {
		return x, err
	}
	_, err = s.asking.ExecContext(ctx, "commit")
	return x, err
}

// check looks what of the server's settings keeps the log from telling rows.
func (s *stream) check(ctx context.Context) error {
	problem := ""
	err := eachSetting(ctx, s.asking, func(w setting, value string) {
		if problem == "" && value != w.value {
			problem = fmt.Sprintf("the server has %s = %s: its log contains %s; set %s", w.name, cmp.Or(value, "none"), w.without, w.value)
		}
	})
	s.f.Set(func(x *feed.Status) { x.Problem = problem })
	return err
}
