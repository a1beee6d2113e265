package smb_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target"
	"polytome/internal/target/fileserver"
	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

var ctx = context.Background()

// open opens a folder of its own on the server's share.
func open(t testing.TB, s *judge.Samba, share string, o remote.Settings) *fileserver.Target {
	sub := fmt.Sprintf("target-%d", rand.Int63())
	require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, sub), 0o777))
	p, err := smb.Open(ctx, remote.Address{Scheme: "smb", Host: "127.0.0.1", Port: s.Port, Root: share + "/" + sub}, o)
	require.NoError(t, err)
	return p
}

func TestConformance(t *testing.T) {
	for name, c := range map[string]struct {
		settings []string
		share    string
	}{
		"a user":                         {nil, "games"},
		"a guest":                        {nil, "open"},
		"encrypted":                      {[]string{"server smb encrypt = required"}, "games"},
		"signed":                         {[]string{"server signing = mandatory"}, "games"},
		"SMB 2.0.2":                      {[]string{"server max protocol = SMB2_02"}, "games"},
		"case matters":                   {[]string{"case sensitive = yes"}, "games"},
		"half-written names are refused": {[]string{"veto files = /*.part/*.tmp/*.crdownload/*.partial/.*/"}, "games"},
	} {
		t.Run(name, func(t *testing.T) {
			s := judge.SMB(t, t.TempDir(), c.settings...)
			o := remote.Settings{User: s.User, Password: s.Password, Timeout: 10 * time.Second}
			if c.share == "open" {
				o.User, o.Password = "", ""
			}
			targettest.Run(t, func(t *testing.T) target.Target { return open(t, s, c.share, o) })
		})
	}
}

// TestConformanceFarAway is the same over a slow way: everything takes 30 ms, and 1 MB pass in a second.
func TestConformanceFarAway(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	far := *s
	far.Port = judge.Far(t, s.Port, 30*time.Millisecond, 1e6)
	targettest.Run(t, func(t *testing.T) target.Target {
		return open(t, &far, "games", remote.Settings{User: s.User, Password: s.Password, Timeout: 10 * time.Second})
	})
}

func TestBytesAreThereForAnotherClient(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	p := open(t, s, "games", remote.Settings{User: s.User, Password: s.Password})
	defer p.Close()
	data := make([]byte, 21<<20+12345)
	rand.New(rand.NewSource(1)).Read(data)
	w, err := p.Create(ctx, "Grebe Lake – Été.iso", int64(len(data)))
	require.NoError(t, err)
	for at := 0; at < len(data); at += 700_001 {
		_, err := w.Write(data[at:min(at+700_001, len(data))])
		require.NoError(t, err)
	}
	require.NoError(t, w.Flush())
	require.NoError(t, w.Commit())
	found, err := filepath.Glob(filepath.Join(s.Dir, "*", "Grebe Lake – Été.iso"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	got := filepath.Join(t.TempDir(), "got")
	judge.Run(t, "smbclient", "//127.0.0.1/games/", "-p", fmt.Sprint(s.Port), "-U", s.User+"%"+s.Password, "-c",
		fmt.Sprintf(`get "%s\%s" "%s"`, filepath.Base(filepath.Dir(found[0])), filepath.Base(found[0]), got))
	judge.Run(t, "cmp", got, found[0])
	is, err := os.ReadFile(got)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, is))
}

// TestManySmallFilesBeginInAFolderOfTheirOwn fills a folder until new names would be searched for too long: from then
// on files begin in a folder below it. Nobody sees that, but what is left in it; it goes when nothing is.
func TestManySmallFilesBeginInAFolderOfTheirOwn(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	p := open(t, s, "open", remote.Settings{})
	dir, err := filepath.Glob(filepath.Join(s.Dir, "target-*"))
	require.NoError(t, err)
	own := filepath.Join(dir[0], "Carts", "polytome.begun")
	require.NoError(t, p.MakeFolder(ctx, "Carts"))
	begin := func(p *fileserver.Target, i int) target.Writer {
		w, err := p.Create(ctx, fmt.Sprintf("Carts/game %03d", i), 10)
		require.NoError(t, err)
		_, err = w.Write([]byte("0123456789"))
		require.NoError(t, err)
		return w
	}
	paths := func(p *fileserver.Target) (files []string) {
		all, err := p.List(ctx, nil)
		require.NoError(t, err)
		for _, e := range all {
			if e.Path != "Carts" {
				require.False(t, e.Folder, e.Path)
				files = append(files, e.Path)
			}
		}
		return files
	}
	for i := range 300 {
		w := begin(p, i)
		require.NoError(t, w.Flush())
		if i == 299 {
			require.DirExists(t, own)
			back, err := w.ReadBack()
			require.NoError(t, err)
			b, err := io.ReadAll(io.NewSectionReader(back, 0, back.Size()))
			require.NoError(t, err)
			require.NoError(t, back.Close())
			require.Equal(t, "0123456789", string(b))
		}
		require.NoError(t, w.Commit())
	}
	assert.Len(t, paths(p), 300)
	require.NoError(t, begin(p, 300).(target.Suspender).Leave())
	require.NoError(t, p.Close())
	require.DirExists(t, own, "something is left there")

	address := remote.Address{Scheme: "smb", Host: "127.0.0.1", Port: s.Port, Root: "open/" + filepath.Base(dir[0])}
	p, err = smb.Open(ctx, address, remote.Settings{})
	require.NoError(t, err)
	left := paths(p)
	require.Len(t, left, 301)
	for _, name := range left {
		if target.IsTemporary(name) {
			require.NoError(t, p.Remove(ctx, name))
		}
	}
	assert.Len(t, paths(p), 300)
	require.NoError(t, p.Close())
	require.NoDirExists(t, own)

	p, err = smb.Open(ctx, address, remote.Settings{})
	require.NoError(t, err)
	for i := range 300 {
		require.NoError(t, p.Remove(ctx, fmt.Sprintf("Carts/game %03d", i)))
	}
	require.NoError(t, os.Mkdir(own, 0o777)) // as after a crash
	assert.Empty(t, paths(p))
	require.NoError(t, p.Remove(ctx, "Carts"), "what nobody sees keeps no folder")
	require.NoError(t, p.MakeFolder(ctx, "Carts"))
	for i := range 280 {
		if i == 270 {
			require.NoError(t, os.Remove(own), "somebody tidies up")
		}
		require.NoError(t, begin(p, i).Commit())
	}
	require.NoError(t, p.Close())
	require.NoDirExists(t, own)
}

func TestReadingInAnyOrder(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	p := open(t, s, "games", remote.Settings{User: s.User, Password: s.Password})
	defer p.Close()
	data := make([]byte, 13<<20+777)
	r := rand.New(rand.NewSource(2))
	r.Read(data)
	found, err := filepath.Glob(filepath.Join(s.Dir, "target-*"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(found[0], "a.iso"), data, 0o644))
	c, err := p.Open(ctx, "a.iso")
	require.NoError(t, err)
	defer c.Close()
	at := int64(0)
	for range 200 {
		n := int64(r.Intn(900_000)) + 1
		if r.Intn(4) == 0 || at >= c.Size() {
			at = r.Int63n(c.Size())
		}
		b := make([]byte, n)
		k, _ := c.ReadAt(b, at)
		require.EqualValues(t, min(n, c.Size()-at), k)
		require.True(t, bytes.Equal(b[:k], data[at:at+int64(k)]))
		at += int64(k)
	}
	require.NoError(t, os.Truncate(filepath.Join(found[0], "a.iso"), 1<<20))
	_, err = c.ReadAt(make([]byte, 100), 5<<20)
	assert.Error(t, err, "it has become shorter")
}

func TestWhatIsWrongIsSaidInWords(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	at := func(root string) remote.Address {
		return remote.Address{Scheme: "smb", Host: "127.0.0.1", Port: s.Port, Root: root}
	}
	good := remote.Settings{User: s.User, Password: s.Password, Timeout: 10 * time.Second}
	for name, c := range map[string]struct {
		a    remote.Address
		o    remote.Settings
		is   error
		says string
	}{
		"wrong password": {at("games"), remote.Settings{User: s.User, Password: "secret-word"}, target.ErrReadOnly,
			"refuses " + s.User + ": the user name or the password is wrong"},
		"no share named": {at(""), good, nil, "has no share name; there are: open, games"},
		"no such share":  {at("attic"), good, target.ErrGone, "no such share"},
		"no such folder": {at("games/attic"), good, nil, "there is no folder attic on the share games"},
		"nobody listens": {remote.Address{Scheme: "smb", Host: "127.0.0.1", Port: judge.Port(t), Root: "games"}, good,
			target.ErrGone, "no SMB server answers on port"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := smb.Open(ctx, c.a, c.o)
			require.ErrorContains(t, err, c.says)
			if c.is != nil {
				assert.ErrorIs(t, err, c.is)
			}
			assert.NotContains(t, err.Error(), "secret-word")
		})
	}
	shares, err := smb.Shares(ctx, at(""), good)
	require.NoError(t, err)
	assert.ElementsMatch(t, []remote.Share{{Name: "games"}, {Name: "open"}}, shares)
}

func TestFactsAndCase(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "some", "FULL"), 0o777))
	p, err := smb.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games/some"},
		remote.Settings{User: s.User,
			Password: s.Password})
	require.NoError(t, err)
	defer p.Close()
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	var out []byte
	out = fmt.Append(out, judge.Run(t, "df", "-B1", "--output=size,avail", s.Dir))
	var size, avail int64
	_, err = fmt.Sscan(string(bytes.SplitN(out, []byte("\n"), 2)[1]), &size, &avail)
	require.NoError(t, err)
	assert.InDelta(t, size, f.Capacity, float64(size)/50)
	assert.InDelta(t, avail, f.Free, float64(size)/50)
	assert.False(t, f.Filesystem.CaseSensitive)
	assert.Equal(t, "smb", f.Network)
	assert.NoError(t, p.MakeFolder(ctx, "full"), "the same folder")
	e, err := p.Stat(ctx, "full")
	require.NoError(t, err)
	assert.True(t, e.Folder)

	strict := judge.SMB(t, s.Dir, "case sensitive = yes")
	q, err := smb.Open(ctx, remote.Address{Host: "127.0.0.1", Port: strict.Port, Root: "games/some"},
		remote.Settings{User: s.User, Password: s.Password})
	require.NoError(t, err)
	defer q.Close()
	f, err = q.Facts(ctx, nil)
	require.NoError(t, err)
	assert.True(t, f.Filesystem.CaseSensitive)
}

func TestAServerThatGoesAway(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	p := open(t, s, "games", remote.Settings{User: s.User, Password: s.Password})
	w, err := p.Create(ctx, "a.iso", 64<<20)
	require.NoError(t, err)
	block := make([]byte, 1<<20)
	for i := range 40 {
		if i == 10 {
			s.Kill()
		}
		if _, err = w.Write(block); err != nil {
			break
		}
	}
	if err == nil {
		err = w.Flush()
	}
	assert.ErrorIs(t, err, target.ErrGone)
	assert.ErrorIs(t, w.Abort(), target.ErrGone)
	_, err = p.List(ctx, nil)
	assert.ErrorIs(t, err, target.ErrGone)
	assert.NoError(t, p.Close())
}

func TestAServerThatStalls(t *testing.T) {
	s := judge.SMB(t, t.TempDir())
	p := open(t, s, "games", remote.Settings{User: s.User, Password: s.Password, Timeout: 300 * time.Millisecond})
	defer p.Close()
	s.Stall(true)
	_, err := p.List(ctx, nil)
	s.Stall(false)
	require.ErrorIs(t, err, target.ErrGone)
	assert.ErrorContains(t, err, "does not respond any more")
}
