package archive

import (
	"bytes"
	"io"
)

// Inflate64 unpacks so many bytes at most.
func Inflate64(data []byte, most int64) {
	_, _ = io.Copy(io.Discard, io.LimitReader(newInflate64(bytes.NewReader(data)), most))
}
