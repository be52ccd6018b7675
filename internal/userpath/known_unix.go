//go:build !windows

package userpath

import (
	"path/filepath"

	"github.com/adrg/xdg"
)

// known returns folders of the user that may lie elsewhere than in the home folder.
func known(name, home string) string {
	switch name {
	case "DOCUMENTS":
		return xdg.UserDirs.Documents
	case "SAVED_GAMES":
		return filepath.Join(home, "Saved Games")
	case "APPDATA":
		return xdg.ConfigHome
	case "LOCALAPPDATA":
		return xdg.DataHome
	}
	return ""
}
