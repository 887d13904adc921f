package mysql

import (
	"bytes"
	"strconv"
)

// Server is a server's kind and version, as far as it decides what of a statement it reads.
type Server struct {
	MariaDB bool
	Version int // 101119 is 10.11.19
}

// Resolve gives a statement as a server reads it: comments that it runs become code, at the places where they stand, and
// those that it runs in other versions become blank. The statement itself is given back where there is none, and is
// never changed. It is false where it is not certain what the server reads: such a statement may do anything. Source:
// Lex_input_stream::lex_one_token and consume_comment in MariaDB's sql_lex.cc.
func (v Server) Resolve(sql []byte, m Mode) (as []byte, ok bool) {
	if !bytes.Contains(sql, []byte("/*!")) && !bytes.Contains(sql, []byte("/*M!")) &&
		bytes.IndexByte(sql, '$') < 0 && bytes.IndexByte(sql, 0) < 0 {
		return sql, true
	}
	r := resolver{server: v, mode: m, sql: sql, out: sql}
	ok = r.resolve()
	return r.out, ok
}

// Bare gives a resolved statement with blanks in the place of its comments. It is false where it has one that some server
// runs, or is not certain to be read to its end.
func (m Mode) Bare(sql []byte) (bare []byte, ok bool) {
	if bytes.Contains(sql, []byte("/*!")) || bytes.Contains(sql, []byte("/*M!")) {
		resolved, ok := Server{MariaDB: true}.Resolve(sql, m)
		if !ok || !bytes.Equal(resolved, sql) { // else they stand within quotes
			return nil, false
		}
	}
	r := resolver{mode: m, sql: sql, out: sql, bare: true}
	ok = r.resolve()
	return r.out, ok
}

type resolver struct {
	server Server
	mode   Mode
	bare   bool // all comments become blank
	sql    []byte
	out    []byte // the statement itself until something of it is changed
	at     int
	inside bool // a comment that is run
	dashed bool // blanks behind two dashes would make a comment of these
}

func (r *resolver) resolve() bool {
	for r.at < len(r.sql) {
		switch c := r.sql[r.at]; {
		case c == '\'', c == '"' && r.mode&ANSIQuotes == 0:
			r.quoted(c, r.mode&NoBackslashEscapes == 0)
		case c == '"', c == '`':
			r.quoted(c, false)
		case c == '#', c == '-' && r.dashes():
			if !r.line() {
				return false
			}
		case c == '/' && r.is("/*"):
			if !r.comment() {
				return false
			}
		case c == '*' && r.inside && r.is("*/"):
			r.blank(2)
			r.inside = false
		case c == 0:
			return false // servers differ in what they make of what is behind it
		case c == '$' && (r.at == 0 || !nameChar(r.out[r.at-1])):
			return false // a name that looks like the placeholder of patterns
		default:
			r.at++
		}
	}
	return !r.inside && !r.dashed
}

func (r *resolver) is(what string) bool { return bytes.HasPrefix(r.sql[r.at:], []byte(what)) }

func nameChar(c byte) bool {
	return digit(c) || c|0x20 >= 'a' && c|0x20 <= 'z' || c == '_' || c == '$' || c >= 0x80
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// dashes says whether two of them begin a comment here.
func (r *resolver) dashes() bool {
	return r.is("--") && (r.at+2 == len(r.sql) || r.sql[r.at+2] <= ' ' || r.sql[r.at+2] == 0x7f)
}

// line passes over a comment up to the end of its line.
func (r *resolver) line() bool {
	end := bytes.IndexByte(r.sql[r.at:], '\n')
	if end < 0 {
		end = len(r.sql) - r.at
	}
	whole := bytes.IndexByte(r.sql[r.at:r.at+end], 0) < 0
	r.pass(end)
	return whole
}

// quoted passes over what stands between quotes. A doubled quote begins another, which is as well.
func (r *resolver) quoted(mark byte, backslash bool) {
	for r.at++; r.at < len(r.sql); r.at++ {
		switch c := r.sql[r.at]; {
		case c == '\\' && backslash:
			r.at++
		case c == mark:
			r.at++
			return
		}
	}
}

// pass passes over bytes of a comment that is none of those which a server may run.
func (r *resolver) pass(n int) {
	if r.bare {
		r.blank(n)
	} else {
		r.at += n
	}
}

// blank turns bytes into blanks, and passes over them.
func (r *resolver) blank(n int) {
	if r.at >= 2 && r.out[r.at-1] == '-' && r.out[r.at-2] == '-' {
		r.dashed = true
	}
	if len(r.sql) > 0 && &r.out[0] == &r.sql[0] {
		r.out = bytes.Clone(r.sql)
	}
	for i := range n {
		r.out[r.at+i] = ' '
	}
	r.at += n
}

// comment passes over a comment, or goes into one that is run.
func (r *resolver) comment() bool {
	mark := 0
	switch {
	case r.is("/*!"):
		mark = len("/*!")
	case r.is("/*M!") && r.server.MariaDB:
		mark = len("/*M!")
	default:
		end, ok := r.end(r.at+2, 0)
		r.pass(end - r.at)
		return ok
	}
	if r.inside {
		return false // servers differ in where such a one ends
	}
	digits := 0
	for digits < 6 && r.at+mark+digits < len(r.sql) && digit(r.sql[r.at+mark+digits]) {
		digits++
	}
	if digits < 5 { // and so they are no version
		r.blank(mark)
		r.inside = true
		return true
	}
	version, _ := strconv.Atoi(string(r.sql[r.at+mark : r.at+mark+digits]))
	runs := version <= r.server.Version
	switch {
	case r.server.MariaDB && mark == len("/*!"):
		runs = runs && (version < 50700 || version > 99999) // those between are MySQL's alone
	case !r.server.MariaDB && digits > 5:
		return false // only some versions read the sixth digit
	}
	if runs {
		r.blank(mark + digits)
		r.inside = true
		return true
	}
	end, ok := r.end(r.at+2, 1)
	r.blank(end - r.at)
	return ok
}

// end gives where a comment ends of which the inside begins at a place, and may hold others, so many deep.
func (r *resolver) end(at, deep int) (end int, ok bool) {
	for at < len(r.sql) {
		switch c := r.sql[at]; {
		case c == 0:
			return at, false
		case c == '*' && at+1 < len(r.sql) && r.sql[at+1] == '/':
			return at + 2, true
		case c == '/' && deep > 0 && at+1 < len(r.sql) && r.sql[at+1] == '*':
			if at, ok = r.end(at+2, deep-1); !ok {
				return at, false
			}
		default:
			at++
		}
	}
	return at, false
}
