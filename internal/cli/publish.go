package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"morvant/internal/lane/backup"

	"aead.dev/minisign"
	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/game"
	"morvant/internal/publish"
	"morvant/internal/rules"
	"morvant/internal/store"
	"morvant/internal/volume"
)

func (a *app) publishCommand() *cli.Command {
	return &cli.Command{
		Name: "publish", Usage: "make a feed of builds in the store: a folder that any web server can serve", ArgsUsage: "FOLDER BUILD...", Category: groupShare,
		Description: "Example: morvant publish ~/feed 1.1.0 1.1.1 --feed quay-archive --component voices-en=\"voices/en/**\" --component base\n" +
			"         morvant publish ~/feed --list builds.toml\n\n" +
			"Your own files (keep rules of the game and of any pin, companions, saves inside the folder), scratch files and your\n" +
			"notes are never published; --note gives one for others, and --dry-run lists every file. What is in the feed stays as it is; publishing\n" +
			"again adds what is new. The catalogue is signed with a key that is made at the first time and kept in Morvant's\n" +
			"folder; --secret-key names another one, in minisign format.",
		Flags: append(changeFlags(),
			&cli.StringFlag{Name: "feed", Usage: "the `NAME` of a new feed"},
			&cli.StringSliceFlag{Name: "component", Usage: "a component and its files, as `NAME=PATTERN,PATTERN`; the first that fits takes a file, NAME alone takes the rest"},
			&cli.StringFlag{Name: "channel", Usage: "the `CHANNEL` to publish in", Value: "public"},
			&cli.BoolFlag{Name: "locked", Usage: "the channel asks for a key (a service has to see to that)"},
			&cli.StringFlag{Name: "label", Usage: "the build's `LABEL` in the feed, if only one is published"},
			&cli.StringFlag{Name: "date", Usage: "its `DATE` (2031-08-05 or 2031-08-05T17:00:00Z)"},
			&cli.StringFlag{Name: "note", Usage: "a line about it"},
			&cli.StringFlag{Name: "list", Usage: "a TOML `FILE` that says all of this for many builds"},
			&cli.StringFlag{Name: "sign-in", Usage: "the `ADDRESS` of a service that gives out tokens"},
			&cli.IntFlag{Name: "days", Usage: "how long the catalogue is valid, in days", Value: 365},
			&cli.BoolFlag{Name: "check", Usage: "read all that is in the feed already, and pack anew what is damaged"},
			&cli.BoolFlag{Name: "manifests-only", Usage: "no content: builds can be recognised and compared, not fetched"},
			&cli.StringFlag{Name: "secret-key", Usage: "the `FILE` with the secret key"},
			&cli.StringFlag{Name: "key-password-env", Usage: "the `VARIABLE` that holds the secret key's password"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, 1, 1000)
			if err != nil {
				return err
			}
			return a.withGame(ctx, c, func(home *game.Home, name string) error {
				return a.publish(ctx, c, home, name, args[0], args[1:])
			})
		},
	}
}

func (a *app) publish(ctx context.Context, c *cli.Command, home *game.Home, name, dest string, refs []string) error {
	list, err := publishList(c, refs)
	if err != nil {
		return err
	}
	if err := publish.CheckRules(list.Rules()); err != nil {
		return usage{err}
	}
	g, err := home.Load(name)
	if err != nil {
		return err
	}
	s, err := store.Open(ctx, home.StoreDir())
	if err != nil {
		return err
	}
	defer s.Close()
	if list.Game == "" {
		list.Game = name
	}
	r := publish.Request{
		Dest: dest, Store: s, Name: list.Feed, Game: list.Game, SignIn: list.SignIn, Valid: time.Duration(list.Days) * 24 * time.Hour,
		Locked: make(map[string]bool), ManifestsOnly: c.Bool("manifests-only"), Check: c.Bool("check"), Meter: a.meter, Now: a.now,
	}
	for _, ch := range list.Channels {
		r.Locked[ch.Name] = ch.Locked
	}
	for _, rule := range list.Rules() {
		r.Components = append(r.Components, rule.Component)
	}
	if len(r.Components) == 0 {
		r.Components = []catalogue.Component{{Name: "base", Required: true}}
	}
	for _, item := range list.Builds {
		b, err := a.toPublish(ctx, home, s, g, list, item)
		if err != nil {
			return err
		}
		r.Builds = append(r.Builds, *b)
	}
	if c.Bool("dry-run") {
		return a.showPublish(c, &r)
	}
	if r.Key, err = a.secretKey(c, home); err != nil {
		return err
	}
	if r.Serials, err = serialsOf(ctx, home, r.Key); err != nil {
		return err
	}
	result, err := publish.Do(ctx, r)
	a.meter.End()
	if err != nil {
		return err
	}
	maps.Copy(r.Serials, result.Serials)
	if err := keepSerials(ctx, home, r.Key, r.Serials); err != nil {
		return err
	}
	return a.showPublished(c, dest, &r, result)
}

// serialsFact names what is remembered of the serial numbers that a key has given out.
func serialsFact(key minisign.PrivateKey) string {
	return "published by " + catalogue.KeyText(key.Public().(minisign.PublicKey))
}

func serialsOf(ctx context.Context, home *game.Home, key minisign.PrivateKey) (map[string]int64, error) {
	serials := make(map[string]int64)
	text, err := home.Fact(ctx, serialsFact(key))
	if err != nil || text == "" {
		return serials, err
	}
	return serials, json.Unmarshal([]byte(text), &serials)
}

func keepSerials(ctx context.Context, home *game.Home, key minisign.PrivateKey, serials map[string]int64) error {
	text, err := json.Marshal(serials)
	if err != nil {
		return err
	}
	return home.SetFact(ctx, serialsFact(key), string(text))
}

// publishList returns what to publish, from the file or from the command line.
func publishList(c *cli.Command, refs []string) (*publish.List, error) {
	if file := c.String("list"); file != "" {
		if len(refs) > 0 {
			return nil, usagef("builds are named on the command line or in %s, not both", file)
		}
		b, err := volume.ReadFile(file, volume.Small)
		if err != nil {
			return nil, err
		}
		l, err := publish.ParseList(b)
		if err != nil {
			return nil, usagef("%s: %v", file, err)
		}
		if l.Days == 0 {
			l.Days = c.Int("days")
		}
		if len(l.Builds) == 0 {
			return nil, usagef("%s names no build", file)
		}
		return l, nil
	}
	if len(refs) == 0 {
		return nil, usagef("say which builds to publish; morvant builds lists them")
	}
	l := &publish.List{Feed: c.String("feed"), SignIn: c.String("sign-in"), Days: c.Int("days")}
	l.Channels = []publish.ListChannel{{Name: c.String("channel"), Locked: c.Bool("locked")}}
	for _, text := range c.StringSlice("component") {
		name, patterns, _ := strings.Cut(text, "=")
		// What takes the rest is what the game cannot do without.
		part := publish.ListComponent{Name: name, Required: patterns == ""}
		if patterns != "" {
			part.Files = strings.Split(patterns, ",")
		}
		l.Components = append(l.Components, part)
	}
	for _, option := range []string{"label", "date", "note"} {
		if c.IsSet(option) && len(refs) > 1 {
			return nil, usagef("--%s is for one build; use --list for many", option)
		}
	}
	for _, ref := range refs {
		item := publish.ListBuild{From: ref, Label: c.String("label"), Channel: c.String("channel"), Note: c.String("note")}
		if text := c.String("date"); text != "" {
			date, err := time.Parse(time.RFC3339, text)
			if err != nil {
				if date, err = time.ParseInLocation(time.DateOnly, text, time.Local); err != nil {
					return nil, usagef("%q is not a date; write it like 2031-08-05 or 2031-08-05T17:00:00Z", text)
				}
			}
			item.Date = date
		}
		l.Builds = append(l.Builds, item)
	}
	return l, nil
}

// toPublish puts one build together.
func (a *app) toPublish(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, list *publish.List, item publish.ListBuild) (*publish.Build, error) {
	b, err := a.namedBuild(ctx, home, g.Name, item.From)
	if err != nil {
		return nil, err
	}
	if b.Components != nil {
		whole, err := home.HeldWhole(ctx, b)
		if err != nil {
			return nil, err
		}
		if whole == nil {
			return nil, fmt.Errorf("not all of %s is on this computer; run morvant fetch %s first", b.Label, b.Name())
		}
		b = whole
	}
	out := &publish.Build{Label: item.Label, Channel: item.Channel, Date: item.Date, Note: item.Note}
	if out.Label == "" {
		out.Label = b.Label
	}
	if out.Channel == "" {
		out.Channel = "public"
	}
	if out.Date.IsZero() {
		out.Date = b.Made
	}
	if out.Note == "" && b.Components != nil {
		out.Note = b.Note // the feed that it came from has published it; a snapshot's is the player's own
	}
	own, err := playersOwn(ctx, home, g)
	if err != nil {
		return nil, err
	}
	out.Parts, err = publish.PartsOf(ctx, s, b, own, list.Rules())
	return out, err
}

// playersOwn returns rules for what is the player's, wherever that is said: in the game's
// settings, in the pin of any lane, in what the saves are.
func playersOwn(ctx context.Context, home *game.Home, g *game.Game) (rules.Rules, error) {
	own := g.Rules()
	own.Keep = slices.Clone(own.Keep)
	lanes, err := home.Lanes(ctx, g.Name)
	if err != nil {
		return own, err
	}
	for _, l := range lanes {
		own.Keep = append(own.Keep, l.Pin.Keep...)
		for _, c := range l.Pin.Companions {
			own.Keep = append(own.Keep, literally(c.Path))
		}
		finder, err := backup.Finder(ctx, home, g, l.Name, g.Folder(l))
		if err != nil {
			return own, err
		}
		places, _, err := finder.Find()
		if err != nil {
			return own, err
		}
		for _, p := range places {
			if p.Inside {
				own.Keep = append(own.Keep, literally(p.Path)+"/**")
			}
		}
	}
	for _, p := range g.Saves {
		// Also where they were when the snapshot was taken.
		if p = filepath.ToSlash(p); !filepath.IsAbs(p) && !strings.HasPrefix(p, "/") && !strings.ContainsAny(p[:1], "~$%") {
			own.Keep = append(own.Keep, strings.TrimSuffix(p, "/")+"/**")
		}
	}
	return own, nil
}

// literally makes a pattern that stands for one path.
func literally(p string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`).Replace(p)
}

// secretKey loads the key that signs, making one at the first time.
func (a *app) secretKey(c *cli.Command, home *game.Home) (minisign.PrivateKey, error) {
	file := c.String("secret-key")
	if file == "" {
		file = filepath.Join(home.Dir(), "publish.key")
		if publish.Missing(file) {
			key, err := publish.NewKey(file)
			if err == nil {
				a.note("A key to sign feeds with is made: %s. Keep a copy of it; without it nobody can add to the feed.", file)
			}
			return key, err
		}
	}
	return publish.LoadKey(file, func() (string, error) {
		return (&secrets{app: a}).read("password of "+filepath.Base(file), c.String("key-password-env"))
	})
}

type publishedJSON struct {
	Schema  string   `json:"schema"`
	Folder  string   `json:"folder"`
	Feed    string   `json:"feed"`
	Key     string   `json:"key,omitempty"`
	Serial  int64    `json:"serial,omitempty"`
	Added   []string `json:"added"`
	Same    []string `json:"same"`
	Chunks  int      `json:"chunks"`
	Written int64    `json:"written_bytes"`
	Done    bool     `json:"done"`
	Mended  []string `json:"mended,omitempty"`        // builds whose content was damaged, and is packed anew
	Broken  []string `json:"broken,omitempty"`        // builds whose content is damaged still
	Damaged int      `json:"damaged_packs,omitempty"` // put aside
	Older   []string `json:"older,omitempty"`         // signed files that were older than the last ones given out
	// Builds are what others would see, of a dry run.
	Builds []seenJSON `json:"builds,omitempty"`
}

// seenJSON is what others will see of a build.
type seenJSON struct {
	Build string   `json:"build"`
	Note  string   `json:"note,omitempty"`
	Files []string `json:"files"`
}

func toSeen(r *publish.Request) []seenJSON {
	var list []seenJSON
	for _, b := range r.Builds {
		seen := seenJSON{Build: b.Channel + "/" + b.Label, Note: b.Note, Files: []string{}}
		for _, part := range sortedKeys(b.Parts) {
			for _, f := range b.Parts[part].Manifest.Files {
				seen.Files = append(seen.Files, f.Path)
			}
		}
		list = append(list, seen)
	}
	return list
}

func (a *app) showPublish(c *cli.Command, r *publish.Request) error {
	var names []string
	var rows [][]string
	for _, b := range r.Builds {
		names = append(names, b.Channel+"/"+b.Label)
		for _, part := range sortedKeys(b.Parts) {
			p := b.Parts[part]
			rows = append(rows, []string{b.Label, b.Channel, day(b.Date), part, count(len(p.Manifest.Files), "file"), size(p.Manifest.Bytes())})
		}
	}
	if c.Bool("json") {
		return a.emit(publishedJSON{Schema: "morvant-published/1", Folder: r.Dest, Feed: r.Name, Added: names, Same: []string{}, Builds: toSeen(r)})
	}
	a.say("%s", grid([]string{"Build", "Channel", "Date", "Component", ">Files", ">Size"}, rows))
	a.say("\nWhat others will see:")
	for _, b := range r.Builds {
		note := b.Note
		if note == "" {
			note = "(no note)"
		}
		a.say("  %s/%s: %s", b.Channel, b.Label, note)
		for _, part := range sortedKeys(b.Parts) {
			for _, f := range b.Parts[part].Manifest.Files {
				a.say("    %s: %s", part, f.Path)
			}
		}
	}
	a.say("\nThis was a dry run; nothing was published.")
	return nil
}

func countWere(n int, what string) string {
	if n == 1 {
		return "1 " + what + " was"
	}
	return count(n, what) + " were"
}

func areIs(n int) string {
	if n == 1 {
		return " is"
	}
	return " are"
}

func (a *app) showPublished(c *cli.Command, dest string, r *publish.Request, p *publish.Result) error {
	if c.Bool("json") {
		return a.emit(publishedJSON{
			Schema: "morvant-published/1", Folder: dest, Feed: p.Feed.Name, Key: p.Feed.Key, Serial: p.Feed.Serial,
			Added: append([]string{}, p.Added...), Same: append([]string{}, p.Same...), Chunks: p.Chunks, Written: p.Written, Done: true,
			Mended: p.Mended, Broken: p.Broken, Damaged: p.Damaged, Older: p.Older,
		})
	}
	if len(p.Added) > 0 {
		a.say("Published in %s: %s. It grew by %s, in %s.", strong(p.Feed.Name), strings.Join(p.Added, ", "), size(p.Written), count(p.Chunks, "chunk"))
	}
	if len(p.Same) > 0 {
		a.say("There already, with the same content: %s.", strings.Join(p.Same, ", "))
	}
	if p.Damaged > 0 {
		a.note("%s damaged, and put aside.", countWere(p.Damaged, "pack"))
	}
	if len(p.Mended) > 0 {
		a.say("Packed anew, as what the feed had of it was damaged or gone: %s.", strings.Join(p.Mended, ", "))
	}
	if len(p.Broken) > 0 {
		a.note("What the feed has of %s is damaged or gone; publish it again to mend that.", strings.Join(p.Broken, ", "))
	}
	if len(p.Older) > 0 {
		a.note("%s in the folder older than what you had published last, as if somebody had put old files back; it is numbered on from the newer. "+
			"Builds that only the newer one listed are not in it: name them again.", strings.Join(p.Older, ", ")+areIs(len(p.Older)))
	}
	a.say("Serve %s with any web server, or hand it over as it is: morvant feed add ADDRESS", dest)
	a.say("Signed by the key %s, valid until %s.", p.Feed.Key, p.Feed.Expires.Local().Format(time.DateOnly))
	for _, line := range p.Feed.Channels {
		if line.Locked {
			a.note("Note: a plain web server asks nobody for the key of %s; whoever knows the address can read it.", line.Name)
		}
	}
	return nil
}
