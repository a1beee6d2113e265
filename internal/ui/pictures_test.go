package ui

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"polytome/internal/config"
)

// picturing is a terminal that takes pictures: it answers what it is asked, and keeps what it is sent.
type picturing struct {
	a       *app
	answers map[string][]tea.Msg // by what is asked
	sent    string
	wiped   int
}

// run runs a command and everything that follows from it. The screen is made after each message, as it would be.
func (p *picturing) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			p.run(c)
		}
	case tea.RawMsg:
		s := fmt.Sprint(msg.Msg)
		p.sent += s
		for asked, all := range p.answers {
			if strings.Contains(s, asked) {
				for _, m := range all {
					p.take(m)
				}
			}
		}
	default:
		kind := fmt.Sprintf("%T", msg)
		if kind == "tea.clearScreenMsg" {
			p.wiped++
		}
		if strings.HasPrefix(kind, "tea.sequenceMsg") {
			p.take(shownMsg{})
			p.wiped++
		}
		if strings.HasPrefix(kind, "ui.") {
			p.take(msg)
		}
	}
}

func (p *picturing) take(msg tea.Msg) {
	_, cmd := p.a.Update(msg)
	p.a.View()
	p.run(cmd)
}

func (p *picturing) press(keys ...string) {
	press(p.a, keys...)
	p.a.View()
	p.run(p.a.lookAtPictures())
}

func TestCoversAreRealPicturesWhereTheTerminalTakesThem(t *testing.T) {
	attributes := uv.PrimaryDeviceAttributesEvent{62, 4, 22}
	cell := []tea.Msg{uv.CellSizeEvent{Width: 8, Height: 17}}
	for name, x := range map[string]struct {
		first   uv.PrimaryDeviceAttributesEvent
		answers map[string][]tea.Msg
		want    string
	}{
		"sixel": {attributes, map[string][]tea.Msg{askCell: cell}, "\x1bP0;1q"},
		"kitty": {uv.PrimaryDeviceAttributesEvent{62, 22}, map[string][]tea.Msg{askCell: cell,
			askKitty: {uv.KittyGraphicsEvent{Payload: []byte("OK")}}}, "\x1b_Ga=t,f=100"},
		"inline": {uv.PrimaryDeviceAttributesEvent{65}, map[string][]tea.Msg{askCell: cell,
			askInline: {uv.UnknownOscEvent("\x1b]1337;ReportCellSize=17.0;8.0;2.0\x1b\\")}}, "\x1b]1337;File=inline=1"},
		"none": {uv.PrimaryDeviceAttributesEvent{62, 22}, map[string][]tea.Msg{askCell: cell}, ""},
		"refusing": {uv.PrimaryDeviceAttributesEvent{62}, map[string][]tea.Msg{askCell: cell,
			askKitty: {uv.KittyGraphicsEvent{Payload: []byte("ENOTSUPPORTED:no")}}}, ""},
		"old":       {uv.PrimaryDeviceAttributesEvent{6}, nil, ""},
		"size-less": {attributes, nil, ""},
	} {
		t.Run(name, func(t *testing.T) {
			a, _ := demoApp(t, Options{})
			p := &picturing{a: a, answers: x.answers}
			p.take(x.first)
			if name == "old" {
				assert.Empty(t, p.sent, "a terminal that may show the question is not asked")
			}
			if p.answers == nil {
				p.answers = map[string][]tea.Msg{}
			}
			p.answers[ansi.RequestPrimaryDeviceAttributes] = []tea.Msg{x.first}
			p.press("C")
			if x.want == "" {
				assert.Nil(t, a.shows.gallery)
				assert.Contains(t, text(a), "▀", "blocks")
				return
			}
			assert.Contains(t, p.sent, x.want)
			assert.NotContains(t, text(a), "▀")
			assert.NotContains(t, text(a), "\U000F0000")
			was := p.sent
			p.press("?")
			if name == "kitty" {
				assert.Contains(t, p.sent[len(was):], "a=d,d=i")
			} else {
				assert.Equal(t, 1, p.wiped, "what lies in the cells goes")
			}
			was = p.sent
			p.press("esc", "3")
			assert.NotContains(t, p.sent[len(was):], x.want)
			press(a, ":")
			a.Update(tea.PasteMsg{Content: "in blocks"})
			press(a, "enter", "C")
			assert.Contains(t, text(a), "▀")
		})
	}
}

func TestPicturesInBlocksOnly(t *testing.T) {
	for _, o := range []Options{{Settings: config.Config{Blocks: true}}, {ASCII: true}} {
		a, _ := demoApp(t, o)
		p := &picturing{a: a, answers: map[string][]tea.Msg{askCell: {uv.CellSizeEvent{Width: 8, Height: 17}}}}
		p.take(uv.PrimaryDeviceAttributesEvent{62, 4})
		assert.Nil(t, a.shows.gallery)
	}
}
