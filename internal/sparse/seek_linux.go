package sparse

import "golang.org/x/sys/unix"

const seekToData, seekToHole = unix.SEEK_DATA, unix.SEEK_HOLE
