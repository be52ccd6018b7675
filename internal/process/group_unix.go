//go:build unix

package process

import (
	"errors"
	"os"
	"os/exec"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// Group is a program and everything that it has started.
type Group struct {
	cmd  *exec.Cmd
	life *os.File // its keeper ends everything once this is closed; nil: it has no keeper
	once sync.Once
}

// StartGroup starts a program in a group of its own. self is this program: started once more, as the keeper of the group,
// it ends all of it when this process ends, however that comes about; empty: nobody does.
func StartGroup(cmd *exec.Cmd, self string) (*Group, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if self == "" {
		return &Group{cmd: cmd}, cmd.Start()
	}
	theirs, ours, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	cmd.Args = append([]string{KeeperName, cmd.Path}, cmd.Args...)
	cmd.Path = self
	cmd.ExtraFiles = []*os.File{theirs}
	err = cmd.Start()
	theirs.Close()
	if err != nil {
		return nil, errors.Join(err, ours.Close())
	}
	return &Group{cmd: cmd, life: ours}, nil
}

// Kill ends the group at once.
func (g *Group) Kill() {
	if g.life != nil {
		g.once.Do(func() { g.life.Close() })
		return
	}
	_ = syscall.Kill(-g.cmd.Process.Pid, syscall.SIGKILL) // none may be left
}

// Close gives up what the group takes here.
func (g *Group) Close() error {
	g.Kill()
	return nil
}

// Keeper is what the program does under KeeperName: it runs a program, and ends all that this has started when it ends,
// or when the other end of the pipe that is file 3 is closed, as that of a process that was killed is. args are the path
// of the program, its name and its arguments.
func Keeper(args []string) int {
	const lifeline = 3
	syscall.CloseOnExec(lifeline)
	becomeReaper()
	cmd := &exec.Cmd{Path: args[0], Args: args[1:], Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, SysProcAttr: attachedToKeeper()}
	if err := cmd.Start(); err != nil {
		_, _ = os.Stderr.WriteString(err.Error() + "\n")
		return 127
	}
	end := sync.OnceFunc(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		endOrphans()
	})
	go func() {
		var b [1]byte
		life := os.NewFile(lifeline, "lifeline")
		for {
			if _, err := life.Read(b[:]); err != nil {
				end()
				os.Exit(1)
			}
		}
	}()
	_ = cmd.Wait()
	end()
	return max(0, cmd.ProcessState.ExitCode())
}

// limit bounds the memory that this process may take, in bytes, as far as the system does that, and lets it write no file.
func limit(memory int64) {
	set := func(what int, n uint64) { _ = unix.Setrlimit(what, &unix.Rlimit{Cur: n, Max: n}) }
	set(unix.RLIMIT_DATA, uint64(memory))
	set(unix.RLIMIT_FSIZE, 0)
	set(unix.RLIMIT_CORE, 0)
}
