package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// treeFlags are what a tree is made from.
type treeFlags struct {
	from             []string
	via, as          string
	volume, capacity string
	asJSON           bool
}

func (f *treeFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.from, "from", nil, "folder with games (may be repeated)")
	cmd.Flags().StringVar(&f.via, "via", "", "how the target is connected: "+strings.Join(loader.Connections,
		", ")+" (default: the profile's first)")
	cmd.Flags().StringVar(&f.as, "as", "", "filesystem of the target: "+strings.Join(target.FilesystemNames(),
		", ")+" (default: the first that the loader reads)")
	cmd.Flags().StringVar(&f.volume, "volume", "", "which of the console's volumes it is")
	cmd.Flags().StringVar(&f.capacity, "capacity", "", "how much the volume holds, such as 58GiB")
	cmd.Flags().BoolVar(&f.asJSON, "json", false, "print JSON")
}

// treeOptions are the flags of tree.
type treeOptions struct {
	f    treeFlags
	name string
}

func treeCommand() *cobra.Command {
	var opt treeOptions
	cmd := &cobra.Command{
		Use:   "tree",
		Short: "Show the folders and files that a loader needs for your games, with the rule behind each path",
		Long: `Tree lays out your games by a loader's profile and prints every path with the rule that
made it: files of the games, companions, and what the console creates itself. Titles
that the loader does not support come last, with the reason. No target is needed, and nothing is written.`,
		Example: `  polytome tree --from ~/games --loader rowan
  polytome tree --from ~/games --loader trellis --via usb --as exfat
  polytome tree --from ~/games --loader ./mine.toml --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if opt.name == "" || len(opt.f.from) == 0 {
				return usageError{errors.New("--from DIR and --loader NAME are both needed")}
			}
			set, err := known()
			if err != nil {
				return err
			}
			p, err := set.Profile(opt.name)
			if err != nil {
				return err
			}
			return opt.f.print(cmd, p, set)
		},
	}
	cmd.Flags().StringVar(&opt.name, "loader", "", "loader profile: a name, or a .toml file")
	opt.f.add(cmd)
	return cmd
}

// target is where the tree is made for.
func (f *treeFlags) destination(p *loader.Profile, set *loader.Set) (layout.Destination, error) {
	via := f.via
	if via == "" {
		via = p.Attachments[0].Via
	}
	at := p.Attachment(via, f.as)
	if at == nil {
		return layout.Destination{}, usageError{fmt.Errorf("%s cannot be connected by %q; its connections are: %s",
			p.Shown, via, strings.Join(p.Connections(), ", "))}
	}
	as := f.as
	if as == "" {
		as = at.DefaultFilesystem()
	}
	fs, err := target.FilesystemNamed(as)
	if err != nil {
		return layout.Destination{}, usageError{err}
	}
	if !at.Reads(fs.Name) {
		return layout.Destination{}, usageError{fmt.Errorf("%s does not read %s over %s; it reads: %s", p.Shown,
			fs.Shown, via, strings.Join(at.Filesystems, ", "))}
	}
	capacity, err := asBytes("--capacity", f.capacity)
	return layout.Destination{Attachment: at, Filesystem: fs, Set: set, Volume: f.volume, Capacity: capacity}, err
}

// asBytes reads the size that a flag gives; 0 where it is not given.
func asBytes(flag, text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	n, err := size.Parse(text)
	if err != nil {
		return 0, usageError{fmt.Errorf("%s: %w", flag, err)}
	}
	return n, nil
}

// print lays the titles of the folders out and prints the tree.
func (f *treeFlags) print(cmd *cobra.Command, p *loader.Profile, set *loader.Set) error {
	destination, err := f.destination(p, set)
	if err != nil {
		return err
	}
	b := bench.New("")
	for _, dir := range f.from {
		b.Sources = append(b.Sources, bench.Source{Path: dir})
	}
	r, err := scanned(cmd.Context(), b, set, "", os.Stderr)
	if err != nil {
		return err
	}
	tree := layout.Lay(r.Titles, p, destination)
	lines := tree.Outline()
	var left []leftTitle
	for i := range r.Titles {
		if refusal := tree.Placements[i].Refusal; refusal != nil {
			left = append(left, leftTitle{r.Titles[i].Key, r.Titles[i].Label(), refusal})
		}
	}
	if f.asJSON {
		err = printJSON(cmd.OutOrStdout(), map[string]any{"loader": p.Name, "attachment": destination.Attachment.Name,
			"filesystem": destination.Filesystem.Name, "tree": lines, "left": left})
	} else {
		printTree(cmd.OutOrStdout(), p, destination, r.Titles, lines, left)
	}
	if err == nil && len(r.Problems) > 0 {
		err = errPartial
	}
	return err
}

// leftTitle is one that the loader does not take.
type leftTitle struct {
	Key   string          `json:"key"`
	Label string          `json:"label"`
	Why   *layout.Refusal `json:"why"`
}

// printTree writes a tree for people: names indented by depth, and behind each the number of
// the rule that made it. The rules follow, and then what the loader does not take.
func printTree(out io.Writer, p *loader.Profile, destination layout.Destination, titles []title.Title,
	lines []layout.Line, left []leftTitle) {
	fmt.Fprintf(out, "%s, %s with %s:\n", p.Shown, destination.Attachment.Name, destination.Filesystem.Shown)
	wide := 0
	for _, l := range lines {
		wide = max(wide, 2*l.Depth()+len([]rune(l.Name()))+1)
	}
	wide = min(wide, 56)
	var rules []string
	for _, l := range lines {
		name := strings.Repeat("  ", l.Depth()) + l.Name()
		bytes := size.Format(l.Size)
		if l.Folder {
			name += "/"
			if l.Shape == shape.Whole {
				bytes = ""
			}
		}
		switch {
		case l.Shape == shape.Fitted:
			bytes = "picture"
		case l.AtMost:
			bytes = "<= " + bytes
		}
		n := slices.Index(rules, l.Rule)
		if n < 0 {
			n = len(rules)
			rules = append(rules, l.Rule)
		}
		note := ""
		if l.Shape != shape.Whole && l.Shape != shape.Fitted {
			note += "  " + shape.Of(l.Shape).Word
		}
		if l.Title >= 0 && !titles[l.Title].OK() {
			note += "  BAD"
		}
		fmt.Fprintf(out, "  %-*s %14s  rule %d%s\n", wide, name, bytes, n+1, note)
	}
	fmt.Fprintln(out, "Rules:")
	for i, r := range rules {
		fmt.Fprintf(out, "  %d. %s.\n", i+1, strings.TrimSuffix(r, "."))
	}
	if len(left) > 0 {
		fmt.Fprintf(out, "Not supported: %s.\n", size.Count(len(left), "title"))
	}
	var reasons []string
	by := map[string][]leftTitle{}
	for _, l := range left {
		if by[l.Why.Say] == nil {
			reasons = append(reasons, l.Why.Say)
		}
		by[l.Why.Say] = append(by[l.Why.Say], l)
	}
	for _, r := range reasons {
		var names []string
		for _, l := range by[r][:min(5, len(by[r]))] {
			names = append(names, l.Label)
		}
		if more := len(by[r]) - len(names); more > 0 {
			names = append(names, fmt.Sprintf("and %d more", more))
		}
		fmt.Fprintf(out, "  %s: %s\n", r, strings.Join(names, ", "))
		for _, way := range by[r][0].Why.Ways {
			fmt.Fprintf(out, "      -> %s\n", way)
		}
	}
	fmt.Fprintf(out, "%d of %s have a path.\n", len(titles)-len(left), size.Count(len(titles), "title"))
}
