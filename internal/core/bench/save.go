package bench

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/plainfile"
	"polytome/internal/wholefile"
)

const heading = `# A Polytome bench: where the games are, what to fill, and what was selected.
# Polytome rewrites this file on every change, and keeps your comments; paths are relative to it.

`

// state is what is known of the file on disk. Copies of a bench share it.
type state struct {
	mu     sync.Mutex
	text   []byte // as it was read or written last
	read   bool   // there was a file
	holder *holder
	// goodCopy is where the last good version is kept, "" for nowhere.
	goodCopy string
}

// Errors of saving that a person decides on.
var (
	// ErrReadOnly reports that another Polytome has the bench open.
	ErrReadOnly = errors.New("another Polytome has this bench open, so this one is read-only")
	// ErrChanged reports that another program changed the file since it was read.
	ErrChanged = errors.New("another program changed the file since it was read, so it was not saved; on the screen, " +
		"ctrl+r reloads it")
)

// Save writes the file again, at once or not at all. Comments stay with what they were about. A file
// that another program has changed in the meantime is left alone: [ErrChanged].
func (b *Bench) Save() error {
	if b.file == "" {
		return nil
	}
	b.state.mu.Lock()
	defer b.state.mu.Unlock()
	if b.state.holder != nil && b.state.holder.other != "" {
		return ErrReadOnly
	}
	text, err := toml.Marshal(b.written())
	if err != nil {
		return fmt.Errorf("saving the bench: %w", err)
	}
	was, err := plainfile.Read(b.file, mostText)
	switch {
	case err == nil && b.state.read && !bytes.Equal(was, b.state.text):
		return fmt.Errorf("saving the bench %s: %w", b.file, ErrChanged)
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("saving the bench: %w", err)
	}
	text = append([]byte(heading), weave(text, comments(was))...)
	if err := wholefile.Write(b.file, text, wholefile.Private); err != nil {
		return fmt.Errorf("saving the bench %s: %w", b.file, err)
	}
	b.state.text, b.state.read = text, true
	if b.state.goodCopy != "" {
		// a copy for hard times; without it the bench is as good
		_ = wholefile.Write(b.state.goodCopy, text, wholefile.Private)
	}
	return nil
}
