package view

// ComparisonJSON is the document of compare-with.
type ComparisonJSON struct {
	Schema  string   `json:"schema"`
	Game    string   `json:"game"`
	Mine    string   `json:"mine,omitempty"` // builds
	Theirs  string   `json:"theirs,omitempty"`
	Same    bool     `json:"same"`
	Differs []string `json:"differs"` // between the builds, or from the list
	Here    []string `json:"drifted_here"`
	There   []string `json:"drifted_there"`
	// Mods are the player's own files by folder, where both sides are folders or sets of mods; OnlyMods says
	// that nothing else was compared, ModsSkipped that there may be mods which nobody looked at.
	Mods        []ModFolderJSON `json:"mods,omitempty"`
	OnlyMods    bool            `json:"only_mods,omitempty"`
	ModsSkipped bool            `json:"mods_skipped,omitempty"`
}
