package shape

// unpack is a file out of an archive or package.
var unpack = Kind{
	Name: Unpack, Word: "unpack",
	Reported: "unpacked while copying from %s",
	Says:     func(l, _ string) string { return l + " needs it unpacked" },
	Rate:     func(*Spec) int64 { return 60 << 20 }, Workers: 1,
	Open: partOf, // it may be too large, and cut as well
}
