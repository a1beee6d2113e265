package loader

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"polytome/internal/core/shape"
	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/protocols"
)

// A Profile is the rules of one loader. Every key is described in docs/profile-format.md.
type Profile struct {
	Format       int           `toml:"format"`
	Name         string        `toml:"name"`
	Shown        string        `toml:"shown"`
	Console      string        `toml:"console"`
	About        string        `toml:"about"`
	ListOrder    []string      `toml:"list-order"` // by what the loader sorts its list
	ListPage     int           `toml:"list-page"`  // lines of its list that the console shows at a time; 0 for unknown
	Attachments  []Attachment  `toml:"attachment"`
	Refusals     []Refusal     `toml:"refuse"`
	Accepts      []Accept      `toml:"accept"`
	Companions   []Companion   `toml:"companion"`
	Lists        []List        `toml:"list"`
	Kit          Kit           `toml:"kit"`
	Settings     []Setting     `toml:"setting"`
	SystemImages []SystemImage `toml:"system-image"`
	FirstBoot    FirstBoot     `toml:"first-boot"`
	Discs        []DiscRule    `toml:"disc"`
	Saves        []SaveRule    `toml:"save"`
	Models       []Model       `toml:"model"`
	WaysOut      []WayOut      `toml:"way-out"`
	Checklist    []Check       `toml:"checklist"`
	Examples     []Example     `toml:"example"`

	source *strict.Source // reports where each key stands

	// File is where the profile was read from.
	File string `toml:"-"`
	// Own is set for a profile of the user's.
	Own bool `toml:"-"`
}

// Size is an amount of bytes, written as a number, as "4GiB", or as the
// difference or sum of two: "2GiB - 64KiB".
type Size int64

// UnmarshalText reads a size.
func (s *Size) UnmarshalText(b []byte) error {
	text := string(b)
	for _, op := range []string{" - ", " + "} {
		if left, right, ok := strings.Cut(text, op); ok {
			l, err := size.Parse(strings.TrimSpace(left))
			if err != nil {
				return err
			}
			r, err := size.Parse(strings.TrimSpace(right))
			if err != nil {
				return err
			}
			if op == " - " {
				r = -r
			}
			*s = Size(l + r)
			return nil
		}
	}
	n, err := size.Parse(text)
	*s = Size(n)
	return err
}

// An Attachment is one way in which the loader reaches games, with the limits
// that hold there.
type Attachment struct {
	Name           string       `toml:"name"` // other rules refer to it by this
	Via            string       `toml:"via"`
	Filesystems    []string     `toml:"filesystems"` // those it reads; "any", or "own" for the console's own
	PartitionTable string       `toml:"partition-table"`
	Label          string       `toml:"label"`      // what the volume must be called
	LabelNot       []string     `toml:"label-not"`  // what it must not be called
	ReadOnly       bool         `toml:"read-only"`  // the console cannot write there
	Apart          bool         `toml:"apart"`      // lists and covers lie on a stick of the console's own
	Contiguous     bool         `toml:"contiguous"` // files must lie contiguous on the volume
	LargestFile    Size         `toml:"largest-file"`
	LargestVolume  Size         `toml:"largest-volume"`
	Cluster        Size         `toml:"cluster"`
	Reserve        Size         `toml:"reserve"`      // stays free on each volume
	LongestName    int          `toml:"longest-name"` // of one file or folder
	LongestPath    int          `toml:"longest-path"`
	Count          string       `toml:"count"` // how lengths are counted
	Permitted      CharacterSet `toml:"permitted"`
	Forbidden      string       `toml:"forbidden"`
	Case           string       `toml:"case"` // what the console makes of letter case
	Entries        int          `toml:"entries-per-folder"`
	Root           string       `toml:"root"` // where on the server the tree begins
	Share          string       `toml:"share"`
	Login          Login        `toml:"login"`
	Volumes        []Volume     `toml:"volume"`
	Server         Server       `toml:"server"`
	Why            string       `toml:"why"`
}

// A Login is what a server asks for, as it comes.
type Login struct {
	User     string `toml:"user"`
	Password string `toml:"password"`
	Port     int    `toml:"port"`
}

// A Volume is one of the console's volumes.
type Volume struct {
	Name string `toml:"name"`
	For  string `toml:"for"`
	Size Size   `toml:"size"` // of the disk that it comes with; 0 when that differs
	// Reserve is what stays free there, in bytes.
	Reserve Size `toml:"reserve"`
}

// A Server is what the console's server can and cannot do.
type Server struct {
	Listing     string   `toml:"listing"` // how folders are listed
	Resume      bool     `toml:"resume"`  // takes up an interrupted transfer
	Connections int      `toml:"connections"`
	Idle        string   `toml:"idle"` // after which it drops the connection, such as "60s"
	FullReply   int      `toml:"full-reply"`
	Export      string   `toml:"export"` // the name of what is exported for the console to read, over NBD
	Names       string   `toml:"names"`  // the encoding of names, such as "latin1"; "" for UTF-8
	Habits      []string `toml:"habits"` // what else to know, in words
}

// A Scope is what a rule is about. Empty lists stand for everything.
type Scope struct {
	Platforms   []string     `toml:"platforms"`
	Forms       []title.Form `toml:"forms"`
	On          []string     `toml:"on"` // names of attachments
	Filesystems []string     `toml:"filesystems"`
	When        Condition    `toml:"when"` // of the title itself
}

// A Refusal is what the loader does not take, and why.
type Refusal struct {
	Scope
	Say  string   `toml:"say"`
	Ways []string `toml:"ways"`
}

// An Accept is one kind of title that the loader takes, and where it wants it.
type Accept struct {
	Scope
	Path   Template `toml:"path"`
	Tracks Template `toml:"tracks"` // of the files that a cue sheet names
	// Images, TracksAs and Folders are the shapes in which titles of those forms are wanted.
	Images        string    `toml:"images"`
	TracksAs      string    `toml:"tracks-as"`
	Folders       string    `toml:"folders"`
	Compress      bool      `toml:"compress"` // packed images may be compressed
	Dumps         string    `toml:"dumps"`    // what becomes of dumps with a copier's header or bytes in another order
	Archives      string    `toml:"archives"` // what becomes of archives
	Package       Package   `toml:"package"`
	Join          Join      `toml:"join"` // the pieces of a title go into one file
	Title         TitleRule `toml:"title"`
	OverflowAfter int       `toml:"overflow-after"` // entries in one folder, before {page} counts on
	PageOne       bool      `toml:"page-one"`       // the first page has its number too
	Numbers       string    `toml:"numbers"`        // how titles get their {number}
	TooLarge      TooLarge  `toml:"too-large"`
	AlsoNeeds     string    `toml:"also-needs-space-on"` // name of an attachment
	Unlisted      bool      `toml:"unlisted"`            // it waits there, and is no line of the loader's list
	Why           string    `toml:"why"`
}

// As is the shape in which the rule wants titles of a form; [shape.Whole] for as they are.
func (a *Accept) As(f title.Form) shape.Name {
	var as string
	switch f {
	case title.Image:
		as = a.Images
	case title.Tracks:
		as = a.TracksAs
	case title.Folder:
		as = a.Folders
	}
	if as == asTheyAre {
		return shape.Whole
	}
	return shape.Name(as)
}

// Straightens reports whether dumps lose a copier's header and get their bytes in order.
func (a *Accept) Straightens() bool { return a.Dumps == string(shape.Straight) }

// Numbered reports whether the paths of the rule's titles have running numbers.
func (a *Accept) Numbered() bool { return a.Path.Uses(FieldNumber) }

// Appends reports whether a new title gets the next number, and all others keep theirs; else the numbers follow the
// order of the list.
func (a *Accept) Appends() bool { return a.Numbers == "append" }

// asTheyAre is the word for no other shape.
const asTheyAre = "as-they-are"

// A Package is what of a package's files goes over.
type Package struct {
	Keep   []string `toml:"keep"` // patterns; empty keeps all
	Drop   []string `toml:"drop"`
	Rename []Rename `toml:"rename"`
}

// A Join is how several files go into one.
type Join struct {
	Of            string        `toml:"of"`            // discs, or files: those of a cue sheet, folder or package
	HeaderLength  Size          `toml:"header-length"` // bytes before the pieces
	Header        []RecordField `toml:"header"`
	Table         int           `toml:"table"`  // the byte of the header at which a record for each piece begins
	Record        int           `toml:"record"` // bytes of one
	Rows          []RecordField `toml:"row"`
	Align         Size          `toml:"align"` // every piece begins at a multiple of it
	Fill          int           `toml:"fill"`  // the byte between pieces
	TrailerLength int           `toml:"trailer-length"`
	Trailer       []RecordField `toml:"trailer"`
	Why           string        `toml:"why"`
}

// Joins reports whether the pieces of the rule's titles go into one file.
func (a *Accept) Joins() bool { return a.Join.Of != "" }

// A Rename gives the file that fits a pattern a fixed name.
type Rename struct {
	From string `toml:"from"`
	To   string `toml:"to"`
}

// A TooLarge is what to do with a file over the limit.
type TooLarge struct {
	Do           string   `toml:"do"`
	Over         Size     `toml:"over"` // 0 for the limit of the filesystem or attachment
	PartSize     Size     `toml:"part-size"`
	Parts        Template `toml:"parts"` // path of each part
	Manifest     Template `toml:"manifest"`
	ManifestText Text     `toml:"manifest-text"`
	Why          string   `toml:"why"`
}

// A TitleRule is how the loader wants a title's name written.
type TitleRule struct {
	Longest   int          `toml:"longest"`
	Count     string       `toml:"count"` // how the length is counted
	ASCII     bool         `toml:"ascii"`
	Permitted CharacterSet `toml:"permitted"`
	Forbidden string       `toml:"forbidden"`
	Discs     Template     `toml:"discs"` // put behind the name of a title with several discs

	ascii  [utf8.RuneSelf]bool // what is permitted of ASCII, which nearly every name is made of
	behind [mostDiscs]string   // of each disc, from 1 on
}

// mostDiscs is how many discs of a title have what stands behind their names worked out once.
const mostDiscs = 20

// Behind is what stands behind the name of a title for a disc of it, where only the disc's number is known; "" where
// nothing does.
func (t *TitleRule) Behind(disc int) string {
	if disc >= 1 && disc <= mostDiscs {
		return t.behind[disc-1]
	}
	return t.Discs.Fill(&Values{FieldDisc: strconv.Itoa(disc)})
}

// Permits reports whether a title may hold the character.
func (t *TitleRule) Permits(r rune) bool {
	if r >= 0 && r < utf8.RuneSelf {
		return t.ascii[r]
	}
	return t.permits(r)
}

// Length is how long a title is, as the rule counts.
func (t *TitleRule) Length(s string) int { return Units(t.Count).Count(s) }

// Units are what lengths are counted in, by the word of a profile; characters for "".
func Units(count string) target.Units {
	if u, ok := units[count]; ok {
		return u
	}
	return target.Characters
}

var units = map[string]target.Units{"characters": target.Characters, "bytes": target.Bytes, "utf-16": target.UTF16,
	"shift-jis": target.ShiftJIS}

func (t *TitleRule) permits(r rune) bool {
	if t.ASCII && (r < ' ' || r > '~') {
		return false
	}
	return t.Permitted.Has(r) && !strings.ContainsRune(t.Forbidden, r)
}

func (t *TitleRule) prepare() {
	for r := range t.ascii {
		t.ascii[r] = t.permits(rune(r))
	}
	for i := range t.behind {
		t.behind[i] = t.Discs.Fill(&Values{FieldDisc: strconv.Itoa(i + 1)})
	}
}

// A CharacterSet is a list of characters and of ranges such as "A-Z". An empty
// one permits everything.
type CharacterSet []string

// Has reports whether the set permits r.
func (c CharacterSet) Has(r rune) bool {
	for _, e := range c {
		if lo, hi, ok := runeRange(e); ok {
			if r >= lo && r <= hi {
				return true
			}
		} else if strings.ContainsRune(e, r) {
			return true
		}
	}
	return len(c) == 0
}

func runeRange(e string) (lo, hi rune, ok bool) {
	lo, n := utf8.DecodeRuneInString(e)
	if rest, isRange := strings.CutPrefix(e[n:], "-"); isRange {
		hi, m := utf8.DecodeRuneInString(rest)
		return lo, hi, m > 0 && m == len(rest)
	}
	return 0, 0, false
}

// A Companion is a file that exists because of a title.
type Companion struct {
	Scope
	Is       string   `toml:"is"`  // cover, settings, launcher or playlist
	Per      string   `toml:"per"` // one for each title, or each disc
	Path     Template `toml:"path"`
	Text     Text     `toml:"text"`
	Make     string   `toml:"make"`     // json or xml: values are escaped as it wants; "" for any text
	Encoding string   `toml:"encoding"` // of the text
	// File is a file of the kit, on the target, that it is a copy of; Length is how many bytes it has where it is made
	// of nothing but Bytes, which are set in either.
	File     string        `toml:"file"`
	Length   int           `toml:"length"`
	Bytes    []RecordField `toml:"bytes"`
	Syntax   string        `toml:"syntax"`    // of the text
	Keep     []string      `toml:"keep"`      // keys that belong to the user once they are there
	LockedBy string        `toml:"locked-by"` // key that lists further ones
	Shows    string        `toml:"shows"`     // key by whose value the loader shows the title, where it has one
	Places   string        `toml:"places"`    // key with the place of the title in the list
	Sections string        `toml:"sections"`  // key with the section of the list that the title is in
	Favours  string        `toml:"favours"`   // key that is true for a favourite
	Switches []Switch      `toml:"switch"`    // keys that belong to the user, with what they may be
	Picture  Picture       `toml:"picture"`
	Why      string        `toml:"why"`
}

// A Switch is a setting of a title that its owner turns until the title runs well.
type Switch struct {
	Key    string   `toml:"key"`
	Values []string `toml:"values"` // the first one is what counts where the key is not there
	Helps  string   `toml:"helps"`  // when, in words
}

// Kept are the keys that belong to the user once they are there.
func (c *Companion) Kept() []string {
	all := slices.Clone(c.Keep)
	for i := range c.Switches {
		all = append(all, c.Switches[i].Key)
	}
	return all
}

// InList reports whether the text says how the title stands in the loader's list.
func (c *Companion) InList() bool { return c.Shows+c.Places+c.Sections+c.Favours != "" }

// SwitchesOn are the switches of titles on an attachment.
func (p *Profile) SwitchesOn(at *Attachment) []Switch {
	for i := range p.Companions {
		if c := &p.Companions[i]; len(c.Switches) > 0 && (len(c.On) == 0 || slices.Contains(c.On, at.Name)) {
			return c.Switches
		}
	}
	return nil
}

// IsCopy reports whether the companion is a copy of another file.
func (c *Companion) IsCopy() bool { return c.File != "" }

// IsText reports whether the companion is a text, which may hold any characters.
func (c *Companion) IsText() bool { return c.Is != "cover" && c.File == "" && c.Length == 0 }

// Decides reports whether a title does not start without the companion.
func (c *Companion) Decides() bool { return c.Is == "playlist" || c.Is == "launcher" }

// A Picture is which cover is wanted, and how.
type Picture struct {
	Of          string `toml:"of"`
	Format      string `toml:"format"`
	Width       int    `toml:"width"`  // in pixels
	Height      int    `toml:"height"` // in pixels
	Fit         string `toml:"fit"`
	LargestFile Size   `toml:"largest-file"`
}

// Estimate is how many bytes a picture takes at most, as a rule: what the loader allows, or what
// pictures of that size seldom have more of.
func (p *Picture) Estimate() int64 {
	if p.LargestFile > 0 {
		return int64(p.LargestFile)
	}
	pixels := int64(max(p.Width, 1)) * int64(max(p.Height, 1))
	if p.Format == "png" {
		return pixels * 2
	}
	return pixels / 4
}

// A List is a file in which all titles are listed.
type List struct {
	Scope
	Path     Template `toml:"path"`
	Per      string   `toml:"per"`      // an entry for each disc, or each title
	Make     string   `toml:"make"`     // csv, json, xml or ini; "" for lines of text
	Encoding string   `toml:"encoding"` // of the text
	Header   Text     `toml:"header"`
	Line     Text     `toml:"line"`    // one entry
	Between  string   `toml:"between"` // what stands between two entries
	Footer   Text     `toml:"footer"`
	Key      string   `toml:"key"` // where in an entry the value stands that it is known by

	Record       int           `toml:"record"` // bytes of one record of a binary list
	Fields       []RecordField `toml:"field"`
	HeaderLength int           `toml:"header-length"` // bytes before the records
	HeaderFields []RecordField `toml:"header-field"`

	Order []string `toml:"order"`
	Why   string   `toml:"why"`
}

// Bare reports whether no title is named in the file: it is there where titles are, and that is all.
func (l *List) Bare() bool { return l.Record == 0 && l.Line.Empty() }

// A RecordField is one value in a record of fixed length.
type RecordField struct {
	Offset   int    `toml:"offset"`
	Length   int    `toml:"length"`
	Value    Text   `toml:"value"`
	Encoding string `toml:"encoding"`
	Fill     int    `toml:"fill"` // the byte behind a short value
	Sum      string `toml:"sum"`  // in a header: a sum of all records, as in [HeaderCheck]
}

// A FirstBoot is the folders that the console makes by itself.
type FirstBoot struct {
	Label     string     `toml:"label"` // of the volume when it begins
	Folders   []Template `toml:"folders"`
	Platforms []string   `toml:"platforms"` // for folders with {platform}
	MayMake   bool       `toml:"may-make"`  // Polytome may make all of them itself
	MayAdd    bool       `toml:"may-add"`   // it may add single ones to what the console made
	Why       string     `toml:"why"`
}

// A WayOut is what else can be done with a title that does not go.
type WayOut struct {
	When string `toml:"when"` // the verdict it is a way out of
	Say  string `toml:"say"`
}

// A Check is one thing to do at the console.
type Check struct {
	Say  string    `toml:"say"`
	When Condition `toml:"when"`
}

// Cased is a path in the letter case in which the console has all names.
func (a *Attachment) Cased(path string) string {
	switch a.Case {
	case "upper":
		return strings.ToUpper(path)
	case "lower":
		return strings.ToLower(path)
	}
	return path
}

// Reads reports whether the loader reads that filesystem on this attachment.
func (a *Attachment) Reads(filesystem string) bool {
	return slices.Contains(a.Filesystems, filesystem) || slices.Contains(a.Filesystems, "any") ||
		slices.Contains(a.Filesystems, "own")
}

// ReadsWords names the filesystems that the loader reads there, for a sentence.
func (a *Attachment) ReadsWords() string {
	var out []string
	for _, name := range a.Filesystems {
		switch f, err := target.FilesystemNamed(name); {
		case err == nil:
			out = append(out, f.Shown)
		case name == "own":
			out = append(out, "the console's own disk")
		default:
			out = append(out, "any filesystem")
		}
	}
	return all(out, "and")
}

// DefaultFilesystem is the one that a tree is shown for when no one says which: the
// first that the loader reads, or one without limits of its own for the console's disk.
func (a *Attachment) DefaultFilesystem() string {
	if f := a.Filesystems[0]; f != "any" && f != "own" {
		return f
	}
	return "ext4"
}

// UsualVia is the one that is meant when no one says which: a mounted drive where the
// loader reads one, else the first of its connections.
func (p *Profile) UsualVia() string {
	connections := p.Connections()
	if slices.Contains(connections, "usb") {
		return "usb"
	}
	return connections[0]
}

// rulesFor is the connection whose rules hold for another: itself where the profile has it, or one that reaches the
// same folders.
func (p *Profile) rulesFor(via string) string {
	protocol := protocols.Named(via)
	all := p.Connections()
	if protocol == nil || slices.Contains(all, via) {
		return via
	}
	if i := slices.IndexFunc(protocol.Like, func(like string) bool { return slices.Contains(all, like) }); i >= 0 {
		return protocol.Like[i]
	}
	return via
}

// Attachment returns the loader's attachment for a connection that reads the filesystem, else the first one for the
// connection, or nil. A protocol that the profile does not know may have the rules of another one; see
// [remote.Protocol].
func (p *Profile) Attachment(via, filesystem string) *Attachment {
	via = p.rulesFor(via)
	var first *Attachment
	for i := range p.Attachments {
		a := &p.Attachments[i]
		if a.Via != via {
			continue
		}
		if a.Reads(filesystem) {
			return a
		}
		if first == nil {
			first = a
		}
	}
	return first
}

// OnDrive returns the loader's attachment for a drive that has the filesystem: plugged in or in an adapter. One that is
// exported over the network is what the console exports, or else such a drive that is elsewhere now. It is nil where
// the loader reads none like that; "" leaves the filesystem open.
func (p *Profile) OnDrive(filesystem string, network bool) *Attachment {
	among := func(via ...string) *Attachment {
		for i := range p.Attachments {
			if a := &p.Attachments[i]; slices.Contains(via, a.Via) && (filesystem == "" || a.Reads(filesystem)) {
				return a
			}
		}
		return nil
	}
	plugged := among("usb", "adapter")
	if network {
		return cmp.Or(among("nbd"), plugged)
	}
	return plugged
}

// NetworkDisk is the attachment over which the console reads a volume that this computer serves; nil for none.
func (p *Profile) NetworkDisk(filesystem string) *Attachment {
	for i := range p.Attachments {
		if a := &p.Attachments[i]; a.Via == "nbd" && a.ReadOnly && (filesystem == "" || a.Reads(filesystem)) {
			return a
		}
	}
	return nil
}

// Connections lists the connections on which the loader can be reached.
func (p *Profile) Connections() []string {
	var out []string
	for _, a := range p.Attachments {
		if !slices.Contains(out, a.Via) {
			out = append(out, a.Via)
		}
	}
	return out
}

// Match reports whether the rule is about titles of a platform in a form, at an
// attachment with a filesystem; "" for the filesystem leaves that open.
func (m *Scope) Match(platform string, form title.Form, attachment, filesystem string) bool {
	return m.Takes(platform, form) &&
		(len(m.On) == 0 || slices.Contains(m.On, attachment)) &&
		(len(m.Filesystems) == 0 || filesystem == "" || slices.Contains(m.Filesystems, filesystem))
}

// Takes reports whether the rule is about titles of a platform in a form at all.
func (m *Scope) Takes(platform string, form title.Form) bool {
	return (len(m.Platforms) == 0 || slices.Contains(m.Platforms, platform)) &&
		(len(m.Forms) == 0 || slices.Contains(m.Forms, form))
}

// Accept returns the rule for titles of a platform in a form at an attachment
// with a filesystem. Where there is none, it returns the refusal that reports why, or nil
// for both.
//
// Of the title itself the rules' conditions ask for v; nil knows nothing of it: then conditions of refusals do not
// hold, and those of rules may.
func (p *Profile) Accept(platform string, form title.Form, attachment, filesystem string, v *Values) (*Accept,
	*Refusal) {
	for i := range p.Refusals {
		if r := &p.Refusals[i]; r.Match(platform, form, attachment, filesystem) && (r.When.Empty() ||
			v != nil && r.When.Holds(v)) {
			return nil, r
		}
	}
	for i := range p.Accepts {
		if a := &p.Accepts[i]; a.Match(platform, form, attachment, filesystem) && (v == nil || a.When.Holds(v)) {
			return a, nil
		}
	}
	return nil, nil
}

// Knows reports whether the loader has anything to do with titles of a platform.
func (p *Profile) Knows(platform string) bool {
	knows := func(m *Scope) bool { return slices.Contains(m.Platforms, platform) || len(m.Platforms) == 0 }
	for i := range p.Accepts {
		if knows(&p.Accepts[i].Scope) {
			return true
		}
	}
	for i := range p.Refusals {
		if knows(&p.Refusals[i].Scope) {
			return true
		}
	}
	return false
}
