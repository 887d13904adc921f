package inputs

import (
	"slices"
	"sync"

	"jollylarder/internal/core/ledger"
)

// Class is who asks, as rules tell callers apart.
type Class struct {
	*ledger.Caller
	// Client is the host that the client is on.
	Client string
	// Comment is the inside of the statement's comment, in which its labels are.
	Comment string
}

// classes are the classes there are, each with its number.
type classes struct {
	mu     sync.RWMutex
	number map[Class]uint16
	list   []Class
}

// longestComment is the length in bytes of the longest comment by which classes are told apart.
const longestComment = 512

// mostClasses bounds the classes; of those, comments may make half.
const mostClasses = 1 << 13

// Class gives the number of a class, the same one at every call. Classes beyond the bound go without their comment, and
// then all together.
func (b *Book) Class(c Class) uint16 {
	x := &b.classes
	if len(c.Comment) > longestComment {
		c.Comment = "" // what is as long carries values, or more labels than anybody tells apart
	}
	x.mu.RLock()
	n, ok := x.number[c]
	x.mu.RUnlock()
	if ok {
		return n
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if n, ok := x.number[c]; ok {
		return n
	}
	if len(x.list) >= mostClasses/2 && c.Comment != "" {
		c.Comment = ""
		if n, ok := x.number[c]; ok {
			return n
		}
	}
	if x.number == nil { // the first stands for all beyond the bound
		x.number, x.list = map[Class]uint16{}, []Class{
			{Caller: &ledger.Caller{Application: ledger.Others, User: ledger.Others, Database: ledger.Others}},
		}
	}
	if len(x.list) >= mostClasses {
		return 0
	}
	n = uint16(len(x.list))
	x.number[c] = n
	x.list = append(x.list, c)
	return n
}

// Classes gives all classes by their numbers.
func (b *Book) Classes() []Class {
	b.classes.mu.RLock()
	defer b.classes.mu.RUnlock()
	return slices.Clone(b.classes.list)
}
