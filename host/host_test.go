//go:build unix

package host

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func opened(t *testing.T, path string) *os.File {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func TestOneHoldsALock(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	one, other := opened(t, path), opened(t, path)
	require.False(t, Held(other))
	syscall.Flock(int(other.Fd()), syscall.LOCK_UN)
	require.NoError(t, TryLock(one))
	require.True(t, Held(opened(t, path)))
	require.ErrorIs(t, TryLock(other), ErrHeld)
	require.NoError(t, one.Close())
	require.NoError(t, TryLock(other))
}

func TestFoldersOfOthersAreNotHeld(t *testing.T) {
	in := t.TempDir()
	mine := filepath.Join(in, "mine")
	require.NoError(t, os.Mkdir(mine, 0o700))
	release, err := HoldFolder(mine)
	require.NoError(t, err)
	_, err = HoldFolder(mine)
	require.ErrorIs(t, err, ErrHeld)
	release()
	release, err = HoldFolder(mine)
	require.NoError(t, err)
	release()

	require.NoError(t, os.Symlink(mine, filepath.Join(in, "link")))
	_, err = HoldFolder(filepath.Join(in, "link"))
	require.Error(t, err, "a link is not followed")
	require.NoError(t, os.WriteFile(filepath.Join(in, "file"), nil, 0o600))
	_, err = HoldFolder(filepath.Join(in, "file"))
	require.Error(t, err)
	require.NoError(t, os.Chmod(mine, 0o720))
	_, err = HoldFolder(mine)
	require.ErrorIs(t, err, ErrNotOurs)
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chmod(mine, 0o700))
		require.NoError(t, os.Chown(mine, 65534, 65534))
		_, err = HoldFolder(mine)
		require.ErrorIs(t, err, ErrNotOurs)
		owner, known := OwnerOf(mine)
		require.True(t, known)
		require.Equal(t, User{65534, 65534}, owner)
	}
}

func TestAProcessIsKnownByItsBeginning(t *testing.T) {
	cmd := exec.Command("sleep", "60")
	OwnGroup(cmd)
	require.NoError(t, cmd.Start())
	group, err := syscall.Getpgid(cmd.Process.Pid)
	require.NoError(t, err)
	require.Equal(t, cmd.Process.Pid, group)
	began := Began(cmd.Process.Pid)
	require.NotEmpty(t, began)
	require.Equal(t, began, Began(cmd.Process.Pid))
	require.NotEqual(t, began, Began(1))
	require.NoError(t, cmd.Process.Kill())
	require.Eventually(t, func() bool { return Began(cmd.Process.Pid) == "" }, 5*time.Second, time.Millisecond,
		"not even while it waits to be reaped")
	cmd.Wait()
	require.Empty(t, Began(cmd.Process.Pid))
}

func TestAPipeIsReadWithoutWaiting(t *testing.T) {
	out, in, err := os.Pipe()
	require.NoError(t, err)
	defer in.Close()
	defer out.Close()
	buffer := make([]byte, 16)
	n, _ := ReadNow(out, buffer)
	require.Zero(t, n)
	_, err = in.WriteString("soundings")
	require.NoError(t, err)
	n, err = ReadNow(out, buffer)
	require.NoError(t, err)
	require.Equal(t, "soundings", string(buffer[:n]))
}

func TestRoom(t *testing.T) {
	free, err := FreeBytes(t.TempDir())
	require.NoError(t, err)
	require.Positive(t, free)
	_, err = FreeBytes(filepath.Join(t.TempDir(), "nowhere"))
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.True(t, NoRoom(fmt.Errorf("keep it: %w", &fs.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC})))
	require.False(t, NoRoom(&fs.PathError{Op: "write", Path: "x", Err: syscall.EIO}))
	require.NoError(t, SyncFolder(t.TempDir()))
}
