package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/prepare"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/format/partition"
	"polytome/internal/size"
	"polytome/internal/target/drive"
)

// preparing is what the flags of drives prepare say.
type preparing struct {
	w                               work
	fs, label, table, cluster, size string
	kit, erase                      string
	editions                        []string
	partition                       int
	fixed, dry                      bool
}

func drivesReady() *cobra.Command {
	r := &preparing{}
	cmd := &cobra.Command{
		Use:   "prepare TARGET",
		Short: "Prepare a drive for a loader: partition table, filesystem, label, folders and kit",
		Long: `Prepares a drive or image in one go, as a loader's profile says or as you say. Everything on it is
lost, and listed first; nothing is written until you type its name or serial number, or give it with
--erase. Drives in use are never touched. With --partition, only that one is reformatted, and
everything else on the drive stays.`,
		Example: `  polytome drives prepare /dev/sdb --loader rowan --kit ~/rowan
  polytome drives prepare north.img --size 58GiB --loader rowan --from ~/games
  polytome drives prepare /dev/sdb --fs exfat --label OXBOW --table gpt --cluster 128K --erase QX-2209-11
  polytome drives prepare /dev/sdc --bench season.toml --alike "Hall 1"
  polytome drives prepare /dev/sdb --partition 2 --loader bellows --dry-run`,
		Args: needArgs(1, "a drive or image"),
		RunE: func(cmd *cobra.Command, args []string) error { return r.run(cmd, args[0]) },
	}
	f := cmd.Flags()
	f.StringVar(&r.w.loader, "loader", "", "the loader to prepare it for: a name, or a .toml file")
	f.StringVar(&r.fs, "fs", "", "the filesystem: fat32, exfat, fat16 or slab (default: what the loader reads)")
	f.StringVar(&r.label, "label", "", "the volume label (default: what the loader needs)")
	f.StringVar(&r.table, "table", "", "the partition table: mbr, gpt or none")
	f.StringVar(&r.cluster, "cluster", "", "cluster size, such as 32K")
	f.IntVar(&r.partition, "partition", 0, "prepare only this partition, and keep the rest")
	f.StringVar(&r.size, "size", "", "create the image with this size if it does not exist")
	f.StringVar(&r.kit, "kit", "", "the kit: a folder or archive with the loader's own files, as downloaded")
	f.StringSliceVar(&r.editions, "edition", nil,
		"which edition of the kit; several, such as a model and a region, with a comma between")
	f.StringArrayVar(&r.w.from, "from", nil, "folder with games, used to choose the cluster size (may be repeated)")
	f.StringVar(&r.w.bench, "bench", "", "with --alike: the bench of the target")
	f.StringVar(
		&r.w.target,
		"alike",
		"",
		"with --bench: prepare it as another stick like this target, and add it to the set",
	)
	f.StringVar(&r.erase, "erase", "", "confirm that everything on the drive is lost: its serial number or name")
	f.BoolVar(&r.fixed, "fixed-disk", false, "confirm a disk that is built into this computer")
	f.BoolVar(&r.dry, "dry-run", false, "show what would be done, and do nothing")
	f.BoolVar(&r.w.asJSON, "json", false, "print JSON")
	return cmd
}

// makeImage makes an image file of so many bytes where there is none.
func makeImage(name, text string) error {
	n, err := size.Parse(text)
	if err != nil {
		return usageError{fmt.Errorf("--size: %w", err)}
	}
	err = drives.MakeImage(name, n)
	if errors.Is(err, os.ErrExist) {
		return usageError{fmt.Errorf("--size: %s already exists; omit --size", name)}
	}
	return err
}

func (r *preparing) request(ctx context.Context, cmd *cobra.Command, set *loader.Set) (req prepare.Request, err error) {
	req = prepare.Request{Filesystem: r.fs, Part: r.partition, Kit: r.kit, Editions: r.editions, Vault: keptSaves()}
	if (r.w.bench == "") != (r.w.target == "") {
		return req, usageError{errors.New("--bench and --alike belong together")}
	}
	if r.w.bench != "" {
		b, err := bench.Load(r.w.bench)
		if err == nil {
			err = r.w.pick(b)
		}
		if err != nil {
			return req, err
		}
		r.w.loader = cmp.Or(r.w.loader, b.Targets[r.w.picked].Loader)
	}
	if r.w.loader != "" {
		if req.Profile, err = set.Profile(r.w.loader); err != nil {
			return req, err
		}
	}
	if cmd.Flags().Changed("label") {
		req.Label = &r.label
	}
	if r.table != "" {
		if req.Scheme, err = partition.SchemeNamed(r.table); err != nil {
			return req, usageError{err}
		}
	}
	if r.cluster != "" {
		text := r.cluster
		if last := text[len(text)-1]; last == 'K' || last == 'M' || last == 'k' {
			text += "iB"
		}
		if req.Cluster, err = size.Parse(text); err != nil {
			return req, usageError{fmt.Errorf("--cluster: %w", err)}
		}
	}
	if len(r.w.from) > 0 {
		b, err := (&work{from: r.w.from, loader: "rowan", to: "."}).open(true)
		if err != nil {
			return req, err
		}
		found, err := scanned(ctx, b, set, "", os.Stderr)
		if err != nil {
			return req, err
		}
		req.Titles = found.Titles
	}
	return req, nil
}

func (r *preparing) run(cmd *cobra.Command, what string) (err error) {
	ctx, out, sys := cmd.Context(), cmd.OutOrStdout(), drives.Here
	set, err := known()
	if err != nil {
		return err
	}
	req, err := r.request(ctx, cmd, set)
	if err != nil {
		return err
	}
	made, began := false, false
	defer func() {
		if err != nil && made && !began { // an image with nothing in it is what no one asked for
			err = errors.Join(err, os.Remove(what))
		}
	}()
	if r.size != "" && !r.dry {
		if err := makeImage(what, r.size); err != nil {
			return err
		}
		made = true
	}
	d, part, err := sys.Target(ctx, what)
	if err != nil {
		return err
	}
	if part > 0 && req.Part == 0 && strings.Contains(what, "#") {
		req.Part = part
	}
	p, err := prepare.Make(ctx, sys, d, set, req)
	if err != nil {
		return err
	}
	if !r.w.asJSON {
		printReady(out, p)
	}
	if refusal := d.Refusal(); refusal != nil {
		return refusal
	}
	if r.dry {
		if r.w.asJSON {
			return printJSON(out, p)
		}
		return nil
	}
	consent := drives.Consent{Typed: r.erase, Fixed: r.fixed}
	if made && r.erase == "" { // nothing is in it yet
		consent.Typed = d.Name()
	}
	if consent.Typed == "" {
		if consent.Typed, err = typedName(cmd.InOrStdin(), out, d, p); err != nil {
			return err
		}
	}
	report, err := p.Do(ctx, sys, consent, func(e prepare.Event) {
		began = true
		if !r.w.asJSON {
			fmt.Fprintf(out, "%d of %d  %s …\n", e.Step+1, e.Steps, e.Say)
		}
	})
	if err != nil {
		return err
	}
	if err := theLedger().Reformatted(report.Lost, report.Volume); err != nil {
		fmt.Fprintf(stderr(), "polytome: what was on it is still remembered: %v\n", err)
	}
	if r.w.asJSON {
		if err := printJSON(out, map[string]any{"plan": p, "report": report}); err != nil {
			return err
		}
	} else if report.Good() {
		fmt.Fprintf(out, "%s is ready, in %.1f s: the check found no problems.\n", d.Name(), report.Took.Seconds())
	} else {
		fmt.Fprintln(out, "The check found:")
		for _, w := range report.Wrong {
			fmt.Fprintf(out, "  %s\n", w)
		}
	}
	if !report.Good() {
		return errPartial
	}
	return r.join(ctx, cmd, d, report)
}

// join has a drive that was prepared be one of the set that it was prepared for.
func (r *preparing) join(ctx context.Context, cmd *cobra.Command, d *drives.Drive, report *prepare.Report) error {
	if r.w.bench == "" {
		return nil
	}
	w := work{bench: r.w.bench, target: r.w.target}
	b, err := w.open(false)
	if err != nil {
		return err
	}
	if err := b.Hold(stateDir()); err != nil {
		return err
	}
	defer b.Release()
	at := drive.Address{Drive: d.Key()}.String()
	for i := range b.Targets {
		t := &b.Targets[i]
		if t.Stick != "" && slices.Contains(report.Lost, t.Stick) {
			t.Stick = report.Volume
			return b.Save()
		}
		if b.Resolve(t.At) == at { // it is one already
			return nil
		}
	}
	past, err := volumes()
	if err != nil {
		return err
	}
	n, err := survey.AddAlike(ctx, b, w.picked, at, past)
	if err != nil {
		return err
	}
	if !r.w.asJSON {
		fmt.Fprintln(
			cmd.OutOrStdout(),
			clean(fmt.Sprintf("%s is like %s: %s", b.Targets[n].Name, b.Targets[n].Like, at)),
		)
	}
	return b.Save()
}

// mostListedSaves is how many saves are named that are on a drive.
const mostListedSaves = 10

// typedName asks for the drive's name.
func typedName(in io.Reader, out io.Writer, d *drives.Drive, p *prepare.Plan) (string, error) {
	nobody := usageError{fmt.Errorf("no terminal to type the drive's name: confirm with --erase %q", consentWord(d))}
	if f, ok := in.(*os.File); ok && !isTerminal(f) {
		return "", nobody
	}
	loses := "No games or files were recognized on it."
	if p.Loses != "" {
		loses = "This will be lost: " + p.Loses + "."
	}
	fmt.Fprintf(out, "Everything on it will be erased. %s\nType the drive's name, %s, to continue: ", loses,
		consentWord(d))
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && line == "" {
		return "", nobody
	}
	return strings.TrimSpace(line), nil
}

// consentWord is what has to be typed: the serial number where there is one, else the name.
func consentWord(d *drives.Drive) string {
	if d.Serial != "" {
		return d.Serial
	}
	return d.Name()
}

func printReady(out io.Writer, p *prepare.Plan) {
	fmt.Fprintf(out, "%s\n\n", p.Drive.Describe())
	for _, side := range []struct {
		name string
		all  []prepare.Slice
	}{{"now", p.Before}, {"then", p.After}} {
		for i, s := range side.all {
			name := ""
			if i == 0 {
				name = side.name
			}
			fmt.Fprintf(out, "  %-5s %12s  %-5s  %s\n", name, size.Format(s.Size), s.Kind, s.Say)
		}
	}
	fmt.Fprintln(out)
	for _, r := range p.Reasons {
		fmt.Fprintf(out, "  %s: %s.\n", r.What, r.Why)
	}
	for _, n := range p.Notes {
		fmt.Fprintf(out, "  %s\n", n)
	}
	printLeft(out, p.Left)
	if p.Loses != "" {
		fmt.Fprintf(out, "\n  This will be lost: %s.\n", p.Loses)
	}
	for i := range p.Saves {
		if i == mostListedSaves {
			fmt.Fprintf(out, "    and %d more saves\n", len(p.Saves)-i)
			break
		}
		fmt.Fprintf(out, "  Kept first: %s\n", p.Saves[i].Path)
	}
	fmt.Fprintln(out)
	for i, s := range p.Steps {
		fmt.Fprintf(out, "  %d. %s\n", i+1, s)
	}
	fmt.Fprintln(out)
}
