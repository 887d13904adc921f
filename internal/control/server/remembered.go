package server

import (
	"bytes"
	"net/http"
	"sync"
	"time"
)

// remembered holds answers for a moment, so that several watchers who ask the same cost no more than one.
type remembered struct {
	mu  sync.Mutex
	all map[string]*answer
}

type answer struct {
	once   sync.Once
	at     time.Time
	header http.Header
	code   int
	body   []byte
}

// moment is for how long a status is good, and second for how long what a terminal asks for once a second is.
const (
	moment = 150 * time.Millisecond
	second = 900 * time.Millisecond
)

// forget forgets all answers, since something was changed.
func (m *remembered) forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.all = nil
}

// within answers from what was answered within a second.
func (m *remembered) within(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		key := r.URL.RequestURI()
		now := time.Now()
		m.mu.Lock()
		a := m.all[key]
		if a == nil || now.Sub(a.at) > second {
			for k, old := range m.all {
				if now.Sub(old.at) > second {
					delete(m.all, k)
				}
			}
			if m.all == nil {
				m.all = map[string]*answer{}
			}
			a = &answer{at: now, header: http.Header{}, code: http.StatusOK}
			m.all[key] = a
		}
		m.mu.Unlock()
		a.once.Do(func() { next(a, r) })
		for k, v := range a.header {
			w.Header()[k] = v
		}
		w.WriteHeader(a.code)
		_, _ = w.Write(a.body)
	}
}

// Header, WriteHeader and Write take an answer down; see http.ResponseWriter.
func (a *answer) Header() http.Header  { return a.header }
func (a *answer) WriteHeader(code int) { a.code = code }
func (a *answer) Write(b []byte) (int, error) {
	a.body = append(a.body, bytes.Clone(b)...)
	return len(b), nil
}
