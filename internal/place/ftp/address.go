package ftp

import (
	"fmt"
	"net"
	"net/url"
	"path"
	"strconv"
	"strings"
)

// Scheme begins the address of an FTP place; SecureScheme that of one whose server is asked for TLS.
const (
	Scheme       = "ftp://"
	SecureScheme = "ftps://"
)

// An Address names a volume of a console: "ftp://gantry@192.168.0.20:21/hd1". Passwords do not stand in it.
type Address struct {
	Host string
	Port int    // 0 for the usual one
	User string // "" for what the loader's profile says
	Root string // folder of the server that is the place's root, without a slash at either end
	TLS  bool   // explicit TLS (RFC 4217)
}

// ParseAddress takes an address apart. ok is false for one of another kind.
func ParseAddress(s string) (a Address, ok bool, err error) {
	secure := strings.HasPrefix(s, SecureScheme)
	if !secure && !strings.HasPrefix(s, Scheme) {
		return a, false, nil
	}
	u, err := url.Parse(s)
	if err != nil || u.Hostname() == "" {
		return a, true, fmt.Errorf("%q is no address of a console; write it like ftp://192.168.0.20/hd1", s)
	}
	if _, has := u.User.Password(); has {
		return a, true, fmt.Errorf("a password does not stand in an address: take it out of %s, and it is asked for", strings.Replace(s, u.User.String(), u.User.Username()+":…", 1))
	}
	a = Address{Host: u.Hostname(), User: u.User.Username(), Root: strings.Trim(path.Clean("/"+u.Path), "/"), TLS: secure}
	if p := u.Port(); p != "" {
		if a.Port, err = strconv.Atoi(p); err != nil || a.Port < 1 || a.Port > 65535 {
			return a, true, fmt.Errorf("%q is no port", p)
		}
	}
	return a, true, nil
}

// String writes the address.
func (a Address) String() string {
	u := url.URL{Scheme: "ftp", Host: a.Host, Path: "/" + a.Root}
	if a.TLS {
		u.Scheme = "ftps"
	}
	if a.Port != 0 {
		u.Host = net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	}
	if a.User != "" {
		u.User = url.User(a.User)
	}
	return u.String()
}
