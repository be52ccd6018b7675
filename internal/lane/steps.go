package lane

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"morvant/internal/game"
	"morvant/internal/process"
	"morvant/internal/saves"
)

// maxOutput bounds what is kept of the output of a step, in bytes.
const maxOutput = 64 << 10

// tail keeps the end of what is written to it.
type tail struct{ bytes.Buffer }

func (t *tail) Write(b []byte) (int, error) {
	n, err := t.Buffer.Write(b)
	if t.Len() > 2*maxOutput {
		t.Next(t.Len() - maxOutput)
	}
	return n, err
}

// afterPin runs the player's own commands after a pin, and keeps their output in the
// history. The pin stands, whatever comes of them.
func (l *Lane) afterPin(ctx context.Context, c *game.Change) {
	if c.What != "pin" || len(l.Game.AfterPin) == 0 && l.Game.ConvertSaves == "" {
		return
	}
	var out tail
	for _, line := range l.Game.AfterPin {
		if err := l.step(ctx, line, l.Dir, c.Build, &out); err != nil {
			l.meter.Warn(fmt.Sprintf("the step %q failed: %v; the pin stands (morvant history output %d has what it said)", line, err, c.ID))
			fmt.Fprintf(&out, "failed: %v\n", err)
			break
		}
	}
	if l.Game.ConvertSaves != "" && l.Live {
		if err := l.convertSaves(ctx, c.Build, &out); err != nil {
			l.meter.Warn(fmt.Sprintf("the saves could not be converted: %v; they are as before (morvant history output %d has what it said)", err, c.ID))
			fmt.Fprintf(&out, "failed: %v\n", err)
		}
	}
	text := out.Bytes()
	if len(text) > maxOutput {
		text = text[len(text)-maxOutput:]
	}
	if err := l.home.SetOutput(ctx, c.ID, strings.ToValidUTF8(string(text), "?")); err != nil {
		l.meter.Warn(err.Error())
	}
}

// step runs one command line.
func (l *Lane) step(ctx context.Context, line, dir, build string, out *tail) error {
	fmt.Fprintf(out, "$ %s\n", line)
	cmd := process.Shell(ctx, line)
	cmd.Dir = dir
	cmd.Stdout, cmd.Stderr = out, out
	cmd.Env = append(os.Environ(), "MORVANT_GAME="+l.Game.Name, "MORVANT_LANE="+l.Name, "MORVANT_BUILD="+build, "MORVANT_FOLDER="+dir)
	return cmd.Run()
}

// convertSaves runs the player's command on a copy of the saves, one folder after the
// other, and takes the copy over if it succeeds.
func (l *Lane) convertSaves(ctx context.Context, build string, out *tail) error {
	now, _, err := l.BackupSaves(ctx, "before they were converted for "+build)
	if err != nil || now == nil {
		return err
	}
	if err := whole(now); err != nil {
		return err
	}
	tmp, err := os.MkdirTemp(l.home.Dir(), "convert-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	converted := *now
	converted.ID, converted.Parts, converted.Files, converted.Bytes = 0, nil, 0, 0
	keeper := l.keeper()
	for i, p := range now.Parts {
		at := saves.Place{Path: filepath.Join(tmp, fmt.Sprint(i))}
		part := p
		part.Place = at
		copied, err := keeper.Propose(ctx, &saves.Backup{ID: now.ID, Parts: []saves.Part{part}})
		if err != nil {
			return err
		}
		if err := keeper.Carry(ctx, copied); err != nil {
			return err
		}
		if err := os.MkdirAll(at.Path, 0o755); err != nil { // there may be nothing in it
			return err
		}
		if err := l.step(ctx, l.Game.ConvertSaves, at.Path, build, out); err != nil {
			return err
		}
		b, err := keeper.Record(ctx, []saves.Place{at})
		if err != nil {
			return err
		}
		part = b.Parts[0]
		part.Place = p.Place
		converted.Parts = append(converted.Parts, part)
		converted.Files, converted.Bytes = converted.Files+b.Files, converted.Bytes+b.Bytes
	}
	if converted.Same(now) {
		return nil
	}
	converted.Made, converted.Why, converted.Lane, converted.Build = l.now(), "converted for "+build, l.Name, build
	if err := l.home.AddBackup(ctx, &converted); err != nil {
		return err
	}
	c, err := l.ProposeSaves(ctx, &converted)
	if err != nil {
		return err
	}
	return l.CarrySaves(ctx, c, "before the converted ones were taken over")
}
