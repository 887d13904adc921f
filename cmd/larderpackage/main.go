// Command larderpackage writes what a package of the larder holds beside the program: the licences of all that is linked
// into it.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

func main() {
	if len(os.Args) != 3 || os.Args[1] != "notices" {
		fmt.Fprintln(os.Stderr, "usage: larderpackage notices FILE")
		os.Exit(2)
	}
	var out bytes.Buffer
	err := notices(&out, "./cmd/jollylarder")
	if err == nil {
		err = os.WriteFile(os.Args[2], out.Bytes(), 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "larderpackage:", err)
		os.Exit(1)
	}
}

// module is a module with the directories of its packages that are linked.
type module struct {
	path, version, dir string
	packages           []string
}

// linked gives the modules of which something is linked into a program, but for its own, in order of path.
func linked(program string) ([]module, error) {
	list := exec.Command("go", "list", "-deps", "-json=Dir,Module,Standard", program)
	list.Stderr = os.Stderr
	text, err := list.Output()
	if err != nil {
		return nil, fmt.Errorf("listing what is linked: %w", err)
	}
	by := map[string]*module{}
	for dec := json.NewDecoder(bytes.NewReader(text)); ; {
		var p struct {
			Dir    string
			Module *struct {
				Path, Version, Dir string
				Main               bool
			}
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, err
		}
		if p.Module == nil || p.Module.Main {
			continue
		}
		m := by[p.Module.Path]
		if m == nil {
			m = &module{path: p.Module.Path, version: p.Module.Version, dir: p.Module.Dir}
			by[p.Module.Path] = m
		}
		m.packages = append(m.packages, p.Dir)
	}
	var out []module
	for _, m := range by {
		out = append(out, *m)
	}
	slices.SortFunc(out, func(a, b module) int { return strings.Compare(a.path, b.path) })
	return out, nil
}

// licence is what files with licences and notices are called.
var licence = regexp.MustCompile(`(?i)^(licen[cs]e|copying|copyright|notice|patents|unlicense)([._-].*)?$`)

// code is what such files are not.
var code = regexp.MustCompile(`\.(go|c|h|s|y)$`)

// files gives a module's files with licences: those of its root and of every directory between that and what is linked.
func (m *module) files() (out []string, err error) {
	seen := map[string]bool{}
	for _, dir := range append([]string{m.dir}, m.packages...) {
		for ; len(dir) >= len(m.dir) && !seen[dir]; dir = filepath.Dir(dir) {
			seen[dir] = true
			entries, err := os.ReadDir(dir)
			if err != nil {
				return nil, err
			}
			for _, e := range entries {
				if !e.IsDir() && licence.MatchString(e.Name()) && !code.MatchString(e.Name()) {
					out = append(out, filepath.Join(dir, e.Name()))
				}
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// notices writes the licences of all that is linked into a program. It is an error if one has none.
func notices(w io.Writer, program string) error {
	list, err := linked(program)
	if err != nil {
		return err
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "Jolly Larder contains the following software, under the licences that follow each name.\n")
	goroot := strings.TrimSpace(string(root))
	list = append([]module{{path: "The Go standard library", dir: goroot}}, list...)
	for _, m := range list {
		files, err := m.files()
		if err != nil {
			return err
		}
		if len(files) == 0 {
			return fmt.Errorf("%s has no file with a licence in %s: find out its licence before it is distributed", m.path, m.dir)
		}
		fmt.Fprintf(w, "\n%s\n\n%s\n", strings.Repeat("=", 100), strings.TrimSpace(m.path+" "+m.version))
		for _, f := range files {
			text, err := os.ReadFile(f)
			if err != nil {
				return err
			}
			name, err := filepath.Rel(m.dir, f)
			if err != nil {
				return err
			}
			fmt.Fprintf(w, "\n%s\n\n%s\n", name, strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n")))
		}
	}
	libc(w)
	return nil
}

// libc writes the licence of the C library, which is linked statically, as the system has it that builds.
func libc(w io.Writer) {
	fmt.Fprintf(w, "\n%s\n\nThe C library\n\nIt is linked statically. The source of Jolly Larder, with which it can be linked with another version of the library,\nis where the program comes from.\n", strings.Repeat("=", 100))
	for _, path := range []string{"/usr/share/doc/libc6-dev/copyright", "/usr/share/doc/libc6/copyright"} {
		if text, err := os.ReadFile(path); err == nil {
			fmt.Fprintf(w, "\ncopyright\n\n%s\n", strings.TrimSpace(string(text)))
			return
		}
	}
	fmt.Fprintf(w, "\nThe GNU C Library is under the GNU Lesser General Public License, version 2.1 or later.\n")
}
