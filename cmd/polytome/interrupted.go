package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// answersFile has what was answered to an interview that was interrupted.
func answersFile() string { return filepath.Join(configDir(), "interview.txt") }

// resume offers to resume an interview that was interrupted.
func (t *talk) resume() {
	b, err := os.ReadFile(answersFile())
	if err != nil {
		return // there was none
	}
	kept := strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
	if t.yes(fmt.Sprintf("There are %d answers of an interview that was interrupted: resume with them?", len(kept)),
		true) {
		t.kept = kept
	}
	t.n, t.said = 0, nil
}

// interrupted keeps what was answered so far.
func (t *talk) interrupted(err error) error {
	if len(t.said) == 0 {
		return fmt.Errorf("%w; nothing was written", err)
	}
	file := answersFile()
	if werr := os.MkdirAll(filepath.Dir(file), 0o755); werr != nil {
		return werr
	}
	if werr := os.WriteFile(file, []byte(strings.Join(t.said, "\n")+"\n"), 0o600); werr != nil {
		return werr
	}
	return fmt.Errorf("%w; no profile was written, and your %d answers are kept: loaders new resumes with them", err,
		len(t.said))
}

// over drops what was kept of an interview that has come to its end.
func (t *talk) over() {
	_ = os.Remove(answersFile()) // mostly there is none
}
