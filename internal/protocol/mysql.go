package protocol

import (
	"fmt"
	"unicode/utf8"

	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/trial"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/mysql"
)

// MySQL is that of MariaDB and MySQL. Statements are watched, and nothing is cached.
var MySQL = &Protocol{
	Name: "mysql", Title: "MariaDB or MySQL", Schemes: []string{"mysql", "mariadb"}, Port: "3306", ProxyHeader: true,
	Dialect: dialect.Dialect,
	New:     func(o link.Options) link.Server { return wire.New(o) },
	Render: func(types, bound []byte) (out Rendered) {
		for _, p := range wire.Parameters(types, bound) {
			text := string(p.Value)
			switch {
			case p.Value == nil:
				text = "null"
			case !utf8.ValidString(text):
				text = fmt.Sprintf("%x (binary)", text)
			}
			out.Values = append(out.Values, text)
			out.Parameters = append(out.Parameters, trial.Parameter{Value: p.Value})
			out.Types = append(out.Types, p.Type)
		}
		return out
	},
}
