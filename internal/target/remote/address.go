// Package remote is what targets on other machines have in common: how they are addressed, how it is said that they
// cannot be reached, and connections on which nothing may stall.
package remote

import (
	"fmt"
	"net"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
)

// An Address names a volume of a console or a folder of a share: "ftp://gantry@192.168.0.20:21/hd1",
// "smb://HALL;odile@box/games". Passwords do not stand in it.
type Address struct {
	Scheme string
	Host   string
	Port   int    // 0 for the usual one
	Domain string // of the user, on a share; "" for none
	User   string // "" for what the loader's profile says, or for no one in particular
	// folder of the server that is the target's root, without a slash at either end; of a share, its name comes first
	Root string
}

// Parse takes an address of the protocol apart. ok is false for one of another kind.
func (p *Protocol) Parse(s string) (a Address, ok bool, err error) {
	scheme, _, found := strings.Cut(s, "://")
	i := slices.IndexFunc(p.Schemes, func(x Scheme) bool { return x.Name == scheme })
	if !found || i < 0 {
		return a, false, nil
	}
	bad := fmt.Errorf("%q is not a usable address; write it like %s", s, p.Schemes[i].Example)
	u, err := url.Parse(s)
	if err != nil || u.Hostname() == "" {
		return a, true, bad
	}
	if _, has := u.User.Password(); has {
		return a, true, fmt.Errorf("do not put a password into an address: remove it from %s, and it will be asked for",
			strings.Replace(s, u.User.String(), u.User.Username()+":…", 1))
	}
	a = Address{Scheme: scheme, Host: u.Hostname(), User: u.User.Username(), Root: strings.Trim(path.Clean("/"+u.Path),
		"/")}
	if domain, user, ok := strings.Cut(a.User, ";"); ok && p.Domains {
		a.Domain, a.User = domain, user
	}
	if port := u.Port(); port != "" {
		if a.Port, err = strconv.Atoi(port); err != nil || a.Port < 1 || a.Port > 65535 {
			return a, true, fmt.Errorf("%q is not a port", port)
		}
	}
	return a, true, nil
}

// String writes the address.
func (a Address) String() string {
	u := url.URL{Scheme: a.Scheme, Host: a.Host, Path: "/" + a.Root}
	if strings.Contains(a.Host, ":") {
		u.Host = "[" + a.Host + "]"
	}
	if a.Port != 0 {
		u.Host = net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	}
	user := a.User
	if a.Domain != "" {
		user = a.Domain + ";" + user
	}
	if user != "" {
		u.User = url.User(user)
	}
	return u.String()
}
