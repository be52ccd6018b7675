package view

// FetchJSON is the document of fetch.
type FetchJSON struct {
	Schema     string   `json:"schema"`
	Game       string   `json:"game"`
	Build      string   `json:"build"`
	Components []string `json:"components"`
	Feed       string   `json:"feed,omitempty"`
	Files      int      `json:"files"`
	Bytes      int64    `json:"bytes"`
	Fetch      int64    `json:"fetch_bytes"`
	Found      int64    `json:"found_bytes"`
	Grow       int64    `json:"store_growth_bytes"`
	Received   int64    `json:"received_bytes"`
	Done       bool     `json:"done"`
}
