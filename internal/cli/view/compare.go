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
}
