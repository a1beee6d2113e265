package cover

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// Limits of what is taken from a server.
const (
	largestPicture = 32 << 20
	largestIndex   = 64 << 20
	mostRedirects  = 5
	usualConns     = 2
	downAfter      = 4                // failures one after another, from which on a server is left in peace
	longestPause   = 60 * time.Second // that a server may ask for
)

// Patience is how failures of servers are met; the zero value is the usual one.
type Patience struct {
	First   time.Duration // the first pause after a failure; each further one is twice as long. 0 for a second
	Tries   int           // how often it is tried; 0 for four times
	Timeout time.Duration // of one answer; 0 for a minute
	// Span is the time in which [leastRate] has to come on average, once an answer has begun; 0 for ten seconds.
	Span time.Duration
}

// leastRate is how many bytes a second a server has to send. One that drips holds up everything behind it.
const leastRate = 1 << 10

// errDrips reports a server that sends more slowly than that.
var errDrips = fmt.Errorf("it sends less than %s a second", size.Format(leastRate))

func (p Patience) usual() Patience {
	if p.First == 0 {
		p.First = time.Second
	}
	if p.Tries == 0 {
		p.Tries = 4
	}
	if p.Timeout == 0 {
		p.Timeout = time.Minute
	}
	if p.Span == 0 {
		p.Span = min(10*time.Second, p.Timeout)
	}
	return p
}

// A Server is one of the user's.
type Server struct {
	bench.CoverServer
	base string // with a slash at its end
	host string
}

func newServer(c *bench.CoverServer) *Server {
	s := &Server{CoverServer: *c, base: c.URL}
	if !strings.HasSuffix(s.base, "/") {
		s.base += "/"
	}
	if u, err := url.Parse(s.base); err == nil {
		s.host = u.Host
	}
	return s
}

// has reports whether the server may have pictures of a kind.
func (s *Server) has(of string) bool {
	if of == aboutKind {
		return len(s.About) > 0
	}
	return (len(s.Paths) > 0 || s.Index != "") && (len(s.Of) == 0 || slices.Contains(s.Of, of))
}

// want names what is asked of the server for a disc of a title. It is another one when the settings are others.
func (s *Server) want(t *title.Title, disc int, of string) string {
	d := &t.Discs[disc]
	paths := s.Paths
	if of == aboutKind {
		paths = s.About
	}
	return strings.Join([]string{s.base, s.Index, strings.Join(paths, "\x01"), of, t.Platform, d.ID, t.Name, t.Region,
		strconv.Itoa(d.Number), stem(d.File.Path), d.Sums}, "\x00")
}

// paths are those under which the server may have something for a disc of a title, the first ones first.
func (s *Server) paths(t *title.Title, disc int, of string) (out []string) {
	d := &t.Discs[disc]
	sums := sumsOf(d)
	value := func(field string) string {
		switch field {
		case "platform":
			return t.Platform
		case "kind":
			return of
		case "id":
			return d.ID
		case "name":
			return t.Name
		case "bare":
			return bare(t.Name)
		case "region":
			return t.Region
		case "disc":
			return strconv.Itoa(d.Number)
		case "file":
			return stem(d.Where(t.Among > 1))
		}
		return sums[field]
	}
	from := s.Paths
	if of == aboutKind {
		from = s.About
	}
	for _, p := range from {
		if filled, ok := bench.FillPath(p, value); ok && !slices.Contains(out, filled) {
			out = append(out, filled)
		}
	}
	return out
}

// asker asks one server, politely: over few connections, with pauses when it is busy, and not at all when it does not
// answer.
type asker struct {
	*Server
	client   *http.Client
	patience Patience
	slots    chan struct{} // as many as there may be connections

	mu       sync.Mutex
	until    time.Time // nothing is asked before
	failures int       // one after another
	down     string    // why it is left in peace, "" while it is not
	index    *index
	indexErr error
	once     sync.Once
}

// newAsker makes one that lets no request go anywhere but to the servers that the user has set up: no proxy, and no
// redirect elsewhere.
func newAsker(s *Server, hosts map[string]bool, p Patience) *asker {
	p = p.usual()
	conns := s.Connections
	if conns == 0 {
		conns = usualConns
	}
	t := &http.Transport{
		Proxy:                 nil,
		DialContext:           (&net.Dialer{Timeout: min(10*time.Second, p.Timeout)}).DialContext,
		TLSHandshakeTimeout:   min(10*time.Second, p.Timeout),
		ResponseHeaderTimeout: p.Timeout,
		MaxConnsPerHost:       conns,
		MaxIdleConnsPerHost:   conns,
		IdleConnTimeout:       30 * time.Second,
	}
	return &asker{Server: s, patience: p, slots: make(chan struct{}, conns), client: &http.Client{Transport: t,
		Timeout: p.Timeout,
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			switch {
			case !hosts[r.URL.Host]:
				return &answer{say: fmt.Sprintf(
					"it redirects to %s, which is not one of your servers; add it if you trust it", r.URL.Host),
					final: true}
			case slices.ContainsFunc(via, func(v *http.Request) bool { return v.URL.String() == r.URL.String() }):
				return &answer{say: "redirect loop", final: true}
			case len(via) >= mostRedirects:
				return &answer{say: fmt.Sprintf("it redirects more than %d times", mostRedirects), final: true}
			}
			return nil
		}}}
}

// close lets go of connections.
func (a *asker) close() { a.client.CloseIdleConnections() }

// An answer is one that is no picture.
type answer struct {
	say   string
	none  bool // there is nothing under that path
	final bool // asking again would not help
	here  bool // it is a matter of this path
	after time.Duration
}

func (e *answer) Error() string { return e.say }

// A reply is what a server has sent.
type reply struct {
	url, etag, modified string
	data                []byte
	same                bool // it is what was fetched before
}

// errDown reports a server that is not asked any more in this download.
var errDown = errors.New("no more requests are sent to it")

// ask fetches a path. What was fetched from there before is asked for only when it has changed.
func (a *asker) ask(ctx context.Context, path string, was fetch, most int64) (reply, error) {
	at := a.base + path
	for try := 1; ; try++ {
		if err := a.wait(ctx); err != nil {
			return reply{}, err
		}
		r, err := a.request(ctx, at, was, most)
		if ctx.Err() != nil {
			return reply{}, ctx.Err()
		}
		var no *answer
		if err == nil || errors.As(err, &no) && (no.none || no.final) {
			a.mu.Lock()
			a.failures = 0
			a.mu.Unlock()
			return r, err
		}
		pause := a.patience.First << (try - 1)
		if no != nil && no.after > 0 {
			pause = no.after
		}
		switch {
		case pause > longestPause:
			a.give(fmt.Sprintf("%s asks for a pause of %s; download again later", a.Name, pause.Round(time.Second)))
			return r, errDown
		case try >= a.patience.Tries:
			a.mu.Lock()
			a.failures++
			if a.failures >= downAfter && a.down == "" {
				a.down = fmt.Sprintf("%s did not answer %d times in a row, so it was not asked any more: %v", a.Name,
					a.failures, err)
			}
			a.mu.Unlock()
			return r, err
		}
		if no != nil && no.here { // the rest of the server may be well
			select {
			case <-time.After(pause):
			case <-ctx.Done():
				return r, ctx.Err()
			}
			continue
		}
		a.mu.Lock()
		if next := time.Now().Add(pause); next.After(a.until) {
			a.until = next
		}
		a.mu.Unlock()
	}
}

func (a *asker) give(why string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.down == "" {
		a.down = why
	}
}

// trouble is why the server is not asked any longer, "" while it is.
func (a *asker) trouble() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.down
}

// wait waits until the server may be asked.
func (a *asker) wait(ctx context.Context) error {
	for {
		a.mu.Lock()
		pause, down := time.Until(a.until), a.down
		a.mu.Unlock()
		if down != "" {
			return errDown
		}
		if pause <= 0 {
			return ctx.Err()
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (a *asker) request(ctx context.Context, at string, was fetch, most int64) (r reply, err error) {
	select {
	case a.slots <- struct{}{}:
		defer func() { <-a.slots }()
	case <-ctx.Done():
		return r, ctx.Err()
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return r, &answer{say: err.Error(), final: true}
	}
	req.Header.Set("User-Agent", "polytome")
	if was.URL == at && was.State == got {
		if was.ETag != "" {
			req.Header.Set("If-None-Match", was.ETag)
		}
		if was.Modified != "" {
			req.Header.Set("If-Modified-Since", was.Modified)
		}
	}
	resp, err := a.client.Do(req)
	if err != nil {
		var no *answer
		if errors.As(err, &no) {
			return r, no
		}
		var ue *url.Error
		if errors.As(err, &ue) {
			if ue.Timeout() {
				return r, fmt.Errorf("it did not answer within %s", a.patience.Timeout)
			}
			err = ue.Err
		}
		return r, fmt.Errorf("the request failed: %w", err)
	}
	defer resp.Body.Close()
	r = reply{url: at, etag: resp.Header.Get("ETag"), modified: resp.Header.Get("Last-Modified")}
	switch c := resp.StatusCode; {
	case c == http.StatusNotModified && was.URL == at:
		r.same = true
		return r, nil
	case c == http.StatusNotFound || c == http.StatusGone:
		return r, &answer{say: "it has none", none: true}
	case c == http.StatusTooManyRequests || c == http.StatusServiceUnavailable:
		return r, &answer{say: fmt.Sprintf("it is busy (%s)", resp.Status),
			after: retryAfter(resp.Header.Get("Retry-After"))}
	case c >= 500:
		return r, &answer{say: fmt.Sprintf("it failed (%s)", resp.Status), here: true}
	case c == http.StatusUnauthorized || c == http.StatusForbidden:
		return r, &answer{say: fmt.Sprintf("access denied (%s)", resp.Status), final: true}
	case c != http.StatusOK:
		return r, &answer{say: fmt.Sprintf("it answered %s", resp.Status), final: true}
	case resp.ContentLength > most:
		return r, &answer{say: fmt.Sprintf("it sends %s, more than the limit of %s", size.Format(resp.ContentLength),
			size.Format(most)), final: true}
	}
	if kind, _, err := mime.ParseMediaType(resp.Header.Get("Content-Type")); err == nil && kind == "text/html" {
		return r, &answer{say: "it sends a web page instead of the file", final: true}
	}
	body := &counted{Reader: resp.Body}
	slow := body.watch(a.patience.Span, func() { stop(errDrips) })
	r.data, err = io.ReadAll(io.LimitReader(body, most+1))
	slow()
	switch {
	case err != nil && errors.Is(context.Cause(ctx), errDrips):
		return r, &answer{say: errDrips.Error(), here: true}
	case err != nil:
		return r, fmt.Errorf("it was interrupted: %w", err)
	case int64(len(r.data)) > most:
		return r, &answer{say: fmt.Sprintf("it sends more than %s", size.Format(most)), final: true}
	}
	return r, nil
}

// counted counts what is read.
type counted struct {
	io.Reader
	n atomic.Int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	c.n.Add(int64(n))
	return n, err
}

// watch calls a function when less than the least rate comes in a span, until the function that it returns is named.
func (c *counted) watch(span time.Duration, drips func()) (stop func()) {
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(span)
		defer tick.Stop()
		for before := int64(0); ; {
			select {
			case <-done:
				return
			case <-tick.C:
			}
			now := c.n.Load()
			if float64(now-before) < leastRate*span.Seconds() {
				drips()
				return
			}
			before = now
		}
	}()
	return func() { close(done) }
}

// retryAfter reads how long a server must be waited for: seconds, or a date (RFC 9110, 10.2.3); 0 for nothing.
func retryAfter(s string) time.Duration {
	if n, err := strconv.Atoi(strings.TrimSpace(s)); err == nil && n >= 0 {
		return max(time.Duration(n)*time.Second, time.Millisecond)
	}
	if at, err := http.ParseTime(s); err == nil {
		return max(time.Until(at), time.Millisecond)
	}
	return 0
}

// An index is the list of a server's pictures.
type index struct {
	byID, bySum, byName map[string][]int
	rows                []indexRow
}

// indexRow is one picture of a list.
type indexRow struct {
	Platform string `json:"platform"`
	Kind     string `json:"kind"` // "" for the front
	ID       string `json:"id"`
	Name     string `json:"name"`
	Checksum string `json:"checksum"`
	Path     string `json:"path"` // below the server's URL
}

// indexColumns are those of a list that is a CSV file.
var indexColumns = []string{"platform", "kind", "id", "name", "checksum", "path"}

// parseIndex reads a list of pictures: JSON, an array of objects; or CSV, whose first line names the columns. Rows that
// cannot be used are errors, and the others are taken.
func parseIndex(data []byte) (*index, error) {
	x := &index{byID: map[string][]int{}, bySum: map[string][]int{}, byName: map[string][]int{}}
	text := strings.TrimSpace(strings.TrimPrefix(string(data), "\uFEFF"))
	var rows []indexRow
	var all []error
	if strings.HasPrefix(text, "[") {
		if err := json.Unmarshal([]byte(text), &rows); err != nil {
			return nil, fmt.Errorf("its index is not a list of pictures: %w", err)
		}
	} else {
		c := csv.NewReader(strings.NewReader(text))
		c.FieldsPerRecord, c.TrimLeadingSpace, c.LazyQuotes, c.ReuseRecord = -1, true, true, true
		head, err := c.Read()
		if err != nil || !slices.Contains(head, "path") {
			return nil, errors.New("the first line of its index has no column path; columns are: " +
				strings.Join(indexColumns, ", "))
		}
		column := map[string]int{}
		for i, h := range head {
			column[strings.ToLower(strings.TrimSpace(h))] = i
		}
		for {
			rec, err := c.Read()
			if err == io.EOF {
				break
			}
			if err != nil {
				all = append(all, fmt.Errorf("its index: %w", err))
				continue
			}
			get := func(name string) string {
				if i, ok := column[name]; ok && i < len(rec) {
					return strings.TrimSpace(rec[i])
				}
				return ""
			}
			rows = append(rows, indexRow{get("platform"), get("kind"), get("id"), get("name"), get("checksum"),
				get("path")})
		}
	}
	climbs := 0
	for _, r := range rows {
		if bench.CheckRelative(r.Path) != nil {
			climbs++
			continue
		}
		if r.Kind == "" {
			r.Kind = "front"
		}
		n := len(x.rows)
		x.rows = append(x.rows, r)
		put := func(m map[string][]int, key string) {
			if key != "" {
				m[key] = append(m[key], n)
			}
		}
		put(x.byID, fold(r.ID))
		put(x.bySum, strings.ToLower(r.Checksum))
		put(x.byName, fold(bare(r.Name)))
	}
	if climbs > 0 {
		all = append(all, fmt.Errorf("%s in its index have no path or one outside the server's own, and are skipped",
			size.Count(climbs, "line")))
	}
	return x, errors.Join(all...)
}

// paths are those of the pictures for a disc of a title.
func (x *index) paths(t *title.Title, disc int, of string) (out []string) {
	d := &t.Discs[disc]
	add := func(rows []int) {
		for _, n := range rows {
			if r := &x.rows[n]; r.Kind == of && (r.Platform == "" || t.Platform == "" || strings.EqualFold(r.Platform,
				t.Platform)) {
				parts := strings.Split(r.Path, "/")
				for i := range parts {
					parts[i] = url.PathEscape(parts[i])
				}
				if p := strings.Join(parts, "/"); !slices.Contains(out, p) {
					out = append(out, p)
				}
			}
		}
	}
	add(x.byID[fold(d.ID)])
	for _, sum := range sumsOf(d) {
		add(x.bySum[sum])
	}
	if disc == 0 {
		add(x.byName[fold(bare(t.Name))])
	}
	return out
}

// list fetches the server's index, once.
func (a *asker) list(ctx context.Context) (*index, error) {
	a.once.Do(func() {
		r, err := a.ask(ctx, a.Index, fetch{}, largestIndex)
		if err != nil {
			a.indexErr = fmt.Errorf("the index of %s: %w", a.Name, err)
			return
		}
		a.index, err = parseIndex(r.data)
		if err != nil {
			a.indexErr = fmt.Errorf("%s: %w", a.Name, err)
		}
	})
	return a.index, a.indexErr
}
