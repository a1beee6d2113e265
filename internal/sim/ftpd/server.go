// Package ftpd is a small FTP server for simulated consoles (RFC 959): it has the habits of theirs, and faults that can
// be switched on. It serves a folder, listens on the loopback, and knows nothing of the client that it is there to
// test.
package ftpd

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/text/encoding"
)

// Habits are what a console's server does, and does not.
type Habits struct {
	User, Password string // "" lets everybody in who says anonymous
	Machine        bool   // machine-readable listings (RFC 3659, 7)
	Restart        bool   // begins in the middle of a file (REST)
	Append         bool   // writes behind what is there (APPE)
	Sizes          bool   // tells the length of a file (SIZE)
	Year           bool   // listings tell the year of old files
	DOS            bool   // listings look like those of DOS
	Extended       bool   // knows EPSV
	Lying          bool   // names an address in PASV that cannot be reached
	Blocked        bool   // something between lets no connections for data through
	OneTransfer    bool   // refuses a second data connection while there is one
	Idle           time.Duration
	SlowClose      time.Duration // for which it holds a file that was sent before it answers
	Capacity       int64         // bytes that fit into the folder; 0 for no end
	ReportsSpace   bool          // and says how many are left (AVBL)
	// is announced how long a file gets, and refuses one for which there is no space (ALLO)
	Allocates     bool
	Forgets       bool              // commands that come before the last one was answered
	NoRename      bool              // knows no renaming
	RefusesRename bool              // knows it, and refuses it for each file
	Clients       int               // so many are let in at a time; 0 for no limit
	Names         encoding.Encoding // how names are spelt; nil for UTF-8
	Secure        *tls.Config       // explicit TLS (RFC 4217); nil for none
	OnlySecure    bool              // no one is let in without
	WantsSession  bool              // a data connection must take up a TLS session
	// Boot is what the console does with its disk when it is switched on, and when it is reported to restart (SITE
	// RESTART).
	Boot func(dir string) error
	// Rescan is what the console lists for its disk (SITE RESCAN), a line for each game.
	Rescan func(dir string) ([]string, error)
}

// Faults are what goes wrong. They can be changed while the server runs.
type Faults struct {
	DropAfter   atomic.Int64 // bytes of file after which all connections are cut, once; 0 for never
	RefuseEvery atomic.Int64 // every so many commands one is refused; 0 for none
	Corrupt     atomic.Bool  // one byte of what is read is another one
	Stall       atomic.Bool  // nothing is sent or taken any longer
	DropRename  atomic.Bool  // the connection is cut instead of answering to a rename, once
	Unlisted    atomic.Value // a name, of folders that cannot be listed; none while it is not set
}

// A Server is one that runs.
type Server struct {
	Faults Faults

	dir      string
	habits   Habits
	l        net.Listener
	mu       sync.Mutex
	conns    map[net.Conn]bool
	moving   int // transfers under way
	clients  atomic.Int64
	commands atomic.Int64
	moved    atomic.Int64
	wait     sync.WaitGroup
	closed   bool
	asked    map[string]int // how often, by command
}

// Serve begins to serve a folder at a port of the loopback; 0 has one chosen.
func Serve(dir string, port int, h Habits) (*Server, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, fmt.Errorf("the console's server cannot listen: %w", err)
	}
	s := &Server{dir: dir, habits: h, l: l, conns: map[net.Conn]bool{}}
	if h.Boot != nil {
		if err := h.Boot(dir); err != nil {
			_ = l.Close()
			return nil, fmt.Errorf("the console cannot start: %w", err)
		}
	}
	s.wait.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if !s.keep(c) {
				return
			}
			s.wait.Go(func() {
				defer s.let(c)
				n := s.clients.Add(1)
				defer s.clients.Add(-1)
				if h.Clients > 0 && int(n) > h.Clients {
					_, _ = io.WriteString(c, "421 too many are here\r\n")
					return
				}
				(&client{s: s, c: c, r: bufio.NewReader(c), dir: "/"}).talk()
			})
		}
	})
	return s, nil
}

// Early is what commands are counted as, too, that came before the last one was answered.
const Early = "early"

func (s *Server) count(verb string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.asked == nil {
		s.asked = map[string]int{}
	}
	s.asked[verb]++
}

// Counted is how often each command was sent.
func (s *Server) Counted() map[string]int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.asked)
}

// Port is where it listens.
func (s *Server) Port() int { return s.l.Addr().(*net.TCPAddr).Port }

// keep remembers a connection, to cut it at the end.
func (s *Server) keep(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		_ = c.Close()
		return false
	}
	s.conns[c] = true
	return true
}

func (s *Server) let(c net.Conn) {
	_ = c.Close()
	s.mu.Lock()
	delete(s.conns, c)
	s.mu.Unlock()
}

// Cut cuts all connections, as when a cable is pulled.
func (s *Server) Cut() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		_ = c.Close()
	}
}

// Close ends the server.
func (s *Server) Close() {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	_ = s.l.Close()
	s.Cut()
	s.wait.Wait()
}

// free is the space that is left.
func (s *Server) free() int64 {
	if s.habits.Capacity == 0 {
		return 1 << 60
	}
	var used int64
	_ = filepath.Walk(s.dir, func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			used += info.Size()
		}
		return nil
	})
	return s.habits.Capacity - used
}

// client is one connection with commands.
type client struct {
	s      *Server
	c      net.Conn
	r      *bufio.Reader
	dir    string
	user   string
	in     bool
	rename string
	at     int64 // where the next transfer begins
	data   net.Listener
	secret bool // the control connection is
	secure bool // also the data connections
}

func (c *client) say(format string, args ...any) {
	_, _ = fmt.Fprintf(c.c, format+"\r\n", args...)
}

// talk answers commands until the client goes or says nothing for too long.
func (c *client) talk() {
	defer c.passive(nil)
	c.say("220 ready")
	for {
		if c.s.habits.Idle > 0 {
			_ = c.c.SetReadDeadline(time.Now().Add(c.s.habits.Idle))
		}
		line, err := c.r.ReadString('\n')
		if err != nil {
			return // without a word, as consoles do
		}
		if n := c.r.Buffered(); n > 0 {
			c.s.count(Early)
			if c.s.habits.Forgets {
				_, _ = c.r.Discard(n)
			}
		}
		for c.s.Faults.Stall.Load() {
			if c.s.isClosed() {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		verb, arg, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		verb = strings.ToUpper(verb)
		c.s.count(verb)
		if n := c.s.Faults.RefuseEvery.Load(); n > 0 && c.s.commands.Add(1)%n == 0 && verb != "USER" && verb != "PASS" {
			c.say("450 not now")
			continue
		}
		if verb == "QUIT" {
			c.say("221 goodbye")
			return
		}
		if !c.in && !slices.Contains([]string{"USER", "PASS", "FEAT", "SYST", "AUTH", "PBSZ", "PROT"}, verb) {
			c.say("530 log in first")
			continue
		}
		do, ok := commands[verb]
		if !ok || !c.knows(verb) {
			c.say("502 %s is not known here", verb)
			continue
		}
		if !do(c, arg) {
			return
		}
	}
}

func (s *Server) isClosed() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.closed
}

// knows leaves out what the console's server does not know.
func (c *client) knows(verb string) bool {
	h := c.s.habits
	switch verb {
	case "MLSD":
		return h.Machine
	case "REST":
		return h.Restart
	case "APPE":
		return h.Append
	case "AVBL":
		return h.ReportsSpace
	case "ALLO":
		return h.Allocates
	case "RNFR", "RNTO":
		return !h.NoRename
	case "AUTH", "PBSZ", "PROT":
		return h.Secure != nil
	case "SIZE":
		return h.Sizes
	case "EPSV":
		return h.Extended
	}
	return true
}

// commands answer; false ends the connection.
var commands map[string]func(c *client, arg string) bool

func init() {
	commands = map[string]func(c *client, arg string) bool{
		"USER": func(c *client, arg string) bool {
			if c.s.habits.OnlySecure && !c.secret {
				c.say("530 Sessions must use encryption.")
				return true
			}
			c.user = arg
			c.say("331 and the password?")
			return true
		},
		"PASS": (*client).login,
		"SYST": func(c *client, _ string) bool { c.say("215 UNIX Type: L8"); return true },
		"FEAT": (*client).features,
		"TYPE": func(c *client, _ string) bool { c.say("200 so be it"); return true },
		"NOOP": func(c *client, _ string) bool { c.say("200 here"); return true },
		"PWD":  func(c *client, _ string) bool { c.say(`257 "%s"`, c.dir); return true },
		"CWD":  (*client).enter,
		"PASV": func(c *client, _ string) bool { return c.listen(false) },
		"EPSV": func(c *client, _ string) bool { return c.listen(true) },
		"REST": func(c *client, arg string) bool {
			_, err := fmt.Sscan(arg, &c.at)
			if err != nil || c.at < 0 {
				c.say("501 from where?")
				return true
			}
			c.say("350 from %d on", c.at)
			return true
		},
		"AVBL": func(c *client, _ string) bool { c.say("213 %d", max(0, c.s.free())); return true },
		"ALLO": func(c *client, arg string) bool {
			var n int64
			if _, err := fmt.Sscan(arg, &n); err == nil && n > c.s.free() {
				return c.fail(errFull)
			}
			c.say("200 there is space")
			return true
		},
		"AUTH": (*client).protect,
		"PBSZ": func(c *client, _ string) bool { c.say("200 PBSZ=0"); return true },
		"PROT": func(c *client, arg string) bool { c.secure = arg == "P"; c.say("200 so be it"); return true },
		"OPTS": func(c *client, _ string) bool { c.say("200 so be it"); return true },
		"SITE": (*client).site,
		"LIST": func(c *client, arg string) bool { return c.list(arg, false) },
		"MLSD": func(c *client, arg string) bool { return c.list(arg, true) },
		"RETR": (*client).send,
		"STOR": func(c *client, arg string) bool { return c.take(arg, false) },
		"APPE": func(c *client, arg string) bool { return c.take(arg, true) },
		"SIZE": (*client).size,
		"DELE": func(c *client, arg string) bool { return c.remove(arg, false) },
		"RMD":  func(c *client, arg string) bool { return c.remove(arg, true) },
		"MKD":  (*client).makeFolder,
		"RNFR": (*client).renameFrom,
		"RNTO": (*client).renameTo,
	}
}

// full is a path on the server, and where that lies.
func (c *client) full(arg string) (name, file string) {
	if !path.IsAbs(arg) {
		arg = path.Join(c.dir, arg)
	}
	name = path.Clean("/" + c.s.habits.decode(arg))
	return name, filepath.Join(c.s.dir, filepath.FromSlash(name))
}

func (c *client) fail(err error) bool {
	switch {
	case errors.Is(err, os.ErrNotExist):
		c.say("550 there is nothing of that name")
	case errors.Is(err, errFull):
		c.say("552 the volume is full")
	default:
		c.say("550 that cannot be done")
	}
	return true
}

var errFull = errors.New("full")

func (c *client) login(password string) bool {
	h := c.s.habits
	if h.User == "" && c.user == "anonymous" || h.User != "" && c.user == h.User && password == h.Password {
		c.in = true
		c.say("230 come in")
		return true
	}
	c.say("530 no")
	return true
}

func (c *client) features(string) bool {
	c.say("211-knows")
	for verb, line := range map[string]string{"MLSD": " MLST type*;size*;modify*;", "REST": " REST STREAM",
		"SIZE": " SIZE", "EPSV": " EPSV"} {
		if c.knows(verb) {
			c.say("%s", line)
		}
	}
	c.say("211 that is all")
	return true
}

func (c *client) enter(arg string) bool {
	name, file := c.full(arg)
	if info, err := os.Stat(file); err != nil || !info.IsDir() {
		c.say("550 there is no such folder")
		return true
	}
	c.dir = name
	c.say("250 in %s", name)
	return true
}

func (c *client) size(arg string) bool {
	_, file := c.full(arg)
	info, err := os.Stat(file)
	if err != nil || info.IsDir() {
		return c.fail(os.ErrNotExist)
	}
	c.say("213 %d", info.Size())
	return true
}

func (c *client) remove(arg string, folder bool) bool {
	_, file := c.full(arg)
	info, err := os.Lstat(file)
	if err == nil && info.IsDir() != folder {
		err = os.ErrInvalid
	}
	if err == nil {
		err = os.Remove(file)
	}
	if err != nil {
		return c.fail(err)
	}
	c.say("250 gone")
	return true
}

func (c *client) makeFolder(arg string) bool {
	name, file := c.full(arg)
	if err := os.Mkdir(file, 0o755); err != nil {
		return c.fail(err)
	}
	c.say(`257 "%s"`, name)
	return true
}

func (c *client) renameFrom(arg string) bool {
	_, file := c.full(arg)
	if _, err := os.Stat(file); err != nil {
		return c.fail(err)
	}
	c.rename = file
	c.say("350 and to what?")
	return true
}

func (c *client) renameTo(arg string) bool {
	_, file := c.full(arg)
	from := c.rename
	c.rename = ""
	if from == "" {
		c.say("503 from what?")
		return true
	}
	if c.s.Faults.DropRename.CompareAndSwap(true, false) {
		return false
	}
	if c.s.habits.RefusesRename {
		c.say("550 that is not allowed")
		return true
	}
	if err := os.Rename(from, file); err != nil {
		return c.fail(err)
	}
	c.say("250 so it is named")
	return true
}

// list sends a folder.
func (c *client) list(arg string, machine bool) bool {
	for strings.HasPrefix(arg, "-") { // options of ls
		_, arg, _ = strings.Cut(arg, " ")
	}
	_, dir := c.full(arg)
	entries, err := os.ReadDir(dir)
	if name, is := c.s.Faults.Unlisted.Load().(string); is && filepath.Base(dir) == name {
		err = os.ErrPermission
	}
	if err != nil {
		return c.fail(err)
	}
	return c.transfer(func(data net.Conn) error {
		for _, e := range entries {
			info, err := e.Info()
			if err != nil {
				continue
			}
			line := c.s.habits.encode(c.s.habits.line(info))
			if machine {
				kind := "file"
				if info.IsDir() {
					kind = "dir"
				}
				line = fmt.Sprintf("type=%s;size=%d;modify=%s; %s", kind, info.Size(), info.ModTime().UTC().
					Format("20060102150405"), info.Name())
			}
			if _, err := io.WriteString(data, line+"\r\n"); err != nil {
				return err
			}
		}
		return nil
	})
}

// line is a line of a listing.
func (h Habits) line(info os.FileInfo) string {
	if h.DOS {
		size := fmt.Sprintf("%20d", info.Size())
		if info.IsDir() {
			size = "       <DIR>        "
		}
		return info.ModTime().Format("01-02-06  03:04PM") + size + " " + info.Name()
	}
	mode := "-rw-r--r--"
	if info.IsDir() {
		mode = "drwxr-xr-x"
	}
	date := info.ModTime().Format("Jan _2 15:04")
	if h.Year && time.Since(info.ModTime()) > 180*24*time.Hour {
		date = info.ModTime().Format("Jan _2  2006")
	}
	return fmt.Sprintf("%s 1 0 0 %d %s %s", mode, info.Size(), date, info.Name())
}

func (h Habits) encode(name string) string {
	if h.Names != nil {
		if s, err := h.Names.NewEncoder().String(name); err == nil {
			return s
		}
	}
	return name
}

func (h Habits) decode(name string) string {
	if h.Names != nil {
		if s, err := h.Names.NewDecoder().String(name); err == nil {
			return s
		}
	}
	return name
}

// protect goes over to TLS.
func (c *client) protect(string) bool {
	c.say("234 go on in secret")
	secret := tls.Server(c.c, c.s.habits.Secure)
	if err := secret.Handshake(); err != nil {
		return false
	}
	c.c, c.r, c.secret = secret, bufio.NewReader(secret), true
	return true
}

// site does what a console can beside: restart, and report what it lists.
func (c *client) site(arg string) bool {
	h := c.s.habits
	switch what := strings.ToUpper(arg); {
	case what == "RESTART" && h.Boot != nil:
		if err := h.Boot(c.s.dir); err != nil {
			return c.fail(err)
		}
		c.say("200 restarted")
	case what == "RESCAN" && h.Rescan != nil:
		lines, err := h.Rescan(c.s.dir)
		if err != nil {
			return c.fail(err)
		}
		c.say("200-%d games", len(lines))
		for _, l := range lines {
			c.say(" %s", h.encode(l))
		}
		c.say("200 that is all")
	default:
		c.say("502 %s is not known here", arg)
	}
	return true
}
