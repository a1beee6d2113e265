// Package claim lets one run at a time fill a target, whichever process it is in. What was claimed is released by its
// release, and with the process, however that ends.
package claim

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"polytome/internal/lockfile"
)

// A TakenError reports that another run is filling the target.
type TakenError struct {
	PID int // 0 where it is not known
}

func (e *TakenError) Error() string {
	switch e.PID {
	case 0:
		return "another Polytome is filling it"
	case os.Getpid():
		return "another run of this Polytome is filling it: is the target on the bench twice?"
	}
	return fmt.Sprintf("another Polytome (pid %d) is filling it", e.PID)
}

// dir is where claims lie that are not of a folder of this computer.
func dir() string {
	name := "polytome-claims"
	if uid := os.Getuid(); uid >= 0 {
		name += "-" + strconv.Itoa(uid)
	}
	return filepath.Join(os.TempDir(), name)
}

// Named claims what has a name: the same one for whoever means the same target. The file that stands for it stays, as
// removing it would let two have it at once.
func Named(id string) (release func(), err error) {
	if err := os.MkdirAll(dir(), 0o700); err != nil {
		return nil, fmt.Errorf("claiming the target: %w", err)
	}
	sum := sha256.Sum256([]byte(id))
	f, err := os.OpenFile(filepath.Join(dir(), hex.EncodeToString(sum[:12])), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("claiming the target: %w", err)
	}
	taken, err := lockfile.Take(f)
	if err != nil || taken {
		who := make([]byte, 20)
		n, _ := f.ReadAt(who, 0)
		_ = f.Close()
		if err != nil {
			return nil, fmt.Errorf("claiming the target: %w", err)
		}
		pid, _ := strconv.Atoi(strings.TrimSpace(string(who[:n])))
		return nil, &TakenError{pid}
	}
	_ = f.Truncate(0)
	_, _ = f.WriteAt([]byte(strconv.Itoa(os.Getpid())), 0)
	return func() { _ = f.Close() }, nil
}
