package tui_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// terminal is the real program in a real terminal.
type terminal struct {
	t      *testing.T
	socket string
}

// open builds the program and runs it in tmux.
func open(t *testing.T, width, height int, args string) *terminal {
	if _, err := exec.LookPath("tmux"); err != nil {
		require.NotEqual(t, "true", os.Getenv("CI"), "tmux is not installed; scripts/install-test-tools gets it")
		t.Skip("tmux is not installed")
	}
	dir := t.TempDir()
	program := filepath.Join(dir, "jollylarder")
	out, err := exec.Command("go", "build", "-o", program, "jollylarder/cmd/jollylarder").CombinedOutput()
	require.NoError(t, err, string(out))
	x := &terminal{t, filepath.Join(dir, "tmux.sock")}
	x.tmux("-f", "/dev/null", "new-session", "-d", "-x", strconv.Itoa(width), "-y", strconv.Itoa(height), program+" "+args+"; echo ended; sleep 60")
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", x.socket, "kill-server").Run() })
	return x
}

func (x *terminal) tmux(args ...string) string {
	out, err := exec.Command("tmux", append([]string{"-S", x.socket}, args...)...).CombinedOutput()
	require.NoError(x.t, err, string(out))
	return string(out)
}

func (x *terminal) press(keys ...string) {
	for _, k := range keys {
		x.tmux("send-keys", k)
		time.Sleep(50 * time.Millisecond)
	}
}

// sees waits until the screen matches, and gives what the expression's groups hold.
func (x *terminal) sees(expression string) []string {
	x.t.Helper()
	re := regexp.MustCompile(expression)
	var screen string
	for range 300 {
		screen = x.tmux("capture-pane", "-p")
		if m := re.FindStringSubmatch(screen); m != nil {
			return m
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(x.t, "the screen never showed "+expression, screen)
	return nil
}

func (x *terminal) number(expression string) float64 {
	x.t.Helper()
	n, err := strconv.ParseFloat(strings.TrimSpace(x.sees(expression)[1]), 64)
	require.NoError(x.t, err)
	return n
}

// The way of a DBA on her first day: watch, find, keep a pattern, see its answers come from memory and the spared time
// rise, see a write drop them, take the rule back.
func TestFirstDay(t *testing.T) {
	x := open(t, 140, 42, "demo")
	x.sees(`watching · nothing is kept`)
	x.sees(`booking-web +│`)
	x.sees(`pass +quay-boards .* no rule keeps this pattern`)
	x.sees(`count\(\*\) from open_sailings .* reads public.open`)
	x.press("2")
	x.sees(`patterns by waiting that could be spared`)
	x.press("/")
	x.press("s.seats_left", "Enter")
	x.sees(`1 of \d+ patterns with “s.seats_left”`)
	x.sees(`It could be kept: \d\d+ calls`)
	x.press("k")
	x.sees(`Keep \w{4}-\w{4}-\w{4}`)
	x.sees(`A write through the larder to public.sailings, public.vessels drops them`)
	x.press("Right", "Enter")
	x.sees(`keep 1m`)
	x.sees(`◆ keeping · 1 rule`)
	first := x.number(`([\d.]+) s spared since the start`)
	hits := x.number(`◆ ([1-9]\d*) hits`)
	require.Eventually(t, func() bool {
		return x.number(`([\d.]+) s spared since the start`) > first && x.number(`◆ (\d+) hits`) > hits
	}, 20*time.Second, 200*time.Millisecond, "hits and spared time rise")
	assert.Positive(t, x.number(`▽ ([1-9]\d*) drops`), "writes drop them")
	x.press("Escape", "1")
	x.sees(`◆ hit +booking-web`)
	x.sees(`▽ drop +\d+ results dropped by a write to public.sailings`)
	x.press("g")
	x.sees(`one by one, the newest first`)
	x.press("Space")
	x.sees(`frozen, \d+ newer`)
	x.press("Space", "/")
	x.press("hit", "Enter")
	x.sees(`with “hit”`)
	x.press("Down", "Enter")
	x.sees(`Kept for 1m`)
	x.press("k", "s")
	x.sees(`No longer kept`)
	x.sees(`○ watching`)
	x.press("H", "Enter")
	x.sees(`■ on hold: everything passes`)
	x.press("?")
	x.sees(`freeze what is shown, or go on`)
	x.press("x", "q")
	x.sees(`ended`)
}

func TestTerminalsOfEverySize(t *testing.T) {
	x := open(t, 40, 10, "demo")
	x.sees(`40 × 10 cells`)
	for _, size := range [][2]int{{80, 24}, {64, 18}, {200, 60}} {
		x.tmux("resize-window", "-x", strconv.Itoa(size[0]), "-y", strconv.Itoa(size[1]))
		x.press("1")
		x.sees(`last minute second by second`)
		x.press("2")
		x.sees(`patterns by waiting`)
		for i, line := range strings.Split(strings.TrimRight(x.tmux("capture-pane", "-p"), "\n"), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), size[0], "line %d", i)
		}
		for station, question := range map[string]string{"3": "What shall be kept", "4": "Is anything old", "5": "Is the memory well used", "6": "What did it bring"} {
			x.press(station)
			x.sees(fmt.Sprintf(`(?s)%s.*still to come`, question))
		}
	}
	x.press("q")
	x.sees(`ended`)
}
