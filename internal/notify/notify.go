// Package notify tells a person who looks elsewhere that something that took long has ended.
package notify

import (
	"strings"
	"unicode"
)

// Terminal is what a terminal takes for it: the bell, and a notification in the two forms that terminals know, OSC 9
// with a text and OSC 777 with a heading and a text. A terminal ignores what it does not know.
func Terminal(heading, text string) string {
	heading, text = plain(heading), plain(text)
	return "\a\x1b]9;" + heading + ": " + text + "\x1b\\\x1b]777;notify;" + strings.ReplaceAll(heading, ";",
		",") + ";" +
		text + "\x1b\\"
}

// plain is a text that cannot end the sequence that it is in.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) {
			return -1
		}
		return r
	}, s)
}

// Desktop shows a notification on the desktop, where there is one.
func Desktop(heading, text string) error { return desktop(plain(heading), plain(text)) }
