package config

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keysOf gives the keys that a struct decodes, as table.key.
func keysOf(t reflect.Type, table string) (keys []string) {
	for i := range t.NumField() {
		key := strings.TrimPrefix(table+"."+t.Field(i).Tag.Get("toml"), ".")
		x := t.Field(i).Type
		if x.Kind() == reflect.Slice {
			x = x.Elem()
		}
		if x.Kind() == reflect.Struct {
			keys = append(keys, keysOf(x, key)...)
		} else {
			keys = append(keys, key)
		}
	}
	return keys
}

func documented(f func(s Section, x Setting)) {
	for _, s := range Sections {
		for _, x := range s.Settings {
			f(s, x)
		}
	}
}

// The reference has each key that is decoded, and no other.
func TestTheReferenceHasEveryKey(t *testing.T) {
	var keys []string
	documented(func(s Section, x Setting) { keys = append(keys, strings.TrimPrefix(s.Table+"."+x.Key, ".")) })
	assert.ElementsMatch(t, keysOf(reflect.TypeFor[fileTOML](), ""), keys)
}

// A file in which every key has the default that the reference names configures what no file does.
func TestTheReferenceNamesTheDefaults(t *testing.T) {
	var text strings.Builder
	table := ""
	documented(func(s Section, x Setting) {
		if s.Table != table {
			table = s.Table
			if table == "origin" {
				fmt.Fprintf(&text, "[[origin]]\naddress = \"127.0.0.1:5432\"\nlisten = [\"127.0.0.1:7432\"]\n")
			} else {
				fmt.Fprintf(&text, "[%s]\n", table)
			}
			if table == "origin.feed" { // which is none without these
				fmt.Fprintf(&text, "user = \"larder_feed\"\ndatabases = [\"skerrow\"]\n")
			}
		}
		if x.Default != "" {
			fmt.Fprintf(&text, "%s = %s\n", x.Key, x.Default)
		}
	})
	got, err := parse("defaults.toml", []byte(text.String()), true)
	require.NoError(t, err, text.String())
	want := Before("127.0.0.1:5432", "127.0.0.1:7432")
	want.Origins[0].Feed.User, want.Origins[0].Feed.Databases = "larder_feed", []string{"skerrow"}
	assert.Equal(t, want, got)
}

// docs/configuration.md holds the reference as it is now. WRITE_DOCS=1 has it written.
func TestTheDocumentHoldsTheReference(t *testing.T) {
	const file, begins, ends = "../../docs/configuration.md", "<!-- reference -->\n\n", "<!-- up to here -->"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, ok := strings.Cut(string(text), begins)
	require.True(t, ok)
	_, after, ok := strings.Cut(rest, ends)
	require.True(t, ok)
	want := before + begins + Reference() + ends + after
	if os.Getenv("WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(want), 0o600))
	}
	assert.Equal(t, want, string(text), "WRITE_DOCS=1 go test ./internal/config writes it")
}

// The example that comes with the program names every key, and is right.
func TestTheExampleNamesEveryKey(t *testing.T) {
	text, err := os.ReadFile("../../dist/larder.toml")
	require.NoError(t, err)
	_, err = parse(filepath.Join(t.TempDir(), "larder.toml"), text, false)
	require.NoError(t, err)
	documented(func(s Section, x Setting) {
		assert.Regexp(t, `(?m)^#?`+x.Key+` = `, string(text), "%s.%s", s.Table, x.Key)
	})
}
