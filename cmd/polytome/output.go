package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/adrg/xdg"
	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"polytome/internal/logbook"
	"polytome/internal/nearest"
	"polytome/internal/ui"
	"polytome/internal/ui/style"
)

// printOptions are the flags of every command that decide what is printed, and how.
type printOptions struct {
	quiet bool
	color string
	log   string
}

// prints is what was asked for.
var prints printOptions

// The answers to --color.
const (
	colorAuto   = "auto"
	colorAlways = "always"
	colorNever  = "never"
)

func (o *printOptions) flags(root *cobra.Command) {
	f := root.PersistentFlags()
	f.BoolVarP(&o.quiet, "quiet", "q", false, "print nothing but problems; with --json, the result as well")
	f.StringVar(&o.color, "color", colorAuto, "use colours: auto (on terminals, without NO_COLOR), always or never")
	f.StringVar(&o.log, "log", "", "write the log to this file (default: "+logFile()+")")
}

// colours are those of the full screen.
func (o *printOptions) colours() ui.Colours {
	switch o.color {
	case colorAlways:
		return ui.ColoursAll
	case colorNever:
		return ui.ColoursNone
	}
	return ui.ColoursAsked
}

// logFile is where what the program did is written down.
func logFile() string { return filepath.Join(xdg.StateHome, "polytome", "log.txt") }

// begin checks what was asked for, opens the log, and has the command print accordingly. A log that cannot be written
// is an error only where somebody named it.
func (o *printOptions) begin(cmd *cobra.Command) (end func(), err error) {
	ways := []string{colorAuto, colorAlways, colorNever}
	if !strings.Contains(" "+strings.Join(ways, " ")+" ", " "+o.color+" ") {
		return nil, usageError{fmt.Errorf("--color: %w", nearest.Unknown("value", o.color, ways))}
	}
	named := o.log != ""
	if !named {
		o.log = logFile()
	}
	var log io.Closer
	quiet := []string{"doctor", "demo"} // which leave nothing behind
	if named || !slices.Contains(quiet, cmd.Name()) && !strings.HasPrefix(cmd.Name(), "__") {
		if log, err = logbook.Open(o.log); err != nil && named {
			return nil, err
		}
	}
	logbook.Note("begin", "version", version(), "args", withoutSecrets(os.Args[1:]))
	json := cmd.Flags().Lookup("json")
	switch {
	case o.quiet && (json == nil || !json.Changed):
		cmd.SetOut(io.Discard)
	case !rawOutput(cmd):
		cmd.SetOut(o.door(cmd.OutOrStdout()))
	}
	return func() {
		if log != nil { // nil for none
			_ = log.Close()
		}
	}, nil
}

// withoutSecrets are arguments without the passwords of archives.
func withoutSecrets(args []string) []string {
	out := slices.Clone(args)
	for i, arg := range out {
		if name, _, is := strings.Cut(arg, "="); is && name == "--password" {
			out[i] = name + "=…"
		} else if i > 0 && args[i-1] == "--password" {
			out[i] = "…"
		}
	}
	return out
}

// rawOutput reports whether a command writes the bytes of files, and cleans its own texts.
func rawOutput(cmd *cobra.Command) bool {
	for c := cmd; c != nil; c = c.Parent() {
		if c.Name() == "image" {
			return true
		}
	}
	return false
}

// door is the cleaner in front of where something is printed.
func (o *printOptions) door(to io.Writer) *cleaner {
	c := &cleaner{to: to}
	f, ok := to.(*os.File)
	terminal := ok && isTerminal(f)
	if ok {
		c.width = columns(f)
	}
	c.colours = o.color == colorAlways || o.color == colorAuto && terminal && os.Getenv("NO_COLOR") == "" &&
		os.Getenv("TERM") != "dumb"
	return c
}

// columns is how wide lines may be where something is printed: what COLUMNS says, else the terminal's width, 0 where
// nobody looks.
func columns(f *os.File) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// cleaner is the last door to the terminal: what comes from files and servers cannot steer it, nor write over what
// stands there, nor turn the order of what is read. It breaks lines where they would be cut, and colours the words that
// grade what follows them.
type cleaner struct {
	to      io.Writer
	width   int // cells; 0 for lines of any length
	colours bool

	rest    []byte // of a letter whose other bytes are still to come
	at      int    // cells of the line that are written
	indent  int    // spaces at its beginning
	begun   bool   // there is a word in it
	between bool   // there is a space behind the last one
}

// plain is where texts for programs go, which are not broken.
func plain(w io.Writer) io.Writer {
	if c, ok := w.(*cleaner); ok {
		return &cleaner{to: c.to}
	}
	return w
}

func (c *cleaner) Write(b []byte) (int, error) {
	all := append(c.rest, b...)
	end := len(all)
	for k := 1; k < utf8.UTFMax && k <= len(all); k++ { // a letter may be cut between two writes
		if r := all[len(all)-k]; utf8.RuneStart(r) {
			if !utf8.FullRune(all[len(all)-k:]) {
				end = len(all) - k
			}
			break
		}
	}
	c.rest = append([]byte(nil), all[end:]...)
	text := harmless(string(all[:end]))
	if c.width > 0 || c.colours {
		text = c.set(text)
	}
	_, err := io.WriteString(c.to, text)
	return len(b), err
}

// set breaks lines between words, the rest of a line a little further in, and colours grades.
func (c *cleaner) set(text string) string {
	var out strings.Builder
	for text != "" {
		if text[0] == '\n' {
			out.WriteByte('\n')
			c.at, c.indent, c.begun, c.between = 0, 0, false, false
			text = text[1:]
			continue
		}
		n := strings.IndexFunc(text, func(r rune) bool { return r != ' ' && r != '\t' })
		if n < 0 {
			n = len(text)
		}
		spaces := text[:n]
		text = text[n:]
		n = strings.IndexAny(text, " \t\n")
		if n < 0 {
			n = len(text)
		}
		word := text[:n]
		text = text[n:]
		wide := len(word)
		if !printable(word) {
			wide = ansi.StringWidth(word)
		}
		if !c.begun {
			c.indent += len(spaces)
		}
		hang := min(c.indent+2, c.width/2)
		apart := c.between || spaces != ""
		if c.width > 0 && c.begun && apart && word != "" && c.at+len(spaces)+wide > c.width {
			out.WriteString("\n" + strings.Repeat(" ", hang))
			c.at, spaces = hang, ""
		}
		if word == "" && c.width > 0 { // nobody sees spaces at the end of a line
			spaces = spaces[:max(0, min(len(spaces), c.width-c.at))]
		}
		out.WriteString(spaces)
		if style, graded := grades[strings.TrimRight(word, ":")]; c.colours && graded && !c.begun {
			out.WriteString(style.Styled(word))
		} else {
			out.WriteString(word)
		}
		c.at += len(spaces) + wide
		c.between = word == ""
		c.begun = c.begun || word != ""
	}
	return out.String()
}

// grades are the words that say how bad what stands behind them is, in the colours in which they are printed.
var grades = func() map[string]ansi.Style {
	out := map[string]ansi.Style{}
	for words, colour := range map[string]ansi.BasicColor{
		"STOPS FAULT FAILED PROBLEM DIFFERS DAMAGED MISSING UNREADABLE": ansi.Red,
		"REMARK SUSPECT":       ansi.Yellow,
		"AGREES WHOLE ok done": ansi.Green,
	} {
		for word := range strings.FieldsSeq(words) {
			out[word] = ansi.Style{}.ForegroundColor(colour)
		}
	}
	return out
}()

// harmless replaces what steers terminals in a text of several lines.
func harmless(s string) string {
	if printable(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return r
		}
		if unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) || r == utf8.RuneError {
			return '?'
		}
		return r
	}, s)
}

// printable reports whether a text is nothing but letters, digits and signs of ASCII, blanks and ends of lines: most
// are, and a list of all titles has a hundred thousand of them.
func printable(s string) bool {
	for i := range len(s) {
		if c := s[i]; (c < ' ' || c > '~') && c != '\n' {
			return false
		}
	}
	return true
}

// stderr is where messages for people go; they are written down, too.
func stderr() io.Writer { return messages{prints.door(os.Stderr)} }

// messages writes down what it prints.
type messages struct{ to io.Writer }

func (w messages) Write(b []byte) (int, error) {
	logbook.Note("said", "text", strings.TrimSpace(style.Clean(string(b))))
	return w.to.Write(b)
}
