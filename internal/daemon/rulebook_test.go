package daemon

import (
	"crypto/tls"
	"net"
	"net/http"
	"os"
	"os/user"
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
	"jollylarder/internal/privatepg"
)

const mine = "# mine\n\n[[rule]]\npattern = \"bado-kife-ruma\"\naction = \"cache\"\nttl = \"5s\" # for a start\n"

// desk is a larder with rules, and a client of its API.
type desk struct {
	*testing.T
	cfg  config.Config
	file string
	l    *Larder
	api  *client.Client
}

func newDesk(t *testing.T) *desk {
	dir := t.TempDir()
	d := &desk{T: t, file: filepath.Join(dir, "rules.toml")}
	require.NoError(t, os.WriteFile(d.file, []byte(mine), 0o600))
	d.cfg = before("127.0.0.1:1", "127.0.0.1:0", d.file, filepath.Join(dir, "c.sock"))
	d.cfg.State = filepath.Join(dir, "state")
	d.begin()
	return d
}

func (d *desk) begin() {
	var err error
	d.l, err = Start(d.cfg, Options{})
	require.NoError(d, err)
	d.api = client.NewClient(d.cfg.Control)
	l := d.l
	d.Cleanup(func() {
		if d.l == l {
			l.Close()
		}
	})
}

func (d *desk) edit(e control.Edit) control.Draft {
	draft, err := d.api.Edit(ctx, e)
	require.NoError(d, err)
	return draft
}

func (d *desk) inFile() string {
	text, err := os.ReadFile(d.file)
	require.NoError(d, err)
	return string(text)
}

func cacheFor(pattern, ttl string) *control.Rule {
	return &control.Rule{Pattern: pattern, Action: "cache", TTL: ttl}
}

// A draft is made in steps, applied at once, and taken back; all of it is remembered.
func TestDraftApplyUndo(t *testing.T) {
	d := newDesk(t)
	draft := d.edit(control.Edit{Name: "bado-kife-ruma", Put: cacheFor("bado-kife-ruma", "1m")})
	draft = d.edit(control.Edit{Put: cacheFor("sopi-luna-gito", "10s")})
	assert.Len(t, draft.Changes, 2)
	assert.Equal(t, []string{"rule sopi-luna-gito: no pattern sopi-luna-gito was seen yet; the rule applies when it is"}, draft.Checked.Warnings[1:])
	assert.Len(t, d.l.Engine().Rules().List(), 1, "nothing is in force yet")
	assert.Equal(t, mine, d.inFile())
	st, err := d.api.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, st.Drafted)

	d.l.Close() // the draft outlasts the larder
	d.begin()
	f, err := d.api.Forecast(ctx, nil, nil)
	require.NoError(t, err)
	assert.Zero(t, f.Draft.Hits)
	e, err := d.api.Apply(ctx, control.Apply{Why: "boards are read all day"})
	require.NoError(t, err)
	me, err := user.Current()
	require.NoError(t, err)
	assert.Equal(t, me.Username, e.Who)
	assert.NotNil(t, e.Forecast, "what was foretold of it is remembered with it")
	assert.Contains(t, d.inFile(), `ttl = "1m" # for a start`)
	assert.Len(t, d.l.Engine().Rules().List(), 2)
	draft, err = d.api.Draft(ctx)
	require.NoError(t, err)
	assert.False(t, draft.Open)

	u, err := d.api.Undo(ctx, control.Undo{})
	require.NoError(t, err)
	assert.Equal(t, "undo", u.Kind)
	assert.Equal(t, mine, d.inFile())
	_, err = d.api.Undo(ctx, control.Undo{})
	require.ErrorContains(t, err, "nothing to undo", "and not back and forth")
	assert.Equal(t, mine, d.inFile())
	again, err := d.api.Redo(ctx, control.Undo{})
	require.NoError(t, err)
	assert.Equal(t, "redo", again.Kind)
	assert.Equal(t, e.ID, again.Restores)
	assert.Len(t, d.l.Engine().Rules().List(), 2)
	_, err = d.api.Redo(ctx, control.Undo{})
	require.ErrorContains(t, err, "nothing to redo")
	_, err = d.api.Undo(ctx, control.Undo{})
	require.NoError(t, err)
	_, err = d.api.Undo(ctx, control.Undo{To: e.ID})
	require.NoError(t, err)
	assert.Len(t, d.l.Engine().Rules().List(), 2, "to any earlier state")
	_, err = d.api.Undo(ctx, control.Undo{To: 999})
	assert.ErrorContains(t, err, "no entry 999")
	d.l.Close()
	d.begin()
	list, err := d.api.History(ctx, 10)
	require.NoError(t, err)
	var kinds []string
	for _, e := range list {
		kinds = append(kinds, e.Kind)
	}
	assert.Equal(t, []string{"undo", "undo", "redo", "undo", "apply", "start"}, kinds)
}

// Of two who apply at once, the second is told what the first changed, and loses nothing.
func TestTwoWhoApplyAtOnce(t *testing.T) {
	d := newDesk(t)
	text, base := d.l.Book().Current()
	d.edit(control.Edit{Put: cacheFor("sopi-luna-gito", "10s")})
	_, err := d.l.Book().Apply(controlserver.Proposal{Kind: "apply", Who: "tomas", Text: []byte(strings.Replace(string(text), "5s", "7s", 1)), Base: base})
	require.NoError(t, err)
	_, err = d.api.Apply(ctx, control.Apply{Why: "mine"})
	require.ErrorContains(t, err, "the rules were changed in the meantime by tomas")
	assert.ErrorContains(t, err, `changed bado-kife-ruma: ttl "5s" → "7s"`)
	assert.Contains(t, d.inFile(), "7s")
	draft, err := d.api.Draft(ctx)
	require.NoError(t, err)
	assert.True(t, draft.Behind)
	assert.Len(t, draft.Changes, 1, "what the draft itself changes")
	draft, err = d.api.Renew(ctx)
	require.NoError(t, err)
	assert.False(t, draft.Behind)
	_, err = d.api.Apply(ctx, control.Apply{Why: "mine"})
	require.NoError(t, err)
	assert.Contains(t, d.inFile(), "7s")
	assert.Contains(t, d.inFile(), "sopi-luna-gito")
}

// Rules are in an order, which is part of what a draft says: it is kept when the draft is made anew.
func TestADraftMadeAnewKeepsItsOrder(t *testing.T) {
	d := newDesk(t)
	d.edit(control.Edit{Put: cacheFor("sopi-luna-gito", "10s")})
	d.edit(control.Edit{Put: &control.Rule{Name: "all", Text: "*", Action: "bypass"}})
	_, err := d.api.Apply(ctx, control.Apply{Why: "three of them"})
	require.NoError(t, err)
	d.edit(control.Edit{Name: "sopi-luna-gito", Move: -1})
	d.edit(control.Edit{Put: &control.Rule{Name: "mine", Tables: []string{"fares"}, Action: "bypass"}})
	d.edit(control.Edit{Name: "mine", Move: -2})
	text, base := d.l.Book().Current()
	_, err = d.l.Book().Apply(controlserver.Proposal{Kind: "apply", Who: "tomas", Base: base,
		Text: append([]byte("[[rule]]\nname = \"first\"\ntext = \"x\"\naction = \"bypass\"\n\n"), text...)})
	require.NoError(t, err)
	draft, err := d.api.Renew(ctx)
	require.NoError(t, err)
	var names []string
	for _, r := range draft.Rules {
		names = append(names, r.Name)
	}
	assert.Equal(t, []string{"sopi-luna-gito", "mine", "first", "bado-kife-ruma", "all"}, names)
}

// What would change nothing is not in the history, so that undo goes back to something else.
func TestApplyingTheSameAgain(t *testing.T) {
	d := newDesk(t)
	_, err := d.api.PutRule(ctx, "bado-kife-ruma", *cacheFor("bado-kife-ruma", "1h"))
	require.NoError(t, err)
	for range 2 {
		e, err := d.api.PutRule(ctx, "bado-kife-ruma", *cacheFor("bado-kife-ruma", "1h"))
		require.NoError(t, err)
		assert.True(t, e.Unchanged)
	}
	_, err = d.api.Undo(ctx, control.Undo{})
	require.NoError(t, err)
	assert.Equal(t, mine, d.inFile())
	_, _, before := d.l.Book().Since()
	time.Sleep(10 * time.Millisecond)
	require.NoError(t, d.l.Reload(d.cfg))
	_, _, after := d.l.Book().Since()
	assert.Greater(t, after, before, "the rules are no newer for being read again")
}

// What somebody edits in the file is seen and offered, not taken; unless the configuration says so.
func TestEditsOfTheFileAreOffered(t *testing.T) {
	d := newDesk(t)
	outside := func(text string) *control.Outside {
		require.NoError(t, os.WriteFile(d.file+".new", []byte(text), 0o600))
		require.NoError(t, os.Rename(d.file+".new", d.file)) // or half of it might be seen
		var found *control.Outside
		require.Eventually(t, func() bool {
			st, err := d.api.Status(ctx)
			require.NoError(t, err)
			found = st.Outside
			return (found != nil) == (text != mine)
		}, time.Minute, 5*time.Millisecond)
		return found
	}
	edited := strings.Replace(mine, "5s", "9s", 1)
	assert.Equal(t, []string{`changed bado-kife-ruma: ttl "5s" → "9s"`}, outside(edited).Lines)
	assert.Equal(t, 5*time.Second, d.l.Engine().Rules().List()[0].TTL)
	_, err := d.api.PutRule(ctx, "bado-kife-ruma", *cacheFor("bado-kife-ruma", "1h"))
	assert.ErrorContains(t, err, "was changed by another program", "what he wrote is not lost")
	assert.Equal(t, edited, d.inFile())
	outside(mine)
	require.Eventually(t, func() bool { return outside("[[rule]]\naction = 3\n").Problem != "" }, time.Minute, time.Millisecond)
	assert.Contains(t, outside("[[rule]]\naction = 3\n").Problem, "is wrong:\nline 2, column 1")
	outside(mine)
	outside(edited)
	e, err := d.api.Apply(ctx, control.Apply{File: true, Why: "Tomas wrote it"})
	require.NoError(t, err)
	assert.Equal(t, "file", e.Kind)
	assert.Equal(t, 9*time.Second, d.l.Engine().Rules().List()[0].TTL)

	d.l.Close()
	d.cfg.FollowRules = true
	d.begin()
	require.NoError(t, os.WriteFile(d.file, []byte(mine), 0o600))
	require.Eventually(t, func() bool { return d.l.Engine().Rules().List()[0].TTL == 5*time.Second }, time.Minute, 5*time.Millisecond)
}

// What the state cannot be written to does not keep anybody from working.
func TestWithoutAPlaceForTheState(t *testing.T) {
	d := newDesk(t)
	d.l.Close()
	d.cfg.State = filepath.Join(d.file, "below")
	d.begin()
	_, err := d.api.PutRule(ctx, "bado-kife-ruma", *cacheFor("bado-kife-ruma", "1h"))
	require.NoError(t, err)
	_, err = d.api.Undo(ctx, control.Undo{})
	require.NoError(t, err)
	assert.Equal(t, mine, d.inFile())
	st, err := d.api.Status(ctx)
	require.NoError(t, err)
	assert.Contains(t, st.Problems[0], "the directory for state cannot be made")
}

func TestTheAPIOverTCP(t *testing.T) {
	d := newDesk(t)
	dir := t.TempDir()
	ca, err := privatepg.NewAuthority("harbour")
	require.NoError(t, err)
	cert, key, err := ca.Issue("localhost")
	require.NoError(t, err)
	token := filepath.Join(dir, "token")
	for name, text := range map[string][]byte{"cert": cert, "key": key, "token": []byte("0123456789abcdef0123456789\n")} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	d.l.Close()
	d.cfg.ControlTCP = config.ControlTCP{Listen: "127.0.0.1:0", Certificate: filepath.Join(dir, "cert"), Key: filepath.Join(dir, "key"), TokenFile: token}
	d.begin()
	roots := ca.Pool()
	_, port, _ := net.SplitHostPort(d.l.controlAddress)
	url := "https://localhost:" + port
	_, err = client.NewTLSClient(url, "0123456789abcdef0123456780", roots).Status(ctx)
	assert.ErrorContains(t, err, "needs the token")
	_, err = client.NewTLSClient(url, "0123456789abcdef0123456789", nil).Status(ctx)
	assert.ErrorContains(t, err, "certificate")
	st, err := client.NewTLSClient(url, "0123456789abcdef0123456789", roots).Status(ctx)
	require.NoError(t, err)
	assert.Contains(t, st.You, " at 127.0.0.1", "what a client over TCP says of himself is shown so")
	plain, err := http.Get("http://" + d.l.controlAddress + "/v1/status")
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, plain.StatusCode, "never in the clear")
	_, err = tls.Dial("tcp", d.l.controlAddress, &tls.Config{RootCAs: roots, ServerName: "localhost", MaxVersion: tls.VersionTLS11})
	assert.Error(t, err)
}
