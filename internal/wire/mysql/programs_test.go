package mysql_test

import (
	"net"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// The server's own programs print the same through a larder, with TLS and asking for compression too.
func TestTheServersPrograms(t *testing.T) {
	l := newLarder(t, link.Settings{ClientTLS: clientTLS(t)})
	differs := regexp.MustCompile(`(?m)^-- (Dump completed on|Host:).*$|server id 1 .*|Uptime.*|Queries.*|TIMESTAMP=\d+.*|thread_id=\d+.*|at \d+$|pseudo_thread_id=\d+`)
	for command, holds := range map[string]string{ // and something that it is to print
		"mariadb -e 'select * from berths order by id limit 5; select nothing; ' --force":                                                                            "ship 5",
		"mariadb --compress -e 'select count(*) from berths'":                                                                                                        "300",
		"mariadb --ssl --skip-ssl-verify-server-cert -e \"show variables like 'version'\"":                                                                           "MariaDB",
		"mariadb -t -e 'call twice(); show warnings; select 1/0; show warnings'":                                                                                     "Division by 0",
		"mariadb --local-infile -N -e \"create temporary table f (w varchar(80)); load data local infile '/etc/hostname' into table f; select count(*) > 0 from f\"": "1",
		"mariadb-dump --skip-extended-insert skerrow":                                                                                                                "INSERT INTO",
		"mariadb-dump --single-transaction --all-databases --ignore-database=mysql":                                                                                  "CREATE TABLE",
		"mariadb-show skerrow":  "berths",
		"mariadb-admin ping":    "alive",
		"mariadb-check skerrow": "OK",
		"mariadb-binlog --read-from-remote-server --base64-output=decode-rows -v BINLOG": "insert into skerrow.berths",
	} {
		t.Run(command, func(t *testing.T) {
			log, err := asks(connect(t, server.Address(), "ines", "Quay#7", ""), "select log_name from (select substring_index(@@log_bin_basename, '/', -1) log_name) x")
			require.NoError(t, err)
			program, rest, _ := strings.Cut(strings.ReplaceAll(command, "BINLOG", log+".000001"), " ")
			if _, err := exec.LookPath(program); err != nil {
				t.Skip(program + " is not installed")
			}
			run := func(address string) string {
				host, port, err := net.SplitHostPort(address)
				require.NoError(t, err)
				database := ""
				if program == "mariadb" {
					database = " skerrow"
				}
				c := exec.Command("sh", "-c", program+" --no-defaults --protocol=tcp -h "+host+" -P "+port+" -u ines '-pQuay#7' "+rest+database)
				out, err := c.CombinedOutput()
				if err != nil {
					out = append(out, err.Error()...)
				}
				return differs.ReplaceAllString(string(out), "")
			}
			want := run(server.Address())
			assert.Contains(t, want, holds)
			assert.Equal(t, want, run(l.address))
		})
	}
}
