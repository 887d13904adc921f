package protocol

import (
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/mysql"
)

// MySQL is that of MariaDB and MySQL. Logins and statements are relayed; statements are not looked at.
var MySQL = &Protocol{
	Name: "mysql", Title: "MariaDB or MySQL", Schemes: []string{"mysql", "mariadb"}, Port: "3306", ProxyHeader: true,
	New: func(o link.Options) link.Server { return wire.New(o) },
}
