package watch

import (
	"errors"
	"fmt"
	"path/filepath"
	"unsafe"

	"github.com/fsnotify/fsnotify"
	"golang.org/x/sys/windows"

	"morvant/internal/userpath"
)

// What a tree is told of: names, sizes, and times of writing.
const treeEvents = windows.FILE_NOTIFY_CHANGE_FILE_NAME | windows.FILE_NOTIFY_CHANGE_DIR_NAME | windows.FILE_NOTIFY_CHANGE_SIZE |
	windows.FILE_NOTIFY_CHANGE_LAST_WRITE | windows.FILE_NOTIFY_CHANGE_ATTRIBUTES

// treeBuffer is the most that the system collects between two questions, also of a network disk.
const treeBuffer = 64 << 10

// errOverflow says that more has changed than the system could tell.
var errOverflow = errors.New("more has changed than the system could tell of")

// watchTree watches a lane by one handle to the folder around it, with all that is below: a handle to
// the lane's folder itself, or to one in it, would forbid everybody to rename it.
func watchTree(watcher *fsnotify.Watcher, dir string) (*tree, error) {
	if wine() {
		return nil, errors.Join(watcher.Add(filepath.Dir(dir)), addFolders(watcher, dir))
	}
	return oneTree(dir)
}

// wine reports whether the system is Wine, which tells of no change in folders further down that were
// there before, and lets a folder be renamed whatever handles there are.
func wine() bool {
	return windows.NewLazySystemDLL("ntdll.dll").NewProc("wine_get_version").Find() == nil
}

func oneTree(dir string) (*tree, error) {
	around := filepath.Dir(dir)
	name, err := windows.UTF16PtrFromString(around)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.FILE_LIST_DIRECTORY, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE,
		nil, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS|windows.FILE_FLAG_OVERLAPPED, 0)
	if err != nil {
		return nil, fmt.Errorf("watch %s: %w", around, err)
	}
	told, err := windows.CreateEvent(nil, 0, 0, nil)
	if err != nil {
		return nil, errors.Join(err, windows.CloseHandle(h))
	}
	stop, err := windows.CreateEvent(nil, 1, 0, nil)
	if err != nil {
		return nil, errors.Join(err, windows.CloseHandle(told), windows.CloseHandle(h))
	}
	r := &treeReader{h: h, told: told, stop: stop, around: around, dir: dir, quit: make(chan struct{}), ended: make(chan struct{})}
	r.tree = &tree{changed: make(chan string, 64), lost: make(chan error, 1), stop: r.end}
	go r.run()
	return r.tree, nil
}

type treeReader struct {
	*tree
	h, told, stop windows.Handle
	around, dir   string
	quit, ended   chan struct{}
}

// end ends the reading and gives the handles back.
func (r *treeReader) end() {
	select {
	case <-r.quit:
		return
	default:
	}
	close(r.quit)
	_ = windows.SetEvent(r.stop)
	<-r.ended
	for _, h := range []windows.Handle{r.h, r.told, r.stop} {
		_ = windows.CloseHandle(h)
	}
}

func (r *treeReader) run() {
	defer close(r.ended)
	buf := make([]byte, treeBuffer)
	for {
		ov := &windows.Overlapped{HEvent: r.told}
		if err := windows.ReadDirectoryChanges(r.h, &buf[0], uint32(len(buf)), true, treeEvents, nil, ov, 0); err != nil {
			r.lose(fmt.Errorf("watch %s: %w", r.around, err))
			return
		}
		which, err := windows.WaitForMultipleObjects([]windows.Handle{r.stop, r.told}, false, windows.INFINITE)
		var n uint32
		if err != nil || which == windows.WAIT_OBJECT_0 {
			_ = windows.CancelIoEx(r.h, ov)
			_ = windows.GetOverlappedResult(r.h, ov, &n, true) // the buffer is its own until then
			return
		}
		switch err := windows.GetOverlappedResult(r.h, ov, &n, true); {
		case err != nil:
			r.lose(fmt.Errorf("watch %s: %w", r.around, err))
			return
		case n == 0:
			r.lose(errOverflow)
		default:
			r.tell(buf[:n])
		}
	}
}

func (r *treeReader) lose(err error) {
	select {
	case r.lost <- err:
	default:
	}
}

// tell passes on the changes that are about the lane.
func (r *treeReader) tell(buf []byte) {
	for len(buf) >= int(unsafe.Sizeof(windows.FileNotifyInformation{})) {
		info := (*windows.FileNotifyInformation)(unsafe.Pointer(&buf[0]))
		name := windows.UTF16ToString(unsafe.Slice(&info.FileName, info.FileNameLength/2))
		if path := filepath.Join(r.around, name); userpath.Within(path, r.dir) {
			select {
			case r.changed <- path:
			case <-r.quit:
				return
			}
		}
		if info.NextEntryOffset == 0 || int(info.NextEntryOffset) > len(buf) {
			return
		}
		buf = buf[info.NextEntryOffset:]
	}
}
