package shape

var whole = Kind{
	Name: Whole, Word: "copy",
	Says: func(_, form string) string { return "the " + form + " is copied unchanged" },
	Open: partOf,
}
