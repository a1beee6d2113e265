package archive

import (
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"compress/flate"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz/lzma"
	"golang.org/x/text/encoding/charmap"
)

// Methods of PKWARE's APPNOTE 6.3.10, 4.4.5.
const (
	methodStore   = 0
	methodDeflate = 8
	methodBzip2   = 12
	methodLZMA    = 14
	methodZstdOld = 20
	methodZstd    = 93
	methodDefl64  = 9
	methodPPMd    = 98
	methodAES     = 99
)

var methodNames = map[uint16]string{1: "shrink", 6: "implode", 95: "xz"}

// zipEntries lists a zip archive.
func zipEntries(r io.ReaderAt, size int64, passwords []string) ([]Entry, error) {
	z, err := zip.NewReader(r, size)
	if errors.Is(err, zip.ErrFormat) {
		return nil, fmt.Errorf("the archive's list at its end is missing, so it is cut short or damaged (%w)", err)
	}
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, f := range z.File {
		e := Entry{Name: zipName(f), Size: int64(min(f.UncompressedSize64, 1<<62)), Modified: f.Modified, CRC: f.CRC32,
			HasCRC: true, Encrypted: f.Flags&1 != 0}
		method := f.Method
		if method == methodAES {
			a, err := aesExtra(f.Extra)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", e.Name, err)
			}
			method = a.method
			e.HasCRC = e.HasCRC && a.version == 1 // version 2 writes none (AE-2)
		}
		e.open = func() (io.ReadCloser, error) {
			raw, err := f.OpenRaw()
			if err != nil {
				return nil, err
			}
			if e.Encrypted {
				if raw, err = decrypt(f, method, raw, passwords); err != nil {
					return nil, err
				}
			}
			return unpacker(method, raw)
		}
		if method == methodStore && !e.Encrypted && f.CompressedSize64 == f.UncompressedSize64 {
			e.direct = func() io.ReaderAt {
				at, err := f.DataOffset()
				if err != nil {
					return nil
				}
				return io.NewSectionReader(r, at, e.Size)
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// zipName is an entry's name. Those that are not said to be UTF-8 are in code page 437
// (APPNOTE, appendix D).
func zipName(f *zip.File) string {
	if f.NonUTF8 && !utf8.ValidString(f.Name) {
		if s, err := charmap.CodePage437.NewDecoder().String(f.Name); err == nil {
			return strings.ReplaceAll(s, `\`, "/")
		}
	}
	return f.Name
}

// unpacker unpacks by a method.
func unpacker(method uint16, r io.Reader) (io.ReadCloser, error) {
	switch method {
	case methodStore:
		return io.NopCloser(r), nil
	case methodDeflate:
		return flate.NewReader(r), nil
	case methodBzip2:
		return io.NopCloser(bzip2.NewReader(r)), nil
	case methodDefl64:
		return io.NopCloser(newInflate64(r)), nil
	case methodLZMA:
		return unLZMA(r)
	case methodPPMd:
		return unPPMd(r)
	case methodZstd, methodZstdOld:
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	}
	name := methodNames[method]
	if name == "" {
		name = fmt.Sprintf("number %d", method)
	}
	return nil, fmt.Errorf("it is packed with the method %s, which is not supported; pack it again with deflate", name)
}

// unLZMA unpacks LZMA as zip has it (APPNOTE 5.8.8): the version, the length of the properties, the properties, and the
// stream, which may be ended by a mark.
func unLZMA(r io.Reader) (io.ReadCloser, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	if n := int(head[2]) | int(head[3])<<8; n != 5 {
		return nil, fmt.Errorf("what is packed with LZMA begins with properties of %d bytes, and not of 5", n)
	}
	props := make([]byte, 5, 13)
	if _, err := io.ReadFull(r, props); err != nil {
		return nil, err
	}
	// As a file of its own it has the length behind the properties; unknown is all ones.
	props = append(props, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF)
	d, err := lzma.ReaderConfig{DictCap: 1 << 26}.NewReader(io.MultiReader(bytes.NewReader(props), r))
	if err != nil {
		return nil, err
	}
	return io.NopCloser(unended{d}), nil
}

// unended is a stream that need not be ended by a mark: whoever reads it knows its length.
type unended struct{ r io.Reader }

func (u unended) Read(b []byte) (int, error) {
	n, err := u.r.Read(b)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = io.EOF
	}
	return n, err
}
