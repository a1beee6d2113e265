package sparse

// From sys/unistd.h; the other way round than elsewhere.
const seekToData, seekToHole = 4, 3
