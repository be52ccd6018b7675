package change

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"morvant/internal/lane"
	"morvant/internal/lane/backup"
	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/saves"
	"morvant/internal/state"
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
func afterPin(ctx context.Context, l *lane.Lane, c *state.Change) {
	if c.What != state.ChangePin || len(l.Game.AfterPin) == 0 && l.Game.ConvertSaves == "" {
		return
	}
	var out tail
	for _, line := range l.Game.AfterPin {
		if err := step(ctx, l, line, l.Dir, c.Build, &out); err != nil {
			l.Meter.Warn(fmt.Sprintf("the step \"%s\" failed: %v; the pin stays (its output: %s %d)", line, err, problem.OutputOf, c.ID))
			fmt.Fprintf(&out, "failed: %v\n", err)
			break
		}
	}
	if l.Game.ConvertSaves != "" && l.Live {
		if err := convertSaves(ctx, l, c.Build, &out); err != nil {
			l.Meter.Warn(fmt.Sprintf("the saves could not be converted: %v; they are as before (the output: %s %d)", err, problem.OutputOf, c.ID))
			fmt.Fprintf(&out, "failed: %v\n", err)
		}
	}
	text := out.Bytes()
	if len(text) > maxOutput {
		text = text[len(text)-maxOutput:]
	}
	if err := l.Home.SetOutput(ctx, c.ID, strings.ToValidUTF8(string(text), "?")); err != nil {
		l.Meter.Warn(err.Error())
	}
}

// step runs one command line.
func step(ctx context.Context, l *lane.Lane, line, dir, build string, out *tail) error {
	fmt.Fprintf(out, "$ %s\n", line)
	cmd, err := process.Shell(ctx, line, dir)
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = out, out
	cmd.Env = append(os.Environ(), "MORVANT_GAME="+l.Game.Name, "MORVANT_LANE="+l.Name, "MORVANT_BUILD="+build, "MORVANT_FOLDER="+dir)
	return cmd.Run()
}

// convertSaves runs the player's command on a copy of the saves, one folder after the
// other, and takes the copy over if it succeeds.
func convertSaves(ctx context.Context, l *lane.Lane, build string, out *tail) error {
	now, _, err := backup.Make(ctx, l, "before they were converted for "+build)
	if err != nil || now == nil {
		return err
	}
	if err := backup.Whole(now); err != nil {
		return err
	}
	tmp, err := os.MkdirTemp(l.Home.Dir(), "convert-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	converted := *now
	converted.ID, converted.Parts, converted.Files, converted.Bytes = 0, nil, 0, 0
	keeper := backup.Archive(l)
	for i, p := range now.Parts {
		if p.Only != "" { // it lies elsewhere
			converted.Parts = append(converted.Parts, p)
			continue
		}
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
		if err := step(ctx, l, l.Game.ConvertSaves, at.Path, build, out); err != nil {
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
	converted.Made, converted.Why, converted.Lane, converted.Build = l.Now(), "converted for "+build, l.Name, build
	if err := l.Home.AddBackup(ctx, &converted); err != nil {
		return err
	}
	c, err := backup.Propose(ctx, l, &converted)
	if err != nil {
		return err
	}
	return backup.CarryOut(ctx, l, c, "before the converted ones were taken over")
}
