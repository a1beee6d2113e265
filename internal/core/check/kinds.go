package check

// Kind is what sort of thing a finding is about: those of one kind are fixed together.
type Kind string

// The kinds.
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
	Pieces     Kind = "pieces"       // not contiguous
	Crowded    Kind = "crowded"      // more in a folder than is shown
	Disc       Kind = "disc"         // a disc of a title is missing
	List       Kind = "list"         // a file in which titles are reported
	Companion  Kind = "companion"    // a file that all but belongs to a title
	Cover      Kind = "cover"        // a picture that is not as it is wanted
	NoCover    Kind = "no-cover"     // titles without a picture
	Orphan     Kind = "orphan"       // a companion of no title
	Double     Kind = "double"       // two titles with one ID
	Leftover   Kind = "leftover"     // what a interrupted run has left
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
	{Via, "connections that are not taken", "the console will show nothing from here", Names},
	{Filesystem, "filesystems that are not read", "the console will show nothing from here", Names},
	{Table, "partition tables that are not read", "the console will show nothing from here", Names},
	{Label, "volumes with another label", "the console will not take the volume for its own", Names},
	{Setting, "settings that are not as they must be", "it will look as if nothing had been put there, or not be shown", Names},
	{Kit, "the loader's own files", "the console cannot start the loader from here", Names},
	{System, "files of the console's own", "games will be listed, and not start", Names},
	{Unreadable, "files that cannot be read", "what cannot be read here will not be read there", Names},
	{Case, "names in another letter case", "the game will not be in the list", Names},
	{Name, "names that are skipped", "the game will not be in the list", Names},
	{Folder, "games in the wrong folder", "the game will not be in the list, or not start", Names},
	{Served, "games that are not taken from here", "the game will not be in the list", Names},
	{ID, "names with another ID than the game's", "it will be chosen in the list, and not start", Inside},
	{Damaged, "games that are not whole", "it will be chosen in the list, and not start", Inside},
	{TooLarge, "files that are too large", "it cannot be read whole from such a drive", Names},
	{Half, "games of which a file is missing", "it will be chosen in the list, and not start", Names},
	{Parts, "games in parts that do not fit together", "it will be chosen in the list, and not start", Names},
	{Pieces, "files in several pieces", "it will be chosen in the list, and not start", Names},
	{Crowded, "folders with more than is shown", "what is over the number does not show, with no word about it", Names},
	{Disc, "titles of which a disc is missing", "the game stops where the next disc is asked for", Names},
	{List, "lists that do not tell what is here", "the console shows what the list tells, and not what is there", Inside},
	{Companion, "names that are nearly right", "the console looks for the exact name, and finds nothing", Names},
	{Cover, "pictures that are not as they are wanted", "the console shows no picture, or takes long for it", Inside},
	{Promised, "titles that were to be here", "the game will not be in the list", Names},
	{NoCover, "titles without a cover", "the list shows them without a picture", Names},
	{Orphan, "files of titles that are not here", "it only takes space", Names},
	{Double, "titles that are there twice", "both are listed, and only their names tell which is which", Names},
	{Leftover, "half-written files", "the loader ignores them; they only take space", Names},
	{Spare, "files that nothing names", "they only take space", Names},
	{Space, "targets that are full", "saves and settings will not find space", Names},
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
