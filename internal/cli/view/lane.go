package view

import (
	"strings"
	"time"

	"morvant/internal/lanes"
)

// LaneJSON is a lane in the document of lane list.
type LaneJSON struct {
	Lane    string     `json:"lane"`
	Live    bool       `json:"live"`
	Folder  string     `json:"folder"`
	Linked  bool       `json:"linked"`
	Held    bool       `json:"held"`
	Follows bool       `json:"follows"`
	Build   *BuildJSON `json:"build,omitempty"`
	Drifted bool       `json:"drifted"`
	Differs int        `json:"differs"` // files
	Unread  int        `json:"unread"`  // files that may differ: touched and not read since
	Files   int        `json:"files"`
	Bytes   int64      `json:"bytes"`
	Shared  *int64     `json:"shared_bytes,omitempty"` // where the file system says
	Used    time.Time  `json:"used,omitzero"`
	Error   string     `json:"error,omitempty"`
}

// ToLaneJSON makes it.
func ToLaneJSON(g *lanes.Glimpse) LaneJSON {
	j := LaneJSON{Lane: g.Name, Live: g.Live, Folder: g.Dir, Linked: g.Linked, Held: g.Pin.Held(), Follows: g.Follows, Used: g.Used}
	if g.Err != nil {
		j.Error = OneLine(g.Err)
	}
	if s := g.Status; s != nil {
		j.Files, j.Bytes = s.Files, s.Bytes
		if s.Build != nil {
			b := ToBuildJSON(s.Build, s.Pin)
			j.Build, j.Drifted, j.Differs, j.Unread = &b, s.Drift.Any(), driftCount(s.Drift), len(s.Drift.Unread)
		}
	}
	if g.Shared >= 0 {
		j.Shared = &g.Shared
	}
	return j
}

// LaneRow is a lane as a row of the table.
func LaneRow(g *lanes.Glimpse) []string {
	where, used := "parked", ""
	if !g.Used.IsZero() {
		used = Day(g.Used)
	}
	if g.Live {
		where, used = Paint(Good, "live"), "now"
	}
	if g.Linked {
		where += ", linked"
	}
	build, state, bytes, shared := "", "not held", "", ""
	if g.Follows {
		state = "follows updates"
	}
	if s := g.Status; s != nil {
		bytes = Size(s.Bytes)
		switch {
		case s.Build != nil && s.Drift.Any():
			build, state = Named(s.Build), "held, "+Paint(Bad, strings.TrimSuffix(Differs(s.Drift), "."))
		case s.Build != nil && !s.Sure():
			build, state = Named(s.Build), "held, "+Paint(Bad, Count(len(s.Drift.Unread), "file")+" unread")
		case s.Build != nil:
			build, state = Named(s.Build), Paint(Good, "held")
		case s.Equals != nil:
			build = s.Equals.Label
		case s.Says != "":
			build = "says " + s.Says
		}
	} else {
		state = Paint(Bad, "cannot be looked at")
	}
	if g.Shared >= 0 {
		shared = Size(g.Shared)
	}
	return []string{g.Name, where, build, state, bytes, shared, used, g.Dir}
}
