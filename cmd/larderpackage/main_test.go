package main

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each module that is linked has its licence in the notices, also one that is nested, and code is not taken for one.
func TestNotices(t *testing.T) {
	t.Chdir("../..")
	var out bytes.Buffer
	require.NoError(t, notices(&out, "./cmd/jollylarder"))
	list, err := linked("./cmd/jollylarder")
	require.NoError(t, err)
	require.Greater(t, len(list), 30)
	for _, m := range list {
		assert.Contains(t, out.String(), "\n"+m.path+" "+m.version+"\n")
	}
	assert.NotContains(t, out.String(), "\njollylarder ")
	assert.Contains(t, out.String(), "LICENSE.POSTGRESQL")
	assert.NotContains(t, out.String(), "copyfuncs.c")
	assert.Contains(t, out.String(), "The Go standard library")
	assert.Contains(t, out.String(), "Lesser General Public License", "the C library")
}

// A module without a licence is an error, and files beside those of what is linked are not taken.
func TestFilesWithLicences(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a/b/COPYING", "a/NOTICE.txt", "c/LICENSE", "LICENSE-MIT", "a/licenses.go", "a/LICENSES/x"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	m := module{dir: dir, packages: []string{filepath.Join(dir, "a", "b")}}
	files, err := m.files()
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		name, _ := filepath.Rel(dir, f)
		names = append(names, name)
	}
	assert.Equal(t, []string{"LICENSE-MIT", "a/NOTICE.txt", "a/b/COPYING"}, names)
}

// The image is built by the Go of the module, from what there is, runs as nobody in particular, and needs no shell.
func TestTheContainerfile(t *testing.T) {
	text, err := os.ReadFile("../../packaging/Containerfile")
	require.NoError(t, err)
	joined := strings.ReplaceAll(string(text), "\\\n", " ")
	var stages int
	last := map[string]string{}
	for _, line := range strings.Split(joined, "\n") {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		word, rest, _ := strings.Cut(line, " ")
		assert.Contains(t, []string{"FROM", "WORKDIR", "COPY", "RUN", "USER", "VOLUME", "EXPOSE", "STOPSIGNAL", "ENTRYPOINT", "CMD"}, word)
		if word == "FROM" {
			stages++
			clear(last)
		}
		last[word] = rest
	}
	assert.Equal(t, 2, stages)
	assert.Equal(t, "scratch", last["FROM"])
	assert.NotContains(t, last, "RUN", "there is no shell in the image")
	assert.Regexp(t, `^[1-9]\d*:[1-9]\d*$`, last["USER"])
	for _, key := range []string{"ENTRYPOINT", "CMD"} {
		assert.Regexp(t, `^\["`, last[key], "a signal reaches the program and not a shell")
	}
	mod, err := os.ReadFile("../../go.mod")
	require.NoError(t, err)
	version := regexp.MustCompile(`(?m)^go (\d+\.\d+)`).FindStringSubmatch(string(mod))[1]
	assert.Contains(t, joined, "FROM golang:"+version+"-", "the Go that the module asks for")
	build, err := os.ReadFile("../../scripts/package")
	require.NoError(t, err)
	assert.Contains(t, string(build), regexp.MustCompile(`-extldflags '[^']*'`).FindString(joined), "it is linked as the packages are")
}
