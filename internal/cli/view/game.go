package view

// GameJSON is a game in documents.
type GameJSON struct {
	Game     string   `json:"game"`
	Title    string   `json:"title,omitempty"`
	Live     string   `json:"live"`
	Program  string   `json:"program,omitempty"`
	Keep     []string `json:"keep"`
	Scratch  []string `json:"scratch"`
	Settings string   `json:"settings"`
	Pinned   string   `json:"pinned,omitempty"`
	Builds   int      `json:"builds"`
	// Absent says that the live folder is not there, or its disk.
	Absent bool `json:"absent,omitempty"`
	// Broken says why the game cannot be worked with.
	Broken string `json:"broken,omitempty"`
}

// Held says what the game is held to, for a table.
func (j GameJSON) Held() string {
	if j.Absent {
		return "absent"
	}
	if j.Pinned == "" {
		return "not held"
	}
	return "held at " + j.Pinned
}
