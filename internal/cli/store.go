package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"morvant/internal/database"
	"morvant/internal/game"
	"morvant/internal/store"
	"morvant/internal/upkeep"
)

func (a *app) storeCommand() *cli.Command {
	return &cli.Command{
		Name: "store", Usage: "Morvant's content store: show, check, trim", Category: groupStore,
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "how large it is, what is shared, what each build takes", Description: "Example: morvant store show",
				Action: a.onHome(a.storeShow),
			},
			{
				Name: "check", Usage: "read all of it; rebuild a lost index, name damage and mend it",
				Description: "Example: morvant store check\n\nExit code 3 says that damage remains that could not be mended.",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "recover-builds", Usage: "list again every snapshot that the packs describe"}},
				Action:      a.onHome(a.storeCheck),
			},
			{
				Name: "trim", Usage: "drop what nothing refers to any more", Flags: changeFlags(),
				Description: "Example: morvant store trim --dry-run\n\n" +
					"Kept is what any snapshot or any change in the history needs. To free more, forget some first:\n" +
					"morvant builds forget BUILD, morvant history forget DATE.",
				Action: a.onHome(a.storeTrim),
			},
		},
	}
}

// mendState puts a state together again of which entries cannot be read, so that the
// builds can be found again.
func (a *app) mendState(ctx context.Context, home *game.Home) error {
	err := home.ReadAll(ctx)
	if !database.Damaged(err) {
		return err
	}
	said := len(home.Said)
	if err := home.MendState(ctx, a.now); err != nil {
		return err
	}
	for _, text := range home.Said[said:] {
		a.note("%s", text)
	}
	return nil
}

type shareJSON struct {
	Game            string `json:"game"`
	Build           string `json:"build"`
	Bytes           int64  `json:"bytes"`
	OnlyBytes       int64  `json:"only_bytes"`
	OnlyStoredBytes int64  `json:"only_stored_bytes"`
}

func (a *app) storeShow(ctx context.Context, c *cli.Command, home *game.Home) error {
	o, err := upkeep.Show(ctx, home)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		builds := []shareJSON{}
		for _, b := range o.Builds {
			builds = append(builds, shareJSON{b.Game, b.Label, b.Bytes, b.OnlyPlain, b.OnlyStored})
		}
		return a.emit(struct {
			Schema       string      `json:"schema"`
			Dir          string      `json:"dir"`
			Bytes        int64       `json:"bytes"`
			LiveBytes    int64       `json:"live_bytes"`
			Packs        int         `json:"packs"`
			Chunks       int         `json:"chunks"`
			ContentBytes int64       `json:"content_bytes"`
			HistoryBytes int64       `json:"history_stored_bytes"`
			Builds       []shareJSON `json:"builds"`
		}{"morvant-store/1", o.Dir, o.Bytes, o.Live, o.Packs, o.Records, o.Content, o.Changes.OnlyStored, builds})
	}
	a.say("The store holds %s of builds in %s %s", strong(size(o.Content)), strong(size(o.Bytes)), faint("("+o.Dir+")"))
	a.say("%s", fields("packs", fmt.Sprint(o.Packs), "chunks", comma(o.Records),
		"only for undo", size(o.Changes.OnlyStored), "not needed", size(max(0, o.Bytes-o.Live))))
	var rows [][]string
	for _, b := range o.Builds {
		shared := "—"
		if b.Bytes > 0 {
			shared = fmt.Sprintf("%d%%", 100*max(0, b.Bytes-b.OnlyPlain)/b.Bytes)
		}
		rows = append(rows, []string{b.Game, b.Label, size(b.Bytes), shared, size(b.OnlyStored)})
	}
	if len(rows) > 0 {
		a.say("\n%s", grid([]string{"Game", "Build", ">Size", ">Shared", ">Space only it takes"}, rows))
	}
	return nil
}

func (a *app) storeCheck(ctx context.Context, c *cli.Command, home *game.Home) error {
	if err := a.mendState(ctx, home); err != nil {
		return err
	}
	h, err := upkeep.Check(ctx, home, c.Bool("recover-builds"), a.meter)
	if err != nil {
		return err
	}
	left := h.Unmended()
	if c.Bool("json") {
		losses := h.Losses
		if losses == nil {
			losses = []upkeep.Loss{}
		}
		err = a.emit(struct {
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
		}{"morvant-check/1", h.Rebuilt, h.Recovered, h.Packs, h.Records, h.Bytes, h.Damaged, h.Unread, h.Again, left, losses})
	} else {
		a.showHealth(c, h)
	}
	if err == nil && h.Unread > 0 {
		return fmt.Errorf("%s cannot be read now (%s), which is no damage", count(h.Unread, "chunk"), h.UnreadWhy)
	}
	if err == nil && left > 0 {
		return errDifferent
	}
	return err
}

func (a *app) showHealth(c *cli.Command, h *upkeep.Health) {
	if h.Rebuilt {
		a.say("The index was lost; it is rebuilt from %s.", count(h.Packs, "pack"))
	}
	if c.Bool("recover-builds") {
		a.say("%s found again in the packs.", count(h.Recovered, "snapshot"))
	}
	a.say("%s read: %s in %s.", size(h.Bytes), count(h.Records, "chunk"), count(h.Packs, "pack"))
	if h.Again > 0 {
		a.say("%s that had been dropped can be read, and are taken in again.", count(h.Again, "chunk"))
	}
	if h.Unread > 0 && h.Damaged == 0 && len(h.Losses) == 0 {
		return
	}
	if h.Damaged == 0 && len(h.Losses) == 0 {
		a.say("%s", paint(good, "Everything in the store is whole."))
		return
	}
	a.say("%s", paint(bad, count(h.Damaged, "damaged chunk")+", dropped from the index."))
	var rows [][]string
	for i, l := range h.Losses {
		if i == 3*few && !c.Bool("verbose") {
			rows = append(rows, []string{"", "", faint(fmt.Sprintf("and %s more; --verbose lists all", comma(len(h.Losses)-i)))})
			break
		}
		state, path := paint(good, "mended"), l.Path
		if !l.Mended {
			state = paint(bad, "lost")
		}
		if path == "" {
			path = "(the list of its files)"
		}
		rows = append(rows, []string{state, l.Owner, path})
	}
	if len(rows) > 0 {
		a.say("\n%s", grid([]string{"State", "Needed by", "File"}, rows))
	}
	switch left := h.Unmended(); {
	case len(h.Losses) == 0:
		a.say("No snapshot or change needs it.")
	case left == 0:
		a.say("Everything was mended from folders that still have the content.")
	default:
		a.say("%s could not be mended: no registered folder has the content. A snapshot taken while one has it mends it.", count(left, "file"))
	}
}

// errDryRun ends a trim once its plan is known.
var errDryRun = errors.New("dry run")

func (a *app) storeTrim(ctx context.Context, c *cli.Command, home *game.Home) error {
	home.GiveReserve() // on a disk that is full, it is the room to begin with
	var plan *store.TrimPlan
	err := upkeep.Trim(ctx, home, func(p *store.TrimPlan) error {
		plan = p
		if !c.Bool("json") {
			a.say("%s can be given back: %s dropped, %s rewritten, %s left by an interrupted run.",
				strong(size(p.Freed)), count(p.Drop, "pack"), count(p.Rewrite, "pack"), count(p.Stale, "file"))
		}
		switch {
		case c.Bool("dry-run"):
			return errDryRun
		case p.Empty():
			return nil
		}
		return a.ask(c, "Go ahead?")
	}, a.meter, a.now)
	dry := errors.Is(err, errDryRun)
	if err != nil && !dry {
		return err
	}
	if c.Bool("json") {
		return a.emit(struct {
			Schema  string `json:"schema"`
			Done    bool   `json:"done"`
			Freed   int64  `json:"freed_bytes"`
			Drop    int    `json:"packs_dropped"`
			Rewrite int    `json:"packs_rewritten"`
			Stale   int    `json:"leftovers"`
		}{"morvant-trim/1", !dry, plan.Freed, plan.Drop, plan.Rewrite, plan.Stale})
	}
	switch {
	case dry:
		a.say("This was a dry run; nothing was changed.")
	case !plan.Empty():
		a.say("Done.")
	}
	return nil
}
