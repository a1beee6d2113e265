package drives

import (
	"context"
	"fmt"
	"sync"

	"polytome/internal/medium"
)

// A Handle is a volume of a drive that was opened. It is only read until it is written to for the first time; then it
// goes through the guard.
type Handle struct {
	sys   System
	drive *Drive
	vol   *Volume
	use   func(part *medium.File) error

	mu     sync.Mutex // guards what follows
	medium *medium.File
	part   *medium.File
	writes bool
}

// Handle opens a volume of a drive that was looked at just now. The function takes up the bytes of the volume: at once,
// and again when it is opened for writing. It is of use as long as the context lasts.
func (s System) Handle(ctx context.Context, d *Drive, v *Volume, use func(part *medium.File) error) (*Handle, error) {
	d, err := s.Readable(ctx, d)
	if err != nil {
		return nil, err
	}
	h := &Handle{sys: s, drive: d, vol: v, use: use}
	m, err := d.Read(ctx)
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", d.Name(), err)
	}
	return h, h.take(m)
}

// take has a medium be the one that is used, or closes it.
func (h *Handle) take(m *medium.File) error {
	part := m.Part(h.vol.Start, h.vol.Size)
	if err := h.use(part); err != nil {
		_ = m.Close()
		return err
	}
	h.medium, h.part = m, part
	return nil
}

// Drive is the drive as it was looked at.
func (h *Handle) Drive() *Drive { return h.drive }

// Volume is the volume as it was looked at.
func (h *Handle) Volume() *Volume { return h.vol }

// Part is the bytes of the volume.
func (h *Handle) Part() *medium.File {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.part
}

// Write has the volume be written to, through the guard. What was opened of it before is closed then.
func (h *Handle) Write(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.writes {
		return nil
	}
	if h.drive.Network { // which may have one client at a time
		_ = h.medium.Close() // which was read from
	}
	m, err := h.sys.Open(ctx, h.drive, Filling, Consent{})
	if err != nil {
		return err
	}
	old := h.medium
	if err := h.take(m); err != nil {
		return err
	}
	_ = old.Close() // which was read from
	h.writes = true
	return nil
}

// Writes reports whether it was opened for writing.
func (h *Handle) Writes() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.writes
}

// Claim names what one run at a time may have to itself: the volume of a drive by its serial number, of an image by the
// file that it is, of an export by its address.
func (h *Handle) Claim(file func(path string) string) string {
	key := h.drive.Key()
	if h.drive.Image {
		key = file(h.drive.Path)
	}
	return fmt.Sprintf("volume %s %d", key, h.vol.Number)
}

// Close lets go of the drive.
func (h *Handle) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.medium.Close()
}
