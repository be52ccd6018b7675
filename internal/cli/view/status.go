package view

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"morvant/internal/block"
	"morvant/internal/lane/status"
	"morvant/internal/plan"
	"morvant/internal/saves"
	"morvant/internal/scan"
	"morvant/internal/state"
)

// LeavesOut begins the line that says what a pin leaves out.
const LeavesOut = "leaves out"

// AdditionLines describes what a pin has beside its build.
func AdditionLines(p state.Pin) []string {
	var overlays, companions, edits []string
	var mods []string
	for _, o := range p.Overlays {
		if o.Mod {
			_, name, _ := strings.Cut(o.Name, "/")
			mods = append(mods, name)
			continue
		}
		overlays = append(overlays, o.Pattern+" of "+o.Name)
	}
	for _, k := range p.Companions {
		companions = append(companions, k.Path)
	}
	for _, e := range p.Edits {
		edits = append(edits, fmt.Sprintf("\"%s\" in %s", e.Set, e.File))
	}
	follows := ""
	if p.Follow {
		follows = "updates of the launcher; the rest is laid over each new build"
	}
	return []string{
		"follows", follows, "overlays", strings.Join(overlays, ", then "), "mods", strings.Join(mods, ", then "), "companions", strings.Join(companions, ", "),
		"sets", strings.Join(edits, ", "), "also keeps", strings.Join(p.Keep, "  "), LeavesOut, strings.Join(p.LeaveOut, "  "),
	}
}

// WithAdditions counts what a pin has beside its build, to follow the build's name; empty: nothing.
func WithAdditions(p state.Pin) string {
	mods := 0
	for _, o := range p.Overlays {
		if o.Mod {
			mods++
		}
	}
	var list []string
	for _, of := range []struct {
		n    int
		what string
	}{{len(p.Overlays) - mods, "overlay"}, {mods, "mod set"}, {len(p.Companions), "companion"}, {len(p.Edits), "edit"}, {len(p.LeaveOut), "pattern left out"}} {
		if of.n > 0 {
			list = append(list, Count(of.n, of.what))
		}
	}
	if len(list) == 0 {
		return ""
	}
	last := len(list) - 1
	if last == 0 {
		return " with " + list[0]
	}
	return " with " + strings.Join(list[:last], ", ") + " and " + list[last]
}

type fileJSON struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
}

func toFiles(list []plan.Entry) []fileJSON {
	out := []fileJSON{}
	for _, e := range list {
		out = append(out, fileJSON{e.Path, e.Size})
	}
	return out
}

// DriftJSON is what differs from what a lane is held to, in documents.
type DriftJSON struct {
	AsBuilt int        `json:"as_built"`
	Altered []fileJSON `json:"altered"`
	Missing []fileJSON `json:"missing"`
	Extra   []fileJSON `json:"extra"`
	Kept    int        `json:"kept"`
	Yielded int        `json:"left_to_rules"` // files of the build that rules cover: not checked
	Unread  []fileJSON `json:"unread"`
	LeftOut []string   `json:"left_out"`
	// Back are files that the pin leaves out, and that are there; Omitted counts all that it leaves out.
	Back         []fileJSON `json:"back"`
	Omitted      int        `json:"omitted"`
	OmittedBytes int64      `json:"omitted_bytes"`
	// Update is the known build that the drift leads to, if it looks like one.
	Update *updateJSON `json:"update,omitempty"`
	// OfMods counts the files that differ by the set of mods that they are of.
	OfMods map[string]int `json:"of_mods,omitempty"`
	// Lost are guarded files that are gone, Harmed those that are not as they were.
	Lost   []string `json:"guarded_lost,omitempty"`
	Harmed []string `json:"guarded_changed,omitempty"`
	// ModsChanged are files that are one with a file of a mod program, and were changed there; no drift.
	ModsChanged []string `json:"mods_changed,omitempty"`
	// Unrunnable are files that have lost the right to be run.
	Unrunnable []string `json:"not_runnable,omitempty"`
	// Retime are files whose time alone differs; they are no drift.
	Retime []string `json:"retime,omitempty"`
}

type updateJSON struct {
	Build   string `json:"build"`
	Channel string `json:"channel"`
	Done    int    `json:"done"` // files
	Of      int    `json:"of"`
}

// ToDrift makes the document of a drift; nil for none.
func ToDrift(d *status.Drift) *DriftJSON {
	if d == nil {
		return nil
	}
	j := &DriftJSON{
		AsBuilt: d.AsBuilt, Altered: toFiles(d.Altered), Missing: toFiles(d.Missing), Extra: toFiles(d.Extra), Kept: d.Kept, Yielded: d.Yielded, Unread: toFiles(d.Unread),
		LeftOut: OddPaths(d.Odd), Back: toFiles(d.Back), Omitted: d.LeftOut, OmittedBytes: d.LeftOutBytes, OfMods: d.OfMods,
	}
	for _, e := range d.Lost {
		j.Lost = append(j.Lost, e.Path)
	}
	for _, e := range d.Harmed {
		j.Harmed = append(j.Harmed, e.Path)
	}
	for _, e := range d.ModsChanged {
		j.ModsChanged = append(j.ModsChanged, e.Path)
	}
	for _, e := range d.Unrunnable {
		j.Unrunnable = append(j.Unrunnable, e.Path)
	}
	for _, e := range d.Retimed {
		j.Retime = append(j.Retime, e.Path)
	}
	if u := d.Update; u != nil {
		j.Update = &updateJSON{u.Build.Label, u.Build.Line(), u.Done, u.Of}
	}
	return j
}

// StatusJSON is the document of status.
type StatusJSON struct {
	Schema       string      `json:"schema"`
	Game         string      `json:"game"`
	Live         string      `json:"live"`
	Lane         string      `json:"lane"`
	Folder       string      `json:"folder"`
	Held         bool        `json:"held"`
	Build        *BuildJSON  `json:"build,omitempty"`
	Equals       string      `json:"equals,omitempty"`
	EqualsDigest string      `json:"equals_digest,omitempty"` // of that build
	Drifted      bool        `json:"drifted"`
	Drift        *DriftJSON  `json:"drift,omitempty"`
	Files        int         `json:"files"`
	Bytes        int64       `json:"bytes"`
	Running      bool        `json:"running"`
	Block        []BlockJSON `json:"block"`
	Looked       time.Time   `json:"looked"`
	// Gone are files of the player's that somebody else has taken away.
	Gone []GoneJSON `json:"gone,omitempty"`
	// HalfDone names what an earlier run has begun and the same command goes on with.
	HalfDone []string `json:"half_done,omitempty"`
	// SavesGone is the number of the newest backup of saves that are all gone.
	SavesGone int64 `json:"saves_gone,omitempty"`
	// Tied is the game that this one is tied to, AlsoTied are the others.
	Tied          *TiedJSON  `json:"tied,omitempty"`
	AlsoTied      []TiedJSON `json:"also_tied,omitempty"`
	EqualsContent string     `json:"equals_content,omitempty"` // digest of its manifest
	// Links lead out of the folder.
	Links []OutLinkJSON `json:"links,omitempty"`
	// HardLinks tells of files that have a second name outside of the folder.
	HardLinks *HardLinksJSON `json:"hard_links,omitempty"`
	// Doubles are names that differ by letter case only, and are one to the game.
	Doubles []DoubleJSON `json:"doubles,omitempty"`
	// Restless are large files that keep changing and are no distributor's.
	Restless []RestlessJSON `json:"restless,omitempty"`
	// LeftOver are extra files that are just as in other known builds.
	LeftOver []LeftOverJSON `json:"left_over,omitempty"`
	// Says is the version that the game itself gives, where its content does not tell.
	Waiting string `json:"waiting,omitempty"` // update that the launcher has
	Says    string `json:"says,omitempty"`
	SaysBy  string `json:"says_by,omitempty"`
	// What the pin has beside its build.
	Overlays   []state.Overlay   `json:"overlays,omitempty"`
	Companions []state.Companion `json:"companions,omitempty"`
	Edits      []state.Edit      `json:"edits,omitempty"`
	Keep       []string          `json:"keep,omitempty"`
	LeaveOut   []string          `json:"leave_out,omitempty"`
	Follow     bool              `json:"follow,omitempty"` // it goes on with updates
}

// ToStatusJSON makes the document of status.
func ToStatusJSON(s *status.Status) StatusJSON {
	j := StatusJSON{
		Schema: "morvant-status/1", Game: s.Game.Name, Live: s.Game.Live, Lane: s.Lane, Folder: s.Dir, Held: s.Build != nil,
		Drift: ToDrift(s.Drift), Drifted: s.Drift != nil && s.Drift.Any(),
		Files: s.Files, Bytes: s.Bytes, Running: s.Running, Block: ToBlockJSON(s.Block), Looked: s.Looked, Gone: ToGone(s.Gone), HalfDone: s.HalfDone,
		Waiting: s.Waiting, Says: s.Says, SaysBy: s.SaysBy.Source, Overlays: s.Pin.Overlays, Companions: s.Pin.Companions, Edits: s.Pin.Edits, Keep: s.Pin.Keep, LeaveOut: s.Pin.LeaveOut, Follow: s.Pin.Follow,
	}
	if s.NoSaves != nil {
		j.SavesGone = s.NoSaves.ID
	}
	if s.Build != nil {
		b := ToBuildJSON(s.Build, s.Pin)
		j.Build = &b
	}
	for i, t := range s.Tied {
		if one := (TiedJSON{t.Game, t.Build, t.Same}); i == 0 {
			j.Tied = &one
		} else {
			j.AlsoTied = append(j.AlsoTied, one)
		}
	}
	j.LeftOver = ToLeftOvers(s.LeftOvers)
	for _, p := range slices.Sorted(maps.Keys(s.Links)) {
		j.Links = append(j.Links, OutLinkJSON{p, s.Links[p]})
	}
	for _, r := range s.Restless {
		j.Restless = append(j.Restless, RestlessJSON{r.Path, r.Bytes, r.Rule})
	}
	for _, d := range s.Doubles {
		j.Doubles = append(j.Doubles, DoubleJSON(d))
	}
	if s.Hard > 0 {
		j.HardLinks = &HardLinksJSON{s.Hard, s.HardKnown, s.HardFrom}
	}
	if s.Equals != nil {
		j.Equals, j.EqualsDigest = s.Equals.Label, s.Equals.Digest().String()
		if !s.Equals.Manifest.IsZero() {
			j.EqualsContent = s.Equals.Manifest.String()
		}
	}
	return j
}

// OutLinkJSON is a link that leads out of the folder.
type OutLinkJSON struct {
	Path   string `json:"path"`
	Target string `json:"target"` // as the link has it
}

// RestlessJSON is a large file that keeps changing.
type RestlessJSON struct {
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Rule  string `json:"rule"` // the scratch rule that would be about it
}

// DoubleJSON is two names that differ by letter case only.
type DoubleJSON struct {
	Path  string `json:"path"`
	Other string `json:"other"`
}

// DoublesLine tells of such names; empty if there are none.
func DoublesLine(list []scan.Double, set bool) string {
	if len(list) == 0 {
		return ""
	}
	line := fmt.Sprintf("%s and %s are one to a game made for Windows, and two to this disk", list[0].Path, list[0].Other)
	if n := len(list) - 1; n > 0 {
		line += fmt.Sprintf("; so%s %s more", AreIs(n), Comma(n))
	}
	if !set {
		return line + ": morvant game set --ignore-case"
	}
	return line + ". The game may find either: remove the one that is not wanted"
}

// HardLinksJSON tells of files that have a second name outside of the folder.
type HardLinksJSON struct {
	Files int    `json:"files"`
	Known int    `json:"known"`          // those whose other name is in a folder that mods are linked from
	From  string `json:"from,omitempty"` // that folder, or the one with most of them
}

// HardLinksLine tells of such files; empty if there are none.
func HardLinksLine(s *status.Status) string {
	unknown := s.Hard - s.HardKnown
	switch {
	case s.Hard == 0:
		return ""
	case s.HardKnown == 0 && len(s.Game.ModsFrom) == 0:
		return fmt.Sprintf("%s; to have %s made again after a change, name the folder: morvant game set --mods-from FOLDER", Comma(s.Hard), Them(s.Hard))
	case s.HardKnown == 0:
		return fmt.Sprintf("%s, from none of the folders that mods are linked from", Comma(s.Hard))
	case unknown == 0:
		return fmt.Sprintf("%s into %s", Comma(s.Hard), s.HardFrom)
	}
	return fmt.Sprintf("%s, %s of them into %s", Comma(s.Hard), Comma(s.HardKnown), s.HardFrom)
}

// Takes is what a number of things does with space.
func Takes(n int) string {
	if n == 1 {
		return "it takes"
	}
	return "they take"
}

// BecomeCopies says that files that had a second name elsewhere come as files of their own.
func BecomeCopies(n int, named bool) string {
	text := "1 hard link becomes a copy"
	if n != 1 {
		text = Count(n, "hard link") + " become copies"
	}
	if !named {
		return text + "; morvant game set --mods-from FOLDER says where they are linked from"
	}
	return text + ": where mods are linked from, that content is not there any more"
}

// LinksLine tells of links that lead out of the folder; empty if there are none.
func LinksLine(links map[string]string) string {
	names := slices.Sorted(maps.Keys(links))
	switch n := len(names); {
	case n == 0:
		return ""
	case n > Few:
		return fmt.Sprintf("%s, such as %s to %s", Comma(n), names[0], links[names[0]])
	default:
		var list []string
		for _, p := range names {
			list = append(list, p+" to "+links[p])
		}
		return strings.Join(list, ", ")
	}
}

// TiedJSON is how a game stands that another is tied to.
type TiedJSON struct {
	Game  string `json:"game"`
	Build string `json:"build,omitempty"` // it is held at
	Same  bool   `json:"same"`            // both are held at builds of the same label
}

// TiedLine tells of the games that this one is tied to; empty: it is tied to none.
func TiedLine(s *status.Status) string {
	var list []string
	apart := false
	for _, t := range s.Tied {
		text := t.Game + " is held at " + t.Build
		switch {
		case t.Err != nil:
			text = t.Game + ": " + OneLine(t.Err)
		case t.Same:
			text += ", too"
		case t.Build == "" && s.Build == nil:
			text = t.Game + " is not held either"
		case t.Build == "":
			text = Paint(Bad, t.Game+" is not held: they may be apart")
		case s.Build == nil:
			text = Paint(Bad, text+": they may be apart")
		default:
			text, apart = Paint(Bad, text+": they are apart"), true
		}
		list = append(list, text)
	}
	if apart {
		list = append(list, "morvant pin BUILD --with-tied brings all to one")
	}
	return strings.Join(list, "; ")
}

// LeftOverJSON is what is left over of one build.
type LeftOverJSON struct {
	Build   string     `json:"build"`
	Channel string     `json:"channel"`
	Sure    bool       `json:"sure"` // a feed or a component has the files, not only snapshots
	Files   []fileJSON `json:"files"`
}

// ToLeftOvers makes their list.
func ToLeftOvers(list []*status.LeftOver) []LeftOverJSON {
	var out []LeftOverJSON
	for _, o := range list {
		out = append(out, LeftOverJSON{o.Build.Label, o.Build.Line(), o.Sure, toFiles(o.Files)})
	}
	return out
}

// NoSavesLine tells of saves that are all gone, and what brings them back; empty if they are not.
func NoSavesLine(b *saves.Backup) string {
	if b == nil {
		return ""
	}
	return fmt.Sprintf("The saves are gone: %s of them %s in backup %d of %s. Bring them back: morvant saves restore %d. If they are gone on purpose: morvant status --seen",
		Count(b.Files, "file"), strings.TrimSpace(AreIs(b.Files)), b.ID, Day(b.Made), b.ID)
}

// GoneJSON is such a file.
type GoneJSON struct {
	Path    string    `json:"path"`
	Bytes   int64     `json:"bytes"`
	Noticed time.Time `json:"noticed"`
}

// ToGone makes their list.
func ToGone(list []state.Gone) []GoneJSON {
	var out []GoneJSON
	for _, g := range list {
		out = append(out, GoneJSON{g.Path, g.Bytes, g.Noticed})
	}
	return out
}

// LaneLine names the lane, where a game has more than one.
func LaneLine(s *status.Status) string {
	switch {
	case s.Lanes < 2:
		return ""
	case s.Live:
		return fmt.Sprintf("%s, one of %d", s.Lane, s.Lanes)
	}
	return fmt.Sprintf("%s, parked, one of %d", s.Lane, s.Lanes)
}

// WaitingLine tells of an update that the launcher has waiting for a held lane.
func WaitingLine(s *status.Status) string {
	if s.Waiting == "" || !s.Live {
		return ""
	}
	line := fmt.Sprintf("the launcher has %s ready; morvant let-update installs it", s.Waiting)
	if s.Pin.Held() && s.Follower != "" {
		line += ", in lane " + s.Follower
	}
	return line
}

// FolderWord says what to call the lane's folder.
func FolderWord(s *status.Status) string {
	if s.Live {
		return "live folder"
	}
	return "folder"
}

// GoneLine tells of files of the player's that somebody else has taken away, and what brings them
// back; empty if there are none.
func GoneLine(s *status.Status) string {
	n := len(s.Gone)
	if n == 0 {
		return ""
	}
	since := s.Gone[0].Noticed
	var names []string
	for _, g := range s.Gone {
		names = append(names, g.Path)
		if g.Noticed.Before(since) {
			since = g.Noticed
		}
	}
	list := names[0]
	if n > 1 {
		list += fmt.Sprintf(" and %d more", n-1)
	}
	line := fmt.Sprintf("%s of yours%s gone (%s), noticed %s.", Count(n, "file"), AreIs(n), list, Day(since))
	if s.Back == nil {
		return line + " No record has " + Them(n) + "."
	}
	which, from := Them(n), "own"
	if s.Back.Files < n {
		which = Comma(s.Back.Files) + " of them"
	}
	if s.Back.Build != nil {
		from = Quoted(s.Back.Build.Name())
	}
	return line + fmt.Sprintf(" Bring %s back: morvant carry %s", which, from)
}

// Headline is the first sentence of status.
func Headline(s *status.Status) string {
	name := Strong(s.Game.Display())
	switch {
	case s.Build == nil && s.Equals != nil:
		return fmt.Sprintf("%s is not held at any build. It is the same as %s.", name, s.Equals.Label)
	case s.Build == nil && s.Builds == 0:
		return fmt.Sprintf("%s is not held at any build. Nothing is recorded yet: morvant snapshot LABEL", name)
	case s.Build == nil:
		return fmt.Sprintf("%s is not held at any build, and is like none that is known.", name)
	case s.Drift.Any() && s.Sure():
		return fmt.Sprintf("%s is held at %s. %s", name, Named(s.Build), Paint(Bad, Differs(s.Drift)))
	case s.Drift.Any():
		return fmt.Sprintf("%s is held at %s. %s %s", name, Named(s.Build), Paint(Bad, Differs(s.Drift)), Paint(Bad, Unread(s.Drift)))
	case !s.Sure():
		return fmt.Sprintf("%s is held at %s. %s", name, Named(s.Build), Paint(Bad, Unread(s.Drift)))
	}
	if len(s.LeftOvers) > 0 {
		return fmt.Sprintf("%s is held at %s. Its files are as they should be; besides, %s.", name, Named(s.Build), LeftOvers(s.LeftOvers))
	}
	if n := s.Drift.Yielded; n > 0 {
		return fmt.Sprintf("%s is held at %s. Every checked file is as it should be; %s left to rules.", name, Named(s.Build), isAre(n))
	}
	return fmt.Sprintf("%s is held at %s. %s", name, Named(s.Build), Paint(Good, "Every file is as it should be."))
}

// LeftOvers counts what is left over from other builds.
func LeftOvers(of []*status.LeftOver) string {
	var list []string
	for _, o := range of {
		list = append(list, fmt.Sprintf("%s left over from %s (%s)", CountAre(len(o.Files), "file"), o.Build.Label, Size(o.Bytes())))
	}
	return strings.Join(list, ", ")
}

// driftCount is how many files differ.
func driftCount(d *status.Drift) int {
	n := len(d.Altered) + len(d.Missing) + len(d.Unrunnable) + len(d.Back) + len(d.Lost) + len(d.Harmed)
	if d.ExtraCounts {
		n += len(d.Extra)
	}
	return n
}

// Incomplete says how an update is not quite the build that it leads to; empty if it is.
func Incomplete(u *status.Update) string {
	switch {
	case u.Done == u.Of && u.Beside > 0:
		return fmt.Sprintf("all of it, and %s besides", Differ(u.Beside))
	case u.Done == u.Of:
		return ""
	case u.HalfDone():
		return fmt.Sprintf("half done (%s of %s)", Comma(u.Done), Count(u.Of, "file"))
	}
	return fmt.Sprintf("but for %s of %s: an update to a build that is not known, or the last of that one", Comma(u.Unlike()), Count(u.Of, "file"))
}

// Differs says how many files differ.
func Differs(d *status.Drift) string {
	text := Differ(driftCount(d)) + "."
	if n := len(d.Lost) + len(d.Harmed); n > 0 {
		first := slices.Concat(d.Lost, d.Harmed)[0]
		how := "is gone"
		if len(d.Lost) == 0 {
			how = "is not as it was"
		}
		text = fmt.Sprintf("%s, which you guard, %s. ", first.Path, how) + text
	}
	return text
}

// Differ says that so many files do.
func Differ(n int) string {
	if n == 1 {
		return "1 file differs"
	}
	return Count(n, "file") + " differ"
}

// Unread says how much nobody has read since it was touched.
func Unread(d *status.Drift) string {
	n := len(d.Unread)
	if n == 1 {
		return fmt.Sprintf("1 file (%s) was touched and not read since; it may differ.", Size(d.UnreadBytes()))
	}
	return fmt.Sprintf("%s files (%s) were touched and not read since; they may differ.", Comma(n), Size(d.UnreadBytes()))
}

// DescribeEvent says in one line how a lane stands.
func DescribeEvent(s *status.Status) (message string) {
	name := s.Game.Display()
	if gone := GoneLine(s); gone != "" {
		defer func() { message = gone + " — " + message }()
	}
	switch {
	case s.Build == nil:
		message = name + " is not held at any build"
	case s.Drift.Any():
		message = fmt.Sprintf("%s of %s changed", Count(len(s.Drift.Altered)+len(s.Drift.Missing)+len(s.Drift.Back)+len(s.Drift.Lost)+len(s.Drift.Harmed), "file"), name)
		if n := len(s.Drift.Lost) + len(s.Drift.Harmed); n > 0 {
			message += fmt.Sprintf(", of which you guard %s", Comma(n))
		}
		if u := s.Drift.Update; u != nil {
			message += fmt.Sprintf(", %s → %s", s.Build.Label, u.Build.Label)
			if text := Incomplete(u); text != "" {
				message += ", " + text
			}
		}
	case !s.Sure():
		n := len(s.Drift.Unread)
		message = fmt.Sprintf("%s of %s touched (%s); reading %s", Count(n, "file"), name, Size(s.Drift.UnreadBytes()), Them(n))
	default:
		message = fmt.Sprintf("%s is %s, as it should be", name, Named(s.Build))
	}
	if len(s.Block) == 0 && s.Pin.Open && len(s.Game.Block) > 0 {
		return message + "; updates are let in"
	}
	if len(s.Block) > 0 && !slices.ContainsFunc(s.Block, func(b block.State) bool { return b.Broke != block.NotSet }) {
		return message + "; updates are not blocked"
	}
	for _, b := range s.Block {
		if !b.Holds {
			message += "; the block is broken: " + Broke(b)
		}
	}
	return message
}
