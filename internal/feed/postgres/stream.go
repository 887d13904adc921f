package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"jollylarder/internal/feed"
)

// stream is one connection by which a replication stream is followed.
type stream struct {
	f      *Follower
	asking *pgconn.PgConn // for questions beside it
	began  bool           // it was to be had

	told      map[string]bool // the tables it tells of
	decoder   decoder
	confirmed pglogrepl.LSN
	probes    chan probe
	soon      chan struct{} // for looking at once what everybody sees
	pause     feed.Pause    // before it is looked at again, while some of it cannot be seen yet
	waits     atomic.Int64  // since when, in nanoseconds, the stream has not come to the last probe's position; 0 if it has
}

// flushAfter is how long the stream may not come to a position before the server is made to write its log to disk, and
// how often. A server does that when a transaction is committed: what one has written that does not end may stay in its
// memory, where no stream is told of it.
const flushAfter = 300 * time.Millisecond

// flushQuery commits something that no table holds.
const flushQuery = "begin; set local synchronous_commit = local; select pg_catalog.pg_logical_emit_message(true, 'jolly larder', ''); commit"

// probe is a position of the server's log that was asked for at a moment: when the stream has passed it, all is known
// that was committed before that moment.
type probe struct {
	lsn  pglogrepl.LSN
	from time.Time
}

// run follows the stream until something goes wrong.
func (s *stream) run(ctx context.Context) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	f := s.f
	if err := s.look(ctx); err != nil {
		return err
	}
	c, err := f.Connect(ctx, map[string]string{"application_name": "jolly larder feed", "replication": "database", "datestyle": "ISO", "client_encoding": "UTF8"})
	if err != nil {
		return fmt.Errorf("connecting for replication: %w", err)
	}
	defer closing(c)
	system, err := pglogrepl.IdentifySystem(ctx, c)
	if err != nil {
		return fmt.Errorf("connecting for replication: %w", err)
	}
	slot, err := ask(ctx, s.asking, "select confirmed_flush_lsn::text from pg_catalog.pg_replication_slots where slot_name = $1", f.Slot)
	if err != nil || len(slot) != 1 {
		return fmt.Errorf("looking at the slot %s: %w", f.Slot, err)
	}
	confirmed, err := pglogrepl.ParseLSN(slot[0][0])
	if err != nil {
		return err
	}
	if err := pglogrepl.StartReplication(ctx, c, f.Slot, 0, pglogrepl.StartReplicationOptions{PluginArgs: []string{"proto_version '1'", "publication_names '" + f.Publication + "'"}}); err != nil {
		return fmt.Errorf("following the slot %s: %w", f.Slot, err)
	}
	s.began = true
	before := f.at
	f.at = position{system.SystemID, system.Timeline, confirmed}
	s.confirmed = confirmed
	gap := ""
	switch {
	case before.system == "":
		gap = "it begins"
	case before.system != system.SystemID || before.timeline != system.Timeline:
		gap = "the server is another than before"
	case confirmed > before.lsn:
		gap = "another program has read from the slot, or created it again"
	}
	f.Begins(&f.Options, gap, confirmed.String(), f.MaxSlotSize)
	s.probes, s.soon = make(chan probe, 1), make(chan struct{}, 1)
	if f.Unseen.Any() {
		s.looksSoon()
	}
	beside := make(chan error, 1)
	go func() { beside <- s.beside(ctx, stop) }()
	err = s.receive(ctx, c)
	stop()
	if other := <-beside; other != nil && !errors.Is(other, context.Canceled) {
		err = other
	}
	return err
}

// look says what stands against following the stream.
func (s *stream) look(ctx context.Context) error {
	f := s.f
	level, err := ask(ctx, s.asking, "select pg_catalog.current_setting('wal_level'), (select rolreplication or rolsuper from pg_catalog.pg_roles where rolname = current_user)::text")
	if err != nil {
		return err
	}
	if level[0][0] != "logical" {
		return fmt.Errorf("the server has wal_level = %s: expected logical, which needs a restart of the server", level[0][0])
	}
	if level[0][1] != "true" {
		return errors.New("its account has no right to replicate: use alter role ... replication")
	}
	slot, err := ask(ctx, s.asking, `select coalesce(plugin, ''), coalesce(database, ''), active::text, coalesce(active_pid, 0)::text, coalesce(pg_catalog.to_jsonb(s) ->> 'wal_status', '')
		from pg_catalog.pg_replication_slots s where slot_name = $1`, f.Slot)
	switch {
	case err != nil:
		return err
	case len(slot) == 0:
		return fmt.Errorf("there is no slot %s: run jollylarder feed setup, which makes it", f.Slot)
	case slot[0][0] != "pgoutput" || slot[0][1] != f.Database:
		return fmt.Errorf("the slot %s is not one of this database for pgoutput: choose another name", f.Slot)
	case slot[0][2] == "true":
		return fmt.Errorf("the slot %s is in use by another connection, process %s of the server", f.Slot, slot[0][3])
	case slot[0][4] == "lost":
		return fmt.Errorf("the server has thrown away what the slot %s needs: make it anew by jollylarder feed remove and setup", f.Slot)
	}
	return s.published(ctx)
}

// published learns which tables the stream tells of.
func (s *stream) published(ctx context.Context) error {
	rows, err := ask(ctx, s.asking, "select schemaname || '.' || tablename from pg_catalog.pg_publication_tables where pubname = $1", s.f.Publication)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return fmt.Errorf("there is no publication %s, or no table in it: run jollylarder feed setup, which makes it", s.f.Publication)
	}
	s.told = map[string]bool{}
	for _, r := range rows {
		s.told[r[0]] = true
	}
	return nil
}

// receive takes what the stream tells.
func (s *stream) receive(ctx context.Context, c *pgconn.PgConn) error {
	f := s.f
	var waiting *probe
	status := func(reply bool) error {
		return pglogrepl.SendStandbyStatusUpdate(ctx, c, pglogrepl.StandbyStatusUpdate{WALWritePosition: s.confirmed, ReplyRequested: reply})
	}
	passed := func(at pglogrepl.LSN) {
		if s.decoder.inside {
			return // what is before that is not all told
		}
		f.at.lsn = max(f.at.lsn, at)
		s.confirmed = f.at.lsn
		if waiting != nil && f.at.lsn >= waiting.lsn {
			now := time.Now()
			f.Feed.Told(waiting.from)
			f.Set(func(x *feed.Status) { x.Lag, x.At = now.Sub(waiting.from), now })
			waiting = nil
			s.waits.Store(0)
		}
	}
	next := time.Now()
	heard := next
	for {
		if now := time.Now(); !now.Before(next) {
			if waiting == nil {
				select {
				case p := <-s.probes:
					waiting = &p
					s.waits.Store(p.from.UnixNano())
				default:
				}
			}
			if err := status(true); err != nil {
				return fmt.Errorf("following the slot: %w", err)
			}
			next = now.Add(f.ProbeEvery)
		}
		wait, cancel := context.WithDeadline(ctx, next)
		m, err := c.ReceiveMessage(wait)
		cancel()
		if err != nil {
			if pgconn.Timeout(err) && ctx.Err() == nil && time.Since(heard) < silence {
				continue
			}
			return fmt.Errorf("following the slot: %w", err)
		}
		heard = time.Now()
		switch m := m.(type) {
		case *pgproto3.CopyData:
			if err := s.copied(m.Data, passed); err != nil {
				return err
			}
		case *pgproto3.ErrorResponse:
			return fmt.Errorf("following the slot: %s", m.Message)
		case *pgproto3.CopyDone:
			return errors.New("the server has ended the stream")
		}
	}
}

// copied takes one piece of the stream.
func (s *stream) copied(data []byte, passed func(pglogrepl.LSN)) error {
	if len(data) == 0 {
		return errors.New("the server sent an empty message")
	}
	switch data[0] {
	case pglogrepl.PrimaryKeepaliveMessageByteID:
		k, err := pglogrepl.ParsePrimaryKeepaliveMessage(data[1:])
		if err != nil {
			return err
		}
		passed(k.ServerWALEnd)
	case pglogrepl.XLogDataByteID:
		x, err := pglogrepl.ParseXLogData(data[1:])
		if err != nil {
			return err
		}
		rows, committed, err := s.decoder.take(x.WALData)
		if err != nil {
			return err
		}
		now := time.Now()
		if s.decoder.redefined {
			s.decoder.redefined = false
			s.f.Feed.Redefined(now)
		}
		if committed == nil {
			return nil
		}
		if len(rows) > 0 {
			s.f.Unseen.Add(s.decoder.number, s.f.Feed.Committing(rows, now))
			s.looksSoon()
			s.f.Set(func(x *feed.Status) { x.Transactions++; x.Rows += uint64(len(rows)) })
		}
		passed(committed.TransactionEndLSN)
	}
	return nil
}

// beside asks what is to be known beside the stream: where the server is, how much it holds back, and what the tables'
// counters say that the stream does not tell of.
func (s *stream) beside(ctx context.Context, stop context.CancelFunc) error {
	defer stop()
	f := s.f
	var checked, polled, flushed time.Time
	t := time.NewTicker(f.ProbeEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-t.C:
		case <-s.soon:
			left, err := s.looks(ctx)
			if err != nil {
				return err
			}
			if left {
				time.AfterFunc(s.pause.Next(f.ProbeEvery), s.looksSoon)
			} else {
				s.pause = 0
			}
			continue
		}
		from := time.Now()
		if len(s.probes) == 0 {
			rows, err := ask(ctx, s.asking, "select pg_catalog.pg_current_wal_insert_lsn()::text")
			if err != nil {
				return fmt.Errorf("asking where the server is: %w", err)
			}
			lsn, err := pglogrepl.ParseLSN(rows[0][0])
			if err != nil {
				return err
			}
			s.probes <- probe{reachable(lsn), from}
		}
		if now, since := time.Now(), s.waits.Load(); since != 0 && now.Sub(time.Unix(0, since)) >= flushAfter && now.Sub(flushed) >= flushAfter {
			flushed = now
			if _, err := s.asking.Exec(ctx, flushQuery).ReadAll(); err != nil { // it may lack the right, or be one that only reads
				_, _ = s.asking.Exec(ctx, "rollback").ReadAll()
			}
		}
		if now := time.Now(); now.Sub(checked) >= checkEvery {
			checked = now
			if err := s.check(ctx); err != nil {
				return err
			}
		}
		if now := time.Now(); now.Sub(polled) >= f.PollEvery {
			polled = now
			if err := f.poll(ctx, s.asking, s.told); err != nil {
				return fmt.Errorf("cannot read the counters of changes: %w", err)
			}
		}
	}
}

// looksSoon has it be looked at once what everybody sees.
func (s *stream) looksSoon() {
	select {
	case s.soon <- struct{}{}:
	default:
	}
}

// looks asks which of the transactions that have been told everybody sees by now, and says whether some are left. A server
// tells of a commit when it is in its log, and shows it when its replicas have it, if it waits for these.
func (s *stream) looks(ctx context.Context) (left bool, err error) {
	rows, err := ask(ctx, s.asking, "select pg_catalog.txid_current_snapshot()::text")
	if err != nil {
		return false, fmt.Errorf("asking which transactions are under way: %w", err)
	}
	ended, err := endedIn(rows[0][0])
	if err != nil {
		return false, err
	}
	return s.f.Unseen.Shown(ended), nil
}

// endedIn reads a snapshot, as xmin:xmax:xip,xip, and says of transactions, by the lower half of their numbers, whether
// everybody sees in it what they have done.
func endedIn(snapshot string) (func(uint32) bool, error) {
	parts := strings.Split(snapshot, ":")
	var next uint64
	var running []uint64
	var err error
	if len(parts) == 3 {
		next, err = strconv.ParseUint(parts[1], 10, 64)
		for _, x := range strings.FieldsFunc(parts[2], func(r rune) bool { return r == ',' }) {
			n, wrong := strconv.ParseUint(x, 10, 64)
			err = cmp.Or(err, wrong)
			running = append(running, n)
		}
	}
	if len(parts) != 3 || err != nil {
		return nil, fmt.Errorf("the server's snapshot %q is not understood: expected xmin:xmax:xip,xip", snapshot)
	}
	return func(number uint32) bool {
		return int32(number-uint32(next)) < 0 && !slices.ContainsFunc(running, func(n uint64) bool { return uint32(n) == number })
	}, nil
}

// reachable gives the position that a stream has come to when it has told all before a place where the server writes
// next: behind the head of a page there is nothing yet. Source: XLogBytePosToRecPtr in the server's xlog.c.
func reachable(lsn pglogrepl.LSN) pglogrepl.LSN {
	const page, head, firstHead, segment = 8192, 24, 40, 1 << 20
	if off := lsn % page; off == head || off == firstHead && lsn%segment < page {
		return lsn - off
	}
	return lsn
}

// check looks how much the server retains for the slot, and lets go of it before that fills the disk; and which
// tables are told of.
func (s *stream) check(ctx context.Context) error {
	f := s.f
	rows, err := ask(ctx, s.asking, "select coalesce(pg_catalog.pg_wal_lsn_diff(pg_catalog.pg_current_wal_lsn(), restart_lsn), 0)::bigint::text, pg_catalog.pg_current_wal_lsn()::text from pg_catalog.pg_replication_slots where slot_name = $1", f.Slot)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return fmt.Errorf("the slot %s does not exist any more: run jollylarder feed setup, which makes it", f.Slot)
	}
	held, _ := strconv.ParseInt(rows[0][0], 10, 64)
	f.Set(func(x *feed.Status) {
		x.Held, x.Problem = held, ""
		if held > f.MaxSlotSize/2 {
			x.Problem = fmt.Sprintf("the server retains %d MiB of its log for the slot %s, which is dropped at %d MiB", held>>20, f.Slot, f.MaxSlotSize>>20)
		}
	})
	if held > f.MaxSlotSize {
		f.log().Error("the slot is dropped: the server retains more of its log than is allowed", "bytes", held, "allowed", f.MaxSlotSize)
		f.beside.Go(func() { f.letGo(f.running, rows[0][1]) })
		return fmt.Errorf("%w: the server retained %d MiB of its log for it", errGiven, held>>20)
	}
	return s.published(ctx)
}

// letGo drops the slot when the stream has ended: one in use cannot be dropped. A slot of that name that somebody has
// made anew since is left alone: it begins behind where the log was when the old one was given up.
func (f *Follower) letGo(ctx context.Context, until string) {
	defer func() {
		if r := recover(); r != nil {
			f.log().Error("a fault in the larder: the slot is not let go", "fault", r)
		}
	}()
	for i, ended := 0, false; i < 50 && !ended; i++ {
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			ended = true // once more, and at once
		}
		if gone, err := f.dropSlot(until); err == nil && gone {
			return
		}
	}
	f.log().Error("the slot could not be dropped, and the server goes on retaining its log for it", "slot", f.Slot)
}

// dropSlot drops the slot if it is the one that was given up; gone says that it is not there any more.
func (f *Follower) dropSlot(until string) (gone bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), askTime)
	defer cancel()
	c, err := f.Connect(ctx, nil)
	if err != nil {
		return false, err
	}
	defer closing(c)
	if _, err := ask(ctx, c, "select pg_catalog.pg_drop_replication_slot(slot_name)::text from pg_catalog.pg_replication_slots where slot_name = $1 and not active and restart_lsn < $2::pg_lsn", f.Slot, until); err != nil {
		return false, err
	}
	left, err := ask(ctx, c, "select slot_name::text from pg_catalog.pg_replication_slots where slot_name = $1 and restart_lsn < $2::pg_lsn", f.Slot, until)
	return len(left) == 0, err
}
