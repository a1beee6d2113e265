package main

import (
	"fmt"
	"runtime/debug"
)

// version is the version that the program was built from: the number of its tag, or the commit and its date.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "of unknown version"
	}
	values := map[string]string{}
	for _, s := range info.Settings {
		values[s.Key] = s.Value
	}
	out := info.Main.Version
	if out == "" || out == "(devel)" {
		out = "in development"
	}
	if commit := values["vcs.revision"]; len(commit) >= 12 {
		changed := ""
		if values["vcs.modified"] == "true" {
			changed = ", changed since"
		}
		out += fmt.Sprintf(" (commit %s of %.10s%s)", commit[:12], values["vcs.time"], changed)
	}
	return out
}
