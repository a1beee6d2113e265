package check

// Kind is what sort of thing a finding is about: those of one kind are fixed together.
type Kind string

const (
	Via        Kind = "via"          // the loader does not read over this connection
	Filesystem Kind = "filesystem"   // it does not read this filesystem
	Table      Kind = "table"        // it does not read this partition table
	Label      Kind = "label"        // the volume is named otherwise
	Setting    Kind = "setting"      // a value in the loader's own files
	Kit        Kind = "kit"          // one of the loader's own files
	System     Kind = "system-image" // a file of the console's
	Unreadable Kind = "unreadable"   // it cannot be read
	Promised   Kind = "promised"     // it was to be here
	Case       Kind = "case"         // letter case, where it counts
	Name       Kind = "name"         // a name that the loader skips
	Folder     Kind = "folder"       // a game where the loader does not look for it
	Served     Kind = "not-served"   // a game that it does not take from here
	ID         Kind = "id"           // the ID in the name is not the one inside
	Damaged    Kind = "damaged"      // a game that is not whole
	TooLarge   Kind = "too-large"    // a file over the limit
	Half       Kind = "half"         // a file of a pair or set is missing: a track, a playlist
	Parts      Kind = "parts"        // a game in parts
	Fragmented Kind = "fragmented"   // not contiguous
	Crowded    Kind = "crowded"      // more in a folder than is shown
	Disc       Kind = "disc"         // a disc of a title is missing
	List       Kind = "list"         // a file in which titles are listed
	Companion  Kind = "companion"    // a file that all but belongs to a title
	Cover      Kind = "cover"        // a picture that is not as it is wanted
	NoCover    Kind = "no-cover"     // titles without a picture
	Orphan     Kind = "orphan"       // a companion of no title
	Save       Kind = "save"         // what a player has reached, of no title, or where none looks for it
	Card       Kind = "card"         // a shared save that is not there
	Double     Kind = "double"       // two titles with one ID
	Number     Kind = "number"       // two titles with one running number
	Leftover   Kind = "leftover"     // what an interrupted run has left
	Spare      Kind = "spare"        // a part or track that nothing names
	Space      Kind = "space"        // what is left on the target
)

// kindFacts are what is known of a kind.
type kindFacts struct {
	kind Kind
	// words are the kind in a phrase, for several findings of it.
	words string
	// matters is what comes of it at the console.
	matters string
	from    Depth // from which depth on it is seen
}

// kinds are all kinds, in the order in which findings of one weight are reported.
var kinds = []kindFacts{
	{Via, "connections that are not supported", "the console will show nothing from here", Names},
	{Filesystem, "filesystems that are not supported", "the console will show nothing from here", Names},
	{Table, "partition tables that are not supported", "the console will show nothing from here", Names},
	{Label, "volumes with the wrong label", "the console will not use the volume", Names},
	{Setting, "wrong settings", "the titles will not be shown", Names},
	{Kit, "the loader's own files", "the console cannot start the loader from here", Names},
	{System, "missing system files", "games will be listed, but not start", Names},
	{Unreadable, "files that cannot be read", "the console will not be able to read it either", Names},
	{Case, "names in the wrong letter case", "the game will not be in the list", Names},
	{Name, "names the loader ignores", "the game will not be in the list", Names},
	{Folder, "games in the wrong folder", "the game will not be in the list, or not start", Names},
	{Served, "games the loader does not read from here", "the game will not be in the list", Names},
	{ID, "names with the wrong ID", "it will be listed, but not start", Inside},
	{Damaged, "incomplete or damaged games", "it will be listed, but not start", Inside},
	{TooLarge, "files that are too large", "it cannot be read in full from such a drive", Names},
	{Half, "games with a missing file", "it will be listed, but not start", Names},
	{Parts, "games with wrong parts", "it will be listed, but not start", Names},
	{Fragmented, "fragmented files", "it will be listed, but not start", Names},
	{Crowded, "folders with more entries than are shown", "entries over the limit are silently not shown", Names},
	{Disc, "titles with a missing disc", "the game stops where the next disc is asked for", Names},
	{List, "lists that do not match what is here", "the console shows what is in the list, not what is there", Inside},
	{Companion, "names that are almost right", "the console looks for the exact name and finds nothing", Names},
	{Cover, "pictures of the wrong kind or size", "the console shows no picture, or loads it slowly", Inside},
	{Promised, "selected titles that are not here", "the game will not be in the list", Names},
	{NoCover, "titles without a cover", "the list shows them without a picture", Names},
	{Orphan, "files of titles that are not here", "it only takes space", Names},
	{Card, "titles whose card is not here", "what is played is not saved, or on a card that is empty", Inside},
	{Save, "saves that no title finds", "it only takes space, and may be all that there is of what somebody played",
		Names},
	{Double, "duplicate titles", "both are listed, and only their names tell them apart", Names},
	{Number, "running numbers that two titles have", "the console shows one of the two, or both in any order", Names},
	{Leftover, "half-written files", "the loader ignores them; they only take space", Names},
	{Spare, "files that nothing refers to", "they only take space", Names},
	{Space, "full targets", "saves and settings will not find space", Names},
}

func factsOf(k Kind) kindFacts {
	for i := range kinds {
		if kinds[i].kind == k {
			return kinds[i]
		}
	}
	return kindFacts{kind: k, words: string(k), from: Names}
}

// Words are the kind in a phrase, for several findings of it.
func (k Kind) Words() string { return factsOf(k).words }

// Kinds are all kinds, in the order in which they are reported.
func Kinds() (out []Kind) {
	for _, k := range kinds {
		out = append(out, k.kind)
	}
	return out
}
