package replay

import (
	"encoding/binary"
	"fmt"

	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/mysql"
)

// Text and Executed ask MariaDB for the same row by a text, and by executing a prepared statement. Source of the messages and of
// what they answer: MariaDB's documentation, "Clients & Utilities / Protocol".
var (
	Text     = Exchange{"MariaDB text", &mysql, numbered(0, "\x03"+fmt.Sprintf(statement, "4711"))}
	Executed = Exchange{"MariaDB prepared", &mysql, numbered(0, "\x17\x01\x00\x00\x00\x00\x01\x00\x00\x00"+"\x00\x01\x08\x00\x67\x12\x00\x00\x00\x00\x00\x00")}
)

var mysql = speech{
	dialect: dialect.Dialect, standIn: "mysql", serve: func(o link.Options) link.Server { return wire.New(o) },
	account: &link.Account{User: "ines"}, greets: true,
	begin: [][]byte{
		// A user without a password, with the database skerrow in use, and rows whose ends are marked.
		numbered(1, string(binary.LittleEndian.AppendUint32(nil, protocol41|withDatabase|secureConnection|pluginAuth))+
			"\x00\x00\x00\x01\x2d"+string(make([]byte, 23))+"ines\x00"+"\x00"+"skerrow\x00"+"mysql_native_password\x00"),
		numbered(0, "\x03create table fares (id integer primary key, fare integer)"),
		numbered(0, "\x03insert into fares values (4711, 42)"),
		numbered(0, "\x16"+fmt.Sprintf(statement, "?")),
	},
	whole:  wholeOfMySQL,
	failed: func(answer []byte) bool { return answer[4] == 0xff },
}

// What the client can do, of the flags of a login.
const (
	withDatabase     = 1 << 3
	protocol41       = 1 << 9
	secureConnection = 1 << 15
	pluginAuth       = 1 << 19
)

// numbered makes a packet.
func numbered(number byte, body string) []byte {
	return append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), number}, body...)
}

// wholeOfMySQL says whether an answer ends here: with its first packet, or with the marks behind the descriptions and
// behind the rows that the first tells of.
func wholeOfMySQL(answer []byte) bool {
	marks := 0
	for first := true; ; first = false {
		if len(answer) < 5 {
			return false
		}
		n := int(answer[0]) | int(answer[1])<<8 | int(answer[2])<<16
		if len(answer) < 4+n {
			return false
		}
		body := answer[4 : 4+n]
		answer = answer[4+n:]
		switch {
		case first && body[0] == 0 && n == 12: // what was prepared: one mark behind its columns, one behind its parameters
			marks = int(min(body[5]|body[6], 1) + min(body[7]|body[8], 1))
		case first && (body[0] == 0 || body[0] == 0xff || body[0] == 0x0a):
			marks = 0
		case first:
			marks = 2
		case body[0] == 0xff:
			marks = 0
		case body[0] == 0xfe && n < 9:
			marks--
		}
		if marks == 0 {
			return true
		}
	}
}
