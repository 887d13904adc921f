package postgres

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/postgres/grammar"
	syntax "jollylarder/internal/core/statement/postgres"
)

// Body says what a function or procedure does, from the CREATE FUNCTION statement that the server gives of it, or what
// the actions of a rewrite rule do, from its CREATE RULE. It reads bodies in SQL and PL/pgSQL; for any other, and where
// part of the body is made at run time, it says why nothing is known.
func Body(definition string) (*analysis.Facts, error) {
	tree, err := grammar.Parse(definition)
	if errors.Is(err, grammar.ErrLong) || errors.Is(err, grammar.ErrDeep) {
		return nil, fmt.Errorf("its body is %w", err)
	}
	if err != nil || len(tree.Stmts) != 1 {
		return nil, errors.New("its definition is not understood")
	}
	r := newReader()
	r.body = true
	if rule := tree.Stmts[0].Stmt.GetRuleStmt(); rule != nil {
		if rule.WhereClause != nil {
			r.walk(rule.WhereClause)
		}
		for _, a := range rule.Actions {
			r.statement(a)
		}
		r.finish()
		return r.f, nil
	}
	create := tree.Stmts[0].Stmt.GetCreateFunctionStmt()
	if create == nil {
		return nil, errors.New("its definition is not understood")
	}
	var language, source string
	for _, o := range create.Options {
		d := o.GetDefElem()
		switch d.GetDefname() {
		case "language":
			language = d.Arg.GetString_().GetSval()
		case "as":
			if items := d.Arg.GetList().GetItems(); len(items) > 0 {
				source = items[0].GetString_().GetSval()
			}
		}
	}
	for _, p := range create.Parameters {
		x := p.GetFunctionParameter()
		r.walk(x.GetDefexpr()) // what is called for an argument that is left out
		r.parameterType(x.GetArgType())
	}
	r.parameterType(create.ReturnType)
	switch {
	case create.SqlBody != nil:
		r.sqlBody(create.SqlBody)
	case strings.EqualFold(language, "sql"):
		body, err := grammar.Parse(source)
		if err != nil {
			return nil, errors.New("its body is not understood")
		}
		for _, s := range body.Stmts {
			r.statement(s.Stmt)
		}
	case strings.EqualFold(language, "plpgsql"):
		r.plans = true
		if firstValueOfRecord.Match(syntax.Syntax.Normalise([]byte(source))) {
			return nil, errors.New("it gives a record a first value, which is not followed")
		}
		if t := create.ReturnType; t != nil && dateTypes[qualified(t.Names).Name] {
			r.castTo(t, nil) // whatever is returned is turned into it
		}
		if err := r.plpgsql(definition); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("it is written in %s", language)
	}
	r.finish()
	r.f.Kind = analysis.KindFunction
	r.f.Pins, r.f.Refs = nil, nil
	return r.f, nil
}

// firstValueOfRecord finds the one expression that the parser of PL/pgSQL does not hand on: the first value of a
// variable of type record.
var firstValueOfRecord = regexp.MustCompile(`\b"?record"?( not null)? (:=|=|default\b)`)

// parameterType reads the type of a function's parameter or result: what is given for it may be turned into it.
func (r *reader) parameterType(t *pg.TypeName) {
	n := qualified(t.GetNames())
	system := n.Schema == "" || n.Schema == "pg_catalog"
	if t == nil || pseudo(n) ||
		system && !t.PctType &&
			(steadyTypes[n.Name] || dateTypes[n.Name] || catalogTypes[n.Name] || foreignTypes[n.Name]) {
		return
	}
	v := analysis.VariableType{Name: n, Given: true}
	if t.PctType && len(t.Names) > 1 {
		v.Name, v.Column = qualified(t.Names[:len(t.Names)-1]), n.Name
	}
	r.f.Variables = append(r.f.Variables, v)
}

// sqlBody reads a body of BEGIN ATOMIC, or of RETURN alone.
func (r *reader) sqlBody(n *pg.Node) {
	switch b := n.Node.(type) {
	case *pg.Node_List:
		for _, item := range b.List.Items {
			r.sqlBody(item)
		}
	case *pg.Node_ReturnStmt:
		if b.ReturnStmt.Returnval != nil {
			r.walk(b.ReturnStmt.Returnval)
		}
	default:
		r.statement(n)
	}
}

// plpgsql reads every expression and statement that a PL/pgSQL body holds, as the server's own parser finds them.
func (r *reader) plpgsql(definition string) error {
	text, err := grammar.ParsePLpgSQL(definition)
	if err != nil {
		return fmt.Errorf("its body is not understood: %w", err)
	}
	var tree any
	if err := json.Unmarshal([]byte(text), &tree); err != nil {
		return errors.New("its body is not understood")
	}
	assigned := map[int]bool{}
	assignedIn(tree, assigned)
	r.variables(tree, assigned)
	return r.plpgsqlNode(tree)
}

// assignedIn notes the numbers of the variables that something below a node is assigned to.
func assignedIn(n any, assigned map[int]bool) {
	switch x := n.(type) {
	case []any:
		for _, e := range x {
			assignedIn(e, assigned)
		}
	case map[string]any:
		if number, ok := x["varno"].(float64); ok {
			assigned[int(number)] = true
		}
		for _, e := range x {
			assignedIn(e, assigned)
		}
	}
}

// variables reads the types of the variables below a node. A parameter is one only if something is assigned to it: what
// it is called with has its type already.
func (r *reader) variables(n any, assigned map[int]bool) {
	switch x := n.(type) {
	case []any:
		for _, e := range x {
			r.variables(e, assigned)
		}
	case map[string]any:
		data, _ := x["datums"].([]any)
		for i, d := range data {
			fields, _ := d.(map[string]any)
			v, _ := fields["PLpgSQL_var"].(map[string]any)
			of, _ := v["datatype"].(map[string]any)
			t, _ := of["PLpgSQL_type"].(map[string]any)
			name, ok := t["typname"].(string)
			if _, declared := v["lineno"]; ok && (declared || assigned[i]) {
				r.variable(name)
			}
		}
		for _, e := range x {
			r.variables(e, assigned)
		}
	}
}

func (r *reader) plpgsqlNode(n any) error {
	switch x := n.(type) {
	case []any:
		for _, e := range x {
			if err := r.plpgsqlNode(e); err != nil {
				return err
			}
		}
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(x)) { // the same body always gives the same facts
			e := x[key]
			switch key {
			case "PLpgSQL_expr":
				if err := r.plpgsqlExpression(e); err != nil {
					return err
				}
				continue
			case "PLpgSQL_stmt_dynexecute", "PLpgSQL_stmt_dynfors", "dynquery":
				return errors.New("it runs SQL that is made at run time")
			case "PLpgSQL_stmt_commit":
				r.f.Effect |= analysis.Commits
			case "PLpgSQL_stmt_rollback":
				r.f.Effect |= analysis.Commits // what it wrote before may be committed already
			}
			if err := r.plpgsqlNode(e); err != nil {
				return err
			}
		}
	}
	return nil
}

// The ways in which PL/pgSQL hands a text to the SQL parser. Source: RawParseMode in the server's parser.h.
const (
	modeStatement  = 0
	modeExpression = 2
	modeAssign1    = 3 // a := e, and a.b := e, a.b.c := e with the next two
	modeAssign3    = 5
)

func (r *reader) plpgsqlExpression(e any) error {
	fields, _ := e.(map[string]any)
	query, ok := fields["query"].(string)
	mode, hasMode := fields["parseMode"].(float64)
	if !ok || !hasMode {
		return errors.New("its body is not understood")
	}
	text := query
	switch mode {
	case modeStatement:
	case modeExpression:
		text = "select " + query
	default:
		if mode < modeAssign1 || mode > modeAssign3 {
			return errors.New("its body is not understood")
		}
		target, value, ok := strings.Cut(query, ":=")
		if !ok {
			target, value, ok = strings.Cut(query, "=")
		}
		if !ok {
			return errors.New("its body is not understood")
		}
		text = "select " + value
		if strings.Contains(target, "[") { // a subscript is an expression too
			text = "select " + target + ", " + value
		}
	}
	tree, err := grammar.Parse(text)
	if err != nil {
		return fmt.Errorf("its body is not understood: %w", err)
	}
	for _, s := range tree.Stmts {
		r.statement(s.Stmt)
	}
	return nil
}
