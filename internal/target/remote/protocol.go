package remote

import (
	"context"
	"slices"
	"time"

	"polytome/internal/target"
)

// A Protocol is one way to reach a target on another machine. internal/target/protocols lists them all.
type Protocol struct {
	Name    string // as profiles and benches say how a target is connected, such as "ftp"
	Word    string // in a sentence, such as "FTP"
	Server  string // what answers there, as in "it is not an FTP server": "FTP"
	Schemes []Scheme
	Port    int  // the usual one
	Domains bool // a user can have a domain before a semicolon
	// Elsewhere is set where the files are on a further machine, from which the console reads; else they are the
	// console's own. Share says that the first folder of an address is a share.
	Elsewhere, Share bool
	// Like are protocols that reach the same folders: where a loader's profile has no rules for this one, those for the
	// first of them that it knows hold.
	Like []string
	// Costly is set where each file that is looked into costs a transfer of its own, and reading back takes as long again
	// as sending.
	Costly bool
	// Disk is how such a connection is named in a new profile.
	Disk string
	// Usual is how fast it is as long as nothing was learnt.
	Usual Usual
	// Greets reports whether the first line that a server sends is one of this protocol; nil where the server waits to be
	// asked.
	Greets func(line string) bool
	// Open connects and logs in.
	Open func(ctx context.Context, a Address, s Settings) (target.Target, error)
	// Shares lists the shares of a server; nil where there are none.
	Shares func(ctx context.Context, a Address, s Settings) ([]Share, error)
}

// A Scheme begins addresses of a protocol.
type Scheme struct {
	Name    string
	Example string // of an address
	// Plain says that anyone in the network can read the files and the password.
	Plain bool
}

// Usual is how fast a connection is, as a range.
type Usual struct {
	Slow, Fast  int64         // bytes a second of large files
	Least, Most time.Duration // that each file takes beside
}

// A Share is one that a server has.
type Share struct {
	Name    string `json:"name"`
	Comment string `json:"comment,omitempty"`
}

// Settings are what is known of a server before it is asked: from the bench, and from the loader's profile.
type Settings struct {
	User, Password string // "" for a guest
	Port           int    // where the address has none
	// Filesystem, Capacity and Cluster are declared, in bytes; nil and 0 for what the server reports.
	Filesystem        *target.Filesystem
	Capacity, Cluster int64
	FoldsCase         bool          // what is known of a filesystem that is not declared: letter case is ignored
	Timeout           time.Duration // for which nothing may come; 0 for [Timeout]
	Idle              time.Duration // after which the server drops a connection that says nothing; 0 for one that does not
	NoListing         bool          // machine-readable listings are not asked for
	Connections       int           // for data, at a time; 0 for as many as it bears
	Encoding          string        // of names, such as latin1 (WHATWG Encoding Standard, 4.2); "" for UTF-8
	Unchecked         bool          // whatever certificate the server shows is taken: consoles make their own
	HostKeys          string        // file of the host keys that were accepted; "" for the usual one
}

// Timeout is for how long nothing may come from a server when something is waited for.
const Timeout = 30 * time.Second

// UnknownSpace stands for the capacity of a server that does not report it, and is more than anything that is planned,
// in bytes. The server says when it is full.
const UnknownSpace = 2 << 40

// Plain reports whether anyone in the network can read what is sent to an address of the protocol.
func (p *Protocol) Plain(a Address) bool {
	i := slices.IndexFunc(p.Schemes, func(s Scheme) bool { return s.Name == a.Scheme })
	return i >= 0 && p.Schemes[i].Plain
}

// PortOf is the port of an address.
func (p *Protocol) PortOf(a Address) int {
	if a.Port != 0 {
		return a.Port
	}
	return p.Port
}

// A Prober is a target that can find out what its server can.
type Prober interface {
	Try(ctx context.Context) (*Probe, error)
}
