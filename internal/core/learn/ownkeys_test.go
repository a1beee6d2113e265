package learn_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/testkit/coretest"
)

// stickWithSettings has games of a known platform, and a file of settings beside each: of which a person has changed
// the speed in some.
func stickWithSettings(t *testing.T, as string, text func(id, name string, n int) string) string {
	dir := t.TempDir()
	for n, name := range []string{"Alder Gate", "Brook Lane", "Copper Tide", "Dune Post", "Ember Lock", "Fen Weir"} {
		id := fmt.Sprintf("SK-%04d", 8800+n*7)
		coretest.Write(t, dir, "GAMES/"+id+".iso", coretest.Siskin(t, id, name))
		coretest.Write(t, dir, "SET/"+id+".cfg", layout.Encoded(as, []byte(text(id, name, n))))
	}
	return dir
}

// TestSettingsThatArePlayersOwn: a key whose values nothing explains is the player's, and is left as it is; what
// follows from the game is not, and what is another value in each is no setting.
func TestSettingsThatArePlayersOwn(t *testing.T) {
	speeds := []string{"2", "1", "2", "3", "2", "1"}
	for _, as := range []string{"", "utf-16le"} {
		for syntax, text := range map[string]func(id, name string, n int) string{
			"key=value": func(id, name string, n int) string {
				return "name=" + name + "\r\nspeed=" + speeds[n] + "\r\nmode=a\r\n"
			},
			"ini": func(id, name string, n int) string {
				return "[game]\nid = " + id + "\n[play]\nspeed = " + speeds[n] + "\n"
			},
			"toml": func(id, name string, n int) string {
				return "name = \"" + name + "\"\nlocked = []\nspeed = \"x" + speeds[n] + "\"\n"
			},
		} {
			t.Run(syntax+as, func(t *testing.T) {
				dir := stickWithSettings(t, as, text)
				d, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
				require.NoError(t, err)
				require.Len(t, d.Companions, 1)
				c := d.Companions[0]
				assert.Equal(t, []string{"speed"}, c.Keep)
				assert.Equal(t, syntax, c.Syntax)
				assert.Equal(t, as, c.Encoding)
				assert.Contains(t, c.Text, "2", "the usual value is the one for new games")
				assert.Empty(t, d.Against, "what the player has set contradicts nothing")
				_, err = loader.ParseProfile("x.toml", []byte(d.TOML()))
				require.NoError(t, err)
				assert.True(t, found(d, learn.Likely, "each title has settings: SET/{id}.cfg"), "%v", d.Findings)
				assert.True(t, found(d, learn.Likely, "speed in SET/{id}.cfg is the player's own"), "%v", d.Findings)
			})
		}
	}
	dir := stickWithSettings(t, "",
		func(id, name string, n int) string { return fmt.Sprintf("name=%s\nsum=%x\n", name, n*77+5) })
	d, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
	require.NoError(t, err)
	for _, c := range d.Companions {
		assert.Empty(t, c.Keep, "a number that is another one in each is nobody's setting")
	}
	assert.False(t, found(d, learn.Certain, "each title has settings"))
}

// TestATextThatSaysSomethingElseIsNoCertainRule: one of the files beside the games does not come out by the rule.
func TestATextThatSaysSomethingElseIsNoCertainRule(t *testing.T) {
	dir := stickWithSettings(t, "", func(id, name string, n int) string {
		if n == 4 {
			return "begin " + id + " with another\nthing\n"
		}
		return "begin " + id + "\nend\n"
	})
	d, err := learn.Learn(context.Background(), look(t, dir, "fat32"), coretest.Set(t))
	require.NoError(t, err)
	assert.False(t, found(d, learn.Certain, "SET/{id}.cfg"), "%v", d.Findings)
	assert.True(t, found(d, learn.Likely, "SET/{id}.cfg"))
	asked := false
	for _, q := range d.Open {
		asked = asked || q.Path == "SET/SK-8828.cfg"
	}
	assert.True(t, asked, "it is asked why: %v", d.Open)
}

func found(d *learn.Draft, how learn.Confidence, say string) bool {
	for _, f := range d.Findings {
		if f.Confidence == how && strings.Contains(f.Say, say) {
			return true
		}
	}
	return false
}
