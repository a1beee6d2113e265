package archive

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// A Volume is one file of an archive in parts, as far as its name tells.
type Volume struct {
	Base   string // what the names of all parts begin with, in lower case
	Number int    // in the order of the parts
	First  bool   // the archive is opened by it
	Plain  bool   // the parts are one file cut into pieces
	name   func(n int) string
}

// Name is the name that part n has.
func (v *Volume) Name(n int) string { return v.name(n) }

var (
	newRAR = regexp.MustCompile(`(?i)^(.*\.part)([0-9]+)(\.rar)$`)
	oldRAR = regexp.MustCompile(`(?i)^(.*)\.([r-y])([0-9]{2})$`)
	pieces = regexp.MustCompile(`(?i)^(.*\.(?:7z|zip))\.([0-9]{3,})$`)
)

// VolumeOf reports which part of an archive a file is by its name; ok is false for the name of
// an archive in one file, or of none. The first part of the older RAR naming ends in
// .rar, as an archive in one file does; the last one of a zip archive, by which it is opened, in .zip.
func VolumeOf(name string) (v Volume, ok bool) {
	numbered := func(m []string, plain bool) (Volume, bool) {
		n, err := strconv.Atoi(m[2])
		if err != nil {
			return Volume{}, false
		}
		tail := strings.Join(m[3:], "")
		return Volume{Base: strings.ToLower(m[1]), Number: n, First: n == 1, Plain: plain,
			name: func(n int) string { return fmt.Sprintf("%s%0*d%s", m[1], len(m[2]), n, tail) }}, true
	}
	if v, ok := zipVolume(name); ok {
		return v, true
	}
	if m := newRAR.FindStringSubmatch(name); m != nil {
		return numbered(m, false)
	}
	if m := pieces.FindStringSubmatch(name); m != nil {
		m[1] += "."
		v, ok := numbered(m, true)
		return v, ok
	}
	if m := oldRAR.FindStringSubmatch(name); m != nil {
		n, _ := strconv.Atoi(m[3])
		letter := strings.ToLower(m[2])[0]
		return Volume{Base: strings.ToLower(m[1]) + ".rar", Number: int(letter-'r')*100 + n + 2,
			name: func(n int) string {
				if n == 1 {
					return m[1] + ".rar"
				}
				return fmt.Sprintf("%s.%c%02d", m[1], 'r'+byte((n-2)/100), (n-2)%100)
			}}, true
	}
	return Volume{}, false
}
