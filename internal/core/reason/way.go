package reason

import (
	"iter"
	"strings"
)

// Way is how a statement comes to something that has a reason: the steps from the statement inwards, each with the name
// of what it leads through, if there is one.
type Way string

// step is the kind of a step.
type step byte

const (
	stepCalls step = iota + 1
	stepFunction
	stepWithin
	stepMayCall
	stepField
	stepCalled
	stepView
	stepRowSecurity
	stepOperator
	stepCast
	stepAnyCast
	stepCastType
	stepVariable
	stepVariableType
	stepVariablePart
	stepTrigger
	stepRule
	stepRefresh
	stepReads
	stepWriteType
	stepWrite
	stepWriteView
	stepWriteRowSecurity
)

// steps are the beginnings of sentences that the steps make, with %s for the name.
var steps = [...]string{
	stepCalls:            "calls ",
	stepFunction:         "%s(), ",
	stepWithin:           "%s(), which ",
	stepMayCall:          "may call ",
	stepField:            "asks for .%s, which may be a call of ",
	stepCalled:           "%s(), and so ",
	stepView:             "reads the view %s, which ",
	stepRowSecurity:      "reads %s, whose row security ",
	stepOperator:         "uses the operator %s, which is ",
	stepCast:             "may use a cast of this database's own to %s, which is ",
	stepAnyCast:          "may use a cast of this database's own, which is ",
	stepCastType:         "casts to %s, which calls ",
	stepVariable:         "has a variable of ",
	stepVariableType:     "the type %s, which calls ",
	stepVariablePart:     "a type of %s, which calls ",
	stepTrigger:          "has a trigger that calls ",
	stepRule:             "has a rule that ",
	stepRefresh:          "refreshes %s, which ",
	stepReads:            "reads %s, ",
	stepWriteType:        "writes %s, of which a column's type calls ",
	stepWrite:            "writes %s, which calls ",
	stepWriteView:        "writes the view %s, which calls ",
	stepWriteRowSecurity: "writes %s, whose row security calls ",
}

// then adds a step. Names of the server hold no byte of zero, which ends them here.
func (w Way) then(s step, name string) Way { return w + Way(s) + Way(name) + "\x00" }

// steps gives the steps with their names, from the statement inwards.
func (w Way) steps() iter.Seq2[step, string] {
	return func(yield func(step, string) bool) {
		for w != "" {
			name, rest, _ := strings.Cut(string(w[1:]), "\x00")
			if !yield(step(w[0]), name) {
				return
			}
			w = Way(rest)
		}
	}
}

// Calls leads to a function that is called, which Function or Within is to name.
func (w Way) Calls() Way { return w.then(stepCalls, "") }

// Function names the function that the reason itself is of.
func (w Way) Function(name string) Way { return w.then(stepFunction, name) }

// Within leads into a function.
func (w Way) Within(function string) Way { return w.then(stepWithin, function) }

// MayCall leads to a function that may be called.
func (w Way) MayCall() Way { return w.then(stepMayCall, "") }

// Field leads to what a name behind a dot may call.
func (w Way) Field(name string) Way { return w.then(stepField, name) }

// Called leads to the reason of a function that a name behind a dot may call.
func (w Way) Called(function string) Way { return w.then(stepCalled, function) }

// View leads through a view, by its full name.
func (w Way) View(name string) Way { return w.then(stepView, name) }

// RowSecurity leads through the row security of a table that is read.
func (w Way) RowSecurity(table string) Way { return w.then(stepRowSecurity, table) }

// Operator leads to the function of an operator.
func (w Way) Operator(op string) Way { return w.then(stepOperator, op) }

// Cast leads to the function of a cast to a type; an empty name stands for any.
func (w Way) Cast(to string) Way {
	if to == "" {
		return w.then(stepAnyCast, "")
	}
	return w.then(stepCast, to)
}

// CastType leads to the functions that a type calls to which something is cast.
func (w Way) CastType(name string) Way { return w.then(stepCastType, name) }

// Variable leads to the type of a function's variable.
func (w Way) Variable() Way { return w.then(stepVariable, "") }

// VariableType leads to the functions that a variable's type calls.
func (w Way) VariableType(name string) Way { return w.then(stepVariableType, name) }

// VariablePart leads to the functions that a type of a column calls, in a variable that is a row.
func (w Way) VariablePart(table string) Way { return w.then(stepVariablePart, table) }

// Trigger leads to the function of a trigger.
func (w Way) Trigger() Way { return w.then(stepTrigger, "") }

// Rule leads through a rewrite rule.
func (w Way) Rule() Way { return w.then(stepRule, "") }

// Reads names the table that the reason itself is of.
func (w Way) Reads(table string) Way { return w.then(stepReads, table) }

// Refresh leads through the query of a materialized view.
func (w Way) Refresh(view string) Way { return w.then(stepRefresh, view) }

// WriteType leads to the functions that the type of a column calls in a table that is written.
func (w Way) WriteType(table string) Way { return w.then(stepWriteType, table) }

// Write leads to the functions that a table calls when it is written.
func (w Way) Write(table string) Way { return w.then(stepWrite, table) }

// WriteView leads to the functions that a view calls when it is written.
func (w Way) WriteView(view string) Way { return w.then(stepWriteView, view) }

// WriteRowSecurity leads to the functions of a written table's row security.
func (w Way) WriteRowSecurity(table string) Way { return w.then(stepWriteRowSecurity, table) }
