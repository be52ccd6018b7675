package share

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/view"
	"morvant/internal/digest"
	"morvant/internal/exchange"
	"morvant/internal/game"
	"morvant/internal/lane"
	"morvant/internal/lane/compose"
	"morvant/internal/lane/status"
	"morvant/internal/manifest"
	"morvant/internal/names"
	"morvant/internal/pinfile"
	"morvant/internal/problem"
	"morvant/internal/state"
	"morvant/internal/transfer"
)

func (a commands) compareWithCommand() *cli.Command {
	return &cli.Command{
		Name: "compare-with", Usage: "is it the same as a friend's? which files differ", ArgsUsage: "FILE|FOLDER|lane/NAME|mods/NAME", Category: app.GroupShare,
		Description: "Example: morvant compare-with race-night.pin.toml\n         morvant compare-with friend.json\n         morvant compare-with sums.txt\n\n" +
			"FILE is a pin file, what morvant --json status has written on the other computer, a list of checksums (b3sum,\n" +
			"sha256sum), or a list of names, of which it says what this build is called there; - reads it from stdin. Exit code 3 says that something differs.\n" +
			"A folder, another lane, a set of mods or a list of mods is compared with the folder as it is now, mods by mod folder.",
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			args, err := app.Arguments(c, 1, 1)
			if err != nil {
				return err
			}
			theirs, err := a.readTheirs(args[0])
			if err != nil {
				return err
			}
			return a.WithLane(ctx, c, app.Looking, func(l *lane.Lane) error {
				return a.compareWith(ctx, c, l, l.Home, theirs)
			})
		},
	}
}

// theirs is what is known of the other computer's game.
type theirs struct {
	label  string
	digest string // of the build; empty: not known
	// content is the digest of the manifest of all files of the build; empty: not known.
	content string
	games   digest.Digest // likewise, without the files that keep names; zero: not known
	keep    []string
	game    string      // what their game is called there; empty: not known
	list    *names.List // a list of names instead
	// side names what is compared file by file instead: a folder, another lane, a set of mods; or it is mods.
	side string
	mods *status.Side
	// differs lists what has drifted there.
	differs    []string
	sums       []exchange.Sum // a list of checksums instead
	components []string       // that their build is taken with
	add        state.Pin      // what their pin has beside the build
}

// maxTheirs bounds the file, in bytes.
const maxTheirs = 256 << 20

func (a commands) readTheirs(name string) (*theirs, error) {
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		if !find.Elsewhere(name) {
			name = "./" + filepath.ToSlash(name)
		}
		return &theirs{side: name}, nil
	}
	if strings.HasPrefix(name, catalogue.LaneLine+"/") || strings.HasPrefix(name, find.ModsLine) {
		return &theirs{side: name}, nil
	}
	b, err := a.ReadNamed(name, maxTheirs)
	if err != nil {
		return nil, err
	}
	mods, modsErr := find.ModList(name, b)
	switch {
	case modsErr == nil:
		return &theirs{mods: mods}, nil
	case errors.Is(modsErr, problem.ErrNewer):
		return nil, fmt.Errorf("%s: %w", name, modsErr)
	}
	var status struct {
		Schema  string          `json:"schema"`
		Game    string          `json:"game"`
		Build   *view.BuildJSON `json:"build"`
		Drift   *view.DriftJSON `json:"drift"`
		Equals  string          `json:"equals"`
		Digest  string          `json:"equals_digest"`
		Content string          `json:"equals_content"`
		state.Pin
	}
	if json.Unmarshal(b, &status) == nil && strings.HasPrefix(status.Schema, "morvant-status/") {
		if status.Build == nil && status.Digest != "" {
			return &theirs{game: status.Game, label: status.Equals, digest: status.Digest, content: status.Content}, nil
		}
		t, err := fromStatus(status.Build, status.Drift, status.Pin)
		if err == nil {
			t.game = status.Game
		}
		return t, err
	}
	pin, pinErr := pinfile.Decode(b)
	if pinErr == nil {
		t := &theirs{label: pin.Build, digest: pin.Digest.String(), components: pin.Components, add: state.Pin{Companions: pin.Companions, Edits: pin.Edits, LeaveOut: pin.LeaveOut}}
		if pin.Content != nil {
			t.content = pin.Content.String()
		}
		if t.keep = pin.Keep; pin.Games != nil {
			t.games = *pin.Games
		}
		for _, o := range pin.Overlays {
			t.add.Overlays = append(t.add.Overlays, state.Overlay{Name: o.Build, Digest: o.Digest, Pattern: o.Files})
		}
		return t, nil
	}
	if errors.Is(pinErr, problem.ErrNewer) {
		return nil, fmt.Errorf("%s: %w", name, pinErr)
	}
	list, listErr := names.Decode(name, b)
	switch {
	case listErr == nil:
		return &theirs{list: list}, nil
	case errors.Is(listErr, problem.ErrNewer):
		return nil, fmt.Errorf("%s: %w", name, listErr)
	}
	sums, err := exchange.ParseSums(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: no pin file (%v), no status, no list of names, and no list of checksums", name, exchange.ErrFormat, pinErr)
	}
	return &theirs{sums: sums}, nil
}

func fromStatus(b *view.BuildJSON, d *view.DriftJSON, add state.Pin) (*theirs, error) {
	if b == nil {
		return nil, errors.New("their game is not held at any build, and is like none that is known there: ask for morvant pinfile write, or for a list of checksums (morvant export here)")
	}
	t := &theirs{label: b.Label, digest: b.Digest, content: b.Content, add: add}
	if d != nil {
		for _, f := range slices.Concat(d.Altered, d.Missing) {
			t.differs = append(t.differs, f.Path)
		}
	}
	return t, nil
}

func (a commands) compareWith(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, t *theirs) error {
	j := view.ComparisonJSON{Schema: "morvant-comparison/1", Game: l.Game.Name, Theirs: t.label, Differs: []string{}, Here: []string{}, There: append([]string{}, t.differs...)}
	if t.sums != nil {
		var err error
		if j.Differs, err = transfer.CheckSums(ctx, l, t.sums, sums); err != nil {
			return err
		}
		j.Same = len(j.Differs) == 0
		return a.showComparison(c, j, true)
	}
	if t.side != "" || t.mods != nil {
		return a.compareSides(ctx, c, l, home, t, j)
	}
	j.ModsSkipped = len(l.Game.Keep) > 0
	s, err := status.Of(ctx, l, status.Whole)
	if err != nil {
		return err
	}
	if t.list != nil {
		return a.compareNames(c, s, t.list, j)
	}
	if t.game != "" && t.game != l.Game.Name {
		if b, _, err := theirBuild(ctx, l, home, t); err != nil {
			return err
		} else if b == nil {
			return app.Refusef("that is the status of %s, not of %s, and its build is none that is known here; choose the game with -g", t.game, l.Game.Name)
		}
	}
	if s.Build == nil {
		return a.compareFolder(ctx, c, l, home, s, t, j)
	}
	for _, e := range slices.Concat(s.Drift.Altered, s.Drift.Missing) {
		j.Here = append(j.Here, e.Path)
	}
	j.Mine = s.Build.Label
	if s.Build.Manifest.String() == t.content {
		t.digest = s.Build.Digest().String() // by whatever components they come to it
	}
	if same, err := a.sameContent(ctx, l, home, s, t); err != nil {
		return err
	} else if same {
		j.Same = len(j.Here)+len(j.There) == 0
		return a.showComparison(c, j, true)
	}
	known := true
	if s.Build.Digest().String() != t.digest {
		if j.Differs, known, err = a.buildDifference(ctx, l, home, s, t); err != nil {
			return err
		}
	}
	j.Differs = append(j.Differs, addedOtherwise(s.Pin, t.add)...)
	j.Same = s.Build.Digest().String() == t.digest && len(j.Differs)+len(j.Here)+len(j.There) == 0
	return a.showComparison(c, j, known)
}

// compareSides compares the folder as it is now with another one, or with mods, file by file.
func (a commands) compareSides(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, t *theirs, j view.ComparisonJSON) error {
	other := t.mods
	var err error
	if other == nil {
		if other, err = find.Side(ctx, a.App, c, l, home, t.side); err != nil {
			return err
		}
	}
	here, err := status.HereSide(ctx, l)
	if err != nil {
		return err
	}
	d := status.Compare(l, here, other)
	j.Mine, j.Theirs = "this folder", other.Label
	j.Differs, j.Mods, j.OnlyMods = changedPaths(d.Build), view.ToModFolders(d.Mods), d.OnlyMods
	j.Same = d.Build.Empty() && d.Kept.Empty()
	if c.Bool("json") {
		return a.showComparison(c, j, true)
	}
	what := "Mods were looked at: " + view.Count(view.ModsAlike(d.Mods), "mod folder") + " the same."
	switch {
	case j.Same:
		a.Say("%s This folder and %s. %s", view.Paint(view.Good, "The same."), other.Label, what)
		return nil
	case d.OnlyMods || d.Build.Empty():
		a.Say("%s This folder and %s have other mods.", view.Paint(view.Bad, "Not the same."), other.Label)
	default:
		a.Say("%s %s between this folder and %s.", view.Paint(view.Bad, "Not the same."), view.Differ(len(j.Differs)), other.Label)
		a.Say("")
		a.Table(view.FileColumns("There"), view.DiffRows(d.Build, c.Bool("verbose")))
	}
	if rows := view.ModFolderRows(d.Mods, "this folder", "theirs", c.Bool("verbose")); len(rows) > 0 {
		a.Say("")
		a.Table(view.ModFolderColumns(), rows)
	}
	a.Say("  %s", what)
	return app.ErrDifferent
}

// compareNames says which of the builds of a list the game is.
func (a commands) compareNames(c *cli.Command, s *status.Status, list *names.List, j view.ComparisonJSON) error {
	b := s.Build
	if b == nil {
		b = s.Equals
	}
	var labels []string
	if b != nil {
		for _, m := range names.Match([]*names.List{list}, []*state.Build{b}) {
			if len(m.Builds) > 0 {
				labels = append(labels, m.Entry.Label)
			}
		}
	}
	if s.Drift != nil {
		for _, e := range slices.Concat(s.Drift.Altered, s.Drift.Missing) {
			j.Here = append(j.Here, e.Path)
		}
	}
	j.Mine, j.Theirs = "a folder that is like no known build", "a list of "+view.Count(len(list.Builds), "build")+", none of which is this one"
	if b != nil {
		j.Mine = b.Label
	}
	if len(labels) > 0 {
		j.Theirs = strings.Join(labels, " or ")
	}
	if j.Same = len(labels) == 1 && len(j.Here) == 0; j.Same {
		j.Mine = labels[0]
	}
	return a.showComparison(c, j, true)
}

// theirBuild finds their build among those that are known here; nil if it is none of them.
func theirBuild(ctx context.Context, l *lane.Lane, home *game.Home, t *theirs) (*state.Build, []string, error) {
	builds, err := home.Builds(ctx, l.Game.Name)
	if err != nil {
		return nil, nil, err
	}
	is, err := digest.Parse(t.digest)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: the digest of their build: %v", exchange.ErrFormat, err)
	}
	var content digest.Digest
	if t.content != "" {
		if content, err = digest.Parse(t.content); err != nil {
			return nil, nil, fmt.Errorf("%w: the digest of their files: %v", exchange.ErrFormat, err)
		}
	}
	b, components, err := compose.Same(ctx, l, builds, compose.Sought{Is: is, Content: content, Games: t.games, Keep: t.keep, Label: t.label})
	switch {
	case b != nil && b.Components == nil:
		components = nil
	case components == nil:
		components = t.components
	}
	return b, components, err
}

// compareFolder compares a folder that is not held with their build, file by file.
func (a commands) compareFolder(ctx context.Context, c *cli.Command, l *lane.Lane, home *game.Home, s *status.Status, t *theirs, j view.ComparisonJSON) error {
	j.Mine = "a folder that is not held"
	if s.Equals != nil {
		j.Mine = s.Equals.Label
	}
	b, components, err := theirBuild(ctx, l, home, t)
	if err != nil {
		return err
	}
	if b == nil {
		// Nobody here knows the build; the folder may be it all the same.
		m := s.Tree.Manifest()
		own := l.Game.Rules().Set(t.keep)
		j.Same = t.content != "" && m.Digest().String() == t.content || !t.games.IsZero() && m.Without(own.Match).Digest() == t.games
		if j.Same {
			j.Mine = t.label
		}
		return a.showComparison(c, j, j.Same)
	}
	choice, err := compose.Choose(ctx, l, b, components)
	if err != nil {
		return err
	}
	pin := state.Pin{Components: choice.Names, Companions: t.add.Companions, Edits: t.add.Edits, LeaveOut: t.add.LeaveOut}
	if b.Components != nil {
		b = b.With(choice.Names)
	}
	d, err := status.DriftOf(ctx, l, s.Tree, b, pin)
	if err != nil {
		return err
	}
	for _, e := range slices.Concat(d.Altered, d.Missing, d.Back) {
		j.Differs = append(j.Differs, e.Path)
	}
	for _, o := range t.add.Overlays {
		j.Differs = append(j.Differs, fmt.Sprintf("%s (overlay of %s)", o.Pattern, o.Name))
	}
	slices.Sort(j.Differs)
	if j.Same = len(j.Differs)+len(j.There) == 0; j.Same {
		j.Mine = t.label
	}
	return a.showComparison(c, j, true)
}

// addedOtherwise lists what two pins do not both have beside their builds.
func addedOtherwise(mine, other state.Pin) []string {
	of := func(p state.Pin) map[string]string {
		all := make(map[string]string)
		for i, o := range p.Overlays {
			all[fmt.Sprintf("%s (overlay of %s)", o.Pattern, o.Name)] = fmt.Sprint(i, o.Digest)
		}
		for _, k := range p.Companions {
			all[k.Path+" (companion)"] = k.Text
		}
		for _, k := range p.LeaveOut {
			all[k+" (left out)"] = k
		}
		for _, e := range p.Edits {
			all[e.File+" (a value set in it)"] = e.Find + "=" + e.Set
		}
		return all
	}
	a, b := of(mine), of(other)
	var list []string
	for what, is := range a {
		if b[what] != is {
			list = append(list, what)
		}
	}
	for what := range b {
		if _, both := a[what]; !both {
			list = append(list, what)
		}
	}
	slices.Sort(list)
	return list
}

// sameContent reports whether what both sides are held to is the same, file by file, by whatever
// builds and additions they come to it. It is false if theirs is not known here, or has overlays:
// these are compared by name.
func (a commands) sameContent(ctx context.Context, l *lane.Lane, home *game.Home, s *status.Status, t *theirs) (bool, error) {
	if len(t.add.Overlays) > 0 {
		return false, nil
	}
	b, components, err := theirBuild(ctx, l, home, t)
	if err != nil || b == nil {
		return false, err
	}
	mine, err := compose.OfPin(ctx, l, s.Build, s.Pin)
	if err != nil {
		return false, err
	}
	choice, err := compose.Choose(ctx, l, b, components)
	if err != nil {
		return false, err
	}
	other, err := compose.OfPin(ctx, l, b, state.Pin{Components: choice.Names, Companions: t.add.Companions, Edits: t.add.Edits, LeaveOut: t.add.LeaveOut})
	if err != nil {
		return false, nil // an edit of theirs may not fit here, which the names tell
	}
	return mine.Manifest.Digest() == other.Manifest.Digest(), nil
}

// buildDifference lists what differs between this build and theirs, if theirs is known.
func (a commands) buildDifference(ctx context.Context, l *lane.Lane, home *game.Home, s *status.Status, t *theirs) (list []string, known bool, err error) {
	b, components, err := theirBuild(ctx, l, home, t)
	if err != nil {
		return nil, false, err
	}
	if b == nil {
		return []string{}, false, nil
	}
	mine, err := status.BuildSide(ctx, l, s.Build, s.Pin.Components)
	if err != nil {
		return nil, false, err
	}
	other, err := status.BuildSide(ctx, l, b, components)
	if err != nil {
		return nil, false, err
	}
	return changedPaths(status.Compare(l, mine, other).Build), true, nil
}

func changedPaths(c *manifest.Changes) []string {
	list := []string{}
	for _, f := range c.Changed {
		list = append(list, f.Path)
	}
	for _, f := range c.Added {
		list = append(list, f.Path)
	}
	for _, f := range c.Removed {
		list = append(list, f.Path)
	}
	for _, f := range c.Moved {
		list = append(list, f.To.Path)
	}
	slices.Sort(list)
	return list
}

// sums computes what a list may say of content: BLAKE3 and SHA-256, which
// cannot be told apart by their length.
func sums(r io.Reader) ([][]byte, error) {
	b3, sha := digest.NewHasher(), sha256.New()
	if _, err := io.Copy(io.MultiWriter(b3, sha), r); err != nil {
		return nil, err
	}
	d := b3.Digest()
	return [][]byte{d[:], sha.Sum(nil)}, nil
}

func (a commands) showComparison(c *cli.Command, j view.ComparisonJSON, known bool) error {
	result := app.ErrDifferent
	if j.Same {
		result = nil
	}
	if c.Bool("json") {
		return errors.Join(a.Emit(j), result)
	}
	switch {
	case j.Same && j.Mine == "":
		a.Say("%s", view.Paint(view.Good, "Every file of the list is here and the same."))
	case j.Same:
		a.Say("%s Both are %s.", view.Paint(view.Good, "The same."), j.Mine)
		if j.ModsSkipped {
			a.Say("Mods (files under keep rules) were not looked at; a folder, lane/NAME or a list of mods compares them, too.")
		}
	case j.Mine == "":
		a.Say("%s of the list %s here.", view.Paint(view.Bad, view.Count(len(j.Differs), "file")), view.DifferOrMissing(len(j.Differs)))
	case j.Mine != j.Theirs || len(j.Differs) > 0 || !known:
		a.Say("%s You have %s, they have %s.", view.Paint(view.Bad, "Not the same."), j.Mine, j.Theirs)
		if !known {
			a.Say("Their build is not known here, so that its files cannot be compared. A feed that has it would tell.")
		}
	default:
		a.Say("Both are %s, but %s", j.Mine, view.Paint(view.Bad, "not every file is as built."))
	}
	for _, group := range []struct {
		word string
		list []string
	}{{"differs", j.Differs}, {"changed here", j.Here}, {"changed there", j.There}} {
		for i, p := range group.list {
			if i == view.Few && !c.Bool("verbose") {
				a.Say("  %-13s  %s", group.word, view.Faint(fmt.Sprintf("and %s more; --verbose lists all", view.Comma(len(group.list)-view.Few))))
				break
			}
			a.Say("  %-13s  %s", group.word, p)
		}
	}
	return result
}
