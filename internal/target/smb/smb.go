// Package smb is the target that is a folder of a share, reached over SMB 2 and 3 ([MS-SMB2]): as a guest, or as a user
// with a password. What is sent is signed or encrypted as the server asks. Several writes are under way at a time, and
// several reads.
package smb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	smb2 "github.com/cloudsoda/go-smb2"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/remote"
)

// Options say what the server does not tell.
type Options struct {
	User, Password    string             // "" for a guest
	Filesystem        *target.Filesystem // what is declared of the share; nil to find out what can be
	Capacity, Cluster int64              // declared, in bytes; 0 for what the server tells
	Timeout           time.Duration      // for which nothing may come; 0 for half a minute
}

// Address is where a share is: its name comes first in the root.
type Address = remote.Address

// ParseAddress takes an address apart. ok is false for one of another kind.
func ParseAddress(s string) (a Address, ok bool, err error) { return remote.Parse(s, remote.SMB) }

// credits are how much may be under way at a time, in units of 64 KiB ([MS-SMB2] 3.2.4.1.2).
const credits = 512

// usualPort is where SMB servers listen.
const usualPort = 445

// server is a connection that someone is logged in over.
type server struct {
	addr    Address
	user    string
	conn    *remote.Watched
	frames  *framed
	session *smb2.Session
	stop    context.CancelFunc
}

// connect connects and logs in. The connection lasts as long as the context, and a moment longer, for what is done at
// the end.
func connect(ctx context.Context, a Address, o Options) (*server, error) {
	if o.Timeout == 0 {
		o.Timeout = 30 * time.Second
	}
	if a.Port == 0 {
		a.Port = usualPort
	}
	at := net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	dialer := net.Dialer{Timeout: o.Timeout}
	c, err := dialer.DialContext(ctx, "tcp", at)
	if err != nil {
		if say := remote.Unreachable(a.Host, a.Port, "SMB server", err); say != nil {
			return nil, say
		}
		return nil, fmt.Errorf("%w: connecting to %s: %w", target.ErrGone, at, err)
	}
	s := &server{addr: a, user: o.User}
	watching, stop := context.WithCancel(context.Background())
	s.frames = &framed{Conn: c}
	s.conn = remote.Watch(watching, s.frames, o.Timeout)
	hurry := context.AfterFunc(ctx, func() { _ = c.Close() }) // the library does not always ask the context
	parting := context.AfterFunc(ctx, func() {
		select {
		case <-time.After(remote.Farewell):
			_ = c.Close()
		case <-watching.Done():
		}
	})
	s.stop = func() { parting(); stop() }
	user := o.User
	if user == "" {
		user = "guest"
	}
	d := smb2.Dialer{MaxCreditBalance: credits, Initiator: &smb2.NTLMInitiator{User: user, Password: o.Password,
		Domain: a.Domain}}
	done := s.conn.Wait()
	s.session, err = d.DialConn(ctx, s.conn, at)
	done()
	if hurry(); err == nil && ctx.Err() == nil {
		return s, nil
	}
	s.stop()
	_ = c.Close()
	var re *smb2.ResponseError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case s.frames.wrong.Load() != nil:
		return nil, fmt.Errorf("what answers on port %d of %s is not a usable SMB server: %w", a.Port, a.Host,
			s.frames.wrong.Load())
	case errors.As(err, &re) && slices.Contains(denials, re.Code), errors.Is(err, os.ErrPermission):
		return nil, &remote.LoginError{Address: a, User: o.User, Given: o.Password != "", Err: wordy(err)}
	case errors.As(err, &re):
		return nil, &remote.RefusedError{Say: fmt.Sprintf("%s refuses the login: %v", a.Host, wordy(err)), Err: err}
	}
	if s.conn.Stalled() {
		return nil, fmt.Errorf("%w: something accepts the connection on port %d of %s but does not answer",
			target.ErrGone, a.Port, a.Host)
	}
	return nil, fmt.Errorf("%w: what answers on port %d of %s is not an SMB 2 or 3 server, or it was interrupted",
		target.ErrGone, a.Port, a.Host)
}

func (s *server) close() {
	s.stop()
	done := make(chan struct{})
	go func() { // a server that has hung up does not matter any longer
		_ = s.session.Logoff()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(time.Second):
	}
	_ = s.conn.Close()
}

// A Share is one that a server has.
type Share struct {
	Name    string `json:"name"`
	Comment string `json:"comment,omitempty"`
}

// Shares lists the shares of a server that hold files.
func Shares(ctx context.Context, a Address, o Options) ([]Share, error) {
	s, err := connect(ctx, a, o)
	if err != nil {
		return nil, err
	}
	defer s.close()
	defer s.conn.Wait()()
	all, err := s.session.WithContext(ctx).ListShares()
	if err != nil {
		return nil, fmt.Errorf("listing the shares of %s: %w", a.Host, s.classify(err))
	}
	var out []Share
	for _, x := range all {
		if x.Type() == smb2.ShareTypeDiskTree && !x.IsSpecial() {
			out = append(out, Share{x.Name, x.Comment})
		}
	}
	return out, nil
}

// Target is a folder of a share that gets filled.
type Target struct {
	*server
	opts  Options
	name  string // of the share
	root  string // folder in it, "" for its own root
	share *smb2.Share
	sense bool // names that differ by letter case only are different ones

	mu      sync.Mutex
	folders map[string]bool    // that are known to be there
	writers map[string]*writer // that have not ended, by their temporary names
}

var (
	_ target.Target         = (*Target)(nil)
	_ target.Resumer        = (*Target)(nil)
	_ target.ParallelWriter = (*Target)(nil)
)

// Open connects, logs in and opens the share.
func Open(ctx context.Context, a Address, o Options) (*Target, error) {
	if a.User != "" {
		o.User = a.User
	}
	name, root, _ := strings.Cut(a.Root, "/")
	if name == "" {
		say := ""
		if shares, err := Shares(ctx, a, o); err != nil {
			return nil, err
		} else if len(shares) > 0 {
			var names []string
			for _, s := range shares {
				names = append(names, s.Name)
			}
			say = "; there are: " + strings.Join(names, ", ")
		}
		return nil, fmt.Errorf("%s has no share name%s", a, say)
	}
	s, err := connect(ctx, a, o)
	if err != nil {
		return nil, err
	}
	p := &Target{server: s, opts: o, name: name, root: root, folders: map[string]bool{}, writers: map[string]*writer{}}
	done := s.conn.Wait()
	share, err := s.session.WithContext(ctx).Mount(name)
	if err == nil {
		p.share = share.WithContext(context.Background())
		if root != "" {
			var info os.FileInfo
			if info, err = share.Stat(p.full(".")); err == nil && !info.IsDir() {
				err = fs.ErrNotExist
			}
			if errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("there is no folder %s on the share %s", root, name)
			}
		}
	}
	done()
	if err == nil {
		err = p.learnCase(ctx)
	}
	if err != nil {
		err = s.classify(err)
		s.close()
		return nil, fmt.Errorf("opening the share %s of %s: %w", name, a.Host, err)
	}
	return p, nil
}

// learnCase finds out whether names that differ in their letter case are one name, by asking for something that is
// there by another spelling.
func (p *Target) learnCase(ctx context.Context) error {
	defer p.conn.Wait()()
	share := p.share.WithContext(ctx)
	infos, err := share.ReadDir(p.full("."))
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, i := range infos {
		there[i.Name()] = true
	}
	for _, i := range infos {
		swapped := strings.Map(func(r rune) rune {
			if unicode.IsUpper(r) {
				return unicode.ToLower(r)
			}
			return unicode.ToUpper(r)
		}, i.Name())
		if swapped == i.Name() || there[swapped] {
			p.sense = p.sense || there[swapped] && swapped != i.Name()
			continue
		}
		_, err := share.Stat(p.full(swapped))
		p.sense = errors.Is(err, fs.ErrNotExist)
		return nil //nolint:nilerr // the spelling is not there, or cannot be asked for
	}
	return nil
}

// Claim has the folder to itself: by the server that answered, the share, and the path there.
func (p *Target) Claim() (release func(), err error) {
	return claim.Named("smb " + p.conn.RemoteAddr().String() + " " + strings.ToLower(path.Clean("/"+p.name+"/"+p.root)))
}

// Close logs off.
func (p *Target) Close() error {
	p.server.close()
	return nil
}

// AtOnce is how many small files are written side by side.
func (p *Target) AtOnce() int { return 8 }

// full is a path in the share.
func (p *Target) full(name string) string {
	s := path.Join(p.root, name)
	if s == "." {
		return ""
	}
	return strings.ReplaceAll(s, "/", `\`)
}

// inside keeps paths below the target's root, and out of what the protocol gives a meaning to.
func inside(name string) error {
	if !fs.ValidPath(name) {
		return fs.ErrInvalid
	}
	if i := strings.IndexAny(name, "\\:*?\"<>|\x00"); i >= 0 {
		return fmt.Errorf("a share does not allow %q in a name", name[i])
	}
	return nil
}

// do has the share do something, and says what and with which path where that fails.
func (p *Target) do(ctx context.Context, doing, name string, act func(s *smb2.Share) error) error {
	if err := inside(name); err != nil {
		return p.explain(doing, name, err)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	defer p.conn.Wait()()
	err := act(p.share.WithContext(ctx))
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return p.explain(doing, name, err)
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("%s %s on %s of %s: %w", doing, path.Join(p.root, name), p.name, p.addr.Host, p.classify(err))
}

// Facts are the space that the server tells, or what was declared.
func (p *Target) Facts(ctx context.Context, listed []target.Entry) (target.Facts, error) {
	f := target.Facts{Network: "smb", Cluster: 4 * size.KiB}
	if p.opts.Filesystem != nil {
		f.Filesystem, f.Declared = *p.opts.Filesystem, true
	} else {
		f.Filesystem = shareFilesystem()
		f.Filesystem.CaseSensitive = p.sense
	}
	err := p.do(ctx, "looking at", ".", func(s *smb2.Share) error {
		st, err := s.Statfs(p.full("."))
		if err != nil {
			return err
		}
		unit := int64(st.BlockSize())
		f.Capacity, f.Free = int64(st.TotalBlockCount())*unit, int64(st.AvailableBlockCount())*unit
		if unit >= 512 && unit <= 2*size.MiB {
			f.Cluster = unit
		}
		return nil
	})
	if err != nil {
		return f, err
	}
	if p.opts.Cluster > 0 {
		f.Cluster, f.Declared = p.opts.Cluster, true
	}
	if p.opts.Capacity > 0 {
		f.Capacity, f.Declared = p.opts.Capacity, true
		if listed == nil {
			if listed, err = p.List(ctx, nil); err != nil {
				return f, err
			}
		}
		f.Free = min(f.Free, f.Capacity-f.Filesystem.Structures(f.Capacity, f.Cluster)-f.Used(listed))
	}
	return f, nil
}

// shareFilesystem is what holds on any share: the names that the protocol takes.
func shareFilesystem() target.Filesystem {
	f, _ := target.FilesystemNamed("ntfs")
	like := target.UnknownFilesystem("share")
	like.Shown, like.Forbidden, like.Windows, like.Units, like.CaseSensitive = "share", f.Forbidden, true, f.Units,
		false
	return like
}

// List goes through all folders.
func (p *Target) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	var out []target.Entry
	var bounds remote.Bounds
	dirs := []string{"."}
	for len(dirs) > 0 {
		dir := dirs[len(dirs)-1]
		dirs = dirs[:len(dirs)-1]
		err := bounds.Deep(dir)
		var found []target.Entry
		if err == nil {
			found, err = p.listed(ctx, dir)
		}
		if err != nil {
			if dir == "." || ctx.Err() != nil || errors.Is(err, target.ErrGone) {
				return out, err
			}
			if problem != nil {
				problem(dir, err)
			}
			continue
		}
		if err := bounds.Count(len(found)); err != nil {
			return nil, p.explain("listing", ".", err)
		}
		for _, e := range found {
			out = append(out, e)
			if e.Folder {
				dirs = append(dirs, e.Path)
			}
		}
	}
	slices.SortFunc(out, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func (p *Target) listed(ctx context.Context, dir string) (out []target.Entry, err error) {
	err = p.do(ctx, "listing", dir, func(s *smb2.Share) error {
		infos, err := s.ReadDir(p.full(dir))
		for _, i := range infos {
			if i.Mode()&(os.ModeSymlink|os.ModeIrregular) == 0 && fs.ValidPath(i.Name()) && !strings.Contains(i.Name(),
				"/") {
				out = append(out, entryOf(path.Join(dir, i.Name()), i))
			}
		}
		return err
	})
	return out, err
}

func entryOf(name string, i os.FileInfo) target.Entry {
	e := target.Entry{Path: name, Folder: i.IsDir(), Modified: i.ModTime()}
	if !e.Folder {
		e.Size = i.Size()
	}
	return e
}

// Stamp lists the folders again: a share tells changes in no other way that holds for files too.
func (p *Target) Stamp(ctx context.Context, of []target.Entry) (string, error) {
	return remote.Stamp(of, func(dir string) ([]target.Entry, error) { return p.listed(ctx, dir) })
}

// Stat looks at one file or folder.
func (p *Target) Stat(ctx context.Context, name string) (e target.Entry, err error) {
	err = p.do(ctx, "looking at", name, func(s *smb2.Share) error {
		i, err := s.Stat(p.full(name))
		if err == nil {
			e = entryOf(name, i)
		}
		return err
	})
	return e, err
}

// MakeFolder makes a folder and those above it.
func (p *Target) MakeFolder(ctx context.Context, name string) error {
	if err := inside(name); err != nil {
		return p.explain("making the folder", name, err)
	}
	at := ""
	for elem := range strings.SplitSeq(name, "/") {
		at = path.Join(at, elem)
		p.mu.Lock()
		known := p.folders[at]
		p.mu.Unlock()
		if known {
			continue
		}
		err := p.do(ctx, "making the folder", at, func(s *smb2.Share) error {
			err := s.Mkdir(p.full(at), 0o777)
			if errors.Is(err, fs.ErrExist) {
				i, statErr := s.Stat(p.full(at))
				if statErr == nil && i.IsDir() {
					return nil
				}
			}
			return err
		})
		if err != nil {
			return err
		}
		p.mu.Lock()
		p.folders[at] = true
		p.mu.Unlock()
	}
	return nil
}

// Remove removes one file, or one empty folder.
func (p *Target) Remove(ctx context.Context, name string) error {
	p.forget()
	return p.do(ctx, "removing", name, func(s *smb2.Share) error {
		if _, err := s.Stat(p.full(name)); err != nil {
			return err
		}
		return s.Remove(p.full(name))
	})
}

func (p *Target) forget() {
	p.mu.Lock()
	clear(p.folders)
	p.mu.Unlock()
}

// Rename has the server give a file or folder another path.
func (p *Target) Rename(ctx context.Context, from, to string) error {
	if err := inside(from); err != nil {
		return p.explain("renaming", from, err)
	}
	p.forget()
	return p.do(ctx, "renaming "+from+" to", to, func(s *smb2.Share) error {
		if _, err := s.Stat(p.full(from)); err != nil {
			return err
		}
		same := !p.sense && strings.EqualFold(from, to)
		if _, err := s.Stat(p.full(to)); err == nil && !same {
			return target.ErrExists
		}
		return s.Rename(p.full(from), p.full(to))
	})
}

// Open opens a file for reading.
func (p *Target) Open(ctx context.Context, name string) (c target.Content, err error) {
	err = p.do(ctx, "opening", name, func(*smb2.Share) error {
		f, err := p.share.Open(p.full(name)) // in no context that may end before it is closed
		if err != nil {
			return err
		}
		i, err := f.Stat()
		if err == nil && i.IsDir() {
			err = errors.New("it is a folder")
		}
		if err != nil {
			_ = f.Close()
			return err
		}
		c = newContent(ctx, p, f, name, i.Size())
		return nil
	})
	return c, err
}
