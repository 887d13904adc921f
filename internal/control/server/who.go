package server

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os/user"
	"strconv"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/peer"
)

type whoKey struct{}

// withPeer notes who is at the other end of a Unix socket, as the system says.
func withPeer(ctx context.Context, c net.Conn) context.Context {
	if u, ok := c.(*net.UnixConn); ok {
		if uid, ok := peer.User(u); ok {
			return context.WithValue(ctx, whoKey{}, nameOf(uid))
		}
	}
	return ctx
}

// nameOf gives the name of a user of the system.
func nameOf(uid int) string {
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return fmt.Sprintf("user %d", uid)
}

// who gives who asks.
func who(r *http.Request) string {
	if name, ok := r.Context().Value(whoKey{}).(string); ok {
		return name
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	name := strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f {
			return -1
		}
		return c
	}, r.Header.Get(control.WhoHeader))
	if name == "" {
		return host
	}
	if len(name) > 60 {
		name = name[:60]
	}
	return name + " at " + host
}

// withToken lets in only who knows the token.
func withToken(token string, next http.Handler) http.Handler {
	want := sha256.Sum256([]byte(token))
	var wrong wrongTokens
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		have := sha256.Sum256([]byte(given))
		if !ok || subtle.ConstantTimeCompare(have[:], want[:]) != 1 {
			wrong.note(r.Context(), r.RemoteAddr)
			problem(
				w,
				http.StatusUnauthorized,
				"the control API over TCP needs the token: Authorization: Bearer …",
			)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// wrongTokens slows down who tries tokens: all of them together are answered one by one, and each later than the one
// before, up to some seconds. Who knows the token does not wait.
type wrongTokens struct {
	queue sync.Mutex
	pause time.Duration
	last  time.Time
}

// The pauses before an answer to a wrong token. After a quiet time they begin anew.
const (
	firstPause = 50 * time.Millisecond
	mostPause  = 3 * time.Second
	quietAfter = time.Minute
)

func (x *wrongTokens) note(ctx context.Context, from string) {
	slog.Warn("a request to the control API had a wrong token, or none", "from", from)
	x.queue.Lock()
	defer x.queue.Unlock()
	if now := time.Now(); now.Sub(x.last) > quietAfter {
		x.pause = firstPause
	} else {
		x.pause = min(2*x.pause, mostPause)
	}
	select {
	case <-ctx.Done():
	case <-time.After(x.pause):
	}
	x.last = time.Now()
}
