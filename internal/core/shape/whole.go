package shape

var whole = Kind{
	Name: Whole, Word: "as it is",
	Says: func(_, form string) string { return "the " + form + " is copied as it is" },
	Open: partOf,
}
