package main

import (
	bytesorder "encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/coretest"
)

func TestFATOnAVeryLargeDrive(t *testing.T) {
	for _, table := range []string{"gpt", "mbr"} {
		img := filepath.Join(t.TempDir(), "large.img")
		status, out, errs := polytome(t, "drives", "prepare", img, "--size", "5TiB", "--fs", "fat32", "--table", table)
		require.Zero(t, status, errs)
		assert.Contains(t, out, "3.00 TiB of the drive stay unused", table)
		status, out, errs = polytome(t, "drives", "check", img)
		assert.Zero(t, status, out+errs)
	}
}

func TestAnImageThatNobodyAgreedToIsNotLeft(t *testing.T) {
	img := filepath.Join(t.TempDir(), "new.img")
	status, _, errs := polytome(t, "drives", "prepare", img, "--size", "1GiB", "--fs", "fat32", "--erase",
		"something else")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "that is not its name")
	assert.NoFileExists(t, img)
}

// TestAnImageThatAnotherProgramWritesTo, such as a virtual machine, is not written to.
func TestAnImageThatAnotherProgramWritesTo(t *testing.T) {
	dir := t.TempDir()
	img := filepath.Join(dir, "held.img")
	status, _, errs := polytome(t, "drives", "prepare", img, "--size", "1GiB", "--loader", "rowan")
	require.Zero(t, status, errs)
	coretest.Write(t, dir, "games/a.iso", coretest.Image(t, coretest.Inf("VSP-20001", "Mosswick", "1/1", "full")))
	fill := []string{"fill", "--from", filepath.Join(dir, "games"), "--loader", "rowan", "--to", img}
	for _, mode := range []string{"<>", "<"} {
		refused := mode == "<>"
		cmd := exec.Command("sh", "-c", "exec 3"+mode+` "$1"; echo; read x`, "sh", img)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		_, err = out.Read(make([]byte, 1))
		require.NoError(t, err)
		_, text, errs := polytome(t, fill...)
		if refused {
			assert.Contains(t, text+errs, "it is open in sh (process ")
		} else {
			assert.NotContains(t, text+errs, "it is open in")
		}
		_ = in.Close()
		_ = cmd.Wait()
	}
}

// TestAFillAfterAKillSaysWhatWasLeft: the volume was not ejected cleanly.
func TestAFillAfterAKillSaysWhatWasLeft(t *testing.T) {
	dir := t.TempDir()
	img := filepath.Join(dir, "stick.img")
	status, _, errs := polytome(t, "drives", "prepare", img, "--size", "1GiB", "--loader", "rowan")
	require.Zero(t, status, errs)
	for i, name := range []string{"Mosswick", "Gannet Patrol"} {
		coretest.Write(t, dir, "games/"+name+".iso",
			coretest.Image(t, coretest.Inf([]string{"VSP-20001", "VSP-20002"}[i], name, "1/1", "full")))
	}
	args := []string{"fill", "--from", filepath.Join(dir, "games"), "--loader", "rowan", "--to", img}
	cmd := exec.Command(binary, append(args, "--limit", "256B")...) // minutes: it is killed long before the end
	require.NoError(t, cmd.Start())
	f, err := os.Open(img)
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	require.Eventually(t, func() bool { return dirty(t, f) }, time.Minute, 10*time.Millisecond, "until it writes")
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	_, out, errs := polytome(t, args...)
	assert.Contains(t, out+errs, "was not ejected cleanly")
}

// dirty reports whether the first FAT32 partition of an image says that someone is writing to it.
func dirty(t *testing.T, img *os.File) bool {
	read := func(off int64) []byte {
		b := make([]byte, 512)
		_, err := img.ReadAt(b, off)
		require.NoError(t, err)
		return b
	}
	start := int64(bytesorder.LittleEndian.Uint32(read(0)[446+8:])) * 512
	table := int64(bytesorder.LittleEndian.Uint16(read(start)[14:]))
	return read(start + table*512)[7]&0x08 == 0
}
