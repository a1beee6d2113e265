package run_test

import (
	"context"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/target"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/target/sftp"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/judge"
)

// carried runs a plan on a target that is opened for it, and returns the seconds.
func carried(b *testing.B, p *plan.Plan, v run.Verify, open func() (target.Target, error)) float64 {
	start := time.Now()
	to, err := open()
	require.NoError(b, err)
	r := run.Run(context.Background(), p, to, run.Options{Verify: v}, func(run.Event) {})
	require.Empty(b, r.Failed)
	require.NoError(b, to.Close())
	return time.Since(start).Seconds()
}

func smallLengths() []int {
	out := make([]int, 5000)
	r := rand.New(rand.NewSource(2))
	for i := range out {
		out[i] = 20_000 + r.Intn(80_000)
	}
	return out
}

// BenchmarkFTP sends one file of 1 GiB to vsftpd next to curl, and 5,000 small ones next to lftp with as many
// connections. Ours asks for the length of each file and renames it, as users have it. Ratios of the medians are
// printed.
func BenchmarkFTP(b *testing.B) {
	dir := b.TempDir()
	port, root := judge.FTP(b, dir)
	fs, err := target.FilesystemNamed("ext4")
	require.NoError(b, err)
	open := func() (target.Target, error) {
		return ftp.Open(context.Background(), remote.Address{Host: "127.0.0.1", Port: port, Root: root},
			remote.Settings{Filesystem: &fs, Capacity: 1 << 40, Cluster: 4096})
	}
	at := fmt.Sprintf("ftp://127.0.0.1:%d//%s", port, root)
	clear := func() {
		require.NoError(b, os.RemoveAll(filepath.Join(dir, "FULL")))
		require.NoError(b, os.RemoveAll(filepath.Join(dir, "theirs")))
	}
	for name, c := range map[string]struct {
		lengths []int
		theirs  func(src string) []string
		metric  string
	}{
		"1 file of 1 GiB": {[]int{1 << 30}, func(src string) []string {
			return []string{"curl", "-sS", "-T", src + "/0.iso", at + "/theirs/", "--ftp-create-dirs"}
		}, "run/curl"},
		"5000 small files": {smallLengths(), func(src string) []string {
			return []string{"lftp", "-c", fmt.Sprintf(
				"set ftp:use-mdtm no; open ftp://127.0.0.1:%d; mirror -R --parallel=4 %s /%s/theirs", port, src, root)}
		}, "run/lftp"},
	} {
		b.Run(name, func(b *testing.B) {
			p, _ := files(b, c.lengths...)
			src := filepath.Dir(p.Steps[1].Make.Source.Path)
			b.SetBytes(p.Bytes)
			var ours, read, theirs []float64
			turns := []func(){
				func() { ours = append(ours, carried(b, p, run.VerifySize, open)) },
				func() { read = append(read, carried(b, p, run.VerifyFull, open)) },
				func() { args := c.theirs(src); theirs = append(theirs, timed(b, args[0], args[1:]...)) },
			}
			for i := 0; b.Loop(); i++ {
				for k := range turns {
					turns[(i+k)%len(turns)]()
					clear()
				}
			}
			b.ReportMetric(median(ours)/median(theirs), c.metric)
			b.ReportMetric(median(read)/median(theirs), c.metric+"+read-back")
			b.ReportMetric(median(ours), "s")
			b.ReportMetric(median(theirs), "s-theirs")
		})
	}
}

// beside carries a plan out in turns with a script of a peer that puts the same into the folder FULL of a server's
// folder, and prints the ratios. Ours has the server flush each file, so the peer takes another turn after which that
// is done too.
func beside(b *testing.B, p *plan.Plan, open func() (target.Target, error), peer, script, dir string) {
	var ours, read, theirs, synced []float64
	turns := []func(){
		func() { ours = append(ours, carried(b, p, run.VerifySize, open)) },
		func() { read = append(read, carried(b, p, run.VerifyFull, open)) },
		func() { theirs = append(theirs, timed(b, "sh", "-c", script)) },
		func() { synced = append(synced, timed(b, "sh", "-c", script+" && sync "+dir+"/FULL/*")) },
	}
	for i := 0; b.Loop(); i++ {
		for k := range turns {
			turns[(i+k)%len(turns)]()
			require.NoError(b, os.RemoveAll(filepath.Join(dir, "FULL")))
		}
	}
	b.ReportMetric(median(ours)/median(theirs), "run/"+peer)
	b.ReportMetric(median(ours)/median(synced), "run/"+peer+"+sync")
	b.ReportMetric(median(read)/median(synced), "run+read-back/"+peer+"+sync")
	b.ReportMetric(median(ours), "s")
	b.ReportMetric(median(theirs), "s-theirs")
}

// BenchmarkSMB sends one file of 1 GiB to Samba next to smbclient, and 5,000 small ones.
func BenchmarkSMB(b *testing.B) {
	s := judge.SMB(b, b.TempDir())
	open := func() (target.Target, error) {
		return smb.Open(context.Background(), remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"},
			remote.Settings{User: s.User, Password: s.Password})
	}
	for name, lengths := range map[string][]int{"1 file of 1 GiB": {1 << 30}, "5000 small files": smallLengths()} {
		b.Run(name, func(b *testing.B) {
			p, _ := files(b, lengths...)
			src := filepath.Dir(p.Steps[1].Make.Source.Path)
			b.SetBytes(p.Bytes)
			command := fmt.Sprintf("mkdir FULL; cd FULL; prompt off; recurse on; lcd %s; mput *", src)
			script := fmt.Sprintf("smbclient //127.0.0.1/games -p %d -U '%s%%%s' -c '%s'", s.Port, s.User, s.Password,
				command)
			beside(b, p, open, "smbclient", script, s.Dir)
		})
	}
}

// BenchmarkSFTP sends one file of 1 GiB to OpenSSH next to its own client, and 5,000 small ones.
func BenchmarkSFTP(b *testing.B) {
	s := judge.SSH(b, b.TempDir())
	at := remote.Address{Host: "127.0.0.1", Port: s.Port, User: s.User, Root: strings.Trim(s.Dir, "/")}
	home := s.Home(b)
	settings := remote.Settings{HostKeys: filepath.Join(home, "host-keys")}
	_, err := sftp.Open(context.Background(), at, settings)
	var unknown *remote.HostKeyError
	require.ErrorAs(b, err, &unknown)
	require.NoError(b, unknown.Accept())
	open := func() (target.Target, error) { return sftp.Open(context.Background(), at, settings) }
	for name, lengths := range map[string][]int{"1 file of 1 GiB": {1 << 30}, "5000 small files": smallLengths()} {
		b.Run(name, func(b *testing.B) {
			p, _ := files(b, lengths...)
			src := filepath.Dir(p.Steps[1].Make.Source.Path)
			b.SetBytes(p.Bytes)
			batch := filepath.Join(home, "batch")
			require.NoError(b, os.WriteFile(batch, fmt.Appendf(nil, "mkdir %[1]s/FULL\nput -R %[2]s/* %[1]s/FULL\n", s.Dir,
				src), 0o600))
			script := fmt.Sprintf("sftp -q -P %d -i %s -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -b %s "+
				"%s@127.0.0.1 >/dev/null", s.Port, s.Key, batch, s.User)
			beside(b, p, open, "sftp", script, s.Dir)
		})
	}
}

// BenchmarkReadBack reads 1 GiB back from a share, with several reads in flight, and one after the other, as a plain
// reader would.
func BenchmarkReadBack(b *testing.B) {
	s := judge.SMB(b, b.TempDir())
	data := make([]byte, 1<<30)
	require.NoError(b, os.WriteFile(filepath.Join(s.Dir, "a.iso"), data, 0o644))
	b.SetBytes(1 << 30)
	buf := make([]byte, 512<<10)
	var ahead, plainly []float64
	for b.Loop() {
		for _, jump := range []bool{false, true} {
			p, err := smb.Open(context.Background(), remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"},
				remote.Settings{User: s.User, Password: s.Password})
			require.NoError(b, err)
			c, err := p.Open(context.Background(), "a.iso")
			require.NoError(b, err)
			start := time.Now()
			n := c.Size() / int64(len(buf))
			for i := range n {
				at := i * int64(len(buf))
				if jump { // backwards, nothing is asked for ahead
					at = (n - 1 - i) * int64(len(buf))
				}
				_, err := c.ReadAt(buf, at)
				require.NoError(b, err)
			}
			took := time.Since(start).Seconds()
			if jump {
				plainly = append(plainly, took)
			} else {
				ahead = append(ahead, took)
			}
			require.NoError(b, c.Close())
			require.NoError(b, p.Close())
		}
	}
	b.ReportMetric(median(ahead)/median(plainly), "ahead/one-by-one")
	b.ReportMetric(median(ahead), "s-ahead")
}

// BenchmarkMemory measures what the heap grows by while one lane writes 1 GiB.
func BenchmarkMemory(b *testing.B) {
	s := judge.SMB(b, b.TempDir())
	p, _ := files(b, 1<<30)
	var most uint64
	for b.Loop() {
		to, err := smb.Open(context.Background(), remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"},
			remote.Settings{User: s.User, Password: s.Password})
		require.NoError(b, err)
		runtime.GC()
		var before runtime.MemStats
		runtime.ReadMemStats(&before)
		r := run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapInuse-min(before.HeapInuse, now.HeapInuse))
		})
		require.Empty(b, r.Failed)
		require.NoError(b, to.Close())
		require.NoError(b, os.RemoveAll(filepath.Join(s.Dir, "FULL")))
	}
	b.ReportMetric(float64(most)/(1<<20), "MiB")
}
