package main

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/target"
)

// completing has the shell complete what flags and arguments of all commands may be: loaders, targets, benches,
// connections, filesystems, filters, drives and runs.
func completing(root *cobra.Command) {
	flags := map[string]cobra.CompletionFunc{
		"loader": loaderNames, "also-for": loaderNames, "target": completedTargets, "only": filterWords,
		"except": filterWords,
		"filter": filterWords,
		"via":    fixed(func() []string { return loader.Connections }),
		"as":     fixed(target.FilesystemNames), "verify": fixed(func() []string {
			return []string{"none", "size",
				"full"}
		}),
	}
	args := map[string]cobra.CompletionFunc{"drives": driveNames, "runs": runNumbers, "loaders": loaderNames}
	var walk func(c *cobra.Command, of string)
	walk = func(c *cobra.Command, of string) {
		for name, f := range flags {
			if c.LocalFlags().Lookup(name) != nil {
				_ = c.RegisterFlagCompletionFunc(name, f) // it fails only where one is registered already
			}
		}
		for _, name := range []string{"bench"} {
			if c.LocalFlags().Lookup(name) != nil {
				_ = c.MarkFlagFilename(name, "toml")
			}
		}
		if f, ok := args[of]; ok && c.ValidArgsFunction == nil {
			c.ValidArgsFunction = f
		}
		for _, in := range c.Commands() {
			walk(in, in.Name())
			if f, ok := args[c.Name()]; ok && !in.HasSubCommands() {
				in.ValidArgsFunction = f
			}
		}
	}
	walk(root, "")
}

// fixed completes what is always the same.
func fixed(words func() []string) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
		return words(), cobra.ShellCompDirectiveNoFileComp
	}
}

// loaderNames completes loaders; a profile may also be a file.
func loaderNames(*cobra.Command, []string, string) (out []cobra.Completion, _ cobra.ShellCompDirective) {
	set, err := loader.Known(configDir())
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	for _, p := range set.Profiles {
		out = append(out, cobra.CompletionWithDesc(p.Name, p.Shown+", "+p.Console))
	}
	return out, cobra.ShellCompDirectiveDefault
}

// completedTargets completes the targets of the bench that was given.
func completedTargets(cmd *cobra.Command, _ []string, _ string) (out []cobra.Completion, _ cobra.ShellCompDirective) {
	file := ""
	if f := cmd.Flags().Lookup("bench"); f != nil {
		file = f.Value.String()
	}
	if file == "" {
		file = ownBench()
	}
	b, err := bench.Load(file)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, t := range b.Targets {
		out = append(out, cobra.CompletionWithDesc(t.Name, t.Loader+" at "+t.At))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// filterWords completes the fields of filters, and the platforms.
func filterWords(_ *cobra.Command, _ []string, typed string) (out []cobra.Completion, _ cobra.ShellCompDirective) {
	done := ""
	if i := strings.LastIndex(typed, " "); i >= 0 {
		done = typed[:i+1]
	}
	for _, field := range []string{"name:", "id:", "region:", "size>", "size<", "year>", "year<", "bad", "goes",
		"wanted",
		"favourite", "verdict:"} {
		out = append(out, done+field)
	}
	set, err := loader.Known(configDir())
	if err != nil {
		return out, cobra.ShellCompDirectiveNoSpace
	}
	for _, name := range set.PlatformNames() {
		out = append(out, done+"platform:"+name)
	}
	return out, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
}

// driveNames completes drives; an image file is one, too.
func driveNames(cmd *cobra.Command, _ []string, _ string) (out []cobra.Completion, _ cobra.ShellCompDirective) {
	all, err := drives.Here.List(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	for _, d := range all {
		out = append(out, cobra.CompletionWithDesc(d.Path, d.Describe()))
	}
	return out, cobra.ShellCompDirectiveDefault
}

// completedRuns is how many of the newest runs are offered.
const completedRuns = 20

// runNumbers completes the newest runs.
func runNumbers(*cobra.Command, []string, string) (out []cobra.Completion, _ cobra.ShellCompDirective) {
	j, err := journal.Open(journalFile())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer j.Close()
	all, err := j.Runs(completedRuns)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for i := range all {
		out = append(out, cobra.CompletionWithDesc(fmt.Sprint(all[i].ID), all[i].Target+", "+string(all[i].State)))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
