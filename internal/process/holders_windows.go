package process

import (
	"errors"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// transient reports whether an error may pass by itself: somebody has the file open.
func transient(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) ||
		errors.Is(err, windows.ERROR_USER_MAPPED_FILE) || errors.Is(err, windows.ERROR_ACCESS_DENIED)
}

// The restart manager, which knows who has a file open.
var (
	restartManager = windows.NewLazySystemDLL("rstrtmgr.dll")
	rmStart        = restartManager.NewProc("RmStartSession")
	rmRegister     = restartManager.NewProc("RmRegisterResources")
	rmGetList      = restartManager.NewProc("RmGetList")
	rmEnd          = restartManager.NewProc("RmEndSession")
)

// rmProcess is RM_PROCESS_INFO.
type rmProcess struct {
	PID                 uint32
	Started             windows.Filetime
	Name                [256]uint16
	Service             [64]uint16
	Kind, Status, TSSID uint32
	Restartable         int32
}

const maxHolders = 16

// holders asks the restart manager; nothing is said where it does not know.
func holders(path string) []Running {
	if rmStart.Find() != nil {
		return nil
	}
	var session uint32
	var key [33]uint16
	if r, _, _ := rmStart.Call(uintptr(unsafe.Pointer(&session)), 0, uintptr(unsafe.Pointer(&key[0]))); r != 0 {
		return nil
	}
	defer rmEnd.Call(uintptr(session))
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return nil
	}
	if r, _, _ := rmRegister.Call(uintptr(session), 1, uintptr(unsafe.Pointer(&name)), 0, 0, 0, 0); r != 0 {
		return nil
	}
	var list [maxHolders]rmProcess
	needed, n, reasons := uint32(0), uint32(maxHolders), uint32(0)
	if r, _, _ := rmGetList.Call(uintptr(session), uintptr(unsafe.Pointer(&needed)), uintptr(unsafe.Pointer(&n)), uintptr(unsafe.Pointer(&list[0])), uintptr(unsafe.Pointer(&reasons))); r != 0 {
		return nil
	}
	var found []Running
	for _, p := range list[:min(n, maxHolders)] {
		if int(p.PID) != os.Getpid() {
			found = append(found, Running{int(p.PID), windows.UTF16ToString(p.Name[:])})
		}
	}
	return found
}
