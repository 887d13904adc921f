package mysql_test

import (
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// What the usual kinds of applications send is answered from memory as far as it can be, and as the server itself would
// answer it. The first letter of each line is what becomes of it when it has been sent before: h for a hit, p for what
// goes to the server, R for a reset of the session, P for a statement that is prepared, run and forgotten.
func TestWhatApplicationsSend(t *testing.T) {
	var page []string
	for i := range 30 {
		page = append(page, fmt.Sprintf("h select ship from berths where id = %d limit 1", i+1))
	}
	for _, application := range []struct {
		name  string
		lines []string
	}{
		{"a content management system's page", append([]string{
			"p SET NAMES utf8mb4", "p SET SESSION sql_mode='NO_ENGINE_SUBSTITUTION'", "p SELECT @@SESSION.sql_mode", "p SELECT 1",
		}, page...)},
		{"PHP with quoted numbers", []string{"p SET NAMES 'utf8mb4'", "h SELECT * FROM `berths` WHERE `id` = '5' LIMIT 1", "h SELECT `b`.`ship` FROM `berths` `b` WHERE `b`.`id` IN ('5','6') ORDER BY `b`.`id` ASC"}},
		{"a prelude of settings", []string{
			"p SET  @@SESSION.sql_auto_is_null = 0, @@SESSION.wait_timeout = 2147483, @@SESSION.sql_mode = 'STRICT_ALL_TABLES'", "p SET NAMES utf8mb4 COLLATE utf8mb4_unicode_ci",
			"h SELECT `berths`.* FROM `berths` WHERE `berths`.`id` = 7 LIMIT 1 /*application:Boards,controller:ships*/", "p BEGIN", "p SELECT `berths`.* FROM `berths` WHERE `berths`.`id` = 8 LIMIT 1",
			"h SELECT `berths`.* FROM `berths` WHERE `berths`.`id` = 7 LIMIT 1 /*application:Boards,controller:fares*/", "p COMMIT",
		}},
		{"a Python ORM without autocommit", []string{
			"p SET NAMES utf8mb4", "p SET AUTOCOMMIT = 0", "p SELECT @@sql_mode", "p ROLLBACK", "p SELECT berths.ship FROM berths WHERE berths.id = 9", "h SELECT berths.ship FROM berths WHERE berths.id = 10",
			"h SELECT berths.ship FROM berths WHERE berths.id = 9", "p COMMIT", "p SELECT berths.ship FROM berths WHERE berths.id = 10", "h SELECT berths.ship FROM berths WHERE berths.id = 9", "p ROLLBACK",
		}},
		{"a web framework with short transactions", []string{
			"p SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED", "h SELECT `berths`.`ship` FROM `berths` WHERE `berths`.`id` = 11 LIMIT 21", "p SET AUTOCOMMIT = 0",
			"p SELECT `berths`.`ship` FROM `berths` WHERE `berths`.`id` = 12 LIMIT 21", "h SELECT `berths`.`ship` FROM `berths` WHERE `berths`.`id` = 11 LIMIT 21", "p COMMIT", "p SET AUTOCOMMIT = 1",
			"h SELECT `berths`.`ship` FROM `berths` WHERE `berths`.`id` = 12 LIMIT 21",
		}},
		{"a Java pool", []string{
			"p set autocommit=1, sql_mode = concat(@@sql_mode,',STRICT_TRANS_TABLES')", "p SET SESSION TRANSACTION READ ONLY", "h select b.id, b.ship from berths b where b.id = 13", "R",
			"p set autocommit=0", "p select b.id, b.ship from berths b where b.id = 14", "h select b.id, b.ship from berths b where b.id = 13", "p commit", "p set autocommit=1", "R", "h select b.id, b.ship from berths b where b.id = 14",
		}},
		{"statements that are prepared each time", []string{"P select ship from berths where id = ?", "P select ship from berths where id = ?", "p begin", "p select ship from berths where id = 2", "P select ship from berths where id = ?", "p commit"}},
	} {
		t.Run(application.name, func(t *testing.T) {
			a := newAnswering(t)
			c, err := net.Dial("tcp", server.Address())
			require.NoError(t, err)
			defer c.Close()
			direct, err := enters(c, "skerrow", 0)
			require.NoError(t, err)
			run := func(x *conversing, hit func(line, what string)) (heard string) {
				for _, line := range application.lines {
					what, text, _ := strings.Cut(line, " ")
					var got string
					var err error
					switch what {
					case "R":
						got, err = x.command(0x1f, nil)
					case "P":
						got, err = x.Bound(text, "15")
					default:
						got, err = x.Ask(text)
					}
					require.NoError(t, err)
					heard += got
					hit(line, what)
				}
				return heard
			}
			want := run(direct, func(string, string) {})
			for i := range 4 { // twice until everything is known and kept
				x := a.enters()
				before := a.hits()
				assert.Equal(t, want, run(x, func(line, what string) {
					now := a.hits()
					if i > 1 {
						assert.Equal(t, map[string]uint64{"h": 1, "P": 1}[what], now-before, line)
					}
					before = now
				}))
				x.Close()
			}
		})
	}
}

// Clients that connect for one statement each are answered from memory, too: the schema takes longer to read than they stay.
func TestClientsThatDoNotStay(t *testing.T) {
	l := newLarder(t, link.Settings{Unchallenged: link.Anybody, Catalog: &link.Account{User: "root"}})
	l.keepsAll()
	a := &answering{larder: l, t: t}
	for end := time.Now().Add(time.Minute); l.hits() == 0 && time.Now().Before(end); {
		x := a.enters()
		a.ask(x, "select ship from berths where id = 1")
		x.Close()
	}
	assert.NotZero(t, l.hits())
}
