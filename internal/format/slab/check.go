package slab

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A Problem is what is wrong on a disk.
type Problem struct {
	Of  string `json:"of"` // what it is about: a title's ID, a small file's name, or a part of the disk
	Say string `json:"say"`
	// Lost is set where content is damaged: no repair brings it back.
	Lost bool `json:"lost,omitempty"`
}

// Check looks for what is wrong: parts of the disk that are damaged, covers that are not there, and, where deep is set,
// content that has another checksum. Progress gets the bytes that were read.
func (d *Disk) Check(ctx context.Context, deep bool, progress func(n int64)) (out []Problem, err error) {
	d.mu.RLock()
	records, damaged := d.table.records, d.damaged
	d.mu.RUnlock()
	for _, say := range damaged {
		of, why, _ := strings.Cut(say, ": ")
		if why == "" {
			why = "it is damaged, and not needed as long as the other one is there"
		}
		out = append(out, Problem{Of: of, Say: why})
	}
	files := map[string]bool{}
	for i := range records {
		if records[i].what == ofFile {
			files[fold(records[i].name)] = true
		}
	}
	for i := range records {
		r := &records[i]
		if r.cover != "" && !files[fold(r.cover)] {
			out = append(out, Problem{Of: r.id, Say: fmt.Sprintf("its cover %s is not on the disk", r.cover)})
		}
		if r.what == ofTitle && !d.headRight(r) {
			out = append(out, Problem{Of: r.id,
				Say: "its head is damaged: it could not be saved if both tables were lost"})
		}
		if !deep {
			continue
		}
		if err := d.verify(ctx, r, progress); ctx.Err() != nil {
			return out, ctx.Err()
		} else if err != nil {
			out = append(out, Problem{Of: strings.TrimPrefix(r.key(), "title "), Say: err.Error(), Lost: true})
			out[len(out)-1].Of = r.shown()
		}
	}
	return out, nil
}

// headRight reports whether a title's head is there (2.4).
func (d *Disk) headRight(r *record) bool {
	head, _, err := d.readHead(r.extents[0].First)
	return err == nil && fold(head.id) == fold(r.id) && slices.Equal(head.extents, r.extents)
}

var errNoHead = errors.New("no title begins there")

// readHead reads the head that begins at a sector, and the generation that it came with.
func (d *Disk) readHead(sector int64) (r record, generation uint64, err error) {
	b := make([]byte, headBytes)
	if n, err := d.m.ReadAt(b, sector*d.head.sector); n < len(b) {
		return r, 0, err
	}
	if string(b[:8]) != headMark || [16]byte(b[16:32]) != d.head.number || le.Uint32(b[headBytes-4:]) !=
		sum(b[:headBytes-4]) {
		return r, 0, errNoHead
	}
	if r, _, err = parseRecord(b[32 : headBytes-4]); err == nil && (r.what != ofTitle || len(r.extents) == 0 ||
		r.extents[0].First != sector || d.head.agree([]record{r}) != nil) {
		err = errNoHead
	}
	return r, le.Uint64(b[8:]), err
}
