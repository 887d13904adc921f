package postgres

import (
	"cmp"
	"slices"
	"strings"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
)

// description is a schema's rows, sorted.
type description []Row

// Describe gives a description of the rows that a server gave, in any order, if nothing is wrong with them.
func Describe(rows []Row) (catalog.Description, error) {
	if err := Check(rows); err != nil {
		return nil, err
	}
	return described(rows), nil
}

func described(rows []Row) description {
	d := slices.Clone(rows)
	slices.SortFunc(d, compare)
	return d
}

// Same implements catalog.Description.
func (d description) Same(o catalog.Description) bool {
	other, ok := o.(description)
	return ok && slices.Equal(d, other)
}

// Schema implements catalog.Description.
func (d description) Schema() catalog.Schema { return New(d) }

// Unreviewed implements catalog.Configured.
func (d description) Unreviewed() (names []string) {
	for _, r := range d {
		if r.What == "settings" {
			for name := range strings.FieldsSeq(r.OtherName) {
				if facts.Unreviewed(name) {
					names = append(names, name)
				}
			}
		}
	}
	slices.Sort(names)
	return names
}

func compare(a, b Row) int {
	return cmp.Or(
		strings.Compare(a.What, b.What),
		strings.Compare(a.Schema, b.Schema),
		strings.Compare(a.Name, b.Name),
		strings.Compare(a.Flags, b.Flags),
		strings.Compare(a.OtherSchema, b.OtherSchema),
		strings.Compare(a.OtherName, b.OtherName),
	)
}

// Explained implements catalog.Description. It has a case for each kind of row.
func (d description) Explained(o catalog.Description, list []*catalog.Defined, grants bool) bool {
	before := d
	after, ok := o.(description)
	if !ok {
		return false
	}
	sequences, others := map[string]bool{}, map[string]bool{}
	for _, rows := range []description{before, after} {
		for _, r := range rows {
			if r.What == "relation" {
				map[bool]map[string]bool{true: sequences, false: others}[strings.HasPrefix(r.Flags, "S")][r.Name] = true
			}
		}
	}
	// By the very name: what the server makes for a relation under another is no row here, but for sequences. Results
	// of relations that a definition leaves the same have not been dropped, so that such a one explains keys,
	// references and calls alone.
	concerned := func(name string, same bool) bool {
		return slices.ContainsFunc(
			list,
			func(d *catalog.Defined) bool { return (same || !d.Same) && slices.Contains(d.Names, name) },
		)
	}
	explained := func(r Row) bool {
		switch r.What {
		case "granted", "readers":
			return true // by number; see below
		case "relation", "columns", "view", "rule", "policy", "typed", "trigger":
			// No result rests on a sequence; it may go with a table of which it has not the name.
			return sequences[r.Name] && !others[r.Name] || concerned(r.Name, false)
		case "key":
			return concerned(r.Name, true)
		case "call":
			return r.Flags != "t" && concerned(r.Name, true) // also of an index
		case "reference":
			return concerned(r.Name, true) || concerned(r.OtherName, true)
		case "child", "part":
			return concerned(r.Name, false) || concerned(r.OtherName, false)
		}
		return false
	}
	for i, j := 0, 0; i < len(before) || j < len(after); {
		order := 1
		switch {
		case i < len(before) && j < len(after):
			order = compare(before[i], after[j])
		case i < len(before):
			order = -1
		}
		switch {
		case order == 0:
			i, j = i+1, j+1
			continue
		case order < 0:
			if !explained(before[i]) {
				return false
			}
			i++
		default:
			if !explained(after[j]) {
				return false
			}
			j++
		}
	}
	if grants {
		return true
	}
	was, is := readersOf(before), readersOf(after)
	for name, roles := range was {
		if now, there := is[name]; there && now != roles {
			if _, bare, _ := strings.Cut(name, "\n"); !concerned(bare, false) {
				return false
			}
		}
	}
	return true
}

// readersOf gives who may read each relation, by its schema and name.
func readersOf(rows description) map[string]string {
	readers, out := map[string]string{}, map[string]string{}
	for _, r := range rows {
		if r.What == "readers" {
			readers[r.Name] = r.OtherName
		}
	}
	for _, r := range rows {
		if r.What == "granted" {
			out[r.Schema+"\n"+r.Name] = readers[r.Flags]
		}
	}
	return out
}
