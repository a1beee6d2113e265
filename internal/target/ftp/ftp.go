// Package ftp is the target that is a volume of a console, reached over FTP (RFC 959, with RFC 2428, 3659 and 4217
// where the server knows them). It does with what small servers can: one data connection at a time, no machine-readable
// listings, no taking up of interrupted transfers, and connections that are dropped when nothing is said for a while.
package ftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/textproto"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/remote"
)

// Protocol is FTP, without and with TLS.
var Protocol = remote.Protocol{
	Name: "ftp", Word: "FTP", Server: "FTP", Port: usualPort, Costly: true, Disk: "disk",
	Schemes: []remote.Scheme{{Name: "ftp", Example: "ftp://192.168.0.20/hd1", Plain: true},
		{Name: withTLS, Example: "ftps://192.168.0.20/hd1"}},
	Usual: remote.Usual{Slow: 5 * size.MiB, Fast: 11 * size.MiB, Least: 60 * time.Millisecond,
		Most: 400 * time.Millisecond},
	Greets: func(line string) bool { // RFC 959, 4.2: a code of three digits
		return len(line) >= 3 && line[0] >= '1' && line[0] <= '5' && strings.Trim(line[:3], "0123456789") == ""
	},
	Open: func(ctx context.Context, a remote.Address, s remote.Settings) (target.Target, error) {
		return Open(ctx, a, s)
	},
}

// usualPort is where FTP servers listen.
const usualPort = 21

// withTLS is the scheme for servers that are asked for TLS (RFC 4217).
const withTLS = "ftps"

// usualConnections is how many data connections there are at a time where nothing else is known.
const usualConnections = 4

// Target is a volume that gets filled.
type Target struct {
	addr   remote.Address
	opts   remote.Settings
	fs     target.Filesystem // what holds on the console's disk
	names  naming
	traits *traits

	pool pool

	looking sync.Mutex        // held while a folder is listed, so that it is listed once
	mu      sync.Mutex        // guards what follows
	folders map[string]look   // folders as they were listed last, with what was done since
	now     *underway         // the listing that is being made; nil for none
	readers map[*content]bool // transfers that were begun and not ended
}

// underway is a listing that is being made. The server may have made it before what is done meanwhile.
type underway struct {
	key   string
	noted []func(map[string]target.Entry) // what was done in the folder since it was asked for
	stale bool                            // someone needs a newer one
}

// look is a folder as it was listed.
type look struct {
	at      time.Time
	entries map[string]target.Entry // by folded name
}

// lookFor is how long a listing counts while no one else is known to write there.
const lookFor = 20 * time.Second

var (
	_ target.Target         = (*Target)(nil)
	_ target.Resumer        = (*Target)(nil)
	_ target.ParallelWriter = (*Target)(nil)
)

// Open connects and logs in.
func Open(ctx context.Context, a remote.Address, o remote.Settings) (*Target, error) {
	if o.Timeout == 0 {
		o.Timeout = remote.Timeout
	}
	if a.Port == 0 {
		a.Port = o.Port
	}
	if a.Port == 0 {
		a.Port = usualPort
	}
	if a.User != "" {
		o.User = a.User
	}
	names, err := namingOf(o.Encoding)
	if err != nil {
		return nil, err
	}
	if o.Cluster == 0 && o.Filesystem == nil {
		o.Cluster = 16 * size.KiB
	}
	p := &Target{addr: a, opts: o, fs: filesystem(o), names: names, traits: traitsOf(a.Host, a.Port),
		folders: map[string]look{},
		readers: map[*content]bool{}}
	p.pool.init(p.AtOnce() + 1) // one more for what is asked meanwhile
	err = p.do(ctx, "connecting to", "", true, func(*session) error { return nil })
	if err != nil {
		return nil, err
	}
	return p, nil
}

// filesystem is what holds on a console's disk.
func filesystem(o remote.Settings) target.Filesystem {
	f := target.UnknownFilesystem("own")
	if f.Shown, f.CaseSensitive = "its own", !o.FoldsCase; o.Filesystem != nil {
		f = *o.Filesystem
	}
	if f.Spelling = o.Encoding; strings.EqualFold(f.Spelling, "utf-8") || strings.EqualFold(f.Spelling, "utf8") {
		f.Spelling = ""
	}
	return f
}

// secure reports whether what is sent cannot be read on the way.
func (p *Target) secure() bool { return p.addr.Scheme == withTLS }

// AtOnce is how many small files are sent side by side.
func (p *Target) AtOnce() int {
	n := p.opts.Connections
	if n == 0 {
		n = usualConnections
	}
	if bears := int(p.traits.connections.Load()); bears > 0 {
		n = min(n, max(1, bears-1))
	}
	return n
}

// full is a path on the server.
func (p *Target) full(name string) string {
	return p.names.encode("/" + strings.TrimSuffix(path.Join(p.addr.Root, name), "/."))
}

// inside keeps paths below the target's root.
func inside(name string) error {
	if !fs.ValidPath(name) {
		return fs.ErrInvalid
	}
	if strings.ContainsAny(name, "\r\n\x00") {
		return errors.New("a path cannot hold line ends over FTP")
	}
	return nil
}

// check says why a path cannot be named to the server.
func (p *Target) check(name string) error {
	if err := inside(name); err != nil {
		return err
	}
	return p.names.check(name)
}

// broken reports whether an error is the connection's, and not an answer.
func broken(err error) bool {
	var te *textproto.Error
	if errors.As(err, &te) {
		return te.Code == ftp.StatusNotAvailable || te.Code == ftp.StatusTransfertAborted
	}
	var ne net.Error
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, net.ErrClosed) ||
		errors.As(err, &ne)
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil {
		return nil
	}
	at := p.addr.Host
	if name != "" {
		at = p.full(name) + " on " + p.addr.Host
	}
	var te *textproto.Error
	said := errors.Is(err, target.ErrGone) || errors.Is(err, target.ErrReadOnly) || errors.Is(err, target.ErrBusy)
	if !said && errors.As(err, &te) {
		if p.secure() && wantsSession(te) {
			return &remote.RefusedError{Err: err,
				Say: fmt.Sprintf("%s %s: the server requires TLS session reuse but gives "+
					"no session ticket: allow TLS 1.3 or session tickets there, or turn that requirement off (it "+
					"says %d "+
					"%s)",
					doing, at, te.Code, strings.TrimSpace(te.Msg))}
		}
		var kind error
		switch te.Code {
		case ftp.StatusExceededStorage, 452:
			kind = target.ErrNoSpace
		case ftp.StatusNotLoggedIn, ftp.StatusStorNeedAccount:
			kind = target.ErrReadOnly
		case ftp.StatusFileUnavailable, ftp.StatusBadFileName:
			if writes(doing) && denied(te.Msg) {
				kind = target.ErrReadOnly
			}
		case ftp.StatusFileActionIgnored, ftp.StatusActionAborted, ftp.StatusCanNotOpenDataConnection:
			kind = target.ErrBusy
		}
		say := strings.TrimSpace(te.Msg)
		if kind != nil {
			return fmt.Errorf("%s %s: %w (the server says %d %s)", doing, at, kind, te.Code, say)
		}
		return fmt.Errorf("%s %s: the server says %d %s", doing, at, te.Code, say)
	}
	return fmt.Errorf("%s %s: %w", doing, at, err)
}

// writes reports whether something that is done changes what is on the server.
func writes(doing string) bool {
	return slices.Contains([]string{"making the folder", "beginning", "sending", "resuming", "naming", "renaming",
		"replacing", "removing"}, strings.TrimSpace(doing))
}

// denied reports whether a server says that it may not be done, and not that there is no such file: both have one code
// (RFC 959, 4.2.1).
func denied(say string) bool {
	say = strings.ToLower(say)
	return slices.ContainsFunc([]string{"denied", "not allowed", "not permitted", "permission", "privilege",
		"read-only", "read only", "forbidden"}, func(word string) bool { return strings.Contains(say, word) })
}

// Claim has the volume to itself: by the server that answered, and the path there.
func (p *Target) Claim() (release func(), err error) {
	p.pool.mu.Lock()
	at := p.pool.at
	p.pool.mu.Unlock()
	return claim.Named("ftp " + at + " " + strings.ToLower(path.Clean("/"+p.addr.Root)))
}

// Close ends all sessions.
func (p *Target) Close() error {
	p.stopReaders()
	p.pool.close()
	return nil
}

// listed lists one folder. Who changes what it returns holds mu.
func (p *Target) listed(ctx context.Context, dir string) (map[string]target.Entry, error) {
	p.looking.Lock()
	defer p.looking.Unlock()
	key := p.fs.Fold(dir)
	p.mu.Lock()
	l, ok := p.folders[key]
	p.mu.Unlock()
	if ok && time.Since(l.at) < lookFor {
		return l.entries, nil
	}
	l = look{at: time.Now(), entries: map[string]target.Entry{}}
	now := &underway{key: key}
	p.mu.Lock()
	p.now = now
	p.mu.Unlock()
	err := p.do(ctx, "listing", dir, true, func(s *session) error {
		clear(l.entries)
		s.listing = true
		entries, err := s.c.List(p.full(dir))
		s.listing = false
		if err != nil {
			return err
		}
		half := map[string]bool{}
		for _, e := range entries {
			name := p.names.decode(path.Base(e.Name))
			if name == "." || name == ".." || name == "/" || e.Type == ftp.EntryTypeLink || strings.ContainsAny(e.Name,
				"/") {
				continue
			}
			x := target.Entry{Path: path.Join(dir, name), Folder: e.Type == ftp.EntryTypeFolder, Modified: e.Time}
			if !x.Folder {
				x.Size = int64(e.Size)
			}
			if isMarker(name) {
				half[name] = true
				continue
			}
			l.entries[p.fs.Fold(name)] = x
		}
		for key, x := range l.entries { // what is half written under its own name is not there
			if half[path.Base(markerOf(x.Path))] {
				delete(l.entries, key)
			}
		}
		return nil
	})
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now = nil
	if err != nil {
		return nil, err
	}
	for _, done := range now.noted {
		done(l.entries)
	}
	if !now.stale {
		p.folders[key] = l
	}
	return l.entries, nil
}

// note brings something that was done into the listing of its folder.
func (p *Target) note(name string, e *target.Entry) {
	p.mu.Lock()
	defer p.mu.Unlock()
	dir, key := p.fs.Fold(path.Dir(name)), p.fs.Fold(path.Base(name))
	done := func(entries map[string]target.Entry) {
		if e == nil {
			delete(entries, key)
		} else {
			entries[key] = *e
		}
	}
	if l, ok := p.folders[dir]; ok {
		done(l.entries)
	}
	if p.now != nil && p.now.key == dir {
		p.now.noted = append(p.now.noted, done)
	}
}

// forget has everything be listed again.
func (p *Target) forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.folders)
	if p.now != nil {
		p.now.stale = true
	}
}

// forgetFolder has one folder be listed again.
func (p *Target) forgetFolder(dir string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	key := p.fs.Fold(dir)
	delete(p.folders, key)
	if p.now != nil && p.now.key == key {
		p.now.stale = true
	}
}

// find looks for a file or folder in the listing of its folder.
func (p *Target) find(ctx context.Context, name string) (target.Entry, bool, error) {
	if err := p.check(name); err != nil {
		return target.Entry{}, false, err
	}
	if name == "." {
		return target.Entry{Path: ".", Folder: true}, true, nil
	}
	if dir := path.Dir(name); dir != "." {
		if parent, ok, err := p.find(ctx, dir); err != nil || !ok || !parent.Folder {
			return target.Entry{}, false, err
		}
	}
	entries, err := p.listed(ctx, path.Dir(name))
	if err != nil {
		return target.Entry{}, false, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	e, ok := entries[p.fs.Fold(path.Base(name))]
	return e, ok, nil
}

// Stat looks at one file or folder.
func (p *Target) Stat(ctx context.Context, name string) (target.Entry, error) {
	e, ok, err := p.find(ctx, name)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err != nil {
		return e, p.explain("looking at", name, err)
	}
	return e, nil
}

// entries are what is in a folder.
func (p *Target) entries(ctx context.Context, dir string) ([]target.Entry, error) {
	all, err := p.listed(ctx, dir)
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Collect(maps.Values(all)), err
}

// List goes through all folders, with one listing each.
func (p *Target) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	p.forget()
	var out []target.Entry
	var bounds remote.Bounds
	var many error
	var walk func(dir string) error
	walk = func(dir string) error {
		if err := bounds.Deep(dir); err != nil {
			return err
		}
		found, err := p.entries(ctx, dir)
		if err != nil {
			return err
		}
		if many = bounds.Count(len(found)); many != nil {
			return many
		}
		for _, e := range found {
			out = append(out, e)
			if !e.Folder {
				continue
			}
			if err := walk(e.Path); err != nil {
				if ctx.Err() != nil || many != nil || errors.Is(err, target.ErrGone) {
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
	if many != nil {
		return nil, p.explain("listing", ".", many)
	}
	slices.SortFunc(out, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, err
}

// Stamp lists the folders again, as FTP tells changes in no other way.
func (p *Target) Stamp(ctx context.Context, of []target.Entry) (string, error) {
	p.forget()
	return remote.Stamp(of, func(dir string) ([]target.Entry, error) { return p.entries(ctx, dir) })
}

// Facts are what was declared, less what is there.
func (p *Target) Facts(ctx context.Context, listed []target.Entry) (target.Facts, error) {
	f := target.Facts{Filesystem: p.fs, Declared: true, Capacity: p.opts.Capacity, Cluster: p.opts.Cluster,
		Volume: target.Fixed, Network: "ftp"}
	left, reported, err := p.space(ctx)
	if err != nil {
		return f, err
	}
	if f.Capacity == 0 {
		f.Capacity, f.Unknown = remote.UnknownSpace, !reported // the server says when it is full
	}
	if f.Cluster == 0 {
		f.Cluster = f.Filesystem.Cluster(f.Capacity)
	}
	if listed == nil {
		if listed, err = p.List(ctx, nil); err != nil {
			return f, err
		}
	}
	switch used := f.Used(listed); {
	case reported && p.opts.Capacity == 0:
		f.Capacity, f.Free, f.Declared = left+used, left, false
	default:
		f.Free = f.Capacity - f.Filesystem.Structures(f.Capacity, f.Cluster) - used
		if reported {
			f.Free = min(f.Free, left)
		}
	}
	return f, nil
}

// MakeFolder makes a folder and those above it.
func (p *Target) MakeFolder(ctx context.Context, name string) error {
	if err := p.check(name); err != nil {
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
			return p.explain("making the folder", at, target.ErrExists)
		}
		if err := p.do(ctx, "making the folder", at, true,
			func(s *session) error { return s.c.MakeDir(p.full(at)) }); err != nil {
			return err
		}
		p.note(at, &target.Entry{Path: at, Folder: true, Modified: time.Now()})
	}
	return nil
}

// Remove removes a file, or an empty folder.
func (p *Target) Remove(ctx context.Context, name string) error {
	e, ok, err := p.find(ctx, name)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err != nil {
		return p.explain("removing", name, err)
	}
	if e.Folder {
		found, err := p.entries(ctx, name)
		if err != nil {
			return err
		}
		if len(found) > 0 {
			return p.explain("removing", name, errors.New("the folder is not empty"))
		}
	}
	err = p.do(ctx, "removing", name, false, func(s *session) error {
		if e.Folder {
			return s.c.RemoveDir(p.full(name))
		}
		return s.c.Delete(p.full(name))
	})
	if err != nil {
		p.forget()
		return err
	}
	p.note(name, nil)
	return nil
}

// Rename gives a file or folder another path.
func (p *Target) Rename(ctx context.Context, from, to string) error {
	e, ok, err := p.find(ctx, from)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	if err != nil {
		return p.explain("renaming", from, err)
	}
	fold := p.fs.Fold
	if _, there, err := p.find(ctx, to); err != nil {
		return p.explain("renaming "+from+" to", to, err)
	} else if there && fold(from) != fold(to) {
		return p.explain("renaming "+from+" to", to, target.ErrExists)
	}
	if _, err := p.rename(ctx, from, to, time.Time{}); err != nil {
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

// rename gives a file or folder another path, and a file its date unless that is zero. It reports whether it did that,
// too.
func (p *Target) rename(ctx context.Context, from, to string, date time.Time) (dated bool, err error) {
	var no bool
	err = p.do(ctx, "renaming "+from+" to", to, false, func(s *session) (err error) {
		if s.plain && p.traits.inOneGo.Load() {
			if !s.c.IsSetTimeSupported() || p.traits.noSetTime.Load() {
				date = time.Time{}
			}
			err = p.renameAtOnce(s, from, to, date)
			if dated = err == nil && !date.IsZero(); errors.Is(err, errUndated) {
				err = nil
			}
		} else {
			err = s.c.Rename(p.full(from), p.full(to))
		}
		no = unknown(err)
		return err
	})
	if no { // the next try writes files under their own names
		p.traits.noRename.Store(true)
		return false, fmt.Errorf("%w: %w", target.ErrBusy, err)
	}
	if err != nil {
		p.forget()
		return false, err
	}
	p.traits.renames.Store(true)
	return dated, nil
}
