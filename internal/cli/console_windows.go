package cli

import (
	"bufio"
	"fmt"
	"os"
	"regexp"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	"morvant/internal/cli/app"
)

// notTyped reports whether the program was started by a double click: the console then
// is its own, and closes with it.
func notTyped(args []string, stdin *os.File) bool {
	if len(args) > 1 {
		return false
	}
	var mode uint32
	if windows.GetConsoleMode(windows.Handle(stdin.Fd()), &mode) != nil {
		return false
	}
	var list [2]uint32
	n, _, _ := windows.NewLazySystemDLL("kernel32.dll").NewProc("GetConsoleProcessList").Call(uintptr(unsafe.Pointer(&list[0])), uintptr(len(list)))
	return n == 1
}

// sayHowToType tells a player who has clicked how a program is used that is typed.
func sayHowToType(stdin, stdout *os.File) {
	fmt.Fprint(stdout, `Morvant is used by typing, in a window that works in the game's folder.

  1. Open the game's folder, click into the address bar above it, type cmd and press Enter.
  2. In the window that opens type: morvant help

docs\first-steps.md, beside this program, goes through the whole job.

Press Enter to close this window.`)
	_, _ = bufio.NewReader(stdin).ReadString('\n')
}

// understandsColours reports whether a console does, having asked it to: it takes colour
// sequences for text otherwise. What is no console is another program's business.
func understandsColours(f *os.File) bool {
	console := windows.Handle(f.Fd())
	var mode uint32
	if windows.GetConsoleMode(console, &mode) != nil || mode&windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING != 0 {
		return true
	}
	return windows.SetConsoleMode(console, mode|windows.ENABLE_PROCESSED_OUTPUT|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}

var singleQuoted = regexp.MustCompile(`^(--[a-z-]+=)?'`)

// checkQuotes refuses single quotes, which cmd hands on as they are: a pattern with them
// would match nothing.
func checkQuotes(args []string) error {
	for _, arg := range args {
		if singleQuoted.MatchString(arg) {
			return app.Usagef(`%s: single quotes mean nothing here; put double quotes around it: "%s"`, arg, strings.ReplaceAll(arg, "'", ""))
		}
	}
	return misquoted(args)
}
