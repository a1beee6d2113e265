package loader_test

import (
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
)

// said collects the texts of a profile that are meant for people, and the paths.
func said(v reflect.Value, out *[]string) {
	switch v.Kind() {
	case reflect.Slice:
		for i := range v.Len() {
			said(v.Index(i), out)
		}
	case reflect.Struct:
		if t, ok := v.Interface().(loader.Template); ok {
			if !t.Empty() {
				*out = append(*out, t.String())
			}
			return
		}
		for i := range v.NumField() {
			f := v.Type().Field(i)
			switch name, _, _ := strings.Cut(f.Tag.Get("toml"), ","); {
			case !f.IsExported() || name == "-":
			case name == "why" || name == "say" || name == "for" || name == "to" || name == "otherwise" ||
				name == "ways" || name == "habits":
				said(v.Field(i), out)
			case f.Type.Kind() == reflect.Struct || f.Type.Kind() == reflect.Slice && f.Type.Elem().
				Kind() == reflect.Struct:
				said(v.Field(i), out)
			}
		}
	case reflect.String:
		if v.String() != "" {
			*out = append(*out, v.String())
		}
	}
}

// TestTheSentencesHideNothing wants every reason and every path of a profile in the sentences
// that tell it.
func TestTheSentencesHideNothing(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	for _, p := range set.Profiles {
		var all strings.Builder
		for _, s := range p.Explain() {
			assert.NotEmpty(t, s.Lines, s.Title)
			all.WriteString(strings.Join(s.Lines, "\n") + "\n")
		}
		text := strings.ToLower(all.String())
		var want []string
		said(reflect.ValueOf(*p), &want)
		require.Greater(t, len(want), 10)
		for _, w := range want {
			if strings.Contains(w, "\n") || w == "{each}{file}" || strings.HasPrefix(w, " (") || strings.HasPrefix(w,
				"{id};") {
				continue // texts of files are not reported
			}
			assert.Contains(t, text, strings.ToLower(strings.TrimSuffix(w, ".")), "%s hides it", p.Name)
		}
	}
}

func TestConditionsInWords(t *testing.T) {
	p, err := loader.ParseProfile("c.toml", []byte(`format = 1
name = "c"
shown = "C"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[accept]]
platforms = ["wren8"]
path = "{title}"
[[checklist]]
say = "A"
when = "not added and via is not usb"
[[checklist]]
say = "B"
when = "direct-cable and several-discs"
[[companion]]
is = "playlist"
platforms = ["wren8"]
when = "discs over 2 and not region and id"
path = "{base}.m3u"
text = "x"
`))
	require.NoError(t, err)
	var all strings.Builder
	for _, s := range p.Explain() {
		all.WriteString(strings.Join(s.Lines, "\n") + "\n")
	}
	for _, want := range []string{
		"1. A (when not something was added and when the connection is not usb).",
		"2. B (when connected by a direct cable and when a title has several discs).",
		"when the number of discs is over 2 and when there is no region and when there is a id",
	} {
		assert.Contains(t, all.String(), want)
	}
	now := loader.Values{loader.FieldVia: "ftp", loader.FieldSituation: "direct-cable several-discs"}
	assert.True(t, p.Checklist[0].When.Holds(&now))
	assert.True(t, p.Checklist[1].When.Holds(&now))
	now[loader.FieldSituation] = "added"
	assert.False(t, p.Checklist[0].When.Holds(&now))
	assert.False(t, p.Checklist[1].When.Holds(&now))
}

func TestWhichAttachmentIsMeant(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	trellis, err := set.Profile("trellis")
	require.NoError(t, err)
	assert.Equal(t, "stick", trellis.Attachment("usb", "exfat").Name)
	assert.Equal(t, "stick", trellis.Attachment("usb", "ntfs").Name,
		"the connection decides where no attachment reads the filesystem")
	assert.False(t, trellis.Attachment("usb", "ntfs").Reads("ntfs"))
	assert.Nil(t, trellis.Attachment("smb", "ext4"))
	assert.True(t, trellis.Attachment("ftp", "ext4").Reads("ext4"), "the console's own disk is what it is")
	assert.Equal(t, "disk", trellis.Attachment("sftp", "ext4").Name, "SFTP reaches the same disk as FTP")
	assert.Equal(t, "usb", trellis.UsualVia())
	oxbow, err := set.Profile("oxbow")
	require.NoError(t, err)
	assert.Equal(t, "smb", oxbow.Attachment("sftp", "ext4").Via, "or the box that has the share")
	assert.Nil(t, oxbow.Attachment("ftp", "ext4"))
	gantry, err := set.Profile("gantry")
	require.NoError(t, err)
	assert.Equal(t, "ftp", gantry.UsualVia())
	assert.True(t, gantry.Knows("kestrel64"))
	assert.False(t, gantry.Knows("lapwing"))
	rule, no := gantry.Accept("kestrel64", "cartridge", "disk", "", nil)
	require.Nil(t, no)
	assert.Contains(t, rule.Path.String(), "cores", "the exception stands before the rule")
}
