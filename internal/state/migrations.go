package state

import (
	"database/sql"
	"fmt"
	"strings"
)

// migrations bring a file from one version to the next, the first of them from nothing. The version of a file is its
// user_version. Those that have been released never change: what is to be otherwise is a migration more.
var migrations = [...]string{
	`create table history (id integer primary key, at integer not null, kind text not null, who text not null,
  why text not null, text blob not null, changes text not null, forecast text not null, hour text not null, day text not null);
create table drafts (who text primary key, at integer not null, base text not null, text blob not null);
create table patterns (id text primary key, text text not null) without rowid;
create table inputs (rule text not null, place integer not null, key blob not null, primary key (rule, place)) without rowid;
create table rollups (step integer not null, at integer not null, pattern text not null, calls integer not null, hits integer not null,
  misses integer not null, passes integer not null, writes integer not null, drops integer not null, waited integer not null,
  spared integer not null, primary key (step, at, pattern)) without rowid;`,

	// Numbers tell more, and of more than patterns.
	`create table numbers (step integer not null, at integer not null, kind text not null, name text not null, ` +
		strings.Join(
			strings.Fields(numbersAtFirst),
			" not null default 0, ",
		) + ` not null default 0, primary key (step, at, kind, name)) without rowid;
insert into numbers (step, at, kind, name, minutes, hits, misses, passes, writes, pass_waited, spared, drops)
  select step, at, case pattern when '' then '' else 'pattern' end, pattern, step / 60, hits, misses, passes, writes, waited, spared, drops from rollups;
drop table rollups;`,

	// An undo says what it restored.
	`alter table history add column restores integer not null default 0;`,

	// Columns are named as the numbers are called everywhere else, and there is what became of results and how long calls
	// took.
	`alter table numbers rename column passes to bypasses;
alter table numbers rename column pass_waited to bypass_waited;
alter table numbers rename column spared to saved;
alter table numbers rename column keepable to cacheable;
alter table numbers add column evicted integer not null default 0;
alter table numbers add column expired integer not null default 0;
alter table numbers add column unused integer not null default 0;
alter table numbers add column p50 not null default 0;
alter table numbers add column p99 not null default 0;`,

	// The larder chooses within advised rules.
	`create table chosen (rule text not null, pattern text not null, choice text not null, primary key (rule, pattern)) without rowid;
create table choices (id integer primary key, at integer not null, change text not null, actual text not null);`,
}

// numbersAtFirst are the columns of the numbers as the second version had them.
const numbersAtFirst = `minutes hits misses passes writes hit_waited miss_waited pass_waited write_waited spared keepable own followed
	before_calls before_waited hindered_calls hindered_waited samples sample_took sample_squares drops compared stale memory`

// migrate brings a file to a version, one after the other: each is there as a whole, or not at all.
func migrate(db *sql.DB, to int) error {
	var have int
	if err := db.QueryRow("pragma user_version").Scan(&have); err != nil {
		return err
	}
	for v := have; v < to; v++ {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		if _, err = tx.Exec(migrations[v] + fmt.Sprintf("pragma user_version = %d", v+1)); err == nil {
			err = tx.Commit()
		}
		if err != nil {
			_ = tx.Rollback()
			return fmt.Errorf("bringing the state to version %d: %w", v+1, err)
		}
	}
	return nil
}
