package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"polytome/internal/drives"
	"polytome/internal/drives/elevated"
	"polytome/internal/ui"
)

// elevating has drives that only an administrator may open be opened by a helper. end ends the helpers.
func elevating() (end func()) {
	start := elevated.System()
	if start == nil {
		return func() {}
	}
	helpers := elevated.New(start, func(text string) {
		if !ui.Shown() { // there, the panel of drives has said it
			fmt.Fprintln(stderr(), text)
		}
	}, "drives", "open-as-administrator")
	drives.Here.Elevate = helpers
	return helpers.Close
}

// drivesElevated is what the helper runs.
func drivesElevated() *cobra.Command {
	return &cobra.Command{
		Use:    "open-as-administrator PIPE DRIVE",
		Short:  "Open one drive for a Polytome that may not; it starts this itself",
		Hidden: true,
		Args:   takeArgs(2, 2, "the pipe and the drive"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return elevated.Help(cmd.Context(), drives.Here, args[0], args[1])
		},
	}
}
