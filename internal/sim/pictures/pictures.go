// Package pictures is a simulated server of covers: over HTTP, on the loopback only, with faults on request. It knows
// nothing of how it is asked.
package pictures

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// An Item is what the server has under a path.
type Item struct {
	// Data makes the bytes, when they are asked for.
	Data func() []byte
	// Type is what it is said to be; "" for what its bytes look like.
	Type string
	// Status is the answer in place of the bytes, such as 500; 0 for the bytes.
	Status int
	// Busy is how often it says that it is busy before it answers.
	Busy int
	// After is how long it must be waited for when it is busy, in seconds.
	After int
	// To is where it sends on to; "" for nowhere.
	To string
	// Slow is how long it takes to answer.
	Slow time.Duration
	// Cut is from which byte on the connection is interrupted; 0 for never.
	Cut int
}

// A Server hands out items.
type Server struct {
	mu    sync.Mutex
	items map[string]Item
	asked []string
	same  int
	now   int
	most  int
	http  *http.Server
	url   string
}

// Start starts a server on the loopback.
func Start(items map[string]Item) (*Server, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{items: map[string]Item{}, url: "http://" + l.Addr().String() + "/"}
	for p, it := range items {
		s.items[strings.TrimPrefix(p, "/")] = it
	}
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go s.http.Serve(l) //nolint:errcheck // it ends with Close
	return s, nil
}

// URL is where the server is, with a slash at its end.
func (s *Server) URL() string { return s.url }

// Close ends the server.
func (s *Server) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if s.http.Shutdown(ctx) != nil {
		return s.http.Close()
	}
	return nil
}

// Set puts an item under a path, or takes it away when it has neither bytes nor another answer.
func (s *Server) Set(path string, it Item) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if it.Data == nil && it.Status == 0 && it.To == "" {
		delete(s.items, path)
		return
	}
	s.items[path] = it
}

// Asked are the paths that were asked for since the last call, in that order; same is how many of the answers were that
// nothing has changed, and most how many were asked for at the same time.
func (s *Server) Asked() (paths []string, same, most int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	paths, same, most = s.asked, s.same, s.most
	s.asked, s.same, s.most = nil, 0, 0
	return paths, same, most
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	path := strings.TrimPrefix(r.URL.Path, "/")
	s.mu.Lock()
	s.asked = append(s.asked, path)
	s.now++
	s.most = max(s.most, s.now)
	it, ok := s.items[path]
	if ok && it.Busy > 0 {
		left := it
		left.Busy--
		s.items[path] = left
	}
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.now--
		s.mu.Unlock()
	}()
	if it.Slow > 0 {
		select {
		case <-time.After(it.Slow):
		case <-r.Context().Done():
			return
		}
	}
	switch {
	case !ok:
		http.NotFound(w, r)
		return
	case it.Busy > 0:
		if it.After > 0 {
			w.Header().Set("Retry-After", strconv.Itoa(it.After))
		}
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	case it.To != "":
		http.Redirect(w, r, it.To, http.StatusFound)
		return
	case it.Status != 0:
		w.WriteHeader(it.Status)
		return
	}
	data := it.Data()
	sum := sha256.Sum256(data)
	tag := `"` + hex.EncodeToString(sum[:8]) + `"`
	w.Header().Set("ETag", tag)
	if r.Header.Get("If-None-Match") == tag {
		s.mu.Lock()
		s.same++
		s.mu.Unlock()
		w.WriteHeader(http.StatusNotModified)
		return
	}
	kind := it.Type
	if kind == "" {
		kind = http.DetectContentType(data)
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Length", strconv.Itoa(len(data)))
	if it.Cut > 0 && it.Cut < len(data) {
		_, _ = w.Write(data[:it.Cut])
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		panic(http.ErrAbortHandler) // breaks the connection off
	}
	_, _ = w.Write(data)
}
