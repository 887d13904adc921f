package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	syntax "jollylarder/internal/core/statement/mysql"
)

func TestVersions(t *testing.T) {
	for said, want := range map[string]syntax.Server{
		"5.5.5-10.11.19-MariaDB-0+deb12u1": {MariaDB: true, Version: 101119}, "11.4.2-MariaDB": {MariaDB: true, Version: 110402},
		"8.0.36": {Version: 80036}, "8.4.0-commercial": {Version: 80400}, "9": {Version: 9}, "": {},
	} {
		assert.Equal(t, want, version(said), said)
	}
}

// What a client says of itself is read as far as it is well-formed.
func TestAttributes(t *testing.T) {
	counted := func(s string) string { return string(rune(len(s))) + s }
	body := counted("program_name") + counted("booking-web") + counted("_os") + counted("")
	assert.Equal(t, map[string]string{"program_name": "booking-web", "_os": ""}, attributes([]byte(counted(body)+"behind")))
	assert.Equal(t, map[string]string{"program_name": "booking-web"}, attributes([]byte(counted(strings.TrimSuffix(body, "\x00")))))
	assert.Empty(t, attributes(nil))
	assert.Empty(t, attributes([]byte{0xfc, 1}))
}
