package store

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"morvant/internal/cli/app"
	"morvant/internal/cli/view"
	"morvant/internal/database"
	"morvant/internal/game"
	"morvant/internal/store"
	"morvant/internal/upkeep"
)

func (a commands) storeCommand() *cli.Command {
	return &cli.Command{
		Name: "store", Usage: "Morvant's content store: show, check, trim", Category: app.GroupStore,
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "how large it is, what is shared, what each build takes", Description: "Example: morvant store show",
				Action: a.OnHome(a.storeShow),
			},
			{
				Name: "check", Usage: "read all of it; rebuild a lost index, name damage and mend it",
				Description: "Example: morvant store check\n\nExit code 3 says that damage remains that could not be mended.",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "recover-builds", Usage: "list again every snapshot that the packs describe"}},
				Action:      a.OnHome(a.storeCheck),
			},
			{
				Name: "trim", Usage: "drop what nothing refers to any more", Flags: app.ChangeFlags(),
				Description: "Example: morvant store trim --dry-run\n\n" +
					"Kept is what any snapshot or any change in the history needs. To free more, forget some first:\n" +
					"morvant builds forget BUILD, morvant history forget DATE.",
				Action: a.OnHome(a.storeTrim),
			},
		},
	}
}

// mendState puts a state together again of which entries cannot be read, so that the
// builds can be found again.
func (a commands) mendState(ctx context.Context, home *game.Home) error {
	err := home.ReadAll(ctx)
	if !database.Damaged(err) {
		return err
	}
	said := len(home.Said)
	if err := home.MendState(ctx, a.Now); err != nil {
		return err
	}
	for _, text := range home.Said[said:] {
		a.Note("%s", text)
	}
	return nil
}

func (a commands) storeShow(ctx context.Context, c *cli.Command, home *game.Home) error {
	o, err := upkeep.Show(ctx, home)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		builds := []view.ShareJSON{}
		for _, b := range o.Builds {
			builds = append(builds, view.ShareJSON{Game: b.Game, Build: b.Label, Bytes: b.Bytes, OnlyBytes: b.OnlyPlain, OnlyStoredBytes: b.OnlyStored})
		}
		return a.Emit(struct {
			Schema       string           `json:"schema"`
			Dir          string           `json:"dir"`
			Bytes        int64            `json:"bytes"`
			LiveBytes    int64            `json:"live_bytes"`
			Packs        int              `json:"packs"`
			Chunks       int              `json:"chunks"`
			ContentBytes int64            `json:"content_bytes"`
			HistoryBytes int64            `json:"history_stored_bytes"`
			Builds       []view.ShareJSON `json:"builds"`
		}{"morvant-store/1", o.Dir, o.Bytes, o.Live, o.Packs, o.Records, o.Content, o.Changes.OnlyStored, builds})
	}
	a.Say("The store holds %s of builds in %s %s", view.Strong(view.Size(o.Content)), view.Strong(view.Size(o.Bytes)), view.Faint("("+o.Dir+")"))
	a.Say("%s", view.Fields("packs", fmt.Sprint(o.Packs), "chunks", view.Comma(o.Records),
		"only for undo", view.Size(o.Changes.OnlyStored), "not needed", view.Size(max(0, o.Bytes-o.Live))))
	var rows [][]string
	for _, b := range o.Builds {
		shared := "—"
		if b.Bytes > 0 {
			shared = fmt.Sprintf("%d%%", 100*max(0, b.Bytes-b.OnlyPlain)/b.Bytes)
		}
		rows = append(rows, []string{b.Game, b.Label, view.Size(b.Bytes), shared, view.Size(b.OnlyStored)})
	}
	if len(rows) > 0 {
		a.Say("")
		a.Table([]view.Column{
			{Head: "Game", Cut: view.CutMiddle},
			{Head: "Build", Cut: view.CutMiddle},
			{Head: "Size", Right: true},
			{Head: "Shared", Right: true, Spare: 1},
			{Head: "Space only it takes", Right: true},
		}, rows)
	}
	return nil
}

func (a commands) storeCheck(ctx context.Context, c *cli.Command, home *game.Home) error {
	if err := a.mendState(ctx, home); err != nil {
		return err
	}
	h, err := upkeep.Check(ctx, home, c.Bool("recover-builds"), a.Meter)
	if err != nil {
		return err
	}
	left := h.Unmended()
	if c.Bool("json") {
		losses := h.Losses
		if losses == nil {
			losses = []upkeep.Loss{}
		}
		err = a.Emit(struct {
			Schema    string        `json:"schema"`
			Rebuilt   bool          `json:"index_rebuilt"`
			Recovered int           `json:"builds_recovered"`
			Packs     int           `json:"packs"`
			Records   int           `json:"records"`
			Bytes     int64         `json:"bytes"`
			Damaged   int           `json:"damaged"`
			Unread    int           `json:"unread"`
			Again     int           `json:"taken_in_again"`
			Unmended  int           `json:"unmended"`
			Losses    []upkeep.Loss `json:"losses"`
			Anew      []string      `json:"begun_anew,omitempty"`
			Mended    []string      `json:"mended,omitempty"`
		}{"morvant-check/1", h.Rebuilt, h.Recovered, h.Packs, h.Records, h.Bytes, h.Damaged, h.Unread, h.Again, left, losses, h.Anew, h.Mended})
	} else {
		a.showHealth(c, h)
	}
	if err == nil && h.Unread > 0 {
		return fmt.Errorf("%s cannot be read now (%s), which is no damage", view.Count(h.Unread, "chunk"), h.UnreadWhy)
	}
	if err == nil && left > 0 {
		return app.ErrDifferent
	}
	return err
}

func (a commands) showHealth(c *cli.Command, h *upkeep.Health) {
	if h.Rebuilt {
		a.Say("The index was lost; it is rebuilt from %s.", view.Count(h.Packs, "pack"))
	}
	if c.Bool("recover-builds") {
		a.Say("%s found again in the packs.", view.Count(h.Recovered, "snapshot"))
	}
	for _, file := range h.Anew {
		a.Say("%s was damaged; Morvant has begun it anew, and finds out again what was in it.", file)
	}
	for _, what := range h.Mended {
		a.Say("%s was damaged; it is restored from its copy.", strings.ToUpper(what[:1])+what[1:])
	}
	a.Say("%s read: %s in %s.", view.Size(h.Bytes), view.Count(h.Records, "chunk"), view.Count(h.Packs, "pack"))
	if h.Again > 0 {
		a.Say("%s that had been dropped can be read, and are taken in again.", view.Count(h.Again, "chunk"))
	}
	if h.Unread > 0 && h.Damaged == 0 && len(h.Losses) == 0 {
		return
	}
	if h.Damaged == 0 && len(h.Losses) == 0 {
		a.Say("%s", view.Paint(view.Good, "Everything in the store is whole."))
		return
	}
	a.Say("%s", view.Paint(view.Bad, view.Count(h.Damaged, "damaged chunk")+", dropped from the index."))
	var rows [][]string
	for i, l := range h.Losses {
		if i == 3*view.Few && !c.Bool("verbose") {
			rows = append(rows, []string{"", "", view.Faint(fmt.Sprintf("and %s more; --verbose lists all", view.Comma(len(h.Losses)-i)))})
			break
		}
		state, path := view.Paint(view.Good, "mended"), l.Path
		if !l.Mended {
			state = view.Paint(view.Bad, "lost")
		}
		if path == "" {
			path = "(the list of its files)"
		}
		rows = append(rows, []string{state, l.Owner, path})
	}
	if len(rows) > 0 {
		a.Say("")
		a.Table([]view.Column{
			{Head: "State"},
			{Head: "Needed by", Cut: view.CutMiddle},
			{Head: "File", Cut: view.CutStart},
		}, rows)
	}
	switch left := h.Unmended(); {
	case len(h.Losses) == 0:
		a.Say("No snapshot or change needs it.")
	case left == 0:
		a.Say("Everything was mended from folders that still have the content.")
	default:
		a.Say("%s could not be mended: no registered folder has the content. A snapshot taken while one has it mends it.", view.Count(left, "file"))
	}
}

// errDryRun ends a trim once its plan is known.
var errDryRun = errors.New("dry run")

func (a commands) storeTrim(ctx context.Context, c *cli.Command, home *game.Home) error {
	home.GiveReserve() // on a disk that is full, it is the room to begin with
	var plan *store.TrimPlan
	err := upkeep.Trim(ctx, home, func(p *store.TrimPlan) error {
		plan = p
		if !c.Bool("json") {
			a.Say("%s can be given back: %s dropped, %s rewritten, %s left by an interrupted run.",
				view.Strong(view.Size(p.Freed)), view.Count(p.Drop, "pack"), view.Count(p.Rewrite, "pack"), view.Count(p.Stale, "file"))
			if p.Kept > 0 {
				a.Say("%s for now: what this home remembers was older than its store, so nobody knows what is in them.", stay(p.Kept))
			}
		}
		switch {
		case c.Bool("dry-run"):
			return errDryRun
		case p.Empty():
			return nil
		}
		return a.Ask(c, "Go ahead?")
	}, a.Meter, a.Now)
	dry := errors.Is(err, errDryRun)
	if err != nil && !dry {
		return err
	}
	if c.Bool("json") {
		return a.Emit(struct {
			Schema  string `json:"schema"`
			Done    bool   `json:"done"`
			Freed   int64  `json:"freed_bytes"`
			Drop    int    `json:"packs_dropped"`
			Rewrite int    `json:"packs_rewritten"`
			Stale   int    `json:"leftovers"`
			Kept    int    `json:"packs_kept"`
		}{"morvant-trim/1", !dry, plan.Freed, plan.Drop, plan.Rewrite, plan.Stale, plan.Kept})
	}
	switch {
	case dry:
		a.Say("This was a dry run; nothing was changed.")
	case !plan.Empty():
		a.Say("Done.")
	}
	return nil
}

func stay(packs int) string {
	if packs == 1 {
		return "1 pack stays"
	}
	return fmt.Sprintf("%d packs stay", packs)
}
