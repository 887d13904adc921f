package daemon

import (
	"bufio"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/protocol"
	"jollylarder/internal/protocoltest/lines"
)

// One larder stands before databases of several kinds, each on listeners of its own: their statements are told apart,
// and rules, memory, history and the API are common to them.
func TestOriginsOfSeveralKinds(t *testing.T) {
	other, err := lines.NewOrigin()
	require.NoError(t, err)
	defer other.Close()
	defer func(all []*protocol.Protocol) { protocol.All = all }(protocol.All)
	protocol.All = append(protocol.All[:len(protocol.All):len(protocol.All)], lines.Protocol(lines.None))

	dir := t.TempDir()
	cfg := before(standIn(t), "127.0.0.1:0", filepath.Join(dir, "rules.toml"), filepath.Join(dir, "c.sock"))
	cfg.ShowValues = true
	cfg.Origins[0].Name = "mainland"
	island := config.Default().Origins[0]
	island.Name, island.Protocol, island.Address, island.Listen = "island", "lines", other.Address(), []string{"127.0.0.1:0"}
	cfg.Origins = append(cfg.Origins, island)
	l := start(t, cfg)
	api := client.NewClient(cfg.Control)

	st, err := api.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"postgresql", "lines"}, []string{st.Origins[0].Protocol, st.Origins[1].Protocol})

	text, base := l.Book().Current()
	text, err = rules.Put(text, "", rules.Rule{Text: "*", Action: rules.Cache, TTL: time.Minute})
	require.NoError(t, err)
	_, err = l.Book().Apply(controlserver.Proposal{Kind: "apply", Who: "ines", Text: text, Base: base})
	require.NoError(t, err)
	events := make(chan control.Event, 1000)
	go func() { _ = api.Stream(ctx, "", true, func(e control.Event) { events <- e }) }()

	mainland := connected(t, l.Address())
	c, err := net.Dial("tcp", st.Origins[1].Listen[0])
	require.NoError(t, err)
	defer c.Close()
	in := bufio.NewReader(c)
	say := func(line string) (reply string) {
		_, err := fmt.Fprintln(c, line)
		require.NoError(t, err)
		for !strings.HasSuffix(reply, "ready I\n") {
			got, err := in.ReadString('\n')
			require.NoError(t, err, reply)
			reply += got
		}
		return reply
	}
	assert.Contains(t, say("hello ines skerrow"), "welcome")
	seen := map[string]control.Event{} // the last hit of each protocol
	require.Eventually(t, func() bool {
		var name string
		require.NoError(t, mainland.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
		say("update quay set name = ? where id = ?\tpier\t1")
		for range 3 {
			assert.Equal(t, "row pier\ndone\nready I\n", say("select name from quay where id = ?\t1"))
		}
		for len(events) > 0 {
			if e := <-events; e.Outcome == "hit" {
				seen[e.Protocol] = e
			}
		}
		return len(seen) == 2
	}, time.Minute, time.Millisecond)
	assert.Equal(t, []string{"1"}, seen["lines"].Values)
	assert.Equal(t, "select name from quay where id = ?", seen["lines"].Statement)
	assert.Equal(t, "select name from ports where id = $", seen["postgresql"].Text)

	list, err := api.Patterns(ctx, "", "", false)
	require.NoError(t, err)
	ids := map[string]string{}
	for _, p := range list.Patterns {
		ids[p.Text] = p.ID
	}
	assert.Equal(t, string(lines.Dialect.Syntax.Of("select name from quay where id = 1")), ids["select name from quay where id = $"])
}

// A protocol that there is none of is said to be so, before anything is opened.
func TestAnUnknownProtocol(t *testing.T) {
	cfg := before("127.0.0.1:1", "127.0.0.1:0", "", "")
	cfg.Origins[0].Protocol = "smoke"
	_, err := Start(cfg, Options{})
	require.ErrorContains(t, err, `protocol: "smoke" is no protocol of this larder: expected one of postgresql`)
	assert.Error(t, Check(cfg))
}
