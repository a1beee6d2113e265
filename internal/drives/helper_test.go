package drives

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/medium"
)

// sees is a helper that sees a drive, and has it let go.
type sees struct {
	d   *Drive
	off []bool
}

func (h *sees) Look(context.Context) (*Drive, error) { return h.d, nil }

func (h *sees) Read(context.Context, *Drive) (*medium.File, error) {
	return nil, errors.New("opened by the helper")
}

func (h *sees) Open(context.Context, *Drive, Purpose, Consent) (*medium.File, error) {
	return nil, errors.New("written by the helper")
}

func (h *sees) LetGo(_ context.Context, _ *Drive, off bool, _ func(string)) (*Release, error) {
	h.off = append(h.off, off)
	return &Release{Safe: true}, nil
}

// starts is an elevator that starts a helper each time.
type starts func() (Helper, error)

func (s starts) Start(context.Context, *Drive) (Helper, error) { return s() }
func (s starts) Running(string) (Helper, bool)                 { return nil, false }

// TestADriveThatIsDeniedIsSeenByAHelper, once it is used; another drive in its place is none.
func TestADriveThatIsDeniedIsSeenByAHelper(t *testing.T) {
	ctx := context.Background()
	d := &Drive{Path: "/dev/sdx", Model: "Gullwing Stick", Serial: "0042", Size: 4 << 20, denied: true, kernel: "sdx",
		locks: []string{"one"}}
	h := &sees{d: &Drive{Path: "/dev/sdx", Model: "Gullwing Stick", Serial: "0042", Size: 4 << 20,
		Volumes: []Volume{{Label: "NORTH"}}}}
	asked := 0
	s := System{calls: says{func() []*Drive { c := *d; return []*Drive{&c} }},
		Elevate: starts(func() (Helper, error) { asked++; return h, nil })}

	readable := &Drive{Path: "/dev/sdy"}
	same, err := s.Readable(ctx, readable)
	require.NoError(t, err)
	assert.Same(t, readable, same, "nobody is asked for what can be read")
	_, err = s.Readable(ctx, &Drive{Trouble: "it is broken"})
	assert.EqualError(t, err, "it is broken")
	assert.Zero(t, asked)

	seen, err := s.Readable(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, "NORTH", seen.Volumes[0].Label)
	assert.False(t, seen.Denied())
	assert.Equal(t, []any{"sdx", []string{"one"}}, []any{seen.kernel, seen.locks}, "what the system knows stays")
	_, err = seen.Read(ctx)
	assert.EqualError(t, err, "opened by the helper")
	again, err := s.Readable(ctx, seen)
	require.NoError(t, err)
	assert.Same(t, seen, again)
	assert.Equal(t, 1, asked)

	for name, change := range map[string]func(*Drive){"serial": func(d *Drive) { d.Serial = "0043" },
		"size": func(d *Drive) { d.Size++ }, "path": func(d *Drive) { d.Path = "/dev/sdz" }} {
		other := *h.d
		change(&other)
		_, err := System{Elevate: starts(func() (Helper, error) { return &sees{d: &other}, nil })}.
			Readable(ctx, d)
		assert.True(t, IsRefused(err), name)
	}
	no := errors.New("that was not given")
	_, err = System{Elevate: starts(func() (Helper, error) { return nil, no })}.Readable(ctx, d)
	assert.ErrorIs(t, err, no)

	r, err := s.letGoElevated(ctx, d, true, nil)
	require.NoError(t, err)
	assert.True(t, r.Safe)
	assert.Equal(t, []bool{true}, h.off)
}
