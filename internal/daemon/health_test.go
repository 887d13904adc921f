package daemon

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asked gives what a larder answers a supervisor.
func asked(t *testing.T, l *Larder, path string) (code int, text string) {
	r, err := http.Get("http://" + l.metricsAddress + path)
	require.NoError(t, err)
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, strings.TrimSpace(string(b))
}

// Supervisors and load balancers learn whether the larder works, whether it takes clients, and whether its origins can be
// reached, each for itself.
func TestHealthAndReadiness(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	cfg := before(ln.Addr().String(), "127.0.0.1:0", "", "")
	cfg.Metrics = "127.0.0.1:0"
	l := start(t, cfg)
	for _, path := range []string{"/healthz", "/readyz", "/readyz?origins"} {
		code, text := asked(t, l, path)
		assert.Equal(t, http.StatusOK, code, path+": "+text)
	}

	ln.Close()
	c, err := net.Dial("tcp", l.Address()) // a client that fails notes it
	require.NoError(t, err)
	_, err = c.Write([]byte("\x00\x00\x00\x12\x00\x03\x00\x00user\x00ines\x00\x00"))
	require.NoError(t, err)
	_, _ = io.ReadAll(c)
	code, text := asked(t, l, "/readyz?origins")
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Contains(t, text, "the origin cannot be reached at "+ln.Addr().String())
	code, _ = asked(t, l, "/readyz")
	assert.Equal(t, http.StatusOK, code, "it takes clients nevertheless, and tells them why")

	again, err := net.Listen("tcp", ln.Addr().String())
	require.NoError(t, err)
	defer again.Close()
	require.Eventually(t, func() bool {
		code, text = asked(t, l, "/readyz?origins")
		return code == http.StatusOK
	}, time.Minute, 10*time.Millisecond, "nobody has to connect before that is noticed: %s", text)

	hung := time.Now().Add(-time.Hour)
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		l.beat.Store(&hung)
		if code, text = asked(t, l, "/healthz"); code != http.StatusOK {
			break
		}
	}
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Contains(t, text, "has not been done for 1h")
	require.Eventually(t, func() bool { return l.Healthy() == nil }, time.Minute, time.Millisecond)

	l.Drain(ctx)
	code, text = asked(t, l, "/readyz")
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Equal(t, "the larder is stopping: use another", text)
	code, _ = asked(t, l, "/healthz")
	assert.Equal(t, http.StatusOK, code, "it works to the end")
}

// A service manager is told when the larder is ready, what it does, that it does not hang, and that it stops.
func TestWhatAServiceManagerIsTold(t *testing.T) {
	path := filepath.Join(t.TempDir(), "notify")
	c, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: path, Net: "unixgram"})
	require.NoError(t, err)
	defer c.Close()
	t.Setenv("NOTIFY_SOCKET", path)
	t.Setenv("WATCHDOG_USEC", "20000")
	t.Setenv("WATCHDOG_PID", fmt.Sprint(os.Getpid()))
	hears := func(want ...string) string {
		b := make([]byte, 4096)
		for {
			require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
			n, err := c.Read(b)
			require.NoError(t, err)
			all := true
			for _, w := range want {
				all = all && strings.Contains(string(b[:n]), w)
			}
			if all {
				return string(b[:n])
			}
		}
	}
	l := start(t, before(gone(t), "127.0.0.1:0", "", ""))
	l.Supervised()
	hears("READY=1", "STATUS=clients: 0; last minute: 0 statements, hit rate 0%, 0.0 s saved; cached: ")
	hears("WATCHDOG=1", "STATUS=")
	l.Reloading()
	hears("RELOADING=1", "MONOTONIC_USEC=")
	l.Reloaded()
	hears("READY=1")
	l.Stopping()
	assert.NotContains(t, hears("STOPPING=1", "STATUS=stopping: 0 clients finish"), "READY")
}

// A larder that hangs tells its watchdog nothing, so that another is started.
func TestAWatchdogOfALarderThatHangs(t *testing.T) {
	l := &Larder{}
	assert.NoError(t, l.Healthy(), "it has not begun")
	l.beats(time.Now().Add(-stall / 2))
	assert.NoError(t, l.Healthy())
	l.beats(time.Now().Add(-2 * stall))
	assert.ErrorContains(t, l.Healthy(), "has not been done for 40s")
	assert.Error(t, l.Ready())
}
