package demo

import (
	"archive/zip"
	"bytes"
	"hash/crc32"

	"polytome/internal/format/lha"
)

// Password opens the demo's encrypted archive.
const Password = "ferryline"

// TitleList is the demo's own list of titles.
const TitleList = `id,name,region,year,players,publisher,platform,crc32
VSP-20417,Copper Tide,North,1999,1-2,Gullwing Playroom,vesper,
VSP-20431,The Ninth Orchard,East,2001,1,Odile & Daughters,vesper,
VSP-20502,Paper Falcons,North,2000,1-4,West Hall Works,vesper,
VSP-21410,Clockwork Ferry,West,2002,1-2,Ferry Line Games,vesper,
VSP-21602,Quarry & Sons,North,1998,1,Odile & Daughters,vesper,
LAP_04412,Heron's Watch,East,1996,1,West Hall Works,lapwing,
LAP_04431,Two Tides,North,1997,1-2,Ferry Line Games,lapwing,
,Kite over Quarry Hill,North,1989,1,Gullwing Playroom,wren8,
,Pocket Regatta,West,1991,1-2,Ferry Line Games,finch,
,Ninepin Alley,East,1987,1-2,West Hall Works,dotterel,
`

// packedGames are the games of the shelf that are in archives: a package, an image in a zip
// archive, one behind a password, and one whose last part is missing.
func packedGames() ([]shelfFile, error) {
	var pack bytes.Buffer
	w := lha.NewWriter(&pack)
	for _, f := range []struct{ name, text string }{
		{name: "Tollgate/Tollgate.prog", text: "run run run run run run run run"},
		{name: "Tollgate/game.about", text: "Tollgate\nBy the volunteers of North Hall.\n"},
		{name: "Tollgate/data/level1.dat", text: "a gate, a connection, a gate, a connection, a gate"},
	} {
		if err := w.Add(f.name, lha.Blocks5, Season, []byte(f.text)); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	image, err := Volume("SISKIN_9", "SISKIN.TXT", []byte("SK-8830\r\nBell Buoy\r\n"))
	if err != nil {
		return nil, err
	}
	buoy, err := zipOf("Bell Buoy (E).iso", image, "")
	if err != nil {
		return nil, err
	}
	locked, err := zipOf("Wicker Toll.h16", Cartridge("HERN", "Wicker Toll"), Password)
	if err != nil {
		return nil, err
	}
	long, err := zipOf("Fog Bell.iso", SystemImage(7, 6000), "")
	if err != nil {
		return nil, err
	}
	return []shelfFile{
		{name: "dulcimer/Tollgate.lha", data: pack.Bytes()},
		{name: "new/Bell_Buoy_(E).zip", data: buoy},
		{name: "new/Wicker Toll.zip", data: locked},
		{name: "new/Fog Bell.zip.001", data: long[:2500]},
		{name: "new/Fog Bell.zip.002", data: long[2500:5000]},
	}, nil
}

// zipOf is a zip archive of one file, encrypted in the traditional way (PKWARE's APPNOTE 6.1) where
// there is a password.
func zipOf(name string, data []byte, password string) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: Season}
	if password == "" {
		w, err := z.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(data); err != nil {
			return nil, err
		}
		err = z.Close()
		return b.Bytes(), err
	}
	sum := crc32.ChecksumIEEE(data)
	h.Method, h.Flags, h.CRC32 = zip.Store, 1, sum
	h.UncompressedSize64, h.CompressedSize64 = uint64(len(data)), uint64(len(data)+12)
	w, err := z.CreateRaw(h)
	if err != nil {
		return nil, err
	}
	head := make([]byte, 12)
	head[11] = byte(sum >> 24)
	if _, err := w.Write(encrypt(append(head, data...), password)); err != nil {
		return nil, err
	}
	err = z.Close()
	return b.Bytes(), err
}

func encrypt(b []byte, password string) []byte {
	k := [3]uint32{0x12345678, 0x23456789, 0x34567890}
	update := func(c byte) {
		k[0] = crc32.IEEETable[byte(k[0])^c] ^ k[0]>>8
		k[1] = (k[1]+k[0]&0xFF)*134775813 + 1
		k[2] = crc32.IEEETable[byte(k[2])^byte(k[1]>>24)] ^ k[2]>>8
	}
	for i := range len(password) {
		update(password[i])
	}
	for i, c := range b {
		t := k[2] | 2
		b[i] = c ^ byte(t*(t^1)>>8)
		update(c)
	}
	return b
}
