package process

import (
	"os"
	"os/exec"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// Group is a program and everything that it has started: a job that ends with this process.
type Group struct {
	job     windows.Handle
	process *os.Process
}

// StartGroup starts a program in a group of its own, which ends with this process. It needs no keeper here.
func StartGroup(cmd *exec.Cmd, _ string) (*Group, error) {
	job, err := newJob(windows.JOBOBJECT_BASIC_LIMIT_INFORMATION{LimitFlags: windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE}, 0)
	if err != nil {
		return nil, err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP, HideWindow: true}
	if err := cmd.Start(); err != nil {
		windows.CloseHandle(job)
		return nil, err
	}
	g := &Group{job, cmd.Process}
	h, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(cmd.Process.Pid))
	if err == nil {
		_ = windows.AssignProcessToJobObject(job, h) // else it is ended alone
		windows.CloseHandle(h)
	}
	return g, nil
}

func newJob(basic windows.JOBOBJECT_BASIC_LIMIT_INFORMATION, memory uintptr) (windows.Handle, error) {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return 0, err
	}
	info := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{BasicLimitInformation: basic, ProcessMemoryLimit: memory}
	if _, err := windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info))); err != nil {
		windows.CloseHandle(job)
		return 0, err
	}
	return job, nil
}

// Kill ends the group at once.
func (g *Group) Kill() {
	_ = windows.TerminateJobObject(g.job, 1)
	_ = g.process.Kill()
}

// Close gives up what the group takes here, and ends what is left of it.
func (g *Group) Close() error { return windows.CloseHandle(g.job) }

// Keeper is not needed here.
func Keeper([]string) int { return 127 }

// Self is this program, for it to be started once more.
func Self() string {
	name, _ := os.Executable()
	return name
}

// limit bounds the memory that this process may take, in bytes, and lets it start nothing.
func limit(memory int64) {
	job, err := newJob(windows.JOBOBJECT_BASIC_LIMIT_INFORMATION{
		LimitFlags: windows.JOB_OBJECT_LIMIT_PROCESS_MEMORY | windows.JOB_OBJECT_LIMIT_ACTIVE_PROCESS, ActiveProcessLimit: 1,
	}, uintptr(memory))
	if err == nil {
		_ = windows.AssignProcessToJobObject(job, windows.CurrentProcess()) // the handle stays open, and the job with it
	}
}
