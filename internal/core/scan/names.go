package scan

import (
	"path"
	"regexp"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// fromName is the evidence of what a file's name tells.
const fromName = "the name of the file"

var (
	discTag     = regexp.MustCompile(`(?i)[ _]*[(\[](?:disc|disk)[ _]?([0-9]{1,2})(?:[ _]of[ _]([0-9]{1,2}))?[)\]]`)
	downloadTag = regexp.MustCompile(` *\([0-9]{1,2}\)$`)
	bracketTag  = regexp.MustCompile(` *[(\[]([^()\[\]]*)[)\]]`)
	spaces      = regexp.MustCompile(`[ _]+`)
	yearTag     = regexp.MustCompile(`^(?:19[5-9]|20[0-9])[0-9]$`)
	versionTag  = regexp.MustCompile(`(?i)^(?:v|ver|version|rev|revision)[ .]?([0-9a-z][0-9a-z.]*)$`)
	playersTag  = regexp.MustCompile(`(?i)^([0-9](?:-[0-9])?) ?(?:p|players?)$`)
)

// named is what a file's name tells.
type named struct {
	name string
	tags []string // in brackets, without those of discs and downloads
}

// readName takes a file's name apart: without its extension, what a download added, and the number of
// its disc; what stands in brackets apart.
func readName(file string) (n named) {
	s := strings.TrimSuffix(file, path.Ext(file))
	s = discTag.ReplaceAllString(s, "")
	s = strings.TrimSpace(spaces.ReplaceAllString(s, " "))
	s = downloadTag.ReplaceAllString(s, "")
	n.name = strings.TrimSpace(bracketTag.ReplaceAllStringFunc(s, func(tag string) string {
		if text := strings.TrimSpace(bracketTag.FindStringSubmatch(tag)[1]); text != "" {
			n.tags = append(n.tags, text)
		}
		return ""
	}))
	if n.name == "" { // all of it stands in brackets
		n.name, n.tags = s, nil
	}
	return n
}

// nameOfFile is the name that a file's own name tells.
func nameOfFile(file string) string { return readName(file).name }

// fill gives the title what its file's tags tell and nothing else has reported: region, year, version,
// players.
func (n *named) fill(t *title.Title, p *loader.Platform, set *loader.Set) {
	put := func(field string, into *string, value string) {
		if *into == "" {
			*into = value
			t.Discs[0].Evidence = append(t.Discs[0].Evidence, title.Evidence{Field: field, Value: value,
				From: fromName})
		}
	}
	left := t.Tags[:0:0]
	for _, tag := range n.tags {
		switch region := regionOf(tag, p, set); {
		case region != "":
			put("region", &t.Region, region)
		case yearTag.MatchString(tag):
			put("year", &t.Year, tag)
		case versionTag.MatchString(tag):
			put("version", &t.Version, versionTag.FindStringSubmatch(tag)[1])
		case playersTag.MatchString(tag):
			put("players", &t.Players, playersTag.FindStringSubmatch(tag)[1])
		default:
			left = append(left, tag)
		}
	}
	if len(t.Tags) > 0 {
		t.Tags = left
	}
}

// regionOf is the region that a tag names: in full or as its platform shortens it, or in full as any
// platform has it, for those that tell none of their own; "" for none.
func regionOf(tag string, p *loader.Platform, set *loader.Set) string {
	for short, long := range p.Fields.Region.Values {
		if strings.EqualFold(tag, short) || strings.EqualFold(tag, long) {
			return long
		}
	}
	for _, other := range set.Platforms {
		for _, long := range other.Fields.Region.Values {
			if strings.EqualFold(tag, long) {
				return long
			}
		}
	}
	return ""
}

// discOfName finds the disc number in a file's name, such as "(Disc 2)".
func discOfName(t *title.Title, name string) {
	m := discTag.FindStringSubmatch(name)
	if m == nil {
		return
	}
	n, _ := strconv.Atoi(m[1])
	of, _ := strconv.Atoi(m[2])
	if n < 1 || (of > 0 && n > of) {
		return
	}
	t.Discs[0].Number, t.Of = n, of
	t.Discs[0].Evidence = append(t.Discs[0].Evidence, title.Evidence{Field: "disc", Value: m[1], From: fromName})
}
