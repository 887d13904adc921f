// Package grammar has statements read by a grammar of MySQL's language.
package grammar

import (
	"errors"
	"fmt"
	"sync"

	"github.com/pingcap/tidb/pkg/parser"
	"github.com/pingcap/tidb/pkg/parser/ast"
	"github.com/pingcap/tidb/pkg/parser/mysql"

	syntax "jollylarder/internal/core/statement/mysql"
)

const (
	// Longest is the longest text that is read, in bytes.
	Longest = 256 << 10
	// Deepest is how deep a text may be, as statement.Syntax.Depth has it: trees are walked with a level of the stack for
	// each of theirs.
	Deepest = 5000
)

// ErrLong and ErrDeep say why a text is not read that may be good SQL. ErrComment says that a server may run a comment of
// it, or not.
var (
	ErrLong    = errors.New("too long to read")
	ErrDeep    = errors.New("too deep to read")
	ErrComment = errors.New("a comment that servers may run")
)

// parsers are those that nobody uses at this moment.
var parsers = sync.Pool{New: func() any { return parser.New() }}

// Parse gives the statements of a string, of which comments that its server runs were resolved. It never panics.
func Parse(sql string, m syntax.Mode) (list []ast.StmtNode, err error) {
	if len(sql) > Longest {
		return nil, ErrLong
	}
	if syntax.Of(m).Depth([]byte(sql)) > Deepest {
		return nil, ErrDeep
	}
	// The grammar has comments of its own that it runs, or reads hints in.
	bare, ok := m.Bare([]byte(sql))
	if !ok {
		return nil, ErrComment
	}
	p := parsers.Get().(*parser.Parser)
	defer func() {
		if r := recover(); r != nil {
			list, err = nil, fmt.Errorf("the grammar failed: %v", r)
			return
		}
		p.Reset() // what it holds of the statement
		parsers.Put(p)
	}()
	p.SetMariaDB(true)
	p.SetSQLMode(modeOf(m))
	list, _, err = p.ParseSQL(string(bare))
	return append([]ast.StmtNode(nil), list...), err
}

func modeOf(m syntax.Mode) (mode mysql.SQLMode) {
	if m&syntax.ANSIQuotes != 0 {
		mode |= mysql.ModeANSIQuotes
	}
	if m&syntax.NoBackslashEscapes != 0 {
		mode |= mysql.ModeNoBackslashEscapes
	}
	return mode
}
