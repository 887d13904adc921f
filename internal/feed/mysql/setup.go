package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"jollylarder/internal/feed"
)

// setting is one of the server's, the value that is wanted, and what the log contains without it.
type setting struct{ name, value, without string }

// wanted are the settings by which a binary log tells rows, their values and the names of their columns.
var wanted = []setting{
	{"binlog_format", "ROW", "statements instead of rows, and each drops all results of the tables that it writes. In the format STATEMENT what a transaction writes to a table of MyISAM or Aria is told at the commit only"},
	{"binlog_row_image", "FULL", "only some columns of a changed row, and more results are dropped than need be"},
	{"binlog_row_metadata", "FULL", "no names of columns, and each write drops all results of its table"},
}

// eachSetting calls f with what the server has of each; empty for one that it does not know.
func eachSetting(ctx context.Context, c *sql.Conn, f func(w setting, value string)) error {
	for _, w := range wanted {
		var value string
		if err := ask(ctx, c, "select @@global."+w.name, &value); err != nil && code(err) != errUnknownVariable {
			return err
		}
		f(w, value)
	}
	return nil
}

// SetUp works out what is to be done so that a server's changes can be followed. It changes nothing.
func SetUp(ctx context.Context, c *sql.Conn, n feed.Names) (p feed.Plan, err error) {
	var version, logs string
	if err := ask(ctx, c, "select @@version, @@log_bin", &version, &logs); err != nil {
		return p, err
	}
	if _, is := serverOf(version); !is {
		p.Obstacles = append(p.Obstacles, fmt.Sprintf("the server is of version %s: only MariaDB's log is followed", version))
		return p, nil
	}
	if logs != "1" {
		p.Obstacles = append(p.Obstacles, "the server has log_bin = OFF: put log_bin, binlog_format = ROW and binlog_row_metadata = FULL into its configuration, and restart it")
	}
	var keep []string
	err = eachSetting(ctx, c, func(w setting, value string) {
		switch {
		case value == "":
			p.Notes = append(p.Notes, fmt.Sprintf("This server has no %s: its log contains %s.", w.name, w.without))
		case value != w.value:
			p.Steps = append(p.Steps, "set global "+w.name+" = '"+w.value+"'")
			keep = append(keep, w.name+" = "+w.value)
			p.Notes = append(p.Notes, fmt.Sprintf("%s is %s: the log contains %s.", w.name, value, w.without))
		}
	})
	if err != nil {
		return p, err
	}
	if len(keep) > 0 {
		p.Notes = append(p.Notes, "Put these into the server's configuration, too, or they end with its next restart: "+strings.Join(keep, ", ")+". "+
			"Sessions that are connected already go on as before.")
	}
	p.Notes = append(p.Notes, "The log does not have what is written with sql_log_bin = 0.")
	if n.Role == "" {
		return p, nil
	}
	account, there, err := accountOf(ctx, c, n.Role)
	if err != nil {
		return p, err
	}
	if !there {
		p.Steps = append(p.Steps, "create user "+account+" account lock")
		p.Notes = append(p.Notes, "The account is locked, since it has no password: alter user "+account+" identified by '...' account unlock.")
	}
	may, err := mayReplicate(ctx, c, n.Role)
	if err != nil {
		return p, err
	}
	if !may {
		p.Steps = append(p.Steps, "grant replication slave on *.* to "+account)
	}
	return p, nil
}

// SetUpOwn is SetUp on the account itself that is to follow, which may see no other.
func SetUpOwn(ctx context.Context, c *sql.Conn) (p feed.Plan, err error) {
	if p, err = SetUp(ctx, c, feed.Names{}); err != nil {
		return p, err
	}
	var account string
	var may bool
	err = ask(ctx, c, `select current_user(), count(*) > 0 from information_schema.user_privileges where grantee = concat("'", replace(current_user(), '@', "'@'"), "'")
		and privilege_type in ('REPLICATION SLAVE', 'REPLICATION REPLICA')`, &account, &may)
	if err == nil && !may {
		user, host, _ := strings.Cut(account, "@")
		p.Steps = append(p.Steps, "grant replication slave on *.* to "+literal(user)+"@"+literal(host))
	}
	return p, err
}

// Remove works out what is to be done so that nothing is left of what SetUp has done. It changes nothing.
func Remove(ctx context.Context, c *sql.Conn, n feed.Names) (p feed.Plan, err error) {
	if n.Role != "" {
		account, there, err := accountOf(ctx, c, n.Role)
		if err != nil {
			return p, err
		}
		if there {
			p.Steps = append(p.Steps, "drop user "+account)
		}
	}
	p.Notes = append(p.Notes, "The settings of the binary log stay as they are: replicas may need them. A larder leaves nothing else on the server.")
	return p, nil
}

// Run runs a plan's steps.
func Run(ctx context.Context, c *sql.Conn, p feed.Plan) error {
	return p.Run(ctx, func(ctx context.Context, step string) error {
		_, err := c.ExecContext(ctx, step)
		return err
	})
}

// accountOf writes an account in SQL, of any host, and says whether there is one.
func accountOf(ctx context.Context, c *sql.Conn, user string) (account string, there bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	account = literal(user) + "@'%'"
	err = c.QueryRowContext(ctx, "select count(*) > 0 from mysql.user where user = ? and host = '%'", user).Scan(&there)
	return account, there, err
}

// mayReplicate says whether an account of any host has the privilege to.
func mayReplicate(ctx context.Context, c *sql.Conn, user string) (may bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	err = c.QueryRowContext(ctx, "select count(*) > 0 from information_schema.user_privileges where grantee = concat('''', ?, '''@''%''') and privilege_type in ('REPLICATION SLAVE', 'REPLICATION REPLICA')", user).Scan(&may)
	return may, err
}

// literal writes a text in SQL, whatever the mode.
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
