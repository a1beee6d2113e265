package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
)

// learnLoaderOptions are the flags of loaders learn.
type learnLoaderOptions struct {
	out, as, answers, beyond string
	games                    []string
	add, asJSON              bool
}

func learnLoader() *cobra.Command {
	var opt learnLoaderOptions
	cmd := &cobra.Command{
		Use:   "learn TARGET…",
		Short: "Draft a profile from drives that a console or a person has prepared",
		Long: `Learn reads a target with empty folders as the console made them, or with games in it, and drafts a
profile: which folder is for which platform, how names are made, which files are beside the games,
how large images are split. Games of no known platform are described too: by what they are known,
and where their ID and name stand, with a file of its own beside the profile. Each finding is a
comment in the draft, with its evidence and how certain it is, and so are open questions. Without -o
the draft is printed. Nothing on the target is changed.

A target is a folder, a drive image, or the address of a console's server or a share, of which no more
is read than is needed. Several targets of one console are learnt from together: what they agree in
is certain, and what they contradict each other in is said. --games names folders of games as they
were before: platforms are worked out from them too, and without a target from them alone.

--beyond takes a loader that is known, and prints what it does not account for as rules to add to its
profile: lists, settings and other files that the console has made since the target was filled. With
--add they are put into the profile; one that is shipped is copied to your own first.

--answers takes a file with what you know, as learn asks for it with --json: tables [[answer]] with
the question's key and your answer. "id NAME" with a path on the target, a colon, a space and an ID,
such as "GAMES/tide.img: KST-0192", says where the ID of a platform is to be looked for.`,
		Example: `  polytome loaders learn /media/stick
  polytome loaders learn ./stick --as fat32 -o mine.toml
  polytome loaders learn ./stick ./another --games ~/games --answers known.toml
  polytome loaders learn ftp://192.168.0.20`,
		RunE: opt.run,
	}
	cmd.Flags().StringVarP(&opt.out, "output", "o", "", "write the draft to this file, and print what was found")
	cmd.Flags().StringVar(&opt.as, "as", "", "declare the target's filesystem: "+strings.Join(target.FilesystemNames(),
		", "))
	cmd.Flags().StringArrayVar(&opt.games, "games", nil, "a folder of games as they were before; may be given again")
	cmd.Flags().StringVar(&opt.answers, "answers", "", "a file with answers to what is asked")
	cmd.Flags().StringVar(&opt.beyond, "beyond", "", "a loader: learn only what its profile does not account for")
	cmd.Flags().BoolVar(&opt.add, "add", false, "with --beyond: add the rules to the loader's profile")
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *learnLoaderOptions) run(cmd *cobra.Command, args []string) error {
	if len(args) == 0 && len(opt.games) == 0 {
		return usageError{errors.New("a prepared target is needed, or a folder of games with --games")}
	}
	set, err := known()
	if err != nil {
		return err
	}
	from := learn.Sources{Games: opt.games}
	if opt.answers != "" {
		if from.Answers, err = learn.ReadAnswers(opt.answers); err != nil {
			return err
		}
	}
	out := cmd.OutOrStdout()
	if opt.add && opt.beyond == "" {
		return usageError{errors.New("--add needs --beyond with the loader to whose profile the rules are added")}
	}
	if opt.beyond != "" {
		return opt.learnBeyond(cmd.Context(), out, args, set)
	}
	d, err := learnFrom(cmd.Context(), args, opt.as, set, from)
	if err != nil {
		return err
	}
	switch {
	case opt.asJSON:
		platforms := []string{}
		for _, p := range d.Taught {
			platforms = append(platforms, p.TOML())
		}
		return printJSON(out, map[string]any{"findings": d.Findings, "open": d.Open, "against": d.Against,
			"titles": d.Titles, "profile": d.TOML(), "platforms": platforms})
	case len(args) == 0: // of games alone
		return opt.platforms(out, d)
	case opt.out == "":
		_, err = io.WriteString(out, d.TOML())
		return err
	}
	wrote, err := d.Save(opt.out, configDir(), set) // what cannot be used yet is among what speaks against it
	if err != nil {
		return err
	}
	printLearnt(out, d)
	for _, f := range wrote {
		fmt.Fprintf(out, "written: %s\n", f)
	}
	return nil
}

// learnBeyond prints what lies on a target beside what a loader's profile accounts for.
func (opt *learnLoaderOptions) learnBeyond(ctx context.Context, out io.Writer, args []string, set *loader.Set) error {
	if len(args) != 1 {
		return usageError{errors.New("--beyond needs one target")}
	}
	p, err := set.Profile(opt.beyond)
	if err != nil {
		return err
	}
	looks, end, err := looksAt(ctx, args, opt.as, learn.Sources{})
	if err != nil {
		return err
	}
	defer end()
	d, err := learn.Beyond(ctx, looks[0], p, set)
	if err != nil {
		return err
	}
	if opt.asJSON {
		return printJSON(out, map[string]any{"findings": d.Findings, "open": d.Open, "additions": d.Additions()})
	}
	if len(d.Findings) == 0 {
		fmt.Fprintf(out, "Nothing is there that the profile of %s does not account for.\n", p.Shown)
		return nil
	}
	printLearnt(out, d)
	switch text := d.Additions(); {
	case opt.add:
		file, err := d.AddTo(p, configDir(), set)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "\nadded to %s:\n\n%s", file, text)
	case text != "":
		fmt.Fprintf(out, "\nTo add to the profile (--add does it):\n\n%s", text)
	}
	return nil
}

// platforms prints the descriptions of platforms, or writes the only one there is.
func (opt *learnLoaderOptions) platforms(out io.Writer, d *learn.Draft) error {
	if opt.out == "" {
		for _, p := range d.Taught {
			fmt.Fprintln(out, p.TOML())
		}
		return nil
	}
	if len(d.Taught) != 1 {
		return fmt.Errorf("these are games of %s: leave -o out to have them printed", size.Count(len(d.Taught),
			"platform"))
	}
	if err := loader.WriteNew(opt.out, d.Taught[0].TOML()); err != nil {
		return err
	}
	printLearnt(out, d)
	fmt.Fprintf(out, "written: %s\n", opt.out)
	return nil
}

// printLearnt prints what was found, what is open, and what speaks against it.
func printLearnt(out io.Writer, d *learn.Draft) {
	for _, f := range d.Findings {
		fmt.Fprintf(out, "%s\n    %s: %s\n", f.Say, f.Confidence, f.Evidence)
	}
	if len(d.Open) > 0 {
		fmt.Fprintln(out, "Open:")
	}
	for _, q := range d.Open {
		fmt.Fprintf(out, "  %s\n", q.Say)
	}
	if len(d.Against) > 0 {
		fmt.Fprintln(out, "Against it:")
	}
	for _, say := range d.Against {
		fmt.Fprintf(out, "  %s\n", say)
	}
}

// learnFrom looks at targets and drafts a profile from them, or describes the platforms of folders of games.
func learnFrom(ctx context.Context, targets []string, as string, set *loader.Set, from learn.Sources) (*learn.Draft,
	error) {
	if len(targets) == 0 {
		return learn.Platforms(ctx, set, from)
	}
	looks, end, err := looksAt(ctx, targets, as, from)
	if err != nil {
		return nil, err
	}
	defer end()
	return learn.Together(ctx, looks, set)
}

// looksAt looks at targets. The caller calls end when nothing is read from them any longer.
func looksAt(ctx context.Context, targets []string, as string, from learn.Sources) (looks []learn.Look, end func(),
	err error) {
	var ends []func()
	end = func() {
		for _, e := range ends {
			e()
		}
	}
	for _, at := range targets {
		err := letIn(func() error {
			p, err := survey.OpenTarget(ctx, drive.AddressOf(at), bench.Target{Name: at, At: at, As: as}, nil, false)
			if err != nil {
				return err
			}
			l, done, err := learn.LookAt(ctx, at, p, from)
			if err != nil {
				return errors.Join(err, p.Close())
			}
			looks = append(looks, l)
			ends = append(ends, func() { done(); _ = p.Close() }) // which was read from
			return nil
		})
		if err != nil {
			end()
			return nil, nil, err
		}
	}
	return looks, end, nil
}
