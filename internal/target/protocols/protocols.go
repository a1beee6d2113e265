// Package protocols lists the ways to reach a target on another machine. A further one is a package beside this one,
// and its line in [All].
package protocols

import (
	"strings"

	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/target/sftp"
	"polytome/internal/target/smb"
)

// All are the protocols.
var All = []*remote.Protocol{&ftp.Protocol, &smb.Protocol, &sftp.Protocol}

// Parse takes an address apart. The protocol is nil for one that is on this computer.
func Parse(at string) (p *remote.Protocol, a remote.Address, err error) {
	for _, p := range All {
		if a, ok, err := p.Parse(at); ok {
			return p, a, err
		}
	}
	return nil, a, nil
}

// IsRemote reports whether an address is one on another machine, usable or not.
func IsRemote(at string) bool {
	p, _, _ := Parse(at)
	return p != nil
}

// Named is the protocol of a name; nil for a connection that is none.
func Named(name string) *remote.Protocol {
	for _, p := range All {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Names are the names of all.
func Names() (out []string) {
	for _, p := range All {
		out = append(out, p.Name)
	}
	return out
}

// Examples are addresses as they are written, with a word between the last two.
func Examples(word string) string {
	var out []string
	for _, p := range All {
		out = append(out, p.Schemes[0].Example)
	}
	n := len(out) - 1
	return strings.Join(out[:n], ", ") + " " + word + " " + out[n]
}
