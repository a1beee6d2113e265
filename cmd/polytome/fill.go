package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/kit"
	"polytome/internal/core/survey"
)

// fillOptions are the flags of fill.
type fillOptions struct {
	kit string
	work
	how                 carrying
	dry, remove, repair bool
}

func fillCommand() *cobra.Command {
	var opt fillOptions
	cmd := &cobra.Command{
		Use:   "fill",
		Short: "Copy the selected titles to the targets, and check the result",
		Long: `Fill copies what is selected and not there yet to all targets of the bench at the same time. What is
there under another name is renamed, not copied. Every file is written under a temporary name,
flushed and verified before it gets its final name. What is on the target stays, except for what the
bench marks to be removed or replaced, and what --delete-others removes: that needs --remove too. At
the end the target is checked: what the loader will list, and what not. A file that was already
there with its name and length but does not start is reported then; --fix copies it again from your
games. The exit status is 3 unless everything selected is there and starts.

How files are verified depends on the connection: over USB and SMB they are read back and compared;
over FTP the console is asked for their length, as reading back would take as long again. --verify
overrides this.

If a target disconnects, the run waits for it. Every run is recorded: see polytome runs.`,
		Example: `  polytome fill --bench season.toml --dry-run
  polytome fill --from ~/games --loader rowan --to /media/stick
  polytome fill --from ~/games --loader rowan --to /media/stick --kit ~/rowan.zip
  polytome fill --bench season.toml --remove --backup-to ~/kept
  polytome fill --bench season.toml --verify full --limit 20MiB
  polytome fill --from ~/games --loader rowan --to ./stick --as fat32 --capacity 58GiB --except 'size>4G'`,
		Args: noArgs,
		RunE: opt.run,
	}
	opt.planFlags(cmd)
	opt.how.flags(cmd)
	cmd.Flags().StringVar(&opt.rate, "limit", "", "write at most this much per second to each target, such as 20MiB")
	cmd.Flags().StringVar(&opt.how.moveSources, "move-sources", "",
		"after everything was read back: move the copied sources to this folder, or to the trash with 'trash'")
	cmd.Flags().StringVar(&opt.kit, "kit", "",
		"a folder or archive with the loader's own files: those that are missing go along; with several editions, one "+
			"in front: 'EDITION FOLDER'")
	cmd.Flags().BoolVar(&opt.dry, "dry-run", false, "print the steps and write nothing")
	cmd.Flags().BoolVar(&opt.repair, "fix", false, "copy again from your games what is there but does not start")
	cmd.Flags().BoolVar(&opt.remove, "remove", false, "allow removing and replacing what is marked for it")
	return cmd
}

func (opt *fillOptions) run(cmd *cobra.Command, _ []string) error {
	if err := opt.how.check(); err != nil {
		return err
	}
	opt.verify = opt.how.verify
	b, all, partial, err := opt.look(cmd.Context())
	if err != nil {
		return err
	}
	if err := opt.bringKit(all); err != nil {
		return err
	}
	f := &filling{out: cmd.OutOrStdout(), progress: opt.how.reader(os.Stderr), asJSON: opt.asJSON, dry: opt.dry,
		remove: opt.remove, repair: opt.repair, bench: b, atOnce: opt.how.readAtOnce}
	complete, err := f.fill(cmd.Context(), all)
	if opt.bench != "" {
		learnt := false
		for n, l := range f.lanes {
			if l != nil && l.report != nil && b.Targets[n].Rate == 0 {
				learnt = b.Targets[n].Learn(all[n].Config.Speed, all[n].Facts.Adapter, l.report) || learnt
			}
		}
		if learnt {
			opt.remember(b)
		}
	}
	if err == nil && opt.how.moveSources != "" && !opt.dry {
		err = f.moveSources(cmd.Context(), all, opt.how.moveSources)
	}
	if err == nil && (partial || !complete) {
		err = errPartial
	}
	return err
}

// bringKit has the loaders' own files go along.
func (opt *fillOptions) bringKit(all survey.Board) error {
	if opt.kit == "" {
		return nil
	}
	for _, s := range all {
		if s == nil || s.Away != nil {
			continue
		}
		at, editions := opt.kit, []string(nil)
		if chosen, rest := kit.Editions(&s.Profile.Kit, at); len(chosen) > 0 {
			at, editions = rest, chosen
		}
		fixes, notes, err := s.KitFixes(at, editions)
		for _, n := range notes {
			fmt.Fprintf(stderr(), "polytome: %s\n", n)
		}
		if err != nil {
			return err
		}
		s.Config.Fix(fixes...)
	}
	return nil
}

// remember keeps how fast targets were in the bench. Nobody waits for it: where the bench is open elsewhere, or
// cannot be written, times are estimated from what was known before.
func (w *work) remember(b *bench.Bench) {
	fresh, err := bench.Load(w.bench)
	if err != nil || len(fresh.Targets) != len(b.Targets) || fresh.Hold(stateDir()) != nil {
		return
	}
	defer fresh.Release()
	for n := range fresh.Targets { // without what the command line said for this time
		fresh.Targets[n].Speed = b.Targets[n].Speed
	}
	_ = fresh.Save()
}
