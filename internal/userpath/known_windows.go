package userpath

import "golang.org/x/sys/windows"

// known returns folders of the user that may lie elsewhere than in the home folder.
func known(name, _ string) string {
	id, ok := map[string]*windows.KNOWNFOLDERID{
		"DOCUMENTS": windows.FOLDERID_Documents, "SAVED_GAMES": windows.FOLDERID_SavedGames,
		"APPDATA": windows.FOLDERID_RoamingAppData, "LOCALAPPDATA": windows.FOLDERID_LocalAppData,
	}[name]
	if !ok {
		return ""
	}
	dir, err := windows.KnownFolderPath(id, windows.KF_FLAG_DEFAULT)
	if err != nil {
		return ""
	}
	return dir
}
