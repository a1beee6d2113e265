package archive

import (
	"bytes"
	"io"
)

// Inflate64 unpacks so many bytes at most.
func Inflate64(data []byte, most int64) {
	_, _ = io.Copy(io.Discard, io.LimitReader(newInflate64(bytes.NewReader(data)), most))
}

// UnPPMd unpacks so many bytes at most.
func UnPPMd(data []byte, most int64) {
	if r, err := unPPMd(bytes.NewReader(data)); err == nil {
		_, _ = io.Copy(io.Discard, io.LimitReader(r, most))
	}
}
