package replay

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// Instructions are the processor instructions that one hit takes, by the package whose code they are; those of the test
// client are left out where the program holds the names of its functions. They are counted by an emulated processor, so
// that they depend neither on the machine's speed nor on what else it does; on the compiler and the kind of processor
// they do.
type Instructions struct {
	Total     float64
	ByPackage map[string]float64
}

// ErrNoValgrind says that the program that counts instructions is not installed.
var ErrNoValgrind = errors.New("valgrind is not installed")

// fewer and more are how many hits are counted: what the difference takes is theirs alone.
const fewer, more = 2000, 22_000

// Count counts the instructions of an exchange. Program and its arguments are to have the exchange answered so many
// times, given as one more argument, and do the same otherwise whatever that is.
func Count(program string, args ...string) (Instructions, error) {
	valgrind, err := exec.LookPath("valgrind")
	if err != nil {
		return Instructions{}, ErrNoValgrind
	}
	dir, err := os.MkdirTemp("", "jollylarder-replay-")
	if err != nil {
		return Instructions{}, err
	}
	defer os.RemoveAll(dir)
	var counts [2]map[string]float64
	for i, n := range []int{fewer, more} {
		out := filepath.Join(dir, strconv.Itoa(n))
		c := exec.Command(valgrind, append([]string{"--tool=callgrind", "--callgrind-out-file=" + out, program}, append(args, strconv.Itoa(n))...)...)
		// One thread at a time, no collections, and none of the signals by which the runtime interrupts loops.
		c.Env = append(os.Environ(), "GOMAXPROCS=1", "GOGC=off", "GODEBUG=asyncpreemptoff=1")
		if said, err := c.CombinedOutput(); err != nil {
			return Instructions{}, fmt.Errorf("counting the instructions of %d hits: %w: %s", n, err, said)
		}
		list, err := exec.Command("callgrind_annotate", "--auto=no", "--threshold=100", out).Output()
		if err != nil {
			return Instructions{}, fmt.Errorf("cannot read the counts: %w", err)
		}
		counts[i] = byPackage(list)
	}
	sum := Instructions{ByPackage: map[string]float64{}}
	for p, n := range counts[1] {
		if each := (n - counts[0][p]) / (more - fewer); each >= 1 && p != "jollylarder/internal/replay" {
			sum.ByPackage[p] = each
			sum.Total += each
		}
	}
	return sum, nil
}

// line is one function's: its instructions, and the file and name behind them.
var line = regexp.MustCompile(`^\s*([\d,]+) \([ \d.]+%\)\s+(\S.*)$`)

// byPackage adds up what the functions of each package took. Source: the manual of Callgrind, "callgrind_annotate".
func byPackage(list []byte) map[string]float64 {
	sum := map[string]float64{}
	for scan := bufio.NewScanner(bytes.NewReader(list)); scan.Scan(); {
		m := line.FindStringSubmatch(scan.Text())
		if m == nil || strings.Contains(m[2], "PROGRAM TOTALS") {
			continue
		}
		n, err := strconv.ParseFloat(strings.ReplaceAll(m[1], ",", ""), 64)
		if err != nil {
			continue
		}
		sum[packageOf(m[2])] += n
	}
	return sum
}

// packageOf gives the package of a function, written with its file before it and its program behind it.
func packageOf(function string) string {
	function, _, _ = strings.Cut(function, " [")
	if _, after, ok := strings.Cut(function, ":"); ok {
		function = after
	}
	function, _, _ = strings.Cut(function, "[") // type arguments hold paths of their own
	slash := strings.LastIndexByte(function, '/')
	if dot := strings.IndexByte(function[slash+1:], '.'); dot >= 0 {
		return function[:slash+1+dot]
	}
	return "the processor's own" // assembler of the runtime and what is in C
}
