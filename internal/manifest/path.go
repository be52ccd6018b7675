package manifest

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// PrivateDir is the folder inside a lane that belongs to Morvant. It is never
// part of a manifest.
const PrivateDir = ".morvant"

// ProbePrefix begins the names of what Morvant makes at the top of a lane for a moment,
// to try what the disk can do.
const ProbePrefix = ".morvant-probe-"

const (
	maxPath    = 4096 // bytes in a path
	maxElement = 255  // bytes in one name
)

// CheckPath returns an error wrapping ErrPath unless p is a path that every
// supported system can hold and that stays inside the folder it is relative to.
func CheckPath(p string) error {
	if reason := badPath(p); reason != "" {
		return fmt.Errorf("%w: \"%s\" %s", ErrPath, clipPath(p), reason)
	}
	return nil
}

func badPath(p string) string {
	switch {
	case p == "":
		return "is empty"
	case len(p) > maxPath:
		return fmt.Sprintf("is longer than %d bytes", maxPath)
	case !utf8.ValidString(p):
		return "is not valid UTF-8"
	case p[0] == '/':
		return "is absolute"
	}
	for name := range strings.SplitSeq(p, "/") {
		if reason := badName(name); reason != "" {
			return reason
		}
	}
	if IsPrivate(p) {
		return "is in a folder that is Morvant's own"
	}
	return ""
}

// IsPrivate reports whether a part of a path is the name of Morvant's own folder, at any
// depth (a folder of saves has one too) and in any spelling that some system takes for it:
// in other letter case, with characters that are not shown, as a short name.
func IsPrivate(p string) bool {
	for name := range strings.SplitSeq(p, "/") {
		if private(name) {
			return true
		}
	}
	return false
}

func private(name string) bool {
	// Nearly every name is told by its first letter.
	if name == "" || name[0] < utf8.RuneSelf && !strings.ContainsRune(".mM", rune(name[0])) {
		return false
	}
	name = strings.Map(func(r rune) rune {
		if unicode.In(r, unicode.Cf, unicode.Mn) {
			return -1
		}
		return r
	}, name)
	return strings.EqualFold(name, PrivateDir) || shortName.MatchString(name)
}

// shortName is what Windows may call a folder .morvant beside its name: the letters and a
// number, or, where many names are alike, two letters, four digits of a hash and a number
// ([MS-FSCC], names of the form 8.3).
var shortName = regexp.MustCompile(`(?i)^(MORVAN|MO[0-9A-F]{4})~[0-9]{1,2}$`)

func badName(name string) string {
	switch {
	case name == "":
		return "has an empty part"
	case name == "." || name == "..":
		return "has a part " + name
	case len(name) > maxElement:
		return fmt.Sprintf("has a name longer than %d bytes", maxElement)
	case name[len(name)-1] == '.' || name[len(name)-1] == ' ':
		return "has a name that ends in a dot or a space"
	}
	for _, r := range name {
		switch {
		case r == '\\':
			return "has a backslash"
		case r == ':':
			return "has a colon"
		case unicode.IsControl(r):
			return "has a control character"
		}
	}
	if isDevice(name) {
		return "has the name of a Windows device"
	}
	return ""
}

// isDevice reports names that Windows reserves, with or without an extension
// (https://learn.microsoft.com/windows/win32/fileio/naming-a-file).
func isDevice(name string) bool {
	base, _, _ := strings.Cut(name, ".")
	base = strings.TrimRight(base, " ")
	if len(base) < 3 || len(base) > 7 {
		return false
	}
	for _, device := range []string{"CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$"} {
		if strings.EqualFold(base, device) {
			return true
		}
	}
	if port := base[:3]; strings.EqualFold(port, "COM") || strings.EqualFold(port, "LPT") {
		switch base[3:] {
		case "0", "1", "2", "3", "4", "5", "6", "7", "8", "9", "¹", "²", "³":
			return true
		}
	}
	return false
}

// CheckTarget returns an error wrapping ErrPath unless a link at p with this
// target stays inside the folder. Steps up are allowed only at the start of the
// target, where they pass real folders: behind a name that is itself a link
// they could lead anywhere.
func CheckTarget(p, target string) error {
	bad := func(reason string) error {
		return fmt.Errorf("%w: the link \"%s\" to \"%s\" %s", ErrPath, clipPath(p), clipPath(target), reason)
	}
	if target == "" || len(target) > maxPath || !utf8.ValidString(target) {
		return bad("has a target that cannot be written down")
	}
	if target[0] == '/' {
		return bad("points outside")
	}
	depth := strings.Count(p, "/")
	down := false
	for name := range strings.SplitSeq(target, "/") {
		switch name {
		case "..":
			if depth--; depth < 0 {
				return bad("points outside")
			}
			if down {
				return bad("goes down and up again")
			}
		case ".":
		default:
			down = true
			if reason := badName(name); reason != "" {
				return bad(reason)
			}
		}
	}
	if IsPrivate(target) {
		return bad("points into a folder that is Morvant's own")
	}
	return nil
}

func clipPath(p string) string {
	if len(p) > 200 {
		return p[:197] + "..."
	}
	return p
}
