//go:build !unix

package plainfile

// NonBlock does nothing: here pipes do not lie among files.
const NonBlock = 0
