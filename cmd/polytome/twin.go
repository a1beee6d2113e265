package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/core/twin"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/protocols"
	"polytome/internal/ui/state"
)

// twinOptions are the flags of twin.
type twinOptions struct {
	bench, loader, as, backupTo string
	fix, remove, deleteOthers   bool
	dry, asJSON                 bool
}

func twinCommand() *cobra.Command {
	var opt twinOptions
	cmd := &cobra.Command{
		Use:   "twin FROM TO",
		Short: "Make a stick like another one, from that, from an image of it, or from what the ledger remembers",
		Long: `Twin copies what is on one target to another one, file by file, so size and filesystem may differ: from a
mounted stick, a folder, a drive, an image or an address. What is already there with the same name, length and
date stays. With --fix, every byte of both is compared, and what differs or cannot be read on TO is written
again.

FROM may also be the name of a volume in the ledger that lies in a drawer or is lost: with --bench, its titles
are copied from your games as far as they still have them, and saves that are kept come along.

What would be replaced or removed on TO is listed, and needs --remove. Saves on TO are never touched where the
loader is known: with --loader, or from the ledger.`,
		Example: `  polytome twin /media/HALL1 /media/HALL2
  polytome twin north.img /media/stick --dry-run
  polytome twin /media/HALL1 /media/HALL2 --fix --remove --backup-to ~/kept
  polytome twin "Hall 3" /media/stick --bench season.toml`,
		Args: takeArgs(2, 2, "what is copied, and where to"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.bench, "bench", "", "where a volume is only remembered: the bench with your games")
	f.StringVar(&opt.loader, "loader", "", "the loader that reads TO, to know the saves on it")
	f.StringVar(&opt.as, "as", "", "declare the filesystem of TO: fat32, exfat, ntfs or ext4")
	f.StringVar(&opt.backupTo, "backup-to", "", "back up what is removed or replaced to this folder first")
	f.BoolVar(&opt.fix, "fix", false, "compare every byte, and write again what differs")
	f.BoolVar(&opt.deleteOthers, "delete-others", false, "remove files that FROM does not have")
	f.BoolVar(&opt.remove, "remove", false, "allow removing and replacing")
	f.BoolVar(&opt.dry, "dry-run", false, "print the steps and write nothing")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON, one object a line")
	return cmd
}

func (opt *twinOptions) run(cmd *cobra.Command, args []string) error {
	from, remembered, err := opt.from(args[0])
	if err != nil {
		return err
	}
	to, err := addressOf(args[1])
	if err != nil {
		return usageError{err}
	}
	if remembered != nil {
		return opt.again(cmd, remembered, to)
	}
	if samePlace(from, to) {
		return usageError{fmt.Errorf("%s and %s are one place, or one lies in the other", args[0], args[1])}
	}
	return opt.copy(cmd, from, to)
}

// addressOf is the address of a target as a person writes it.
func addressOf(text string) (string, error) {
	at := drive.AddressOf(state.Expand(text))
	if _, ok := drive.ParseAddress(at); ok || strings.Contains(at, "://") {
		return at, nil
	}
	return filepath.Abs(at)
}

// from finds what is copied: something that is there, or a volume of the ledger, which may be plugged in somewhere.
func (opt *twinOptions) from(text string) (at string, remembered *ledger.Volume, err error) {
	if at, err = addressOf(text); err != nil {
		return "", nil, usageError{err}
	}
	_, isDrive := drive.ParseAddress(at)
	p, _, _ := protocols.Parse(at)
	if _, err := os.Stat(at); err == nil || isDrive || p != nil {
		return at, nil, nil
	}
	_, v, err := volumeNamed(text)
	if err != nil {
		return "", nil, usageError{fmt.Errorf("there is no %s, neither a place nor a volume of the ledger", text)}
	}
	if stick, ok := v.Stick(); ok {
		if at, ok := folder.Plugged(stick, v.Address); ok {
			return at, nil, nil
		}
	}
	if opt.bench == "" {
		return "", nil, usageError{
			fmt.Errorf("%s is not connected: say with --bench where your games are, or plug it in",
				v.Called()),
		}
	}
	return "", v, nil
}

// samePlace reports whether two addresses are of one folder, or of folders of which one lies in the other.
func samePlace(a, b string) bool {
	real := func(at string) string {
		if p, err := filepath.EvalSymlinks(at); err == nil {
			return p
		}
		return at
	}
	a, b = real(a), real(b)
	inside := func(a, b string) bool { return strings.HasPrefix(a+"/", strings.TrimSuffix(b, "/")+"/") }
	return inside(a, b) || inside(b, a)
}

// copy makes a target like another one that is there.
func (opt *twinOptions) copy(cmd *cobra.Command, fromAt, toAt string) error {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	set, err := known()
	if err != nil {
		return err
	}
	if _, err := set.Profile(opt.loader); opt.loader != "" && err != nil {
		return usageError{err}
	}
	open := func(ctx context.Context, at, as string) (t target.Target, err error) {
		err = letIn(func() (err error) {
			t, err = survey.OpenTarget(ctx, at, bench.Target{Name: at, At: at, As: as}, nil, false)
			return err
		})
		return t, err
	}
	from, err := open(ctx, fromAt, "")
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := open(ctx, toAt, opt.as)
	if err != nil {
		return err
	}
	t, err := twin.Make(
		ctx,
		from,
		to,
		twin.Options{Fix: opt.fix, DeleteOthers: opt.deleteOthers, BackupTo: opt.backupTo,
			Stay: func(f target.Facts, all []target.Entry) []string { return opt.savesOn(set, f, all) }},
	)
	err = errors.Join(err, to.Close()) // the run opens it again
	if err != nil {
		return err
	}
	for _, l := range t.Left {
		t.Plan.Notes = append(t.Plan.Notes, l.Path+" is left out: "+l.Why)
	}
	for _, s := range t.Stayed {
		t.Plan.Notes = append(t.Plan.Notes, s+" stays as it is: it is what players have reached")
	}
	say := fmt.Sprintf("%s alike, %s", size.Count(t.Alike, "file"), t.Plan.Say())
	l := lone(out, toAt, t.Plan, opt.asJSON)
	if err := l.announce(say, opt.dry || t.Plan.Loses() > 0 && !opt.remove && !opt.asJSON); err != nil {
		return err
	}
	if n := t.Plan.Loses(); n > 0 && !opt.remove && !opt.dry {
		return usageError{fmt.Errorf("on %s, %s would be removed or replaced; allow it with --remove", toAt,
			size.Count(n, "file"))}
	}
	if !opt.dry && !t.Plan.Empty() {
		err = l.carry(func(emit func(run.Event)) run.Report {
			return run.Start(ctx, run.Job{Plan: t.Plan, From: from, Emit: emit,
				Open: func(ctx context.Context) (target.Target, error) {
					return t.Open(ctx, func(ctx context.Context) (target.Target, error) {
						return open(ctx, toAt, opt.as)
					})
				}}).Wait()
		})
	}
	if err == nil && len(t.Left) > 0 {
		err = errPartial
	}
	return err
}

// savesOn are the saves on a target, as far as it is known which loader reads it.
func (opt *twinOptions) savesOn(set *loader.Set, facts target.Facts, entries []target.Entry) []string {
	paths, known := survey.SavesThere(set, theLedger(), opt.loader, facts, entries)
	if !known && len(entries) > 0 {
		fmt.Fprintln(stderr(), "polytome: it is not known which loader reads the copy, so saves on it are files "+
			"like all others: --loader NAME has them stay")
	}
	return paths
}

// again makes a target like a volume that is only remembered, out of the games of a bench.
func (opt *twinOptions) again(cmd *cobra.Command, v *ledger.Volume, to string) error {
	if opt.fix || opt.deleteOthers {
		return usageError{fmt.Errorf("%s is not connected: --fix and --delete-others need it", v.Called())}
	}
	if len(v.Loaders) == 0 {
		return fmt.Errorf("it is not known for which loader %s was", v.Called())
	}
	w := work{bench: opt.bench, asJSON: opt.asJSON, as: opt.as, backupTo: opt.backupTo}
	b, err := bench.Load(state.Expand(opt.bench))
	if err != nil {
		return err
	}
	w.picked = 0
	b.Targets = []bench.Target{{Name: v.Called(), At: to, As: opt.as, Loader: v.Loaders[0], Also: v.Loaders[1:],
		Model: v.Model, BackupTo: opt.backupTo}}
	var lost []string
	all, _, err := w.surveysOf(cmd.Context(), b, func(titles []title.Title) {
		b.Targets[0].Titles, lost = survey.Remembered(v, titles)
	})
	if err != nil {
		return err
	}
	for _, name := range lost {
		fmt.Fprintln(stderr(), clean("polytome: not among your games any longer: "+name))
	}
	f := &filling{
		out:      cmd.OutOrStdout(),
		progress: autoProgress(),
		asJSON:   opt.asJSON,
		dry:      opt.dry,
		remove:   opt.remove,
		bench:    b,
	}
	complete, err := f.fill(cmd.Context(), all)
	if err == nil && (len(lost) > 0 || !complete) {
		err = errPartial
	}
	return err
}
