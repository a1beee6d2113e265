package elevated

import (
	"context"
	"errors"
	"os/exec"
	"strings"
)

// System is how this system is asked for the rights of an administrator: its own window.
func System() Starter {
	return func(_ context.Context, args []string) (func() error, error) {
		exe, err := executable()
		if err != nil {
			return nil, err
		}
		command := quoted(exe)
		for _, a := range args {
			command += " " + quoted(a)
		}
		cmd := exec.Command("osascript", "-e", "do shell script "+text(command)+" with prompt "+
			text("Polytome is to open the drive "+args[len(args)-1]+".")+" with administrator privileges")
		if err := cmd.Start(); err != nil {
			return nil, err
		}
		return func() error {
			if cmd.Wait() != nil {
				return errors.New("that was not given; Polytome with sudo may open it, too")
			}
			return nil
		}, nil
	}
}

// quoted is a word for the shell.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// text is a text for AppleScript.
func text(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
