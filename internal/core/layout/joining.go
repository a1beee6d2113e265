package layout

import (
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// joins adds the one file of several pieces; say is why it cannot be.
func (p *laying) joins() (say string) {
	j := &p.rule.Join
	pieces, ids := p.pieces()
	if len(pieces) == 0 {
		return "what is in it could not be read, so its pieces cannot be joined"
	}
	b, say := Join(j, p.v, pieces, ids)
	if b == nil {
		return say
	}
	p.sized(p.item(p.to, shape.JoinedOf(p.d.File, pieces, b)))
	return ""
}

// pieces are the files that are joined, with the ID of each.
func (p *laying) pieces() (all []title.Part, ids []string) {
	if p.rule.Join.Of == "discs" {
		for i := range p.t.Discs {
			d := &p.t.Discs[i]
			f := d.File
			if p.t.Archive != "" {
				if len(d.Parts) != 1 {
					return nil, nil
				}
				f = d.Parts[0].File
			}
			name := f.Path
			if f.Entry != "" {
				name = f.Entry
			}
			all, ids = append(all, title.Part{Name: path.Base(strings.ReplaceAll(name, `\`, "/")), File: f}),
				append(ids, d.ID)
		}
		return all, ids
	}
	parts := p.d.Parts
	if p.t.Form == title.Tracks && p.t.Archive != "" && len(parts) > 0 {
		parts = parts[1:] // the first is the cue sheet
	}
	for k := range parts {
		if name, ok := packageName(&p.rule.Package, below(parts[k].Name)); ok && name != "" {
			all, ids = append(all, title.Part{Name: name, File: parts[k].File}), append(ids, p.d.ID)
		}
	}
	return all, ids
}

// Join is the file of several pieces as a rule has it; nil where they do not go into one, and why.
func Join(j *loader.Join, v *loader.Values, pieces []title.Part, ids []string) (b *shape.Block, say string) {
	head := make([]byte, j.HeaderLength)
	b = &shape.Block{Fill: byte(j.Fill)}
	if j.Record > 0 && j.Table+j.Record*len(pieces) > len(head) {
		return nil, fmt.Sprintf("the header has space for %s, but it has %d", size.Count((len(head)-j.Table)/j.Record,
			"piece"),
			len(pieces))
	}
	at := int64(len(head))
	for i := range pieces {
		at = aligned(at, int64(j.Align))
		b.Starts = append(b.Starts, at)
		if j.Record > 0 {
			row := *v
			row[loader.FieldIndex], row[loader.FieldFile] = strconv.Itoa(i+1), pieces[i].Name
			row[loader.FieldSize] = strconv.FormatInt(pieces[i].File.Size, 10)
			row[loader.FieldOffset] = strconv.FormatInt(at, 10)
			if ids[i] != "" {
				row[loader.FieldID] = ids[i]
			}
			from := j.Table + i*j.Record
			record(head[from:from+j.Record], j.Rows, &row)
		}
		at += pieces[i].File.Size
	}
	at = aligned(at, int64(j.Align))
	all := *v
	all[loader.FieldParts], all[loader.FieldOffset] = strconv.Itoa(len(pieces)), strconv.FormatInt(at, 10)
	b.Size = at + int64(j.TrailerLength)
	all[loader.FieldSize] = strconv.FormatInt(b.Size, 10)
	record(head, j.Header, &all)
	b.Head, b.Tail = head, make([]byte, j.TrailerLength)
	record(b.Tail, j.Trailer, &all)
	return b, ""
}

// record writes fields into their places.
func record(into []byte, fields []loader.RecordField, v *loader.Values) {
	for k := range fields {
		f := &fields[k]
		encode(into[f.Offset:f.Offset+f.Length], f, f.Value.Fill(v))
	}
}

func aligned(at, align int64) int64 {
	if align > 0 && at%align > 0 {
		at += align - at%align
	}
	return at
}

// A Piece is one file in a file that was joined.
type Piece struct {
	Name         string // as the table has it; "" for none
	Offset, Size int64  // in bytes
}

// ErrNoPieces is that a file is not as a rule joins files.
var ErrNoPieces = errors.New("its header is not as the rule makes it")

// Pieces finds the pieces of a file of so many bytes that a rule has joined, by what stands in its header. Where the
// header tells no sizes, a piece ends where the next one begins.
func Pieces(j *loader.Join, r io.ReaderAt, bytes int64) (out []Piece, err error) {
	head := make([]byte, j.HeaderLength)
	if bytes < int64(len(head)+j.TrailerLength) {
		return nil, fmt.Errorf("%w: it has %s only", ErrNoPieces, size.Format(bytes))
	}
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	for k := range j.Header {
		f := &j.Header[k]
		if want, fixed := f.Value.Constant(); fixed {
			b := make([]byte, f.Length)
			if encode(b, f, want); string(b) != string(head[f.Offset:f.Offset+f.Length]) {
				return nil, ErrNoPieces
			}
		}
	}
	count := int64(1)
	if n, _, ok := numberIn(j.Header, head, loader.FieldParts); ok {
		count = n
	} else if j.Record > 0 {
		count = int64(len(head)-j.Table) / int64(j.Record)
	}
	end := bytes - int64(j.TrailerLength)
	if count < 0 || j.Record > 0 && int64(j.Table)+count*int64(j.Record) > int64(len(head)) || j.Record == 0 &&
		count > 1 {
		return nil, ErrNoPieces
	}
	at, rounded := int64(len(head)), int64(0) // by how many bytes a size may be too large
	for i := range count {
		p := Piece{Offset: aligned(at, int64(j.Align)), Size: -1}
		if j.Record > 0 {
			from := int64(j.Table) + i*int64(j.Record)
			row := head[from : from+int64(j.Record)]
			if strings.Trim(string(row), "\x00") == "" { // there are fewer than there is space for
				break
			}
			if n, _, ok := numberIn(j.Rows, row, loader.FieldOffset); ok {
				p.Offset = n
			}
			if n, block, ok := numberIn(j.Rows, row, loader.FieldSize); ok {
				p.Size, rounded = n, block-1
			}
			p.Name = textIn(j.Rows, row, loader.FieldFile)
		}
		out = append(out, p)
		at = p.Offset + max(0, p.Size)
	}
	for i := range out {
		p := &out[i]
		next := end
		if i+1 < len(out) {
			next = out[i+1].Offset
		}
		if p.Size < 0 || p.Offset+p.Size > next && p.Offset+p.Size-next <= rounded {
			p.Size = next - p.Offset
		}
		if p.Offset+p.Size > next && i+1 < len(out) {
			return nil, fmt.Errorf("%w: piece %d begins inside of the one before", ErrNoPieces, i+2)
		}
		if p.Offset < int64(len(head)) || p.Size < 0 || p.Offset > bytes || p.Size > bytes-p.Offset {
			return nil, fmt.Errorf("%w: piece %d is outside of it", ErrNoPieces, i+1)
		}
	}
	if len(out) == 0 {
		return nil, ErrNoPieces
	}
	return out, nil
}

// numberIn is the number that a record has of a field, as it was before its transforms, and of how many bytes the
// blocks are that it counts.
func numberIn(fields []loader.RecordField, record []byte, of loader.Field) (n, block int64, ok bool) {
	for k := range fields {
		f := &fields[k]
		text, ok := f.Value.Undo(of, reading.Decode(record[f.Offset:f.Offset+f.Length], f.Encoding))
		if n, err := strconv.ParseInt(text, 10, 64); ok && err == nil {
			return n, f.Value.Block(), true
		}
	}
	return 0, 0, false
}

// textIn is the text that a record has of a field; "" for none.
func textIn(fields []loader.RecordField, record []byte, of loader.Field) string {
	for k := range fields {
		f := &fields[k]
		if f.Value.Is(of) {
			return strings.TrimRight(reading.Decode(record[f.Offset:f.Offset+f.Length], f.Encoding),
				string(rune(f.Fill)))
		}
	}
	return ""
}
