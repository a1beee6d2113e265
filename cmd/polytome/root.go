package main

import (
	"errors"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"polytome/internal/config"
	"polytome/internal/optical"
	"polytome/internal/ui"
	"polytome/internal/ui/state"
)

// rootOptions are the flags of polytome itself.
type rootOptions struct {
	work
	ascii bool
}

// rootCommand is the program. What is returned beside it ends what a command has begun.
func rootCommand() (root *cobra.Command, end func()) {
	var opt rootOptions
	ended := func() {}
	root = &cobra.Command{
		Use:   "polytome",
		Short: "Fill the drives of modded consoles, and check that their loaders list the games",
		Long: `Polytome lays out and fills USB drives for modded retro consoles: it finds out what
your games are, shows which of them can go where, and why, before anything is written,
copies them with the names that the loader needs, and checks the result.

Without a command it opens the full screen on a bench, the file that stores your
folders, targets and selection. A bench that does not exist yet is created. Without --bench it is
one of your own, in your data folder.

Exit status: 0 all done, 1 failed, 2 wrong usage, 3 done but not everything fitted, 130 stopped.`,
		Example: `  polytome demo
  polytome --bench season.toml
  polytome fill --from ~/games --loader rowan --to /media/stick`,
		Args:          noArgs,
		SilenceUsage:  true,
		SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			c, err := config.Load(configFile())
			if err != nil {
				return err
			}
			switch {
			case opt.bench != "":
			case c.Bench != "":
				opt.bench = state.Expand(c.Bench)
			default:
				opt.bench = ownBench()
				if err := os.MkdirAll(filepath.Dir(opt.bench), 0o700); err != nil {
					return err
				}
			}
			b, err := opt.benchOrNew()
			if err != nil {
				return err
			}
			if err := b.Hold(stateDir()); err != nil {
				return err
			}
			defer b.Release()
			return ui.Run(cmd.Context(), b, set, ui.Options{ASCII: opt.ascii, Settings: c, SettingsFile: configFile(),
				Colours:   prints.colours(),
				OwnDir:    configDir(),
				CacheFile: cacheFile(),
				CoversDir: coversDir(), JournalFile: journalFile(), Ledger: theLedger(),
				Discs: state.DiscAccess{Devices: optical.Devices, Open: openDisc, Offsets: c.DiscOffsets}})
		},
	}
	root.Version = version()
	root.SetVersionTemplate("Polytome {{.Version}}\n")
	passwordFile, passwordIn, passwordInput := "", "", false
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		if (passwordFile != "" || passwordInput) && passwordIn != "" || passwordFile != "" && passwordInput {
			return usageError{errors.New("--password-file, --password-stdin and --password-env exclude each other")}
		}
		if passwordInput {
			passwordFile = "-"
		}
		switch {
		case passwordFile != "":
			givePassword(passwordFile)
		case passwordIn != "":
			givePasswordIn(passwordIn)
		}
		end, err := prints.begin(cmd)
		if err == nil {
			ended = end
		}
		return err
	}
	root.SetFlagErrorFunc(wrongFlag)
	root.Flags().StringVar(&opt.bench, "bench", "", "the bench file (default: "+ownBench()+")")
	root.PersistentFlags().StringVar(&passwordFile, "password-file", "",
		"for scripts: read the server's password from the first line of this file; - is standard input")
	root.PersistentFlags().BoolVar(&passwordInput, "password-stdin", false,
		"for scripts: read the server's password from the first line of standard input")
	root.PersistentFlags().StringVar(&passwordIn, "password-env", "",
		"for scripts: take the server's password from the environment variable of this name")
	prints.flags(root)
	root.Flags().BoolVar(&opt.ascii, "ascii", false, "draw with ASCII characters only")
	root.AddCommand(
		demoCommand(),
		scanCommand(),
		verifyCommand(),
		imageCommand(),
		fitCommand(),
		planCommand(),
		fillCommand(),
		runsCommand(),
		restoreCommand(),
		savesCommand(),
		ledgerCommand(),
		setsCommand(),
		twinCommand(),
		whereCommand(),
		dockCommand(),
		checkCommand(),
		checklistCommand(),
		coversCommand(),
		treeCommand(),
		loadersCommand(),
		simulatorCommand(),
		drivesCommand(),
		connectionsCommand(),
		drawCommand(),
		slabCommand(),
		discCommand(),
		serveCommand(),
		doctorCommand(),
		configCommand(),
	)
	onlyGroups(root)
	completing(root)
	return root, func() { ended() }
}
