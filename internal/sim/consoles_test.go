package sim_test

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sim"
)

func TestConsolesBuildTheirFolders(t *testing.T) {
	disk := t.TempDir()
	corvane := sim.Consoles["corvane"]
	for _, v := range []string{"hd1", "hd2"} {
		require.NoError(t, os.MkdirAll(filepath.Join(disk, v), 0o755))
	}
	require.NoError(t, corvane.Start(disk))
	left, err := os.ReadDir(filepath.Join(disk, "hd1"))
	require.NoError(t, err)
	assert.Empty(t, left, "without the shelf there is nothing to build")
	require.NoError(t, os.Mkdir(filepath.Join(disk, "hd2", "gantry"), 0o755))
	require.NoError(t, corvane.Start(disk))
	for _, dir := range []string{"shelf", "faces"} {
		built, err := os.ReadDir(filepath.Join(disk, "hd2", "gantry", dir))
		require.NoError(t, err)
		assert.Len(t, built, 15)
	}
	assert.NoDirExists(t, filepath.Join(disk, "hd2", "gantry", "shelf", "kestrel64"))

	stick := t.TempDir()
	tanager := sim.Consoles["tanager"]
	require.NoError(t, tanager.Start(stick))
	built, err := os.ReadDir(filepath.Join(stick, "oxbow", "play"))
	require.NoError(t, err)
	assert.Len(t, built, 24)
	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "letters.txt"), nil, 0o644))
	require.NoError(t, tanager.Start(other))
	left, err = os.ReadDir(other)
	require.NoError(t, err)
	assert.Len(t, left, 1, "a stick that is not empty stays as it is")
	_, err = tanager.Serve(stick, 0, 0)
	assert.Error(t, err, "its disk is a share")
}

func TestAConsoleRestartsAndRescans(t *testing.T) {
	disk := t.TempDir()
	game := filepath.Join(disk, "hd1", "Games", "Hollow Lane")
	require.NoError(t, os.MkdirAll(game, 0o755))
	s, err := sim.Consoles["corvane"].Serve(disk, 0, 0)
	require.NoError(t, err)
	defer s.Close()
	c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port()))
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(10*time.Second)))
	in := bufio.NewReader(c)
	say := func(command string) (answer string) {
		if command != "" {
			fmt.Fprintf(c, "%s\r\n", command)
		}
		for {
			line, err := in.ReadString('\n')
			require.NoError(t, err)
			answer += line
			if len(line) > 3 && line[3] == ' ' && line[0] != ' ' {
				return answer
			}
		}
	}
	say("")
	say("USER gantry")
	assert.Contains(t, say("PASS wrong"), "530")
	assert.Contains(t, say("SITE RESCAN"), "530 log in first")
	say("USER gantry")
	say("PASS ferryline")
	assert.Contains(t, say("SITE RESCAN"), "200-0 games")
	require.NoError(t, os.WriteFile(filepath.Join(game, "main.run"), nil, 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(disk, "hd1", "gantry"), 0o755))
	assert.Contains(t, say("SITE RESTART"), "200 restarted")
	assert.DirExists(t, filepath.Join(disk, "hd1", "gantry", "shelf", "wren8"))
	list := say("SITE RESCAN")
	assert.Contains(t, list, "200-1 games")
	assert.Contains(t, list, " Hollow Lane")
	assert.Contains(t, say("SITE DANCE"), "502")
	assert.True(t, strings.HasPrefix(say("QUIT"), "221"))
}
