package catalog

import (
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
)

// Defined is a change of definitions that concerns what has some names, and nothing else.
type Defined struct {
	// Names are those of relations, without their schemas.
	Names []string
	Quiet analysis.Quiet
	// Same is set when rows, columns and keys stay what they are: what only reads is not concerned.
	Same bool
	// Unknown is set when the catalog does not name the first of them.
	Unknown bool
	// All is set for one that concerns everything.
	All bool
}

// Concerns says whether something of a name may be among what it changes: also what the server makes for a relation
// under names of its own, and the types of its rows.
func (d *Defined) Concerns(name string) bool {
	if d.All {
		return true
	}
	bare := strings.TrimLeft(name, "_")
	return slices.ContainsFunc(d.Names, func(n string) bool {
		return name == n || bare == strings.TrimLeft(n, "_") || strings.HasPrefix(name, n+"_")
	})
}

// Among says what changes of definitions mean for what was resolved before them: touched is set when some of them
// concern what it names or came to, and quiet says what may happen then. Writes says whether it may write.
func (o *Resolved) Among(list []*Defined, writes bool) (touched bool, quiet analysis.Quiet) {
	quiet = analysis.QuietAll
	for _, d := range list {
		if d.Same && !writes {
			continue
		}
		if d.All || slices.ContainsFunc(o.Names, d.Concerns) {
			touched, quiet = true, min(quiet, d.Quiet)
		}
	}
	return touched, quiet
}
