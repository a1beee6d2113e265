package archive_test

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/binary"
	"hash/crc32"
)

// What follows writes RAR archives whose files are stored, as the technical note on the
// format has it: no tool that may be installed here writes any.

// vint encodes a number in seven bits a byte.
func vint(b []byte, v uint64) []byte { return binary.AppendUvarint(b, v) }

// block5 makes a block of RAR 5: CRC, length, type, flags, fields.
func block5(kind, flags uint64, extra, fields []byte, data int) []byte {
	var body []byte
	body = vint(body, kind)
	if len(extra) > 0 {
		flags |= 1
	}
	if data >= 0 {
		flags |= 2
	}
	body = vint(body, flags)
	if len(extra) > 0 {
		body = vint(body, uint64(len(extra)))
	}
	if data >= 0 {
		body = vint(body, uint64(data))
	}
	body = append(append(body, fields...), extra...)
	all := append(vint(nil, uint64(len(body))), body...)
	return append(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(all)), all...)
}

// lock5 holds the keys of a password.
type lock5 struct {
	key, check []byte
	salt, iv   [16]byte
}

func newLock5(password string) *lock5 {
	l := &lock5{}
	copy(l.salt[:], "salt for gulls..")
	copy(l.iv[:], "a vector of 16 b")
	key := func(n int) []byte {
		k, err := pbkdf2.Key(sha256.New, password, l.salt[:], n, 32)
		if err != nil {
			panic(err)
		}
		return k
	}
	const rounds = 1 << 15
	l.key = key(rounds)
	value := key(rounds + 32)
	check := make([]byte, 8)
	for i, c := range value {
		check[i%8] ^= c
	}
	sum := sha256.Sum256(check)
	l.check = append(check, sum[:4]...)
	return l
}

func (l *lock5) encrypt(data []byte) []byte {
	block, err := aes.NewCipher(l.key)
	if err != nil {
		panic(err)
	}
	out := append(bytes.Clone(data), make([]byte, (16-len(data)%16)%16)...)
	cipher.NewCBCEncrypter(block, l.iv[:]).CryptBlocks(out, out)
	return out
}

// rar5 writes the files in volumes of at most size bytes of data each; 0 for one volume.
func rar5(size int, password string, hideNames bool, files ...file) [][]byte {
	var lock *lock5
	if password != "" {
		lock = newLock5(password)
	}
	sign := func(n int) []byte {
		out := []byte("Rar!\x1A\x07\x01\x00")
		if hideNames {
			fields := vint(nil, 0) // version
			fields = vint(fields, 1)
			fields = append(append(append(fields, 15), lock.salt[:]...), lock.check...)
			out = append(out, block5(4, 0, nil, fields, -1)...)
		}
		return out
	}
	var volumes [][]byte
	var now []byte
	put := func(block []byte) {
		if hideNames { // every header has its own vector in front
			now = append(append(now, lock.iv[:]...), lock.encrypt(block)...)
			return
		}
		now = append(now, block...)
	}
	begin := func() {
		n := len(volumes)
		now = sign(n)
		var fields []byte
		if size > 0 {
			flags := uint64(1)
			if n > 0 {
				flags |= 2
			}
			fields = vint(fields, flags)
			if n > 0 {
				fields = vint(fields, uint64(n))
			}
		} else {
			fields = vint(fields, 0)
		}
		put(block5(1, 0, nil, fields, -1))
	}
	end := func(more uint64) {
		put(block5(5, 0, nil, vint(nil, more), -1))
		volumes = append(volumes, now)
	}
	begin()
	for _, f := range files {
		packed := f.data
		var extra []byte
		if lock != nil {
			packed = lock.encrypt(f.data)
			rec := vint(nil, 1) // encryption record
			rec = vint(rec, 0)
			rec = vint(rec, 1)
			rec = append(append(append(append(rec, 15), lock.salt[:]...), lock.iv[:]...), lock.check...)
			extra = append(vint(nil, uint64(len(rec))), rec...)
		}
		for from := 0; ; {
			n := len(packed) - from
			if size > 0 {
				n = min(n, size)
			}
			last := from+n == len(packed)
			var flags uint64
			if from > 0 {
				flags |= 8
			}
			if !last {
				flags |= 16
			}
			fields := vint(nil, 4) // CRC
			fields = vint(fields, uint64(len(f.data)))
			fields = vint(fields, 0o644)
			crc := crc32.ChecksumIEEE(f.data)
			if !last {
				crc = crc32.ChecksumIEEE(packed[from : from+n])
			}
			fields = binary.LittleEndian.AppendUint32(fields, crc)
			fields = vint(fields, 0) // stored
			fields = vint(fields, 1)
			fields = vint(fields, uint64(len(f.name)))
			fields = append(fields, f.name...)
			put(block5(2, flags, extra, fields, n))
			now = append(now, packed[from:from+n]...)
			if from += n; last {
				break
			}
			end(1)
			begin()
		}
	}
	end(0)
	return volumes
}

// block4 makes a block of RAR 4: CRC, type, flags, length, fields.
func block4(kind byte, flags uint16, fields []byte) []byte {
	b := []byte{0, 0, kind}
	b = binary.LittleEndian.AppendUint16(b, flags)
	b = binary.LittleEndian.AppendUint16(b, uint16(7+len(fields)))
	b = append(b, fields...)
	binary.LittleEndian.PutUint16(b, uint16(crc32.ChecksumIEEE(b[2:])))
	return b
}

// rar4 writes the files in volumes of at most size bytes of data each; 0 for one volume.
func rar4(size int, files ...file) [][]byte {
	le := binary.LittleEndian
	var volumes [][]byte
	var now []byte
	begin := func() {
		flags := uint16(0)
		if size > 0 {
			flags = 1
			if len(volumes) == 0 {
				flags |= 0x100
			}
		}
		now = append([]byte("Rar!\x1A\x07\x00"), block4(0x73, flags, make([]byte, 6))...)
	}
	end := func(flags uint16) {
		now = append(now, block4(0x7B, flags, nil)...)
		volumes = append(volumes, now)
	}
	begin()
	for _, f := range files {
		for from := 0; ; {
			n := len(f.data) - from
			if size > 0 {
				n = min(n, size)
			}
			last := from+n == len(f.data)
			flags := uint16(0x8000)
			if from > 0 {
				flags |= 1
			}
			if !last {
				flags |= 2
			}
			crc := crc32.ChecksumIEEE(f.data)
			if !last {
				crc = crc32.ChecksumIEEE(f.data[from : from+n])
			}
			fields := le.AppendUint32(nil, uint32(n))
			fields = le.AppendUint32(fields, uint32(len(f.data)))
			fields = append(fields, 3)
			fields = le.AppendUint32(fields, crc)
			fields = le.AppendUint32(fields, 46<<25|3<<21|14<<16)
			fields = append(fields, 20, 0x30)
			fields = le.AppendUint16(fields, uint16(len(f.name)))
			fields = le.AppendUint32(fields, 0o100644)
			fields = append(fields, f.name...)
			now = append(now, block4(0x74, flags, fields)...)
			now = append(now, f.data[from:from+n]...)
			if from += n; last {
				break
			}
			end(1)
			begin()
		}
	}
	end(0)
	return volumes
}
