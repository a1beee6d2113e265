// Package ftp is the place that is a volume of a console, reached over FTP (RFC 959, with RFC 2428, 3659 and 4217 where the server
// knows them). It does with what small servers can: one data connection at a time, no machine-readable listings, no taking up of
// broken-off transfers, and connections that are dropped when nothing is said for a while.
package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"polytome/internal/place"
	"polytome/internal/place/remote"
)

// Options say what the server does not tell.
type Options struct {
	User, Password string           // "" for anonymous
	Port           int              // where the address has none
	Filesystem     place.Filesystem // what holds on the console's disk
	Room, Cluster  int64            // bytes; a room of 0 is not known
	Idle           time.Duration    // after which the server drops a connection that says nothing; 0 for one that does not
	Timeout        time.Duration    // for which nothing may come; 0 for half a minute
	NoListing      bool             // machine-readable listings are not asked for
}

// Place is a volume that gets filled.
type Place struct {
	addr Address
	opts Options

	mu      sync.Mutex
	s       *session
	reading *content        // whose transfer is under way on the session
	folders map[string]look // folders as they were listed last, with what was done since
	noRest  bool            // the server does not begin in the middle of a file
}

// look is a folder as it was listed.
type look struct {
	at      time.Time
	entries map[string]place.Entry // by folded name
}

// lookFor is how long a listing counts while nobody else is known to write there.
const lookFor = 20 * time.Second

// session is one connection that commands are given over.
type session struct {
	c    *ftp.ServerConn
	used time.Time
	conn net.Conn
}

var _ place.Place = (*Place)(nil)

// Open connects and logs in.
func Open(ctx context.Context, a Address, o Options) (*Place, error) {
	if o.Timeout == 0 {
		o.Timeout = 30 * time.Second
	}
	if a.Port == 0 {
		a.Port = o.Port
	}
	if a.Port == 0 {
		a.Port = 21
	}
	if a.User != "" {
		o.User = a.User
	}
	p := &Place{addr: a, opts: o, folders: map[string]look{}}
	err := p.do(ctx, "connecting to", "", true, func(*ftp.ServerConn) error { return nil })
	if err != nil {
		return nil, err
	}
	return p, nil
}

// busyTries is how often it is tried again when a server has no data connection to give, and busyWait how long is waited before.
const (
	busyTries = 10
	busyWait  = 100 * time.Millisecond
)

// dial makes a new session.
func (p *Place) dial(ctx context.Context) (*session, error) {
	s := &session{used: time.Now()}
	host := net.JoinHostPort(p.addr.Host, strconv.Itoa(p.addr.Port))
	dialer := net.Dialer{Timeout: p.opts.Timeout}
	options := []ftp.DialOption{
		ftp.DialWithTimeout(p.opts.Timeout), ftp.DialWithDisabledMLSD(p.opts.NoListing), ftp.DialWithShutTimeout(p.opts.Timeout),
		ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) {
			c, err := dialer.DialContext(ctx, network, address)
			if err != nil {
				return nil, err
			}
			d := &remote.Deadlined{Conn: c, Limit: p.opts.Timeout}
			if s.conn == nil {
				s.conn = d // the first one is that for commands
			}
			return d, nil
		}),
	}
	if p.addr.Secure() {
		options = append(options, ftp.DialWithExplicitTLS(&tls.Config{ServerName: p.addr.Host, MinVersion: tls.VersionTLS12}))
	}
	c, err := ftp.Dial(host, options...)
	if err != nil {
		return nil, p.unreachable(err)
	}
	user, password := p.opts.User, p.opts.Password
	if user == "" {
		user, password = "anonymous", "anonymous"
	}
	if err := c.Login(user, password); err != nil {
		_ = c.Quit()
		return nil, p.refused(user, err)
	}
	s.c = c
	return s, nil
}

// Address is where the volume of a console is.
type Address = remote.Address

// ParseAddress takes an address apart. ok is false for one of another kind.
func ParseAddress(s string) (a Address, ok bool, err error) {
	return remote.Parse(s, remote.FTP, remote.FTPS)
}

func (p *Place) refused(user string, err error) error {
	if !broken(err) {
		if user == "anonymous" {
			user = ""
		}
		return &remote.LoginError{Address: p.addr, User: user, Err: err}
	}
	return fmt.Errorf("%w: logging in to %s: %w", place.ErrGone, p.addr.Host, err)
}

// unreachable says in words why there is no connection.
func (p *Place) unreachable(err error) error {
	if say := remote.Unreachable(p.addr.Host, p.addr.Port, "FTP server", err); say != nil {
		return say
	}
	host := net.JoinHostPort(p.addr.Host, strconv.Itoa(p.addr.Port))
	var te *textproto.Error
	if errors.As(err, &te) {
		return fmt.Errorf("%w: %s answers: %s (%w)", place.ErrGone, host, te.Error(), err)
	}
	return fmt.Errorf("%w: the connection to %s broke off at once (%w)", place.ErrGone, host, err)
}

// full is a path on the server.
func (p *Place) full(name string) string {
	return "/" + strings.TrimSuffix(path.Join(p.addr.Root, name), "/.")
}

// inside keeps paths below the place's root.
func inside(name string) error {
	if !fs.ValidPath(name) {
		return fs.ErrInvalid
	}
	if strings.ContainsAny(name, "\r\n\x00") {
		return errors.New("a path cannot hold line ends over FTP")
	}
	return nil
}

// do gives commands over the session, which is made where there is none, or a stale one. again says that the commands may be given
// a second time when the connection breaks.
func (p *Place) do(ctx context.Context, doing, name string, again bool, commands func(c *ftp.ServerConn) error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.locked(ctx, doing, name, again, commands)
}

func (p *Place) locked(ctx context.Context, doing, name string, again bool, commands func(c *ftp.ServerConn) error) error {
	if name != "" {
		if err := inside(name); err != nil {
			return p.explain(doing, name, err)
		}
	}
	if p.reading != nil {
		p.reading.stop()
	}
	var err error
	for try := 0; ; try++ {
		if err = ctx.Err(); err != nil {
			return err
		}
		if p.s != nil && p.opts.Idle > 0 && time.Since(p.s.used) > p.opts.Idle*3/4 {
			p.drop() // it is gone by now, or will be in the middle of something
		}
		fresh := p.s == nil
		if fresh {
			if p.s, err = p.dial(ctx); err != nil {
				p.s = nil
				return p.explain(doing, name, err)
			}
		}
		stop := context.AfterFunc(ctx, p.s.kill)
		err = commands(p.s.c)
		stop()
		if p.s != nil {
			p.s.used = time.Now()
		}
		if err == nil {
			return nil
		}
		var te *textproto.Error
		if again && try < busyTries && errors.As(err, &te) && te.Code == ftp.StatusCanNotOpenDataConnection {
			select { // it takes one at a time, and has not quite ended the last one
			case <-ctx.Done():
			case <-time.After(busyWait):
			}
			continue
		}
		if !broken(err) {
			return p.explain(doing, name, err)
		}
		p.drop()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !again || try > 0 || fresh {
			return p.explain(doing, name, fmt.Errorf("%w: the connection to %s broke off: %w", place.ErrGone, p.addr.Host, err))
		}
	}
}

func (s *session) kill() {
	if s.conn != nil {
		_ = s.conn.Close()
	}
}

// drop gives the session up.
func (p *Place) drop() {
	if p.s != nil {
		p.s.kill()
		p.s = nil
	}
}

// broken reports whether an error is the connection's, and not an answer.
func broken(err error) bool {
	var te *textproto.Error
	if errors.As(err, &te) {
		return te.Code == ftp.StatusNotAvailable || te.Code == ftp.StatusTransfertAborted
	}
	var ne net.Error
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed) || errors.As(err, &ne)
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Place) explain(doing, name string, err error) error {
	if err == nil {
		return nil
	}
	at := p.addr.Host
	if name != "" {
		at = p.full(name) + " on " + p.addr.Host
	}
	var te *textproto.Error
	if errors.As(err, &te) {
		var kind error
		switch te.Code {
		case ftp.StatusExceededStorage, 452:
			kind = place.ErrNoRoom
		case ftp.StatusNotLoggedIn, ftp.StatusStorNeedAccount:
			kind = place.ErrReadOnly
		}
		say := strings.TrimSpace(te.Msg)
		if kind != nil {
			return fmt.Errorf("%s %s: %w (the server says %d %s)", doing, at, kind, te.Code, say)
		}
		return fmt.Errorf("%s %s: the server says %d %s", doing, at, te.Code, say)
	}
	return fmt.Errorf("%s %s: %w", doing, at, err)
}

// Close ends the session.
func (p *Place) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.reading != nil {
		p.reading.stop()
	}
	if p.s != nil {
		_ = p.s.c.Quit() // a server that has hung up does not matter any more
		p.s = nil
	}
	return nil
}

// listed lists one folder.
func (p *Place) listed(ctx context.Context, dir string) (look, error) {
	if l, ok := p.folders[p.opts.Filesystem.Fold(dir)]; ok && time.Since(l.at) < lookFor {
		return l, nil
	}
	l := look{at: time.Now(), entries: map[string]place.Entry{}}
	err := p.locked(ctx, "listing", dir, true, func(c *ftp.ServerConn) error {
		entries, err := c.List(p.full(dir))
		if err != nil {
			return err
		}
		for _, e := range entries {
			name := path.Base(e.Name)
			if name == "." || name == ".." || name == "/" || e.Type == ftp.EntryTypeLink || strings.ContainsAny(e.Name, "/") {
				continue
			}
			x := place.Entry{Path: path.Join(dir, name), Folder: e.Type == ftp.EntryTypeFolder, Modified: e.Time}
			if !x.Folder {
				x.Size = int64(e.Size)
			}
			l.entries[p.opts.Filesystem.Fold(name)] = x
		}
		return nil
	})
	if err != nil {
		return l, err
	}
	p.folders[p.opts.Filesystem.Fold(dir)] = l
	return l, nil
}

// note brings something that was done into the listing of its folder.
func (p *Place) note(name string, e *place.Entry) {
	l, ok := p.folders[p.opts.Filesystem.Fold(path.Dir(name))]
	if !ok {
		return
	}
	if key := p.opts.Filesystem.Fold(path.Base(name)); e == nil {
		delete(l.entries, key)
	} else {
		l.entries[key] = *e
	}
}

// forget has everything be listed anew.
func (p *Place) forget() { clear(p.folders) }

// find looks for a file or folder in the listing of its folder.
func (p *Place) find(ctx context.Context, name string) (place.Entry, bool, error) {
	if err := inside(name); err != nil {
		return place.Entry{}, false, err
	}
	if name == "." {
		return place.Entry{Path: ".", Folder: true}, true, nil
	}
	if dir := path.Dir(name); dir != "." {
		if parent, ok, err := p.find(ctx, dir); err != nil || !ok || !parent.Folder {
			return place.Entry{}, false, err
		}
	}
	l, err := p.listed(ctx, path.Dir(name))
	if err != nil {
		return place.Entry{}, false, err
	}
	e, ok := l.entries[p.opts.Filesystem.Fold(path.Base(name))]
	return e, ok, nil
}

// Stat looks at one file or folder.
func (p *Place) Stat(ctx context.Context, name string) (place.Entry, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	e, ok, err := p.find(ctx, name)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err != nil {
		return e, p.explain("looking at", name, err)
	}
	return e, nil
}

// List goes through all folders, with one listing each.
func (p *Place) List(ctx context.Context, problem func(string, error)) ([]place.Entry, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.forget()
	var out []place.Entry
	var walk func(dir string) error
	walk = func(dir string) error {
		l, err := p.listed(ctx, dir)
		if err != nil {
			return err
		}
		for _, e := range l.entries {
			out = append(out, e)
			if !e.Folder {
				continue
			}
			if err := walk(e.Path); err != nil {
				if ctx.Err() != nil || errors.Is(err, place.ErrGone) {
					return err
				}
				if problem != nil {
					problem(e.Path, err)
				}
			}
		}
		return nil
	}
	err := walk(".")
	slices.SortFunc(out, func(a, b place.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, err
}

// Stamp lists the folders again, as FTP tells changes in no other way.
func (p *Place) Stamp(ctx context.Context, of []place.Entry) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.forget()
	h := fnv.New64a()
	dirs := []string{"."}
	for i := range of {
		if of[i].Folder {
			dirs = append(dirs, of[i].Path)
		}
	}
	for _, dir := range dirs {
		l, err := p.listed(ctx, dir)
		if err != nil {
			return "", err
		}
		var lines []string
		for _, e := range l.entries {
			lines = append(lines, fmt.Sprintf("%s %t %d %d", e.Path, e.Folder, e.Size, e.Modified.Unix()))
		}
		slices.Sort(lines)
		_, _ = io.WriteString(h, strings.Join(lines, "\n"))
	}
	return fmt.Sprintf("%x", h.Sum64()), nil
}

// Facts are what was declared, less what is there.
func (p *Place) Facts(ctx context.Context, listed []place.Entry) (place.Facts, error) {
	f := place.Facts{Filesystem: p.opts.Filesystem, Declared: true, Capacity: p.opts.Room, Cluster: p.opts.Cluster}
	if f.Capacity == 0 {
		f.Capacity = 2 << 40 // nobody tells; the server says when it is full
	}
	if f.Cluster == 0 {
		f.Cluster = f.Filesystem.Cluster(f.Capacity)
	}
	if listed == nil {
		var err error
		if listed, err = p.List(ctx, nil); err != nil {
			return f, err
		}
	}
	f.Free = f.Capacity - f.Filesystem.Structures(f.Capacity, f.Cluster) - f.Used(listed)
	return f, nil
}

// MakeFolder makes a folder and those above it.
func (p *Place) MakeFolder(ctx context.Context, name string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := inside(name); err != nil {
		return p.explain("making the folder", name, err)
	}
	at := ""
	for elem := range strings.SplitSeq(name, "/") {
		at = path.Join(at, elem)
		e, ok, err := p.find(ctx, at)
		switch {
		case err != nil:
			return err
		case ok && e.Folder:
			continue
		case ok:
			return p.explain("making the folder", at, place.ErrExists)
		}
		if err := p.locked(ctx, "making the folder", at, true, func(c *ftp.ServerConn) error { return c.MakeDir(p.full(at)) }); err != nil {
			return err
		}
		p.note(at, &place.Entry{Path: at, Folder: true, Modified: time.Now()})
	}
	return nil
}

// Remove removes a file, or an empty folder.
func (p *Place) Remove(ctx context.Context, name string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	e, ok, err := p.find(ctx, name)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err != nil {
		return p.explain("removing", name, err)
	}
	if e.Folder {
		l, err := p.listed(ctx, name)
		if err != nil {
			return err
		}
		if len(l.entries) > 0 {
			return p.explain("removing", name, errors.New("the folder is not empty"))
		}
	}
	err = p.locked(ctx, "removing", name, false, func(c *ftp.ServerConn) error {
		if e.Folder {
			return c.RemoveDir(p.full(name))
		}
		return c.Delete(p.full(name))
	})
	if err != nil {
		p.forget()
		return err
	}
	p.note(name, nil)
	return nil
}

// Rename gives a file or folder another path.
func (p *Place) Rename(ctx context.Context, from, to string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	e, ok, err := p.find(ctx, from)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err != nil {
		return p.explain("renaming", from, err)
	}
	fold := p.opts.Filesystem.Fold
	if _, there, err := p.find(ctx, to); err != nil {
		return p.explain("renaming "+from+" to", to, err)
	} else if there && fold(from) != fold(to) {
		return p.explain("renaming "+from+" to", to, place.ErrExists)
	}
	if err := p.rename(ctx, from, to); err != nil {
		return err
	}
	if e.Folder {
		p.forget() // all below it has other paths
		return nil
	}
	p.note(from, nil)
	e.Path = to
	p.note(to, &e)
	return nil
}

func (p *Place) rename(ctx context.Context, from, to string) error {
	err := p.locked(ctx, "renaming "+from+" to", to, false, func(c *ftp.ServerConn) error { return c.Rename(p.full(from), p.full(to)) })
	if err != nil {
		p.forget()
	}
	return err
}
