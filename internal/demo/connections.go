package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/format/partition"
	"polytome/internal/medium"
	"polytome/internal/sim"
	"polytome/internal/sim/ftpd"
	"polytome/internal/sim/pictures"
	"polytome/internal/sim/samba"
	"polytome/internal/size"
	"polytome/internal/target/served"
)

// Connections are the demo's targets that are reached over a network: simulated consoles on the loopback.
type Connections struct {
	Corvane string // the address of the Corvane's first volume
	Tanager string // that of the Tanager's share; the folder itself where there is no Samba
	Vesper  string // that of the Vesper's own disk
	Stick   string // that of the stick in the Vesper, over its FTP service
	Export  string // the address of this computer at which the hall's export is to be served
	Note    string // what else is to be known, a sentence

	world   World
	covers  *pictures.Server
	console *ftpd.Server
	share   *samba.Server
	// The Vesper is in its menu workshop until off; left is closed then.
	off  context.CancelFunc
	left chan struct{}
	// service is the Vesper's FTP service. It plays from the hall's export until the play is over.
	service *ftpd.Server
	playing sync.WaitGroup
}

// VesperStick is the folder that stands for the stick in the Vesper, and HallExport the one in which it is kept how the
// hall's export is laid out.
func (w World) VesperStick() string { return filepath.Join(w.Dir, "vesper", "stick") }

// HallExport is where it is kept how the hall's export is laid out.
func (w World) HallExport() string { return filepath.Join(w.Dir, "hall-export") }

// CorvaneVolume is the folder that stands for the Corvane's first volume, TanagerShare the one that is the Tanager's
// share, and HallStick the image that stands for a new stick, prepared for its loader.
func (w World) CorvaneVolume() string { return filepath.Join(w.Dir, "corvane", "hd1") }

// TanagerShare is the folder that is the Tanager's share.
func (w World) TanagerShare() string { return filepath.Join(w.Dir, "tanager") }

// HallStick is the image of a new stick.
func (w World) HallStick() string { return filepath.Join(w.Dir, "drives", "hall-14.img") }

// corvaneSpace is what the Corvane's stock disk takes, in bytes.
const corvaneSpace = 4_800_000_000

// tanagerSpace is what the Tanager's share may take, in bytes.
const tanagerSpace = 24 * size.GiB

// Bring switches the consoles on.
func (w World) Bring(ctx context.Context) (*Connections, error) {
	r := &Connections{world: w}
	for _, dir := range []string{filepath.Join(w.CorvaneVolume(), "gantry"), w.TanagerShare(), w.VesperStick()} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, fmt.Errorf("making the demo's consoles: %w", err)
		}
	}
	err := errors.Join(w.keepSaves(ctx), w.remember())
	if err != nil {
		return nil, err
	}
	if r.covers, err = pictures.Start(Pictures()); err != nil {
		return nil, fmt.Errorf("starting the demo's server of pictures: %w", err)
	}
	if err := r.workshop(ctx); err != nil {
		r.Close()
		return nil, fmt.Errorf("switching the demo's Vesper on: %w", err)
	}
	if err := r.play(ctx); err != nil {
		r.Close()
		return nil, fmt.Errorf("putting a stick into the demo's Vesper: %w", err)
	}
	corvane, tanager := sim.Consoles["corvane"], sim.Consoles["tanager"]
	if r.console, err = corvane.Serve(filepath.Dir(w.CorvaneVolume()), 0, corvaneSpace); err != nil {
		r.Close()
		return nil, err
	}
	r.Corvane = fmt.Sprintf("ftp://127.0.0.1:%d/hd1", r.console.Port())
	if err := tanager.Start(w.TanagerShare()); err != nil {
		r.Close()
		return nil, err
	}
	r.share, err = samba.Serve(ctx, tanager.Share, w.TanagerShare(), samba.Options{})
	switch {
	case errors.Is(err, samba.ErrNotInstalled):
		r.Tanager, r.Note = w.TanagerShare(), "Samba is not installed, so the Tanager's share is a plain folder here."
	case err != nil:
		r.Close()
		return nil, err
	default:
		r.Tanager = fmt.Sprintf("smb://127.0.0.1:%d/%s", r.share.Port, tanager.Share)
	}
	return r, nil
}

// workshop has the Vesper export its disk.
func (r *Connections) workshop(ctx context.Context) error {
	f, err := os.OpenFile(r.world.VesperDisk(), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	disk, err := medium.Of(f)
	if err != nil {
		return errors.Join(err, f.Close())
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return errors.Join(err, disk.Close())
	}
	ctx, r.off = context.WithCancel(ctx)
	r.left = make(chan struct{})
	r.Vesper = "nbd://" + l.Addr().String() + "/" + sim.VesperExport
	go func() {
		defer close(r.left)
		_ = (&sim.Workshop{Disk: disk}).Serve(ctx, l) // what goes wrong is seen by who is connected
		_ = disk.Close()                              // every change was flushed
	}()
	return nil
}

// playEvery is how often the Vesper looks whether the hall's export is there.
const playEvery = 2 * time.Second

// play begins the Vesper's FTP service, and has it play from the hall's export whenever that is served.
func (r *Connections) play(ctx context.Context) (err error) {
	r.service, err = ftpd.Serve(r.world.VesperStick(), 0, ftpd.Habits{Sizes: true, Machine: true, Restart: true})
	if err != nil {
		return err
	}
	r.Stick = fmt.Sprintf("ftp://127.0.0.1:%d", r.service.Port())
	l, err := net.Listen("tcp", "127.0.0.1:0") // one that is free
	if err != nil {
		return err
	}
	r.Export = l.Addr().String()
	if err := l.Close(); err != nil {
		return err
	}
	ctx, off := context.WithCancel(ctx)
	before := r.off
	r.off = func() { off(); before() }
	r.playing.Go(func() {
		dice := rand.New(rand.NewPCG(Seed, 28))
		for ctx.Err() == nil {
			r.playOnce(ctx, dice)
			select {
			case <-ctx.Done():
			case <-time.After(playEvery):
			}
		}
	})
	return nil
}

// playOnce has the Vesper play a title for a while, where the export is there.
func (r *Connections) playOnce(ctx context.Context, dice *rand.Rand) {
	d, err := sim.MountNetworkDisk(ctx, "nbd://"+r.Export+"/rowan", r.world.VesperStick())
	if err != nil {
		return // it is not served, or there is no list yet
	}
	defer d.Close() // which was read from
	games := slices.DeleteFunc(d.Games, func(g sim.NetworkGame) bool { return !g.Starts })
	if len(games) == 0 {
		return
	}
	_, _ = d.Play(ctx, &games[dice.IntN(len(games))], 2000, 15*time.Millisecond, dice)
}

// Close switches the consoles off.
func (r *Connections) Close() {
	if r.off != nil {
		r.off()
		<-r.left
	}
	r.playing.Wait()
	if r.service != nil {
		r.service.Close()
	}
	if r.covers != nil {
		_ = r.covers.Close()
	}
	if r.console != nil {
		r.console.Close()
	}
	if r.share != nil {
		r.share.Close()
	}
}

// large are the keys of the titles that would take long over a network, for a demo.
func (w World) large() bench.Keys {
	keys := bench.Keys{"SKU-0007"}
	for _, v := range vespers { // those of which no ID is read, or that share one, go by their files
		keys = append(keys, fmt.Sprintf("VSP-%05d", v.number), filepath.Join(w.Games, filepath.FromSlash(v.path())))
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

// corvane and tanager are the targets.
func (r *Connections) corvane() bench.Target {
	return bench.Target{Name: "Corvane disk", At: r.Corvane, Loader: "gantry", Via: "ftp", As: "exfat",
		Capacity: bench.Size(corvaneSpace), NoCovers: true, Titles: bench.Keys{"CVN00117", "CVN00130"}}
}

func (r *Connections) tanager() bench.Target {
	return bench.Target{Name: "Tanager share", At: r.Tanager, Loader: "oxbow", Via: "smb",
		Capacity: bench.Size(tanagerSpace), Everything: true, Without: r.world.large()}
}

func (r *Connections) vesper() bench.Target {
	return bench.Target{Name: "Vesper disk", At: r.Vesper, Loader: "rowan", Via: "nbd",
		Titles: bench.Keys{"VSP-21377", "VSP-21640", "VSP-21690"}}
}

func (r *Connections) hall() bench.Target {
	return bench.Target{Name: "Hall export", At: served.Scheme + r.world.HallExport(), Loader: "rowan", Via: "nbd",
		As: "exfat", Capacity: bench.Size(20 * size.TiB), Listen: r.Export, DeleteOthers: true, Everything: true}
}

func (r *Connections) list() bench.Target {
	return bench.Target{Name: "Vesper stick", At: r.Stick, Loader: "rowan", Carries: "Hall export"}
}

// Hall is a bench with the hall's export, and the list of it for the stick in the Vesper.
func (r *Connections) Hall() *bench.Bench {
	b := bench.New("")
	b.Sources = []bench.Source{{Path: r.world.Games}, {Path: r.world.Shelf}}
	b.Targets = []bench.Target{r.hall(), r.list()}
	return b
}

// Connect has the targets of a bench be where the consoles are now, and adds those that it lacks. Its server of
// pictures is where ours is now.
func (r *Connections) Connect(b *bench.Bench) {
	for i := range b.Covers.Servers {
		if b.Covers.Servers[i].Name == CoverServer {
			b.Covers.Servers[i].URL = r.covers.URL()
		}
	}
	for _, p := range []bench.Target{r.corvane(), r.tanager(), r.vesper(), r.hall(), r.list()} {
		i := slices.IndexFunc(b.Targets, func(x bench.Target) bool { return x.Name == p.Name })
		if i < 0 {
			b.Targets = append(b.Targets, p)
			continue
		}
		b.Targets[i].At, b.Targets[i].Listen = p.At, p.Listen
	}
}

// Each is a bench with one target for each connection: a new stick, the Corvane, the Tanager's share, and the Vesper's
// own disk.
func (r *Connections) Each() (*bench.Bench, error) {
	w := r.world
	if _, err := os.Stat(w.HallStick()); err != nil {
		stick := driveImage{size: 14700 * size.MiB, scheme: partition.MBR, filesystem: "fat32", label: "PIPIT"}
		if err := stick.make(w.HallStick()); err != nil {
			return nil, fmt.Errorf("making the demo's new stick: %w", err)
		}
	}
	b := bench.New("")
	b.Sources = []bench.Source{{Path: w.Games}, {Path: w.Shelf}}
	corvane := r.corvane()
	corvane.Everything, corvane.Titles, corvane.Without = true, nil, r.world.large()
	b.Targets = []bench.Target{
		{Name: "Hall stick", At: "drive:" + w.HallStick(), Loader: "bellows", Also: []string{"mica"}, Via: "usb",
			Everything: true, Without: w.large()},
		corvane, r.tanager(), r.vesper(),
	}
	return b, nil
}
