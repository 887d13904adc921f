package mysql

import (
	"bytes"
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"
)

// place is one in a server's binary log: a file, and how many bytes of it are before.
type place struct {
	name   string
	file   uint64 // the number at the end of its name, which grows with each file
	offset uint64
}

func (p place) before(o place) bool {
	return cmp.Or(cmp.Compare(p.file, o.file), cmp.Compare(p.offset, o.offset)) < 0
}

func (p place) String() string { return fmt.Sprintf("%s:%d", p.name, p.offset) }

// position gives the place as the library takes it.
func (p place) position() mysql.Position { return mysql.Position{Name: p.name, Pos: uint32(p.offset)} }

// placeIn gives a place in a file.
func placeIn(name string, offset uint64) (place, error) {
	n, err := strconv.ParseUint(name[strings.LastIndexByte(name, '.')+1:], 10, 64)
	if err != nil {
		return place{}, fmt.Errorf("the server's log has a file %q: expected a name that ends in a dot and a number", name)
	}
	return place{name, n, offset}, nil
}

// mark is an event of the log, by which it shows whether a log is still the same: files have the same names when a log is
// begun anew. Its bytes hold when it was written, and by whom.
type mark struct {
	from  place
	bytes []byte
}

// foundIn says whether an event that comes from the mark's place on is the marked one; skip says that it is one that a
// server puts before.
func (m *mark) foundIn(e *replication.BinlogEvent) (found, skip bool) {
	switch e.Header.EventType {
	case replication.ROTATE_EVENT, replication.FORMAT_DESCRIPTION_EVENT, replication.MARIADB_GTID_LIST_EVENT,
		replication.MARIADB_START_ENCRYPTION_EVENT, replication.HEARTBEAT_EVENT:
		return false, true
	}
	return bytes.Equal(m.bytes, e.RawData), false
}
