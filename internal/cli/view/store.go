package view

// ShareJSON is what a build takes in the store, in documents.
type ShareJSON struct {
	Game            string `json:"game"`
	Build           string `json:"build"`
	Bytes           int64  `json:"bytes"`
	OnlyBytes       int64  `json:"only_bytes"`
	OnlyStoredBytes int64  `json:"only_stored_bytes"`
}
