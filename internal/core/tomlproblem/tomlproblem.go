// Package tomlproblem says in words of the file what the TOML decoder says in words of the program.
package tomlproblem

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// mismatch is how the decoder says that a value is of another kind than it should be.
var mismatch = regexp.MustCompile(`^cannot decode TOML (\w+) into .*?(?:of type |a Go )(\S+)$`)

var kinds = map[string]string{
	"string": "a text in quotes", "bool": "true or false", "int": "a whole number", "int64": "a whole number", "float64": "a number",
	"[]string": "a list of texts in quotes", "map[string]string": "a table of texts",
}

// Of says what is wrong.
func Of(err *toml.DecodeError) string {
	text := strings.TrimPrefix(err.Error(), "toml: ")
	m := mismatch.FindStringSubmatch(text)
	if m == nil {
		return text
	}
	wanted, ok := kinds[strings.TrimPrefix(m[2], "*")]
	if !ok {
		wanted = "something else"
	}
	key := err.Key()
	if len(key) == 0 {
		return fmt.Sprintf("expected %s, not a TOML %s", wanted, m[1])
	}
	return fmt.Sprintf("%s: expected %s, not a TOML %s", key[len(key)-1], wanted, m[1])
}
