package grammar

import (
	"fmt"
	"io"

	"github.com/pingcap/tidb/pkg/parser/ast"
	"github.com/pingcap/tidb/pkg/parser/format"
)

// The grammar leaves it to its user what a literal is. Here it is what the grammar read of it: decimals and other
// literals are kept as they are written, since nobody computes with them.

func init() {
	ast.NewValueExpr = func(value any, _, _ string) ast.ValueExpr {
		if v, ok := value.(*Value); ok {
			return v
		}
		return &Value{value: value}
	}
	ast.NewParamMarkerExpr = func(offset int) ast.ParamMarkerExpr { return &Parameter{Offset: offset} }
	ast.NewDecimal = func(written string) (any, error) { return written, nil }
	ast.NewHexLiteral = func(written string) (any, error) { return written, nil }
	ast.NewBitLiteral = func(written string) (any, error) { return written, nil }
}

// Value is a literal.
type Value struct {
	ast.TexprNode
	value any
	place int
}

// Accept implements ast.Node.
func (v *Value) Accept(by ast.Visitor) (ast.Node, bool) {
	n, _ := by.Enter(v)
	return by.Leave(n)
}

// Restore implements ast.Node.
func (v *Value) Restore(*format.RestoreCtx) error { return nil }

// Format implements ast.ExprNode.
func (v *Value) Format(w io.Writer) { fmt.Fprint(w, v.value) }

// SetValue implements ast.ValueExpr.
func (v *Value) SetValue(value any) { v.value = value }

// GetValue implements ast.ValueExpr.
func (v *Value) GetValue() any { return v.value }

// GetString implements ast.ValueExpr.
func (v *Value) GetString() string {
	s, _ := v.value.(string)
	return s
}

// GetDatumString implements ast.ValueExpr.
func (v *Value) GetDatumString() string { return v.GetString() }

// GetProjectionOffset implements ast.ValueExpr.
func (v *Value) GetProjectionOffset() int { return v.place }

// SetProjectionOffset implements ast.ValueExpr.
func (v *Value) SetProjectionOffset(offset int) { v.place = offset }

// Parameter is a question mark.
type Parameter struct {
	Value
	Offset int // in bytes
	Order  int
}

// Accept implements ast.Node.
func (p *Parameter) Accept(by ast.Visitor) (ast.Node, bool) {
	n, _ := by.Enter(p)
	return by.Leave(n)
}

// SetOrder implements ast.ParamMarkerExpr.
func (p *Parameter) SetOrder(order int) { p.Order = order }
