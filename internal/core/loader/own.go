package loader

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// WriteNew writes a file that is not there yet, and the folders above it. It never
// writes over a file.
func WriteNew(file, text string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return fmt.Errorf("making a folder for %s: %w", file, err)
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s already exists and was not changed", file)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", file, err)
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// OwnFile is where the user's own profile of a loader is below their folder.
func OwnFile(dir, name string) string { return filepath.Join(dir, ProfileDir, name+".toml") }

// Copy gives the user a copy of a shipped profile to change, which from then on stands in
// its target. It returns the copy's file.
func (p *Profile) Copy(dir string) (string, error) {
	if p.Own {
		return p.File, fmt.Errorf("%s is already yours: %s", p.Shown, p.File)
	}
	text, err := p.Text()
	if err != nil {
		return "", err
	}
	file := OwnFile(dir, p.Name)
	return file, WriteNew(file, string(text))
}
