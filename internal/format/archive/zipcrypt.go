package archive

import (
	"archive/zip"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
)

// decrypt opens an encrypted entry's data, which are packed by a method, with the first password that fits.
func decrypt(f *zip.File, method uint16, raw io.Reader, passwords []string) (io.Reader, error) {
	if f.Method == methodAES {
		return decryptAES(f, raw, passwords)
	}
	return decryptTraditional(f, method, raw, passwords)
}

// traditional is the stream cipher of APPNOTE 6.1.
type traditional struct {
	r io.Reader
	k [3]uint32
}

func newTraditional(password string) *traditional {
	t := &traditional{k: [3]uint32{0x12345678, 0x23456789, 0x34567890}}
	for i := range len(password) {
		t.update(password[i])
	}
	return t
}

func (t *traditional) update(c byte) {
	t.k[0] = crc32.IEEETable[byte(t.k[0])^c] ^ t.k[0]>>8
	t.k[1] = (t.k[1]+t.k[0]&0xFF)*134775813 + 1
	t.k[2] = crc32.IEEETable[byte(t.k[2])^byte(t.k[1]>>24)] ^ t.k[2]>>8
}

func (t *traditional) decrypt(b []byte) {
	for i, c := range b {
		k := t.k[2] | 2
		b[i] = c ^ byte(k*(k^1)>>8)
		t.update(b[i])
	}
}

func (t *traditional) Read(b []byte) (int, error) {
	n, err := t.r.Read(b)
	t.decrypt(b[:n])
	return n, err
}

// decryptTraditional tries the passwords on the 12 bytes in front of the data, the last of which is known (APPNOTE
// 6.1.6). One byte lets one wrong password in 256 pass: where several do, the data themselves decide.
func decryptTraditional(f *zip.File, method uint16, raw io.Reader, passwords []string) (io.Reader, error) {
	var head [12]byte
	if _, err := io.ReadFull(raw, head[:]); err != nil {
		return nil, err
	}
	want := byte(f.CRC32 >> 24)
	if f.Flags&8 != 0 { // the CRC was not yet known
		want = byte(f.ModifiedTime >> 8)
	}
	open := func(password string, r io.Reader) (t *traditional, fits bool) {
		t = newTraditional(password)
		t.r = r
		b := head
		t.decrypt(b[:])
		return t, b[11] == want
	}
	var pass []string
	for _, p := range passwords {
		if _, fits := open(p, nil); fits {
			pass = append(pass, p)
		}
	}
	if len(pass) == 0 {
		return nil, ErrPassword
	}
	right := pass[0]
	if len(pass) > 1 {
		for _, p := range pass {
			if again, err := f.OpenRaw(); err == nil {
				if _, err := io.CopyN(io.Discard, again, int64(len(head))); err == nil {
					if t, _ := open(p, again); whole(f, method, t) {
						right = p
						break
					}
				}
			}
		}
	}
	t, _ := open(right, raw)
	return t, nil
}

// whole reports whether decrypted data unpack to what the archive says of them.
func whole(f *zip.File, method uint16, r io.Reader) bool {
	u, err := unpacker(method, r)
	if err != nil {
		return false
	}
	defer u.Close()
	sum := crc32.NewIEEE()
	n, err := io.Copy(sum, u)
	return err == nil && uint64(n) == f.UncompressedSize64 && sum.Sum32() == f.CRC32
}

// aesField is the extra field of entries with AES encryption (APPNOTE 7.2, and the
// specification AE-1 and AE-2).
type aesField struct {
	version  uint16
	strength byte // 1 to 3: keys of 128, 192, 256 bits
	method   uint16
}

func aesExtra(extra []byte) (a aesField, err error) {
	for len(extra) >= 4 {
		id, n := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		if 4+n > len(extra) {
			break
		}
		if b := extra[4 : 4+n]; id == 0x9901 && n >= 7 {
			a = aesField{binary.LittleEndian.Uint16(b), b[4], binary.LittleEndian.Uint16(b[5:])}
			if a.strength < 1 || a.strength > 3 {
				return a, errors.New("its encryption has an unknown strength")
			}
			return a, nil
		}
		extra = extra[4+n:]
	}
	return a, errors.New("the field that describes its encryption is missing")
}

// Numbers of the AES encryption.
const (
	aesRounds = 1000
	aesMAC    = 10 // bytes of the authentication code behind the data
)

func decryptAES(f *zip.File, raw io.Reader, passwords []string) (io.Reader, error) {
	a, err := aesExtra(f.Extra)
	if err != nil {
		return nil, err
	}
	key := 8 + 8*int(a.strength)
	salt := make([]byte, key/2+2)
	if _, err := io.ReadFull(raw, salt); err != nil {
		return nil, err
	}
	left := int64(f.CompressedSize64) - int64(len(salt)) - aesMAC
	if left < 0 {
		return nil, errors.New("its encrypted data are too short")
	}
	for _, p := range passwords {
		all, err := pbkdf2.Key(sha1.New, p, salt[:key/2], aesRounds, 2*key+2)
		if err != nil {
			return nil, err
		}
		if all[2*key] != salt[key/2] || all[2*key+1] != salt[key/2+1] {
			continue
		}
		block, err := aes.NewCipher(all[:key])
		if err != nil {
			return nil, err
		}
		return &aesReader{raw: raw, left: left, block: block, mac: hmac.New(sha1.New, all[key:2*key])}, nil
	}
	return nil, ErrPassword
}

// aesReader decrypts in counter mode with a little-endian counter from 1, and compares the
// authentication code at the end.
type aesReader struct {
	raw     io.Reader
	left    int64
	block   cipher.Block
	mac     hash.Hash
	counter uint64
	pad     [aes.BlockSize]byte
	used    int // of the pad; 0 for a fresh one
}

func (a *aesReader) Read(b []byte) (int, error) {
	if a.left == 0 {
		a.left = -1
		code := make([]byte, aesMAC)
		if _, err := io.ReadFull(a.raw, code); err != nil {
			return 0, fmt.Errorf("the code that checks the encrypted data is missing: %w", err)
		}
		if !hmac.Equal(code, a.mac.Sum(nil)[:aesMAC]) {
			return 0, errors.New("the encrypted data are damaged")
		}
	}
	if a.left < 0 {
		return 0, io.EOF
	}
	b = b[:min(int64(len(b)), a.left)]
	n, err := a.raw.Read(b)
	a.left -= int64(n)
	_, _ = a.mac.Write(b[:n])
	for i := range b[:n] {
		if a.used == 0 {
			a.counter++
			var iv [aes.BlockSize]byte
			binary.LittleEndian.PutUint64(iv[:], a.counter)
			a.block.Encrypt(a.pad[:], iv[:])
		}
		b[i] ^= a.pad[a.used]
		a.used = (a.used + 1) % aes.BlockSize
	}
	if err == io.EOF && a.left > 0 {
		err = io.ErrUnexpectedEOF
	} else if err == io.EOF {
		err = nil
	}
	return n, err
}
