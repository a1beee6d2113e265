package crcs

// A table16 is what each byte does to a CRC of 16 bits.
type table16 [256]uint16

// ARC is CRC-16/ARC: the polynomial 0x8005, the lowest bit first. It begins with 0 or with the CRC of what was before.
func ARC(c uint16, b []byte) uint16 {
	for _, x := range b {
		c = c>>8 ^ arc[byte(c)^x]
	}
	return c
}

// CCITT is the CRC with the polynomial 0x1021, the highest bit first (ECMA-167, 3/7.2.6). It begins with 0, or with the
// CRC of what was before.
func CCITT(c uint16, b []byte) uint16 {
	for _, x := range b {
		c = c<<8 ^ ccitt[byte(c>>8)^x]
	}
	return c
}

var arc = func() (t table16) {
	for i := range t {
		c := uint16(i)
		for range 8 {
			if c&1 != 0 {
				c = c>>1 ^ 0xA001
			} else {
				c >>= 1
			}
		}
		t[i] = c
	}
	return t
}()

var ccitt = func() (t table16) {
	for i := range t {
		c := uint16(i) << 8
		for range 8 {
			if c&0x8000 != 0 {
				c = c<<1 ^ 0x1021
			} else {
				c <<= 1
			}
		}
		t[i] = c
	}
	return t
}()
