package tui_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
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

// built is the program.
var built string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "terminal")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	built = filepath.Join(dir, "jollylarder")
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

var build = sync.OnceValue(func() error {
	if out, err := exec.Command("go", "build", "-o", built, "jollylarder/cmd/jollylarder").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
})

// open runs the program in tmux, beside the terminals of other tests.
func open(t *testing.T, width, height int, args string) *terminal {
	t.Parallel()
	if _, err := exec.LookPath("tmux"); err != nil {
		require.NotEqual(t, "true", os.Getenv("CI"), "tmux is not installed; scripts/install-test-tools gets it")
		t.Skip("tmux is not installed")
	}
	require.NoError(t, build())
	x := &terminal{t, filepath.Join(t.TempDir(), "tmux.sock")}
	x.tmux("-f", "/dev/null", "new-session", "-d", "-x", strconv.Itoa(width), "-y", strconv.Itoa(height), built+" "+args+"; echo ended; sleep 60")
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
		if k == "Escape" { // what follows at once would be one key with it
			time.Sleep(300 * time.Millisecond)
		}
	}
}

// sees waits until the screen matches, and gives what the expression's groups hold.
func (x *terminal) sees(expression string) []string {
	x.t.Helper()
	re := regexp.MustCompile(expression)
	var screen string
	for range 1200 { // two minutes: only a screen that never shows it takes as long
		screen = x.tmux("capture-pane", "-p")
		if m := re.FindStringSubmatch(screen); m != nil {
			return m
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(x.t, "the screen never showed "+expression, screen)
	return nil
}

// noLonger waits until the screen does not show a text any more.
func (x *terminal) noLonger(text string) {
	x.t.Helper()
	require.Eventually(x.t, func() bool { return !strings.Contains(x.tmux("capture-pane", "-p"), text) }, 2*time.Minute, 100*time.Millisecond, text)
}

// pressUntil presses a key until the screen matches. The list of patterns is a new one every second, and until she moves
// its first is the selected one: what was seen may be another by the time that the key arrives, which the larder says.
func (x *terminal) pressUntil(key, expression string) {
	x.t.Helper()
	re := regexp.MustCompile(expression)
	for range 12 {
		x.press(key)
		for range 100 {
			if re.MatchString(x.tmux("capture-pane", "-p")) {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	x.sees(expression)
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
	x := open(t, 140, 42, "demo --tour=false")
	x.sees(`watching · nothing is cached`)
	x.sees(`booking-web +│`)
	x.sees(`bypass +quay-boards .* no rule caches this pattern`)
	x.sees(`count\(\*\) from open_sailings .* reads public.open`)
	x.press("2")
	x.sees(`patterns by time that could be saved`)
	x.press("/")
	x.press("s.seats_left colour=red")
	x.sees(`! at character 14: there is no "colour" to filter by`)
	x.press("Escape", "/")
	x.press("s.seats_left ap", "Tab", "bo", "Tab")
	x.sees(`app=booking-web`)
	x.press("Enter")
	x.sees(`1 of \d+ patterns with “s.seats_left app=booking-web”`)
	x.sees(`It could be cached. Watch it for about .* \d\d+ calls were observed so far`)
	x.sees(`forecast by TTL, from \d+ calls`)
	x.press("Enter")
	x.sees(`sailings, vessels +named in the statement`)
	x.sees(`\d+ × +booking-web as ines in skerrow_demo`)
	x.sees(`About \d+ inputs; \d+% of calls repeat one`)
	x.sees(`› bypass +\d\d:\d\d:\d\d.* booking-web`)
	x.press("v")
	x.sees(`Values stay hidden: set show_values = true in the larder's configuration`)
	x.press("c")
	x.sees(`In the draft: cache \w{4}-\w{4}-\w{4} for \w+\. Nothing has changed yet`)
	x.press("Escape")
	x.sees(`± draft: cache \w+`)
	x.press("Enter")
	x.sees(`watching · nothing is cached`)
	x.press("3")
	x.sees(`draft: 1 change, not in force yet`)
	x.sees(`with the draft`)
	predicted := x.number(`with the draft[\s\S]*hit rate.* (\d+)% of all\s*\n`)
	assert.Positive(t, predicted)
	x.press("Enter")
	x.sees(`The rule \w{4}-\w{4}-\w{4}`)
	x.sees(`the longest time a result is used`)
	x.press("C-u", "10 minutes", "Enter")
	x.sees(`! ttl: "10 minutes": expected a time such as 30s, 5m or 1h30m, or none`)
	x.press("C-u", "10m", "Enter")
	x.sees(`In the draft: .* changed`)
	x.sees(`◆ cache 10m`)
	x.press("a")
	x.sees(`Forecast: hit rate \d+% of all statements, now 0%`)
	x.press("Enter")
	x.sees(`write a few words for the history`)
	x.press("read all day", "Enter")
	x.sees(`Applied\. u undoes it`)
	x.sees(`◆ caching · 1 rule`)
	x.sees(`actual, change 2 by `)
	x.sees(`since then`)
	first := x.number(`([\d.]+) s saved since the start`)
	require.Eventually(t, func() bool {
		return x.number(`([\d.]+) s saved since the start`) > first
	}, 120*time.Second, 200*time.Millisecond, "spared time rises")
	x.press("2")
	x.sees(`Cached for 10m`)
	assert.Positive(t, x.number(`◆ ([1-9]\d*) hits`))
	assert.Positive(t, x.number(`▽ ([1-9]\d*) drops`), "writes drop them")
	x.press("Escape", "Escape", "1")
	x.sees(`◆ hit +booking-web`)
	x.sees(`▽ drop +\d+ results dropped by a write to public.sailings`)
	x.press("g")
	x.sees(`one by one, the newest first`)
	x.press("Space")
	x.sees(`frozen, \d+ newer`)
	x.press("Space", "/")
	x.press("outcome=hit", "Enter")
	x.sees(`with “outcome=hit”`)
	x.press("Down", "f")
	x.sees(`with “app=booking-web”`)
	x.press("/")
	x.press(" outcome=hit", "Enter")
	x.sees(`with “app=booking-web outcome=hit”`)
	x.press("Down", "Enter")
	x.sees(`Cached for 10m`)
	x.press("c")
	x.press("p")
	x.sees(`Pause \w{4}`)
	x.press("a doubt", "Enter")
	x.sees(`1 paused`)
	x.sees(`■ paused`)
	x.press("h")
	x.sees(`a doubt`)
	x.sees(`paused none → true`)
	x.press("Down")
	x.sees(`added \w{4}-\w{4}-\w{4}: action "cache", ttl "10m"`)
	x.press("u")
	x.sees(`The rules are again those of 2`)
	x.press("Enter")
	x.sees(`The rules of 2 are in force again`)
	x.press("h")
	x.sees(`◆ cache 10m`)
	x.press("Delete")
	x.sees(`draft: 1 change, not in force yet`)
	x.press("D", "Enter")
	x.sees(`The draft is discarded`)
	x.press("h", "Down", "Down", "Down", "u", "Enter")
	x.sees(`The rules of 1 are in force again`)
	x.sees(`watching · nothing is cached`)
	x.press("h")
	x.sees(`There are no rules`)
	x.press("C", "Enter")
	x.sees(`■ caching off: all statements bypass`)
	x.press("?")
	x.sees(`take others' changes into the draft`)
	x.press("Escape", "q")
	x.sees(`ended`)
}

func TestTerminalsOfEverySize(t *testing.T) {
	x := open(t, 40, 10, "demo --tour=false")
	x.sees(`40 × 10 cells`)
	for _, size := range [][2]int{{80, 24}, {64, 18}, {200, 60}} {
		x.tmux("resize-window", "-x", strconv.Itoa(size[0]), "-y", strconv.Itoa(size[1]))
		x.press("1")
		x.sees(`last minute second by second`)
		x.press("2")
		x.sees(`patterns by time`)
		for i, line := range strings.Split(strings.TrimRight(x.tmux("capture-pane", "-p"), "\n"), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), size[0], "line %d", i)
		}
		x.press("b")
		x.sees(`In the draft: bypass`)
		x.press("3")
		x.sees(`draft: \d change`)
		x.press("Enter", "Up", "Up")
		x.sees(`action +cache +‹bypass›`)
		for i, line := range strings.Split(strings.TrimRight(x.tmux("capture-pane", "-p"), "\n"), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), size[0], "line %d", i)
		}
		x.press("Escape", "?")
		x.sees(`closes this`)
		for !strings.Contains(x.tmux("capture-pane", "-p"), "the draft adds this rule") {
			at := x.number(`(\d+)% +↑ ↓`)
			require.Less(t, at, 100.0, "it is not there")
			x.press("NPage")
			x.sees(fmt.Sprintf(`the draft adds this rule|(%s)%% +↑ ↓`, strings.Join(from(int(at)+1), "|")))
		}
		x.sees(`new +the draft adds this rule`)
		x.press("Escape", "D", "Enter")
		x.press("4")
		x.sees(`what is guaranteed now`)
		x.sees(`Nothing is cached: every answer comes`)
		x.sees(`how it is checked`)
		for i, line := range strings.Split(strings.TrimRight(x.tmux("capture-pane", "-p"), "\n"), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), size[0], "line %d", i)
		}
		for station, says := range map[string]string{"5": "cached results by pattern", "6": "measured in three ways"} {
			x.press(station)
			x.sees(says)
			for i, line := range strings.Split(strings.TrimRight(x.tmux("capture-pane", "-p"), "\n"), "\n") {
				assert.LessOrEqual(t, len([]rune(line)), size[0], "line %d", i)
			}
		}
	}
	x.press("q")
	x.sees(`ended`)
}

// She looks whether anything old is served: what is guaranteed now, what a write dropped and what it left, what rests on a table; and drops by hand.
func TestGuarding(t *testing.T) {
	x := open(t, 140, 42, "demo --tour=false")
	x.sees(`booking-web +│`)
	x.press("2", "/")
	x.press("s.seats_left app=booking-web", "Enter")
	x.sees(`1 of \d+ patterns with`)
	x.press("c")
	x.sees(`In the draft: cache`)
	x.press("3", "a")
	x.sees(`Apply`)
	x.press("the web asks for it", "Enter")
	x.sees(`1 rule in force`)
	x.press("4")
	x.sees(`✓ Writes through this larder are seen before their client is answered`)
	x.sees(`~ Direct writes are not seen: a cached result may be as old as its rule's TTL`)
	x.sees(`sailings +\d+ +– +\d+ +\d+`)
	x.press("d")
	x.sees(`tables that cached results depend on; writes of the last minute`)
	x.sees(`▌ sailings`)
	x.sees(`sailings: cached results that depend on it, and how its rows are identified`)
	x.sees(`rows by route_id +\w{4}-\w{4}-\w{4}`)
	x.sees(`booking-web .* \d+ dropped, \d+ stayed .*by `)
	x.sees(`control samples +\d+ compared with the database, \d+ equal, 0 stale`)
	x.sees(`drops +\d+ had changed when they were fetched again, \d+ had not`)
	x.press("Enter")
	x.sees(`what writes it`)
	x.sees(`update sailings set seats_left`)
	x.press("Escape", "l")
	x.sees(`None: the effects of all statements so far are known`)
	x.press("l", "x")
	x.sees(`Drop the results that depend on public.sailings`)
	x.press("Enter")
	x.sees(`Dropped the results that depend on public.sailings`)
	x.press("X")
	x.sees(`All \d+ cached results are dropped`)
	x.press("Enter")
	x.sees(`Everything was dropped`)
	x.press("q")
	x.sees(`ended`)
}

// A newcomer is led through the six stations by the real keys, sees what memory is used for and what was spared, makes a trial, and takes
// charts and a report away.
func TestTheTourOfTheStations(t *testing.T) {
	x := open(t, 140, 44, "demo")
	dir := t.TempDir()
	x.sees(`tour, step 1 of 11`)
	x.press("2")
	x.sees(`2 of 11`)
	x.sees(`forecast by TTL, from \d+ calls`)
	x.pressUntil("c", `3 of 11`)
	x.press("3")
	x.sees(`4 of 11`)
	x.sees(`with the draft`)
	x.press("a", "read all day", "Enter")
	x.sees(`5 of 11`)
	x.press("1")
	x.sees(`6 of 11`)
	x.sees(`◆ hit`)
	x.press("4")
	x.sees(`7 of 11`)
	x.press("5")
	x.sees(`8 of 11`)
	x.sees(`[\d.]+ \w+ in use +. [\d.]+ \w+ not used yet`)
	x.sees(`▌ \w{4}-\w{4}-\w{4} +\d+`)
	x.sees(`4\.0 MiB .* now: +[\d.]+ s a minute`)
	x.press("m")
	for range 8 {
		x.press("BSpace")
	}
	x.press("64KiB", "Enter")
	x.sees(`! expected at least 1MiB`)
	for range 8 {
		x.press("BSpace")
	}
	x.press("2MiB")
	x.sees(`Forecast: hit rate [\d.]+% of the calls that rules match, now [\d.]+%`)
	x.press("Enter")
	x.sees(`The limit is 2MiB`)
	x.sees(`of 2\.0 MiB`)
	x.press("6")
	x.sees(`9 of 11`)
	x.sees(`by the last fetch of each result`)
	x.sees(`saved (in the last minute|since the last change of the rules)`)
	x.press("p")
	require.Eventually(t, func() bool { // the same figure twice, to the digit
		m := regexp.MustCompile(`(?s)([\d.]+ s) saved since the start.*saved since the larder started.*?([\d.]+ s) saved`).FindStringSubmatch(x.tmux("capture-pane", "-p"))
		return m != nil && m[1] == m[2] && m[1] != "0.00 s"
	}, 120*time.Second, 50*time.Millisecond)
	x.press("p")
	x.sees(`saved in the last minute`)
	x.press("b")
	x.sees(`by rule`)
	x.press("E")
	x.sees(`Time waited`)
	for range 40 {
		x.press("BSpace")
	}
	x.press(filepath.Join(dir, "charts.svg"), "Enter")
	x.sees(`Written: .*charts.svg`)
	assert.FileExists(t, filepath.Join(dir, "charts.svg"))
	x.press("r")
	for range 40 {
		x.press("BSpace")
	}
	x.press("/nowhere/report.pdf", "Enter")
	x.sees(`file +/nowhere/report.pdf\s+! /nowhere/report.pdf cannot be written: no such file or directory: choose another`) // and it can be mended
	x.press("Escape")
	x.press("t")
	x.sees(`kind +‹live›`)
	x.press("Down", "BSpace", "3", "Down", "BSpace", "BSpace", "2", "Enter")
	x.sees(`round \d of 3`)
	x.sees(`through, on less through, off +-?[\d.+]+ ± [\d.]+ ms`)
	x.sees(`saved by caching, in all rounds  +-?[\d.]+ ± [\d.]+ s +counted by the larder -?[\d.]+ s`)
	x.press("Escape", "3")
	x.sees(`10 of 11`)
	x.press("A")
	x.sees(`application +(booking-web|quay-boards|harbour-report|crew-tablet)`)
	x.sees(`max_ttl +1m`)
	x.press("Enter")
	x.sees(`new +◇ advised ≤ 1m`)
	x.press("a", "it decides for itself", "Enter")
	x.sees(`11 of 11`)
	x.pressUntil("l", `larder-\S+: \d patterns? chosen by the larder`)
	x.press("Escape", "T")
	x.noLonger("of 11")
	x.sees(`2 rules in force`)
	x.press("q")
	x.sees(`ended`)
}

// A terminal outlasts the larder it is attached to, and says what happens; a draft outlasts both.
func TestTheLarderStartsAgain(t *testing.T) {
	x := open(t, 120, 40, "--version")
	dir := t.TempDir()
	socket := filepath.Join(dir, "larder.sock")
	serve := func() *exec.Cmd {
		cmd := exec.Command(built, "serve", "--listen", "127.0.0.1:0", "--origin", "127.0.0.1:1", "--control", socket, "--state", filepath.Join(dir, "state"), "--rules", filepath.Join(dir, "rules.toml"))
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, time.Minute, 10*time.Millisecond)
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd
	}
	larder := serve()
	watch := func() {
		x.tmux("respawn-window", "-k", built+" watch --control "+socket+"; echo ended; sleep 60")
		x.sees(`watching · nothing is cached`)
	}
	watch()
	x.press("3")
	x.sees(`There are no rules: every statement goes to the database`)
	x.press("n")
	x.sees(`A new rule`)
	x.press("Up", "fares", "Down", "Down")
	x.press("select * from fares*", "Enter")
	x.sees(`draft: 1 change, not in force yet`)
	x.sees(`new +◆ cache 30s .* fares +texts like select \* from fares\*`)
	x.press("q")
	x.sees(`ended`)
	watch()
	x.sees(`Decide ±1`)
	require.NoError(t, larder.Process.Kill())
	_ = larder.Wait()
	x.sees(`everything shown is from \d\d:\d\d:\d\d +! the larder does not answer`)
	x.noLonger("drop at once") // which nobody knows now
	require.NoError(t, os.Remove(socket))
	serve()
	x.sees(`The larder restarted`)
	x.press("3")
	x.sees(`draft: 1 change, not in force yet`)
	x.press("a", "fares change in spring", "Enter")
	x.sees(`1 rule in force`)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.toml"), []byte("# by hand\n"), 0o600))
	x.sees(`≠ The rules file was edited, and is not in force: removed`)
	x.press("e")
	x.sees(`Take what was edited in the rules file`)
	x.press("Tomas did", "Enter")
	x.sees(`There are no rules`)
	x.press("u", "Enter")
	x.sees(`1 rule in force`)
	x.press("q")
	x.sees(`ended`)
}

// from gives the numbers from one to a hundred, as texts.
func from(first int) (list []string) {
	for n := first; n <= 100; n++ {
		list = append(list, fmt.Sprint(n))
	}
	return list
}
