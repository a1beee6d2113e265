package demo

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"

	"polytome/internal/format/packed"
)

// Pocket is the folder that stands for the Hall pocket: a stick that someone filled by hand, with the mistakes that
// are made so.
func (w World) Pocket() string { return filepath.Join(w.Dir, "hall-pocket") }

// byHand fills the Hall pocket, and puts a cover on the North stick.
func (w World) byHand() error {
	lapwing := func(id string) []byte {
		b, err := Volume(id, "TRACK.DAT", []byte("data"))
		if err != nil {
			panic(err) // a volume of one small file can always be laid
		}
		return b
	}
	cue := func(bin string) []byte {
		return fmt.Appendf(nil, "FILE \"%s\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n", bin)
	}
	var low bytes.Buffer
	if _, err := packed.Pack(context.Background(), &low, bytes.NewReader(SkuaDisc("SKUADISC", "SKU-0044", 1,
		"Low Water")), packed.Options{}); err != nil {
		return fmt.Errorf("making the demo's Low Water: %w", err)
	}
	front := asPNG("front", "Mosswick")
	pocket := w.Pocket()
	for file, data := range map[string][]byte{
		pocket + "/bellows-north (1).bin": []byte("Bellows itself would be here"),
		// the track has the mark of a second copy
		pocket + "/Titles/Punt Race/Punt Race.cue": cue("Punt Race.bin"), pocket +
			"/Titles/Punt Race/Punt Race (1).bin": lapwing("LAP_08801"),
		// the sheet is not called like its folder
		pocket + "/Titles/Weir Keeper/weir.cue": cue("weir.bin"), pocket + "/Titles/Weir Keeper/weir.bin": lapwing(
			"LAP_08802"),
		// two discs and no playlist
		pocket + "/Titles/Tollhouse Tales/Tollhouse Tales (Disc 1).cue": cue("toll1.bin"), pocket +
			"/Titles/Tollhouse Tales/toll1.bin": lapwing("LAP_08803"),
		pocket + "/Titles/Tollhouse Tales/Tollhouse Tales (Disc 2).cue": cue("toll2.bin"), pocket +
			"/Titles/Tollhouse Tales/toll2.bin": lapwing("LAP_08804"),
		// loose, and half a pair
		pocket + "/Titles/Loose Lock.cue": cue("Loose Lock.bin"), pocket + "/Titles/Loose Lock.bin": lapwing(
			"LAP_08805"),
		pocket + "/Titles/Ebb Choir/Ebb Choir.cue": cue("Ebb Choir.bin"),
		// a cartridge in the folder of another platform, and one that is right
		pocket + "/Carts/wren8/Osprey Point.fin": Cartridge("FNCH", "Osprey Point"), pocket +
			"/Carts/finch/Snipe Hunt.fin": Cartridge("FNCH", "Snipe Hunt"),
		pocket + "/tools/mica/mica-1.4 (1).app": []byte("Mica itself would be here"), pocket +
			"/tools/mica/about.xml": []byte("<about/>"), pocket + "/tools/mica/badge.png": front,
		pocket + "/skua/SKU-0044/Low Water.pkd": low.Bytes()[:low.Len()/2],
		pocket + "/who has it.txt":              []byte("Lent to East Hall until May\n"),
		// too large, of the wrong format, and with the mark of a second copy
		filepath.Join(w.Stick, "FACES", "front", "VSP-21377 (1).png"): front,
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.FromSlash(file)), 0o755); err != nil {
			return fmt.Errorf("making the demo: %w", err)
		}
		if err := writeAll(filepath.FromSlash(file), string(data)); err != nil {
			return err
		}
	}
	return nil
}
