//go:build !linux

package folder

import "os"

// filesLeft is not reported on these systems.
func filesLeft(string) (n uint64, known bool) { return 0, false }

// allocate does nothing: these systems have no portable way to ask.
func allocate(*os.File, int64) error { return nil }

// dropCache does nothing: reading back may be served from memory here.
func dropCache(*os.File) {}

// reserved is not known here.
func reserved(os.FileInfo, int64) int64 { return 0 }

// Device is not known here.
func Device(string) (id uint64, ok bool) { return 0, false }

func deviceOf(*os.File) (id uint64, ok bool) { return 0, false }
