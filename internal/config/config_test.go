package config

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAWholeFile(t *testing.T) {
	c, err := Parse("/etc/jollylarder/larder.toml", []byte(`
rules = "rules.toml"
control = "/run/larder.sock"
memory = "2GiB"
drain_timeout = "5s"
[log]
format = "json"
[[origin]]
name = "skerrow"
address = "127.0.0.1:5432"
listen = ["127.0.0.1:7432", "/run/.s.PGSQL.7432"]
idle_timeout = "10m"
begin_delay = "0s"
[origin.tls]
mode = "verify-full"
ca = "ca.pem"
[[origin]]
name = "harbour"
address = "/run/postgresql/.s.PGSQL.5432"
listen = ["127.0.0.1:7433"]
[origin.clients]
tls = "required"
certificate = "c.pem"
key = "k.pem"
min_tls_version = "1.3"
`))
	require.NoError(t, err)
	assert.Equal(t, "/etc/jollylarder/rules.toml", c.Rules, "paths are taken from where the file lies")
	assert.Equal(t, int64(2<<30), c.Memory)
	assert.Equal(t, Log{"info", "json"}, c.Log)
	require.Len(t, c.Origins, 2)
	assert.Equal(t, "/etc/jollylarder/ca.pem", c.Origins[0].TLS.CA)
	assert.Equal(t, 10*time.Minute, c.Origins[0].IdleTimeout)
	assert.Zero(t, c.Origins[0].BeginDelay)
	assert.Equal(t, 50*time.Millisecond, c.Origins[1].BeginDelay)
	assert.Equal(t, 30*time.Second, c.Origins[1].StartupTimeout, "what is not said has its default")
	assert.Equal(t, "required", c.Origins[1].Clients.TLS)
}

// An origin leads back to the larder by any of its addresses, and by no other's.
func TestAddressesThatLeadBack(t *testing.T) {
	for _, c := range []struct {
		origin, listen string
		back           bool
	}{
		{"127.0.0.1:7432", "127.0.0.1:7432", true}, {"localhost:7432", "127.0.0.1:7432", true}, {"[::1]:7432", "localhost:7432", true}, {"127.0.0.2:7432", "0.0.0.0:7432", true},
		{":7432", "127.0.0.1:7432", true}, {"0.0.0.0:7432", ":7432", true}, {"DB.example:7432", "db.example:7432", true}, {"/run/a.sock", "/run/a.sock", true},
		{"127.0.0.1:5432", "127.0.0.1:7432", false}, {"10.99.99.1:7432", "127.0.0.1:7432", false}, {"db.example:7432", "0.0.0.0:7432", false}, {"192.0.2.77:7432", "0.0.0.0:7432", false},
		{"127.0.0.1:7432", "192.0.2.77:7432", false}, {"/run/a.sock", "127.0.0.1:7432", false}, {"127.0.0.1:0", "127.0.0.1:0", true},
	} {
		own := ownAddress(c.origin, []string{"192.0.2.1:1", c.listen})
		assert.Equal(t, c.back, own != "", "%s behind %s", c.origin, c.listen)
		err := LeadsBack(Config{Origins: []Origin{{Address: c.origin, Listen: []string{c.listen}}}})
		assert.Equal(t, c.back, err != nil)
	}
}

// Files that are named are there, and what is secret in them is nobody else's.
func TestFilesThatAreNamed(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "larder.toml")
	text := "[[origin]]\naddress = \"127.0.0.1:1\"\nlisten = [\"127.0.0.1:2\"]\n[origin.clients]\ntls = \"offered\"\ncertificate = \"c.pem\"\nkey = \"k.pem\"\n[origin.catalog]\nuser = \"r\"\npassword_file = \"p\"\n"
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	_, err := Read(path)
	for _, want := range []string{`line 6, column 1: certificate = "c.pem" cannot be read: no such file`, `line 7, column 1: key = "k.pem"`, `line 10, column 1: password_file = "p"`} {
		assert.ErrorContains(t, err, want)
	}
	for name, mode := range map[string]os.FileMode{"c.pem": 0o644, "k.pem": 0o644, "p": 0o600} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
		require.NoError(t, os.Chmod(filepath.Join(dir, name), mode))
	}
	c, err := Read(path)
	require.NoError(t, err)
	require.Len(t, c.Warnings, 1, "a certificate is for everybody, and the password is kept")
	assert.Contains(t, c.Warnings[0], "line 7: key: every user of this system may read")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte("#\n"), largestFile), 0o600))
	_, err = Read(path)
	assert.ErrorContains(t, err, "larger than 1 MiB")
}

// Everything that is wrong is said at once, with its place.
func TestWhatIsWrongAndWhere(t *testing.T) {
	for text, want := range map[string][]string{
		"memory = \"1GiB\"\nmemroy = \"1GiB\"\n[log]\ncolour = true\n": {"f.toml, line 2, column 1: there is no key memroy", "line 4, column 1: there is no key log.colour"},
		"memory = \"1MiB\"\nmax_result_size = \"2MiB\"\n":              {"max_result_size 2MiB is more than the memory for all results, which is 1MiB"},
		"memory = 12\n": {"f.toml, line 1, column 10:"},
		"memory = 12\nshow_values = \"yes\"\ndrain_timeout = \"soon\"\nmemroy = 1\n[[origin]]\naddress = 5\nlisten = \"h:1\"\n": {"line 1,", "line 2,", `line 3, column 1: drain_timeout = "soon"`,
			"line 4, column 1: there is no key memroy", "line 6,", "line 7,"},
		"[[origin]]\naddress = \"localhost:7432\"\nlisten = [\"127.0.0.1:7432\"]\n": {"line 2, column 1: address = \"localhost:7432\": that is where this larder itself listens"},
		"overhead = \"1MiB\"\n":                          {"line 1, column 1: overhead"},
		"memory = \"12\"\n":                              {`line 1, column 1: memory = "12": expected a number with a unit`},
		"memory = \"0MiB\"\n":                            {"expected at least 1048576 bytes"},
		"x = [\n":                                        {"f.toml, line"},
		"drain_timeout = \"soon\"\n":                     {`line 1, column 1: drain_timeout = "soon": expected a time`},
		"[log]\n level = \"loud\"":                       {"line 2, column 2: level = \"loud\": expected one of debug, info, warn, error"},
		"[[origin]]\naddress = \"there\"\nlisten = []\n": {`line 2, column 1: address: "there" is no address`, "line 3, column 1: the origin has nothing to listen on"},
		"[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\nname = \"a b\"\n": {
			"line 1, column 3: an origin beside others needs a name", `line 7, column 1: name = "a b"`, `line 6, column 1: listen: "h:2" is listened on already`},
		"[[origin]]\naddress = \"/run/x\"\nlisten = [\"h:2\"]\n[origin.tls]\nmode = \"require\"\n":                            {"line 5, column 1: mode = \"require\": over a Unix socket"},
		"[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[origin.clients]\ntls = \"offered\"\n":                            {`line 4, column 2: tls = "offered" needs a certificate`},
		"[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[origin.tls]\nmode = \"require\"\ncertificate=\"c\"\nkey=\"k\"\n": {"line 6, column 1: the larder presents a certificate to the database"},
	} {
		_, err := Parse("f.toml", []byte(text))
		for _, w := range want {
			assert.ErrorContains(t, err, w, text)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[origin.tls]\nmode = \"require\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		_, _ = Parse("f.toml", []byte(text))
	})
}

// What an origin is to have must be there for its protocol.
func TestWhatAProtocolDoesNotHave(t *testing.T) {
	read := func(more string) (Config, error) {
		return Parse("larder.toml", []byte("[[origin]]\naddress = \"127.0.0.1:3306\"\nlisten = [\"127.0.0.1:7432\"]\n"+more))
	}
	c, err := read("protocol = \"mysql\"\nproxy_header = true\n")
	require.NoError(t, err)
	assert.True(t, c.Origins[0].ProxyHeader)
	for more, says := range map[string]string{
		"proxy_header = true": "larder.toml, line 4, column 1: proxy_header = true: servers of PostgreSQL take no such header; remove it",
		"protocol = \"mysql\"\n[origin.feed]\nuser = \"larder\"\ndatabases = [\"skerrow\"]": "databases has no use with protocol = \"mysql\", where a feed follows the whole server: remove it",
		"protocol = \"mysql\"\n[origin.feed]\nuser = \"larder\"\nmode = \"poll\"":           "mode = \"poll\": servers of MariaDB or MySQL have no counters of changes; expected \"stream\"",
		"[origin.feed]\nuser = \"larder\"":                                                  "a change feed needs to know what to follow: expected databases = [\"a database\"]",
		"protocol = \"mysqls\"":                                                             "expected",
	} {
		_, err := read(more)
		assert.ErrorContains(t, err, says, more)
	}
}
