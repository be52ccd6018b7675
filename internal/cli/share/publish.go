package share

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"aead.dev/minisign"
	"github.com/urfave/cli/v3"

	"morvant/internal/catalogue"
	"morvant/internal/cli/app"
	"morvant/internal/cli/find"
	"morvant/internal/cli/view"
	"morvant/internal/game"
	"morvant/internal/lane/backup"
	"morvant/internal/publish"
	"morvant/internal/rules"
	"morvant/internal/store"
	"morvant/internal/volume"
)

func (a commands) publishCommand() *cli.Command {
	return &cli.Command{
		Name: "publish", Usage: "make a feed of builds in the store: a folder that any web server can serve", ArgsUsage: "FOLDER BUILD...", Category: app.GroupShare,
		Description: "Example: morvant publish ~/feed 1.1.0 1.1.1 --feed quay-archive --component voices-en=\"voices/en/**\" --component base\n" +
			"         morvant publish ~/feed --list builds.toml\n\n" +
			"Your own files (keep rules of the game and of any pin, companions, saves inside the folder), scratch files and your\n" +
			"notes are never published; --note gives one for others, and --dry-run lists every file. What is in the feed stays as it is; publishing\n" +
			"again adds what is new. The catalogue is signed with a key that is made at the first time and kept in Morvant's\n" +
			"folder; --secret-key names another one, in minisign format.",
		Flags: append(app.ChangeFlags(),
			&cli.StringFlag{Name: "feed", Usage: "the `NAME` of a new feed"},
			&cli.StringSliceFlag{Name: "component", Usage: "a component and a pattern of its files, as `NAME=PATTERN`; repeat it for more patterns; the first component that fits takes a file, NAME alone takes the rest"},
			&cli.StringFlag{Name: "channel", Usage: "the `CHANNEL` to publish in", Value: "public"},
			&cli.BoolFlag{Name: "locked", Usage: "the channel asks for a key (a service has to see to that)"},
			&cli.StringFlag{Name: "label", Usage: "the build's `LABEL` in the feed, if only one is published"},
			&cli.StringFlag{Name: "date", Usage: "its `DATE` (2031-08-05 or 2031-08-05T17:00:00Z)"},
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` about it, one line"},
			&cli.StringFlag{Name: "list", Usage: "a TOML `FILE` that says all of this for many builds"},
			&cli.StringFlag{Name: "sign-in", Usage: "the `ADDRESS` of a service that gives out tokens"},
			&cli.IntFlag{Name: "days", Usage: "how many `DAYS` the catalogue is valid", Value: 365},
			&cli.BoolFlag{Name: "check", Usage: "read all that is in the feed already, and pack anew what is damaged"},
			&cli.BoolFlag{Name: "manifests-only", Usage: "no content: builds can be recognised and compared, not fetched"},
			&cli.StringFlag{Name: "secret-key", Usage: "the `FILE` with the secret key"},
			&cli.StringFlag{Name: "key-password-env", Usage: "the `VARIABLE` that holds the secret key's password"},
		),
		Action: a.OnGame(1, 1000, func(ctx context.Context, c *cli.Command, home *game.Home, name string, args []string) error {
			return a.publish(ctx, c, home, name, args[0], args[1:])
		}),
	}
}

func (a commands) publish(ctx context.Context, c *cli.Command, home *game.Home, name, dest string, refs []string) error {
	list, err := publishList(c, refs)
	if err != nil {
		return err
	}
	if err := publish.CheckRules(list.Rules()); err != nil {
		return app.AsUsage(err)
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
		Locked: make(map[string]bool), ManifestsOnly: c.Bool("manifests-only"), Check: c.Bool("check"), Meter: a.Meter, Now: a.Now,
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
	a.Meter.End()
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
			return nil, app.Usagef("builds are named on the command line or in %s, not both", file)
		}
		b, err := volume.ReadFile(file, volume.Small)
		if err != nil {
			return nil, err
		}
		l, err := publish.ParseList(b)
		if err != nil {
			return nil, app.Usagef("%s: %v", file, err)
		}
		if l.Days == 0 {
			l.Days = c.Int("days")
		}
		if len(l.Builds) == 0 {
			return nil, app.Usagef("%s names no build", file)
		}
		return l, nil
	}
	if len(refs) == 0 {
		return nil, app.Usagef("say which builds to publish; morvant builds lists them")
	}
	l := &publish.List{Feed: c.String("feed"), SignIn: c.String("sign-in"), Days: c.Int("days")}
	l.Channels = []publish.ListChannel{{Name: c.String("channel"), Locked: c.Bool("locked")}}
	for _, text := range c.StringSlice("component") {
		name, pattern, _ := strings.Cut(text, "=")
		if i := slices.IndexFunc(l.Components, func(p publish.ListComponent) bool { return p.Name == name }); i >= 0 && pattern != "" && !l.Components[i].Required {
			l.Components[i].Files = append(l.Components[i].Files, pattern)
			continue
		}
		// What takes the rest is what the game cannot do without.
		part := publish.ListComponent{Name: name, Required: pattern == ""}
		if pattern != "" {
			part.Files = []string{pattern}
		}
		l.Components = append(l.Components, part)
	}
	for _, option := range []string{"label", "date", "note"} {
		if c.IsSet(option) && len(refs) > 1 {
			return nil, app.Usagef("--%s is for one build; use --list for many", option)
		}
	}
	for _, ref := range refs {
		item := publish.ListBuild{From: ref, Label: c.String("label"), Channel: c.String("channel"), Note: c.String("note")}
		if text := c.String("date"); text != "" {
			date, err := time.Parse(time.RFC3339, text)
			if err != nil {
				if date, err = time.ParseInLocation(time.DateOnly, text, time.Local); err != nil {
					return nil, app.Usagef("\"%s\" is not a date; write it like 2031-08-05 or 2031-08-05T17:00:00Z", text)
				}
			}
			item.Date = date
		}
		l.Builds = append(l.Builds, item)
	}
	return l, nil
}

// toPublish puts one build together.
func (a commands) toPublish(ctx context.Context, home *game.Home, s *store.Store, g *game.Game, list *publish.List, item publish.ListBuild) (*publish.Build, error) {
	b, err := find.Named(ctx, a.App, home, g.Name, item.From)
	if err != nil {
		return nil, err
	}
	if b.Components != nil {
		whole, err := home.HeldWhole(ctx, b)
		if err != nil {
			return nil, err
		}
		if whole == nil {
			return nil, fmt.Errorf("not all of %s is on this computer; run morvant fetch %s first", b.Label, view.Quoted(b.Name()))
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
func (a commands) secretKey(c *cli.Command, home *game.Home) (minisign.PrivateKey, error) {
	file := c.String("secret-key")
	if file == "" {
		file = filepath.Join(home.Dir(), "publish.key")
		if publish.Missing(file) {
			key, err := publish.NewKey(file)
			if err == nil {
				a.Note("A key to sign feeds with is made: %s. Keep a copy of it; without it nobody can add to the feed.", file)
			}
			return key, err
		}
	}
	return publish.LoadKey(file, func() (string, error) {
		return (&app.Secrets{App: a.App}).Read("password of "+filepath.Base(file), c.String("key-password-env"))
	})
}

func (a commands) showPublish(c *cli.Command, r *publish.Request) error {
	var names []string
	var rows [][]string
	for _, b := range r.Builds {
		names = append(names, b.Channel+"/"+b.Label)
		for _, part := range view.SortedKeys(b.Parts) {
			p := b.Parts[part]
			rows = append(rows, []string{b.Label, b.Channel, view.Day(b.Date), part, view.Count(len(p.Manifest.Files), "file"), view.Size(p.Manifest.Bytes())})
		}
	}
	if c.Bool("json") {
		return a.Emit(view.PublishedJSON{Schema: "morvant-published/1", Folder: r.Dest, Feed: r.Name, Added: names, Same: []string{}, Builds: view.ToSeen(r)})
	}
	a.Table([]view.Column{
		{Head: "Build", Cut: view.CutMiddle},
		{Head: "Channel", Spare: 1},
		{Head: "Date", Spare: 2},
		{Head: "Component", Cut: view.CutMiddle},
		{Head: "Files", Right: true, Spare: 3},
		{Head: "Size", Right: true},
	}, rows)
	a.Say("\nWhat others will see:")
	for _, b := range r.Builds {
		note := b.Note
		if note == "" {
			note = "(no note)"
		}
		a.Say("  %s/%s: %s", b.Channel, b.Label, note)
		for _, part := range view.SortedKeys(b.Parts) {
			for _, f := range b.Parts[part].Manifest.Files {
				a.Say("    %s: %s", part, f.Path)
			}
		}
	}
	a.Say("\nThis was a dry run; nothing was published.")
	return nil
}

func (a commands) showPublished(c *cli.Command, dest string, r *publish.Request, p *publish.Result) error {
	if c.Bool("json") {
		return a.Emit(view.PublishedJSON{
			Schema: "morvant-published/1", Folder: dest, Feed: p.Feed.Name, Key: p.Feed.Key, Serial: p.Feed.Serial,
			Added: append([]string{}, p.Added...), Same: append([]string{}, p.Same...), Chunks: p.Chunks, Written: p.Written, Done: true,
			Mended: p.Mended, Broken: p.Broken, Damaged: p.Damaged, Older: p.Older,
		})
	}
	if len(p.Added) > 0 {
		a.Say("Published in %s: %s. It grew by %s, in %s.", view.Strong(p.Feed.Name), strings.Join(p.Added, ", "), view.Size(p.Written), view.Count(p.Chunks, "chunk"))
	}
	if len(p.Same) > 0 {
		a.Say("There already, with the same content: %s.", strings.Join(p.Same, ", "))
	}
	if p.Damaged > 0 {
		a.Note("%s damaged, and put aside.", view.CountWere(p.Damaged, "pack"))
	}
	if len(p.Mended) > 0 {
		a.Say("Packed anew, as what the feed had of it was damaged or gone: %s.", strings.Join(p.Mended, ", "))
	}
	if len(p.Broken) > 0 {
		a.Note("What the feed has of %s is damaged or gone; publish it again to mend that.", strings.Join(p.Broken, ", "))
	}
	if len(p.Older) > 0 {
		a.Note("%s in the folder older than what you had published last, as if somebody had put old files back; it is numbered on from the newer. "+
			"Builds that only the newer one listed are not in it: name them again.", strings.Join(p.Older, ", ")+view.AreIs(len(p.Older)))
	}
	a.Say("Serve %s with any web server, or hand it over as it is: morvant feed add ADDRESS", dest)
	a.Say("Signed by the key %s, valid until %s.", p.Feed.Key, p.Feed.Expires.Local().Format(time.DateOnly))
	for _, line := range p.Feed.Channels {
		if line.Locked {
			a.Note("Note: a plain web server asks nobody for the key of %s; whoever knows the address can read it.", line.Name)
		}
	}
	return nil
}
