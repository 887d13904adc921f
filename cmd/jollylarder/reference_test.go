package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const commandsHead = `# Commands

Every command prints its flags with ` + "`--help`" + `. Commands that talk to a larder find it by ` + "`--control`" + `, or by the variable
` + "`JOLLYLARDER_CONTROL`" + `. ` + "`jollylarder completion bash`" + ` (or zsh, fish, powershell) prints a completion script for commands, flags, and
the names of rules, patterns and tables. ` + "`jollylarder man DIRECTORY`" + ` writes man pages.

All commands use the same exit codes:

| code | meaning |
|---|---|
| 0 | success |
| 1 | failure |
| 2 | wrong usage |
| 3 | errors in a rules file |
| 4 | nothing was done because of a conflict, such as rules that somebody else changed |
| 5 | ` + "`rules diff`" + ` found differences |

This page is generated from the program.

`

// docs/commands.md holds every command with its flags as they are now. WRITE_DOCS=1 has it written.
func TestTheDocumentHoldsTheCommands(t *testing.T) {
	const file = "../../docs/commands.md"
	want := commandsHead + reference(root())
	if os.Getenv("WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile(file, []byte(want), 0o644))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, want, string(text), "WRITE_DOCS=1 go test -run Document ./cmd/jollylarder writes it")
}

// Each command has a man page, and says in one line what it does.
func TestEachCommandHasAManPage(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "man")
	c := root()
	c.SetArgs([]string{"man", dir})
	require.NoError(t, c.Execute())
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		if !c.IsAvailableCommand() && c.HasParent() {
			return
		}
		assert.Regexp(t, `^[A-Z][^.]*[^.]$`, c.Short, c.CommandPath())
		name := filepath.Join(dir, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1")
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Contains(t, string(text), c.Short)
		for _, x := range c.Commands() {
			each(x)
		}
	}
	each(c)
}
