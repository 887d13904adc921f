package config

import (
	"os"
	"reflect"
	"regexp"
	"strings"
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
drain_time = "5s"
[log]
format = "json"
[[origin]]
name = "skerrow"
address = "127.0.0.1:5432"
listen = ["127.0.0.1:7432", "/run/.s.PGSQL.7432"]
idle_time = "10m"
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
minimum = "1.3"
`))
	require.NoError(t, err)
	assert.Equal(t, "/etc/jollylarder/rules.toml", c.Rules, "paths are taken from where the file lies")
	assert.Equal(t, int64(2<<30), c.Memory)
	assert.Equal(t, Log{"info", "json"}, c.Log)
	require.Len(t, c.Origins, 2)
	assert.Equal(t, "/etc/jollylarder/ca.pem", c.Origins[0].TLS.CA)
	assert.Equal(t, 10*time.Minute, c.Origins[0].IdleTime)
	assert.Equal(t, 30*time.Second, c.Origins[1].StartTime, "what is not said has its default")
	assert.Equal(t, "required", c.Origins[1].Clients.TLS)
}

// Everything that is wrong is said at once, with its place.
func TestWhatIsWrongAndWhere(t *testing.T) {
	for text, want := range map[string][]string{
		"memory = \"1GiB\"\nmemroy = \"1GiB\"\n[log]\ncolour = true\n": {"f.toml, line 2, column 1: there is no key memroy", "line 4, column 1: there is no key log.colour"},
		"memory = \"1MiB\"\nlargest_result = \"2MiB\"\n":               {"largest_result 2MiB is more than the memory for all results, which is 1MiB"},
		"memory = 12\n":            {"f.toml, line 1, column 10:"},
		"memory = \"12\"\n":        {`line 1, column 1: memory = "12": expected a number with a unit`},
		"memory = \"0MiB\"\n":      {"expected at least 1048576 bytes"},
		"x = [\n":                  {"f.toml, line"},
		"drain_time = \"soon\"\n":  {`line 1, column 1: drain_time = "soon": expected a time`},
		"[log]\n level = \"loud\"": {"line 2, column 2: level = \"loud\": expected one of debug, info, warn, error"},
		"[[origin]]\naddress = \"there\"\nlisten = []\n": {`line 2, column 1: address: "there" is no address`, "line 3, column 1: the origin has nothing to listen on"},
		"[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\nname = \"a b\"\n": {
			"line 1, column 3: an origin beside others needs a name", `line 7, column 1: name = "a b"`, `line 6, column 1: listen: "h:2" is listened on already`},
		"[[origin]]\naddress = \"/run/x\"\nlisten = [\"h:2\"]\n[origin.tls]\nmode = \"require\"\n":                            {"line 5, column 1: mode = \"require\": over a Unix socket"},
		"[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[origin.clients]\ntls = \"offered\"\n":                            {`line 4, column 2: tls = "offered" needs a certificate`},
		"[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[origin.tls]\nmode = \"require\"\ncertificate=\"c\"\nkey=\"k\"\n": {"line 6, column 1: the larder shows the database a certificate"},
	} {
		_, err := Parse("f.toml", []byte(text))
		for _, w := range want {
			assert.ErrorContains(t, err, w, text)
		}
	}
}

// Every key is described, and the example that is shipped is right.
func TestTheDocumentationHasEveryKey(t *testing.T) {
	text, err := os.ReadFile("../../docs/configuration.md")
	require.NoError(t, err)
	var keys func(reflect.Type)
	keys = func(of reflect.Type) {
		for i := range of.NumField() {
			f := of.Field(i)
			assert.True(t, strings.Contains(string(text), "`"+f.Tag.Get("toml")+"`"), f.Tag.Get("toml"))
			inner := f.Type
			for inner.Kind() == reflect.Slice || inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			if inner.Kind() == reflect.Struct {
				keys(inner)
			}
		}
	}
	keys(reflect.TypeFor[fileTOML]())

	example, err := os.ReadFile("../../dist/larder.toml")
	require.NoError(t, err)
	_, err = Parse("../../dist/larder.toml", example)
	require.NoError(t, err)
	all := regexp.MustCompile(`(?m)^#(\w)`).ReplaceAllString(string(example), "$1") // what is commented out is right as well
	_, err = Parse("../../dist/larder.toml", []byte(all))
	require.NoError(t, err)
}

func FuzzParse(f *testing.F) {
	f.Add("[[origin]]\naddress = \"h:1\"\nlisten = [\"h:2\"]\n[origin.tls]\nmode = \"require\"\n")
	f.Fuzz(func(t *testing.T, text string) {
		_, _ = Parse("f.toml", []byte(text))
	})
}
