package samba

import "os/exec"

func group(*exec.Cmd) {}

func helpers(string) {}
