package main

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/slabdisk"
	"polytome/internal/core/survey"
	"polytome/internal/format/slab"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
)

// settingsOf reads key=value words; a key without a value is taken away.
func settingsOf(words []string) (map[string]string, error) {
	out := map[string]string{}
	for _, w := range words {
		key, value, ok := strings.Cut(w, "=")
		if !ok || key == "" {
			return nil, usageError{fmt.Errorf("%q is no setting: key=value", w)}
		}
		out[key] = value
	}
	return out, nil
}

// adding is what the flags of slab add say.
type adding struct {
	as     slabdisk.As
	set    []string
	from   string
	asJSON bool
}

func slabAdd() *cobra.Command {
	var a adding
	cmd := &cobra.Command{
		Use:   "add DISK GAME…",
		Short: "Add titles to a slab disk",
		Long: `Add takes images, and archives with an image, and adds each under its own ID and name. What was written
is read back and compared. Cut off at any moment, the disk has the title whole or not at all. With --from, the games
are files of another target, or IDs of another slab disk, and are copied straight from there.`,
		Example: "  polytome slab add vesper.img ~/games/*.iso\n  polytome slab add vesper.img tide.iso --set " +
			"timing=b --replace\n  polytome slab add /dev/sdb --from old.img VSP-20417",
		Args: atLeast(2, "the disk, and a game"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.run(cmd, args[0], args[1:]) },
	}
	f := cmd.Flags()
	f.StringVar(&a.as.ID, "id", "", "its ID, instead of its own")
	f.StringVar(&a.as.Name, "name", "", "its name, instead of its own")
	f.StringVar(&a.as.Kind, "kind", "", "its kind, instead of its own")
	f.StringVar(&a.as.Cover, "cover", "", "the small file on the disk that is its cover")
	f.StringArrayVar(&a.set, "set", nil, "a setting, key=value; may be given again")
	f.BoolVar(&a.as.Replace, "replace", false, "replace one with the same ID, when the new one is whole")
	f.StringVar(&a.from, "from", "", "the target that the games are on: a folder, a drive, an image or an address")
	f.BoolVar(&a.asJSON, "json", false, "print JSON")
	return cmd
}

func (a *adding) run(cmd *cobra.Command, at string, games []string) (err error) {
	ctx := cmd.Context()
	if a.as.Settings, err = settingsOf(a.set); err != nil {
		return err
	}
	if a.as.ID != "" && len(games) > 1 {
		return usageError{errors.New("--id is for one game")}
	}
	set, err := known()
	if err != nil {
		return err
	}
	var from target.Target
	if a.from != "" {
		if from, err = survey.OpenTarget(ctx, drive.AddressOf(a.from), bench.Target{}, nil, false); err != nil {
			return err
		}
		defer from.Close() // which was read from
	}
	return changing(ctx, at, func(d *slabdisk.Disk) error {
		return each(cmd, a.asJSON, games, func(game string) (any, string, error) {
			t, err := a.add(cmd, d, set, from, game)
			return t, fmt.Sprintf("added: %s %s, %s", t.ID, t.Name, size.Format(t.Size)), err
		})
	})
}

func (a *adding) add(cmd *cobra.Command, d *slabdisk.Disk, set *loader.Set, from target.Target, game string) (
	slab.Title, error) {
	total := int64(0)
	if info, err := os.Stat(game); from == nil && err == nil {
		total = info.Size()
	}
	count, end := counting(total)
	defer end()
	if from != nil {
		return d.AddFrom(cmd.Context(), set, from, game, a.as, count)
	}
	return d.Add(cmd.Context(), set, game, a.as, count)
}

func slabOut() *cobra.Command {
	to, asJSON := ".", false
	cmd := &cobra.Command{
		Use:     "out DISK ID…",
		Short:   "Take titles out of a slab disk, as images",
		Long:    `Out writes the image of each title to a folder, when its checksum is right. The disk stays as it is.`,
		Example: "  polytome slab out vesper.img VSP-20417 --to ~/games",
		Args:    atLeast(2, "the disk, and the ID of a title"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return reading(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				return each(cmd, asJSON, args[1:], func(id string) (any, string, error) {
					count, end := counting(0)
					defer end()
					file, err := d.Out(cmd.Context(), id, to, count)
					return file, "written: " + file, err
				})
			})
		},
	}
	cmd.Flags().StringVar(&to, "to", ".", "the folder to write to")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func slabRename() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use: "rename DISK ID NAME", Short: "Give a title of a slab disk another name",
		Example: "  polytome slab rename vesper.img VSP-20417 Copper Tide",
		Args:    atLeast(3, "the disk, a title's ID, and its new name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return changing(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				return each(cmd, asJSON, args[1:2], func(id string) (any, string, error) {
					err := d.Rename(id, strings.Join(args[2:], " "))
					t, _ := d.Title(id)
					return t, fmt.Sprintf("renamed: %s %s", t.ID, t.Name), err
				})
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func slabSet() *cobra.Command {
	all, asJSON := false, false
	cmd := &cobra.Command{
		Use: "set DISK [ID…] key=value…", Short: "Change settings of titles on a slab disk",
		Long: `Set changes settings of the titles that are named, or of all; key= takes one away. The others stay.`,
		Example: "  polytome slab set vesper.img VSP-20417 timing=c tray=\n  polytome slab set vesper.img --all " +
			"tray=open",
		Args: atLeast(2, "the disk, and a setting key=value"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ids, words := []string{}, []string{}
			for _, w := range args[1:] {
				if strings.Contains(w, "=") {
					words = append(words, w)
				} else {
					ids = append(ids, w)
				}
			}
			settings, err := settingsOf(words)
			if err != nil {
				return err
			}
			if len(words) == 0 || all == (len(ids) > 0) {
				return usageError{errors.New("name titles by their IDs or give --all, and a setting key=value")}
			}
			return changing(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				if all {
					for _, t := range d.Titles() {
						ids = append(ids, t.ID)
					}
				}
				return each(cmd, asJSON, ids, func(id string) (any, string, error) {
					err := d.Set(id, settings)
					t, _ := d.Title(id)
					return t, fmt.Sprintf("set: %s %s%s", t.ID, t.Name, more(&t)), err
				})
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "of all titles")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func slabRemove() *cobra.Command {
	file, asJSON := false, false
	cmd := &cobra.Command{
		Use: "rm DISK ID…", Short: "Remove titles from a slab disk",
		Example: "  polytome slab rm vesper.img VSP-20417\n  polytome slab rm vesper.img --file rowan-net.lst",
		Args:    atLeast(2, "the disk, and the ID of a title"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return changing(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				return each(cmd, asJSON, args[1:], func(id string) (any, string, error) {
					remove := d.Remove
					if file {
						remove = d.RemoveFile
					}
					return id, "removed: " + id, remove(id)
				})
			})
		},
	}
	cmd.Flags().BoolVar(&file, "file", false, "remove small files, by their names")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func slabPut() *cobra.Command {
	cover := ""
	cmd := &cobra.Command{
		Use: "put DISK SOURCE NAME", Short: "Put a small file on a slab disk: a cover, a list, the loader's own",
		Example: "  polytome slab put vesper.img tide.jpg faces/front/VSP-20417.jpg --cover-of VSP-20417",
		Args:    atLeast(3, "the disk, the file to put there, and its name on the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			info, err := os.Stat(args[1])
			if err != nil {
				return err
			}
			if info.Size() > largestSmall {
				return fmt.Errorf("%s has %s, and a small file at most %s", args[1], size.Format(info.Size()),
					size.Format(largestSmall))
			}
			b, err := os.ReadFile(args[1])
			if err != nil {
				return err
			}
			return changing(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				if err := d.PutFile(cmd.Context(), args[2], b, info.ModTime()); err != nil || cover == "" {
					return err
				}
				return d.SetCover(cover, args[2])
			})
		},
	}
	cmd.Flags().StringVar(&cover, "cover-of", "", "make it the cover of the title with this ID")
	return cmd
}

// largestSmall is how many bytes are read at once for a small file.
const largestSmall = 256 << 20
