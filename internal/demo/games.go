package demo

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
	"unicode/utf16"

	"polytome/internal/format/iso9660"
	"polytome/internal/format/sectors"
)

// Cartridge is a cartridge of 512 bytes with a header: the magic bytes, the name, and the sum of
// what is before the sum.
func Cartridge(magic, name string) []byte {
	b := make([]byte, 0x200)
	copy(b, magic)
	copy(b[0x10:0x28], name)
	var sum uint16
	for _, c := range b[:0x3E] {
		sum += uint16(c)
	}
	binary.LittleEndian.PutUint16(b[0x3E:], sum)
	for i := 0x40; i < len(b); i += 8 {
		binary.LittleEndian.PutUint64(b[i:], mix(uint64(sum)<<16^uint64(i)))
	}
	return b
}

// MainRun is the main.run of a Corvane game.
func MainRun(id, name, region string) []byte {
	b := make([]byte, 0x100)
	copy(b[0x30:0x38], id)
	for i, u := range utf16.Encode([]rune(name)) {
		if 2*i+2 > 40 {
			break
		}
		binary.LittleEndian.PutUint16(b[0x60+2*i:], u)
	}
	copy(b[0x90:0x91], region)
	return b
}

// SkuaDisc is the head of a Skua disc: magic bytes, ID, disc number and name.
func SkuaDisc(magic, id string, disc byte, name string) []byte {
	b := make([]byte, 0x9000)
	copy(b, magic)
	copy(b[0x10:0x18], id)
	b[0x18] = disc
	copy(b[0x40:0x70], name)
	if magic == "SKUADISC" {
		b[0x8000] = 0xFF // the first eight sectors are used
	}
	return b
}

// What the large disc of the Skua has, and uses of it, in bytes.
const (
	largeDisc = 4_700_372_992
	largeUsed = 3_400_000_000
)

// largeSkua makes a disc of full size of a small one: its bitmap, and zeros behind it.
func largeSkua(f shelfFile) shelfFile {
	const bitmap, sector = 0x8000, 2048
	f.size = largeDisc
	f.data = append(f.data[:bitmap:bitmap], make([]byte, largeDisc/sector/8+1)...)
	for n := range largeUsed / sector {
		f.data[bitmap+n/8] |= 1 << (n % 8)
	}
	return f
}

// Volume is an ISO 9660 image of one file.
func Volume(identifier, name string, data []byte) ([]byte, error) {
	im, err := iso9660.Lay(source{files: map[string]content{name: {text: string(data)}}},
		iso9660.Options{VolumeID: identifier, Created: Season})
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	_, err = im.WriteTo(&b)
	return b.Bytes(), err
}

// RawTrack brings an image into raw sectors of 2352 bytes, mode 1.
func RawTrack(image []byte) []byte {
	e, err := sectors.NewEncoder(bytes.NewReader(image), int64(len(image)))
	if err != nil {
		return nil
	}
	out := make([]byte, e.Size())
	if _, err := e.ReadAt(out, 0); err != nil {
		return nil
	}
	return out
}

// SystemImage is the made-up system of a Dulcimer: size bytes of noise.
func SystemImage(number, size int) []byte {
	b := make([]byte, size)
	for i := 0; i < size; i += 8 {
		binary.LittleEndian.PutUint64(b[i:], mix(uint64(0xD01C0+number)^uint64(i/8)))
	}
	return b
}

// shelfFile is one file of the shelf.
type shelfFile struct {
	name string
	data []byte
	size int64 // bytes of the file, where zeros follow the data; 0 for those of the data
}

// shelf are the games of the other consoles, nearly all of them small.
func shelf() ([]shelfFile, error) {
	var out []shelfFile
	var failed error
	add := func(name string, data []byte) { out = append(out, shelfFile{name: name, data: data}) }
	volume := func(identifier, name, text string) []byte {
		b, err := Volume(identifier, name, []byte(text))
		if err != nil {
			failed = err
		}
		return b
	}
	for _, c := range []struct{ folder, file, magic, name string }{
		{"wren8", "Kite_Over_Quarry_Hill.w8", "WREN", "Kite over Quarry Hill"},
		{"wren8", "Ropewalk.w8", "WREN", "Ropewalk"},
		{"wren8", "Sluice Gate Sam (1).w8", "WREN", "Sluice Gate Sam"},
		{"heron16", "Marsh Light.h16", "HERN", "Marsh Light"},
		{"heron16", "Tollbridge.h16", "HERN", "Tollbridge"},
		{"heron16", "Tollbridge_East.h16", "HERN", "Tollbridge"},
		{"finch", "Reed Runner.fin", "FNCH", "Reed Runner"},
		{"finch", "Pocket Regatta.fin", "FNCH", "Pocket Regatta"},
		{"kestrel64", "Hawk & Thistle.k64", "KSTR", "Hawk & Thistle"},
		{"kestrel64", "Stave Church.k64", "KSTR", "Stave Church"},
	} {
		add("carts/"+c.folder+"/"+c.file, Cartridge(c.magic, c.name))
	}
	damaged := Cartridge("WREN", "Brackwater")
	damaged[0x20] ^= 0x55
	add("carts/wren8/Brackwater.w8", damaged)
	for _, name := range []string{"dotterel/Ninepin Alley.dtl", "brambling/Lamplighter.bmb",
		"twite/Sea Shanty Rally.twt", "linnet/Glasshouse.lnt"} {
		add("carts/"+name, bytes.Repeat([]byte(name), 20))
	}
	cue := func(base, mode string) []byte {
		return fmt.Appendf(nil, "FILE \"%s.bin\" BINARY\r\n  TRACK 01 %s\r\n    INDEX 01 00:00:00\r\n", base, mode)
	}
	for _, l := range []struct {
		base, id string
		raw      bool
	}{{"Heron's Watch", "LAP_04412", true}, {"Saltmarsh Symphony", "LAP_04420", false}, {"Two Tides (Disc 1)",
		"LAP_04431", true}, {"Two Tides (Disc 2)", "LAP_04432", true}, {"Lockkeeper (Disc 2)", "LAP_04452", false}} {
		image, mode := volume(l.id, "DATA.DAT", "the tide comes in"), "MODE1/2048"
		if l.raw {
			image, mode = RawTrack(image), "MODE1/2352"
		}
		add("lapwing/"+l.base+".cue", cue(l.base, mode))
		add("lapwing/"+l.base+".bin", image)
	}
	add("lapwing/Fog Signal.cue", cue("Fog Signal", "MODE1/2352")) // its track file is missing
	for i, name := range []string{"Ferry Queen", "Puddle Duchess", "Cinder Path"} {
		add(fmt.Sprintf("siskin/disc%d.iso", i+1), volume(fmt.Sprintf("SISKIN_%d", i+1), "SISKIN.TXT",
			fmt.Sprintf("SK-%04d\r\n%s\r\n", 8812+i, name)))
	}
	for i, name := range []string{"Hollow Lane", "Sixpence Harbour"} {
		dir := fmt.Sprintf("corvane/%02d/", i+1)
		add(dir+"main.run", MainRun(fmt.Sprintf("CVN%05d", 117+i), name, "N"))
		add(dir+"art/title.dat", bytes.Repeat([]byte{7}, 3000))
		add(dir+"sound.dat", bytes.Repeat([]byte{9}, 900))
	}
	if im, err := Volume("CORVANE", "MAIN.RUN", MainRun("CVN00130", "Gorse Common", "E")); err == nil {
		add("corvane/gorse.iso", im)
	} else {
		failed = err
	}
	for i, name := range []string{"Slow Lantern", "Weir"} {
		add(fmt.Sprintf("meridian/game-%d/SYS/TITLE.JSON", i+1),
			fmt.Appendf(nil, `{"id": "MRD-%04d", "name": %q, "region": "E", "version": "1.02"}`+"\n", 117+i, name))
		add(fmt.Sprintf("meridian/game-%d/DATA/world.dat", i+1), bytes.Repeat([]byte{3}, 5000))
	}
	for i, name := range []string{"Long Water", "The Glass Ferry"} {
		add(fmt.Sprintf("skua/%d.skd", i+1), SkuaDisc("SKUADISC", fmt.Sprintf("SKU-%04d", i+7), 1, name))
		if i == 0 { // a disc of its full size, most of which is used
			out[len(out)-1] = largeSkua(out[len(out)-1])
		}
	}
	for d := byte(1); d <= 2; d++ {
		add(fmt.Sprintf("skua/mole%d.img", d), SkuaDisc("SKUA-ONE", "SKF-0031", d, "Old Mole"))
	}
	for _, name := range []string{"Mast & Mirror", "Quillwork"} {
		dir := "dulcimer/" + name + "/"
		add(dir+name+".prog", bytes.Repeat([]byte("run"), 400))
		add(dir+"disk.1", bytes.Repeat([]byte{1}, 2000))
		add(dir+"data/level1.dat", bytes.Repeat([]byte{2}, 700))
		add(dir+"data/level1.bak", bytes.Repeat([]byte{2}, 700))
		add(dir+"game.about", []byte(name+"\nBy the volunteers of West Hall.\n"))
	}
	add("dulcimer/images/old-system.bin", SystemImage(1, 256<<10))
	packed, err := packedGames()
	if err != nil {
		failed = err
	}
	out = append(out, packed...)
	sums := "; the cartridges as they were published\n"
	for _, f := range out {
		if name, ok := strings.CutPrefix(f.name, "carts/wren8/"); ok {
			data := f.data
			if name == "Brackwater.w8" { // of which this copy is damaged
				data = Cartridge("WREN", "Brackwater")
			}
			sums += fmt.Sprintf("%s %08X\n", name, crc32.ChecksumIEEE(data))
		}
	}
	add("carts/wren8/wren8.sfv", []byte(sums))
	return out, failed
}
