// Package grammar has statements read by PostgreSQL's own grammar, in C, so that no text can hurt the process.
//
// The grammar's parser works without recursion, but what writes its tree down does not: it uses stack for every level
// of the tree, and a chain like 1+1+1… is a level for every two bytes. A stack overflow in C ends the process. So all
// statements are read on one thread, whose stack is large enough for any text of the length that is read at all,
// whatever is in it: Stack is more than twice what the worst text takes that is known (see the tests). One thread is
// also enough: a statement is read once, when it comes for the first time, and must not take the time of those that are
// known. It runs at a lower priority for that.
//
// The library puts a pipe in the place of the standard error output while it reads. Nothing that is logged may go
// there, and no two threads may do so at the same time.
package grammar

// #cgo LDFLAGS: -Wl,--unresolved-symbols=ignore-all
// #include <stdlib.h>
// #include "thread.h"
import "C"

import (
	"errors"
	"math"
	"sync"
	"unsafe"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/proto"

	syntax "jollylarder/internal/core/statement/postgres"
)

const (
	// Longest is the longest text that is read, in bytes. The trees of a text take some hundred times its length of
	// memory.
	Longest = 256 << 10
	// Deepest is how deep a text may be, as statement.Syntax.Depth has it. What the library takes to write a tree down grows
	// with the square of its depth. Stack does not rest on this.
	Deepest = 5000
	// Stack is the size of the thread's stack in bytes. It is address space alone until it is used.
	Stack = 512 * Longest
)

// ErrLong and ErrDeep say why a text is not read that may be good SQL.
var (
	ErrLong = errors.New("too long to read")
	ErrDeep = errors.New("too deep to read")
)

// large has at most one long text wait for the thread at a time, so that others wait for no more than one.
var large sync.Mutex

// short is the length in bytes up to which texts do not wait for each other in that way.
const short = 16 << 10

// Parse gives the tree of a statement string.
func Parse(text string) (*pg.ParseResult, error) {
	data, err := read(0, text)
	if err != nil {
		return nil, err
	}
	defer C.free(unsafe.Pointer(data.data))
	// The copy in C is read in place: what is unmarshalled holds copies.
	b := unsafe.Slice((*byte)(unsafe.Pointer(data.data)), int(data.len))
	tree := &pg.ParseResult{}
	if err := (proto.UnmarshalOptions{}).Unmarshal(b, tree); err != nil {
		return nil, ErrDeep // it is nested deeper than is unmarshalled: what the library has written is well-formed
	}
	return tree, nil
}

// ParsePLpgSQL gives the tree of a function in PL/pgSQL, as JSON, from the text of its CREATE FUNCTION.
func ParsePLpgSQL(text string) (string, error) {
	data, err := read(1, text)
	if err != nil {
		return "", err
	}
	defer C.free(unsafe.Pointer(data.data))
	return C.GoStringN(data.data, C.int(data.len)), nil
}

func read(kind int, text string) (C.grammar_result, error) {
	if len(text) > Longest {
		return C.grammar_result{}, ErrLong
	}
	if syntax.Syntax.Depth([]byte(text)) > Deepest {
		return C.grammar_result{}, ErrDeep
	}
	if len(text) > short {
		large.Lock()
		defer large.Unlock()
		defer C.grammar_release()
	}
	return onThread(kind, text)
}

func onThread(kind int, text string) (C.grammar_result, error) {
	in := C.CString(text)
	defer C.free(unsafe.Pointer(in))
	r := C.grammar_read(C.int(kind), in, C.size_t(Stack))
	if r.error != nil {
		defer C.free(unsafe.Pointer(r.error))
		return C.grammar_result{}, errors.New(C.GoString(r.error))
	}
	if r.len > math.MaxInt32 {
		C.free(unsafe.Pointer(r.data))
		return C.grammar_result{}, ErrLong
	}
	return r, nil
}

// Touched gives how many bytes of stack the reading of a text takes, up to the number given, for tests. Nobody else may
// read meanwhile.
func Touched(kind int, text string, most int) int {
	_, _ = read(0, "select 1") // so that there is a thread
	C.grammar_paint(C.size_t(most))
	defer C.grammar_release()
	if r, err := onThread(kind, text); err == nil {
		C.free(unsafe.Pointer(r.data))
	}
	return int(C.grammar_touched(C.size_t(most)))
}
