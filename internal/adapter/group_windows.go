package adapter

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
)

// group is the program and everything that it has started: a job that ends with this process.
type group struct {
	job     windows.Handle
	process *os.Process
}

func startGroup(cmd *exec.Cmd) (*group, error) {
	job, err := windows.CreateJobObject(nil, nil)
	if err != nil {
		return nil, err
	}
	info := windows.JOBOBJECT_EXTENDED_LIMIT_INFORMATION{}
	info.BasicLimitInformation.LimitFlags = windows.JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE
	_, err = windows.SetInformationJobObject(job, windows.JobObjectExtendedLimitInformation, uintptr(unsafe.Pointer(&info)), uint32(unsafe.Sizeof(info)))
	if err == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP, HideWindow: true}
		err = cmd.Start()
	}
	if err != nil {
		windows.CloseHandle(job)
		return nil, err
	}
	g := &group{job, cmd.Process}
	h, err := windows.OpenProcess(windows.PROCESS_SET_QUOTA|windows.PROCESS_TERMINATE, false, uint32(cmd.Process.Pid))
	if err == nil {
		_ = windows.AssignProcessToJobObject(job, h) // else it is ended alone
		windows.CloseHandle(h)
	}
	return g, nil
}

func (g *group) kill() {
	_ = windows.TerminateJobObject(g.job, 1)
	_ = g.process.Kill()
}

func (g *group) close() error { return windows.CloseHandle(g.job) }

// command starts a script by the program for it: Windows itself starts .exe and .cmd alone.
func command(program string) *exec.Cmd {
	if strings.EqualFold(filepath.Ext(program), ".py") {
		for _, name := range []string{"py.exe", "python.exe", "python3.exe"} {
			if python, err := exec.LookPath(name); err == nil {
				return exec.Command(python, program)
			}
		}
	}
	return exec.Command(program)
}

func endings() []string {
	list := filepath.SplitList(os.Getenv("PATHEXT"))
	if len(list) == 0 {
		list = []string{".exe", ".cmd", ".bat"}
	}
	return append(list, ".py")
}

func executable(fs.FileInfo) bool { return true }
