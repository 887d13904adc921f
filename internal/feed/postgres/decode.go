package postgres

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pglogrepl"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/feed"
)

// decoder makes transactions of the messages of a replication stream. Source: "Logical Replication Message Formats" in
// the server's manual.
type decoder struct {
	relations map[uint32]*relation
	wrote     feed.Rows
	inside    bool   // of a transaction
	number    uint32 // its own
	last      remembered

	// redefined is set when a table turned out to have other columns than before.
	redefined bool
}

type relation struct {
	*pglogrepl.RelationMessage
	shape string
}

// take takes one message. It gives a transaction's rows when that is committed.
func (d *decoder) take(data []byte) (rows []engine.RowChange, committed *pglogrepl.CommitMessage, err error) {
	if len(data) == 0 {
		return nil, nil, fmt.Errorf("the server sent an empty message")
	}
	m, err := parse(data)
	if err != nil {
		return nil, nil, err
	}
	switch m := m.(type) {
	case *pglogrepl.BeginMessage:
		d.inside, d.number = true, m.Xid
		d.wrote = feed.Rows{}
	case *pglogrepl.RelationMessage:
		d.relation(m)
	case *pglogrepl.InsertMessage:
		return nil, nil, d.add(m.RelationID, analysis.Insert, nil, m.Tuple)
	case *pglogrepl.UpdateMessage:
		return nil, nil, d.add(m.RelationID, analysis.Update, m.OldTuple, m.NewTuple)
	case *pglogrepl.DeleteMessage:
		return nil, nil, d.add(m.RelationID, analysis.Delete, m.OldTuple, nil)
	case *pglogrepl.TruncateMessage:
		for _, id := range m.RelationIDs {
			if err := d.add(id, analysis.Truncate, nil, nil); err != nil {
				return nil, nil, err
			}
		}
	case *pglogrepl.CommitMessage:
		d.inside = false
		rows = d.wrote.All()
		d.wrote = feed.Rows{}
		return rows, m, nil
	}
	return nil, nil, nil
}

// parse is pglogrepl.Parse for bytes of any kind.
func parse(data []byte) (m pglogrepl.Message, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the server sent a message that is not understood: %v", r)
		}
	}()
	return pglogrepl.Parse(data)
}

func (d *decoder) relation(m *pglogrepl.RelationMessage) {
	var shape strings.Builder
	fmt.Fprintf(&shape, "%s.%s %c", m.Namespace, m.RelationName, m.ReplicaIdentity)
	for _, c := range m.Columns {
		fmt.Fprintf(&shape, ",%s %d %d %d", c.Name, c.DataType, c.TypeModifier, c.Flags)
	}
	if d.relations == nil {
		d.relations = map[uint32]*relation{}
	}
	if old := d.relations[m.RelationID]; old != nil && old.shape != shape.String() {
		d.redefined = true
		d.last.forget()
	}
	d.relations[m.RelationID] = &relation{m, shape.String()}
}

func (d *decoder) add(id uint32, kind analysis.Events, old, new *pglogrepl.TupleData) error {
	r := d.relations[id]
	if r == nil {
		return fmt.Errorf("the server told of a table, number %d, that it has not described", id)
	}
	c := engine.RowChange{Schema: r.Namespace, Table: r.RelationName, Kind: kind}
	if kind == analysis.Truncate {
		d.last.forget()
	}
	if d.wrote.Large() {
		d.wrote.Add(c)
		d.last.forget()
		return nil
	}
	for _, x := range r.Columns {
		c.Told = append(c.Told, x.Name)
	}
	c.New = r.values(new, false)
	switch {
	case old != nil:
		c.Old = r.values(old, r.ReplicaIdentity != 'f')
	case kind == analysis.Update: // the columns that identify the row have kept their values
		for i, column := range r.Columns {
			if column.Flags&1 == 0 {
				continue
			}
			if at := slices.IndexFunc(c.New, func(v engine.ColumnValue) bool { return v.Column == r.Columns[i].Name }); at >= 0 {
				c.Old = append(c.Old, c.New[at])
			}
		}
	}
	switch {
	case kind == analysis.Update && old == nil:
		d.last.updated(r, new, &c)
	case r.ReplicaIdentity != 'f':
		d.last.took(r, old, new)
	case kind == analysis.Update:
		c.Sets = r.changed(old, new)
	}
	d.wrote.Add(c)
	return nil
}

// changed gives the columns by which two rows differ.
func (r *relation) changed(old, now *pglogrepl.TupleData) (names []string) {
	for i, c := range r.Columns {
		if i >= len(old.Columns) || i >= len(now.Columns) {
			return nil
		}
		// A long value that is not told has not changed.
		if was, is := column(old.Columns[i]), column(now.Columns[i]); was != is && is != "?" {
			names = append(names, c.Name)
		}
	}
	return names
}

// values gives those of a row that are told; of some, only those of the columns that identify it are.
func (r *relation) values(t *pglogrepl.TupleData, identityOnly bool) (out []engine.ColumnValue) {
	if t == nil {
		return nil
	}
	for i, c := range t.Columns {
		if i >= len(r.Columns) || identityOnly && r.Columns[i].Flags&1 == 0 {
			continue
		}
		switch c.DataType {
		case pglogrepl.TupleDataTypeNull:
			out = append(out, engine.ColumnValue{Column: r.Columns[i].Name})
		case pglogrepl.TupleDataTypeText:
			out = append(out, engine.ColumnValue{Column: r.Columns[i].Name, Value: append([]byte{}, c.Data...)})
		}
	}
	return out
}
