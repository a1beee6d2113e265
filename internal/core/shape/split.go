package shape

// split is one part of a file that is too large for the target, or for the loader.
var split = Kind{
	Name: Split, Word: "split",
	Reported: "part of %s",
	Says:     func(l, form string) string { return l + " reads the " + form + " in parts" },
	Open:     partOf,
}
