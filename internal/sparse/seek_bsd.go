//go:build freebsd

package sparse

// From unistd.h.
const seekToData, seekToHole = 3, 4
