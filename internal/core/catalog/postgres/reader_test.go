package postgres

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/catalog"
)

// served is a schema as a server has it: relations by number, each with a version of what its mark is made of.
type served struct {
	relations map[uint32]*servedRelation
	functions map[uint32]string
	owner     string // of everything
	clock     int    // transactions so far
	own       int    // the last transaction that changed a relation of the server's own
	types     []string
}

type servedRelation struct {
	name    string
	columns []string
	view    uint32 // what it is a view of, or 0
	written int    // the last transaction that changed it
}

func (s *served) numbers(from, to uint32) (out []uint32) {
	for n := range s.relations {
		if n >= from && n <= to {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

func (s *served) mark(from, to uint32) string {
	sum := 0
	if from < firstOfUsers {
		sum = s.own
	}
	list := s.numbers(from, to)
	for _, n := range list {
		sum += s.relations[n].written
	}
	return fmt.Sprint(len(list), "/", sum)
}

// rows is what is told of one relation, by kind of question.
func (s *served) rows(n uint32, kind Kind) []Row {
	r := s.relations[n]
	flags := "r"
	if r.view != 0 {
		flags = "v"
	}
	of := s.relations[r.view]
	switch {
	case kind == Relations:
		return []Row{
			{What: "relation", Schema: "public", Name: r.name, Flags: flags, OtherSchema: strconv.Itoa(int(n))},
			{What: "columns", Schema: "public", Name: r.name, OtherName: " " + strings.Join(r.columns, "\n ")},
			{What: "granted", Schema: "public", Name: r.name, Flags: "key"},
		}
	case kind == Links && of != nil:
		return []Row{{What: "part", Schema: "public", Name: r.name, Flags: "v", OtherSchema: "public", OtherName: of.name}}
	case kind == Texts && of != nil:
		return []Row{{What: "view", Schema: "public", Name: r.name, OtherSchema: strconv.Itoa(r.written), OtherName: "select " + of.columns[0] + " from " + of.name}}
	case kind == Readers:
		return []Row{{What: "readers", Name: "key", OtherName: s.owner}}
	}
	return nil
}

func (s *served) restMark(k Kind) string {
	switch k {
	case Functions:
		return fmt.Sprint(s.functions)
	case Types:
		return fmt.Sprint(s.types)
	case Readers:
		return s.owner
	}
	return ""
}

func (s *served) answer(q Question) (rows []Row) {
	switch q.Kind {
	case Relations:
		rows = append(rows, Row{What: "mark", OtherName: s.mark(q.From, q.To)})
	case Functions, Types, Operators, BuiltIns, Rights, Readers:
		rows = append(rows, Row{What: "mark", OtherName: s.restMark(q.Kind)})
	}
	switch q.Kind {
	case RestMarks:
		for _, k := range []Kind{Functions, Types, Operators, BuiltIns, Rights, Readers} {
			rows = append(rows, Row{What: "mark", Flags: string(k), OtherName: s.restMark(k)})
		}
	case Marks:
		for _, r := range q.Ranges {
			rows = append(rows, Row{What: "mark", Flags: strconv.Itoa(int(r[0])), OtherName: s.mark(r[0], r[1])})
		}
	case Spans:
		list := s.numbers(q.From, q.To)
		list = list[:min(len(list), q.Most)]
		to := q.To
		if len(list) == q.Most {
			to = list[len(list)-1]
		}
		rows = []Row{{What: "span", Name: strconv.Itoa(len(list)), Flags: strconv.FormatUint(uint64(to), 10), OtherName: s.mark(q.From, to)}}
	case Functions:
		var list []uint32
		for n := range s.functions {
			if n >= q.From {
				list = append(list, n)
			}
		}
		slices.Sort(list)
		list = list[:min(len(list), q.Most)]
		end := uint32(0)
		for _, n := range list {
			rows = append(rows, Row{What: "function", Schema: "public", Name: s.functions[n]})
			end = n
		}
		rows = append(rows, Row{What: "span", Name: strconv.Itoa(len(list)), Flags: strconv.Itoa(int(end))})
	case Types:
		for _, t := range s.types {
			rows = append(rows, Row{What: "type", Schema: "public", Name: t})
		}
	case Relations, Links, Texts, Readers:
		for _, n := range s.numbers(q.From, q.To) {
			for _, row := range s.rows(n, q.Kind) {
				if !slices.Contains(rows, row) {
					rows = append(rows, row)
				}
			}
		}
	}
	return rows
}

// described is the whole, as a reader is to give it.
func (s *served) described() []Row {
	var r Reader
	r.Begin()
	for {
		q, more := r.Next()
		if !more {
			out := r.Rows()
			slices.SortFunc(out, compare)
			return out
		}
		r.take(s.answer(q), time.Millisecond)
	}
}

// change makes something other.
func (s *served) change(t *rapid.T) {
	s.clock++
	numbers := s.numbers(0, last)
	kind := rapid.SampledFrom([]string{"make", "make", "make", "drop", "drop many", "rename", "column", "rename column", "view", "function", "drop function", "owner", "type", "drop type", "touch", "touch the server's own"}).Draw(t, "change")
	pick := func() *servedRelation {
		r := s.relations[rapid.SampledFrom(numbers).Draw(t, "relation")]
		r.written = s.clock
		return r
	}
	if len(numbers) == 0 {
		kind = "make"
	}
	next := uint32(firstOfUsers - 4) // so that some are where the server's own are
	if len(numbers) > 0 {
		next = numbers[len(numbers)-1] + uint32(rapid.IntRange(1, 5).Draw(t, "gap"))
	}
	switch kind {
	case "make":
		s.relations[next] = &servedRelation{name: fmt.Sprint("t", s.clock), columns: []string{"id", "n"}, written: s.clock}
	case "view":
		s.relations[next] = &servedRelation{name: fmt.Sprint("v", s.clock), columns: []string{"id"}, view: rapid.SampledFrom(numbers).Draw(t, "of"), written: s.clock}
	case "drop":
		s.drop(rapid.SampledFrom(numbers).Draw(t, "dropped"))
	case "drop many":
		at := rapid.IntRange(0, len(numbers)).Draw(t, "up to")
		if rapid.Bool().Draw(t, "or from there on") {
			s.drop(numbers[at:]...)
		} else {
			s.drop(numbers[:at]...)
		}
	case "rename":
		pick().name = fmt.Sprint("r", s.clock)
	case "column":
		r := pick()
		r.columns = append(slices.Clone(r.columns), fmt.Sprint("c", s.clock))
	case "rename column":
		r := pick()
		r.columns = slices.Clone(r.columns)
		r.columns[0] = fmt.Sprint("k", s.clock)
	case "touch":
		pick()
	case "touch the server's own":
		s.own = s.clock
	case "function":
		s.functions[uint32(16384+s.clock)] = fmt.Sprint("f", s.clock)
	case "drop function":
		for n := range s.functions {
			delete(s.functions, n)
			break
		}
	case "owner":
		s.owner = fmt.Sprint("o", s.clock)
	case "type":
		s.types = append(slices.Clone(s.types), fmt.Sprint("y", s.clock))
	case "drop type":
		s.types = nil
	}
}

// drop takes relations away, with the views of them.
func (s *served) drop(list ...uint32) {
	for _, n := range list {
		for m, r := range s.relations {
			if r.view == n {
				delete(s.relations, m)
			}
		}
		delete(s.relations, n)
	}
}

// However a schema changes, between rounds, within them and where rounds are given up: after a round in which nothing changed the
// description is that of a reader that knew nothing before. Roles are the exception that every round finds.
func TestAReaderFollowsEveryChange(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := &served{relations: map[uint32]*servedRelation{}, functions: map[uint32]string{}, owner: "o"}
		first := uint32(firstOfUsers - rapid.SampledFrom([]int{0, 10, 40}).Draw(t, "where the server's own are"))
		for range rapid.IntRange(0, 60).Draw(t, "tables") {
			s.clock++
			s.relations[first+uint32(2*s.clock)] = &servedRelation{name: fmt.Sprint("t", s.clock), columns: []string{"id", "n"}, written: s.clock}
		}
		var r Reader
		for range rapid.IntRange(1, 5).Draw(t, "rounds") {
			r.Begin()
			upTo := rapid.IntRange(0, 40).Draw(t, "before it is given up")
			for i := 0; ; i++ {
				q, more := r.Next()
				if !more {
					break
				}
				if rapid.IntRange(0, 4).Draw(t, "changes within") == 0 {
					s.change(t)
				}
				_, ok := r.take(s.answer(q), rapid.SampledFrom([]time.Duration{time.Microsecond, 20 * time.Millisecond}).Draw(t, "took"))
				require.True(t, ok)
				if i == upTo {
					r.GiveUp()
					break
				}
			}
			for range rapid.IntRange(0, 3).Draw(t, "changes") {
				s.change(t)
			}
		}
		r.Begin()
		for {
			q, more := r.Next()
			if !more {
				break
			}
			_, ok := r.take(s.answer(q), time.Millisecond)
			require.True(t, ok)
		}
		got := r.Rows()
		slices.SortFunc(got, compare)
		want, have := used(s.described()), used(got)
		for _, row := range want {
			require.Contains(t, []bool{slices.Contains(have, row)}, true, "it lacks %v", row)
		}
		for _, row := range have {
			require.Contains(t, []bool{slices.Contains(want, row)}, true, "it still has %v", row)
		}
	})
}

// used leaves out what says nothing: who may read what nobody has, and what belongs to a relation that there is not, which may have
// been told between its making and its end.
func used(rows []Row) (out []Row) {
	keys, names := map[string]bool{}, map[string]bool{}
	for _, row := range rows {
		switch row.What {
		case "granted":
			keys[row.Flags] = true
		case "relation":
			names[row.Name] = true
		}
	}
	for _, row := range rows {
		switch row.What {
		case "readers":
			if !keys[row.Name] {
				continue
			}
		case "part", "view":
			if !names[row.Name] {
				continue
			}
		}
		out = append(out, row)
	}
	return out
}

// After a change of one relation of many, no more is asked than what concerns it.
func TestAReaderAsksOnlyWhatHasChanged(t *testing.T) {
	s := &served{relations: map[uint32]*servedRelation{}, functions: map[uint32]string{}, owner: "o"}
	for i := range 2000 {
		s.relations[uint32(16384+i)] = &servedRelation{name: fmt.Sprint("t", i), columns: []string{"id"}, written: i}
	}
	round := func(r *Reader, list ...*catalog.Defined) (n int) {
		r.Begin(list...)
		for {
			q, more := r.Next()
			if !more {
				return n
			}
			n++
			_, ok := r.take(s.answer(q), 2*time.Millisecond)
			require.True(t, ok)
		}
	}
	var r Reader
	assert.Greater(t, round(&r), 100)
	r.Accept()
	assert.Less(t, round(&r), 20, "nothing has changed: marks alone")
	assert.False(t, r.Changed())
	s.relations[17000].written, s.relations[17000].columns = 5000, []string{"id", "more"}
	assert.LessOrEqual(t, round(&r, &catalog.Defined{Names: []string{"t616"}}), 5)
	assert.True(t, r.Changed())
	s.relations[30000] = &servedRelation{name: "new", columns: []string{"id"}, written: 5001}
	assert.LessOrEqual(t, round(&r, &catalog.Defined{Names: []string{"new"}}), 3)
	rows := r.Rows()
	slices.SortFunc(rows, compare)
	assert.Equal(t, s.described(), rows)
	r.Begin()
	_, ok := r.take(nil, 0)
	assert.False(t, ok, "an answer that is none")
	assert.False(t, r.InRound())
}

// Of the server's own relations nothing is asked, and of those that are users' whatever their numbers.
func TestAReaderOfASmallSchema(t *testing.T) {
	s, r := &served{functions: map[uint32]string{}, owner: "o"}, &Reader{}
	round := func(numbers ...uint32) (kinds []Kind) {
		s.relations = map[uint32]*servedRelation{}
		for _, n := range numbers {
			s.relations[n] = &servedRelation{name: fmt.Sprint("t", n), columns: []string{"id"}, written: 1}
		}
		r.Begin()
		for {
			q, more := r.Next()
			if !more {
				break
			}
			if q.Kind == Spans || q.Kind == Relations || q.Kind == Links {
				kinds = append(kinds, q.Kind)
			}
			_, ok := r.take(s.answer(q), 20*time.Millisecond)
			require.True(t, ok)
		}
		rows := r.Rows()
		assert.Len(t, slices.DeleteFunc(rows, func(r Row) bool { return r.What != "relation" }), len(numbers))
		return kinds
	}
	asked := func(numbers ...uint32) []Kind {
		r = &Reader{}
		return round(numbers...)
	}
	assert.Equal(t, []Kind{Spans, Spans}, asked())
	assert.Equal(t, []Kind{Spans}, round(), "where what is new would be")
	s.own++
	assert.Equal(t, []Kind{Spans, Spans}, round(), "the server's own have been written anew")
	assert.Equal(t, []Kind{Spans}, round())
	assert.Equal(t, []Kind{Spans, Relations, Links}, slices.Compact(round(firstOfUsers-1)), "or are no longer all that is there")
	assert.Equal(t, []Kind{Spans, Spans, Relations, Links}, asked(firstOfUsers, firstOfUsers+7))
	assert.Equal(t, []Kind{Spans, Relations, Links, Spans}, asked(firstOfUsers-1), "a server that was made with tables")
}

// Whatever a server answers, a round ends, and what is made of it is a description that can be read.
func FuzzAnswers(f *testing.F) {
	f.Add("mark||functions|||1\nmark||types|||\nmark||operators|||\nmark||builtins|||\nmark||rights|||\nmark||readers|||x\n\nspan||0|4294967295||m\n\nspan||0|0||\nmark|||||1")
	f.Add("span||20|5||\n\nspan||20|5||")
	f.Add("mark|||||a\nrelation|public|t|r|7|\ncolumns|public|t|||n id\ngranted|public|t|k||")
	f.Fuzz(func(t *testing.T, text string) {
		var answers [][]Row
		for part := range strings.SplitSeq(text, "\n\n") {
			rows := []Row{}
			for line := range strings.SplitSeq(part, "\n") {
				fields := append(strings.SplitN(line, "|", 6), "", "", "", "", "")
				rows = append(rows, Row{fields[0], fields[1], fields[2], fields[3], fields[4], fields[5]})
			}
			answers = append(answers, rows)
		}
		var r Reader
		for round := range 2 {
			r.Begin()
			for i := round; ; i++ {
				if _, more := r.Next(); !more {
					break
				}
				if _, ok := r.take(answers[i%len(answers)], time.Duration(i)*time.Millisecond); !ok || i > 2000 {
					break
				}
				_ = r.Bundle()
			}
			New(r.Rows())
		}
	})
}
