package state

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
)

// PutLinks remembers links that lead out of a folder, each with where it leads, and returns the name
// under which Links finds them.
func (p PlayerFiles) PutLinks(ctx context.Context, links map[string]string) (digest.Digest, error) {
	return p.put(ctx, manifest.EncodeLinks(links))
}

// PutTimes remembers times of last change, by path, and returns the name under which Times finds them.
func (p PlayerFiles) PutTimes(ctx context.Context, times map[string]time.Time) (digest.Digest, error) {
	a := manifest.NewAttributes()
	for path, t := range times {
		a.Files[path] = manifest.Attribute{MTime: t}
	}
	return p.put(ctx, a.Encode())
}

// Times returns times that PutTimes has remembered; none where they are lost.
func (p PlayerFiles) Times(ctx context.Context, d digest.Digest) (map[string]time.Time, error) {
	body, err := p.get(ctx, d)
	if body == nil || err != nil {
		return nil, err
	}
	a, err := manifest.DecodeAttributes(body)
	if err != nil {
		return nil, fmt.Errorf("%w: times: %v", database.ErrDamaged, err)
	}
	times := make(map[string]time.Time, len(a.Files))
	for path, at := range a.Files {
		times[path] = at.MTime
	}
	return times, nil
}

// put remembers a text, and returns the name under which get finds it.
func (p PlayerFiles) put(ctx context.Context, body []byte) (digest.Digest, error) {
	d := digest.Of(body)
	_, err := p.db.ExecContext(ctx, `INSERT OR IGNORE INTO links (digest, body) VALUES (?, ?)`, d[:], string(body))
	return d, err
}

func (p PlayerFiles) get(ctx context.Context, d digest.Digest) ([]byte, error) {
	if d.IsZero() {
		return nil, nil
	}
	var body string
	err := p.db.QueryRowContext(ctx, `SELECT body FROM links WHERE digest = ?`, d[:]).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return []byte(body), err
}

// Links returns links that PutLinks has remembered; none where they are lost.
func (p PlayerFiles) Links(ctx context.Context, d digest.Digest) (map[string]string, error) {
	body, err := p.get(ctx, d)
	if body == nil || err != nil {
		return nil, err
	}
	links, err := manifest.DecodeLinks(body)
	if err != nil {
		return nil, fmt.Errorf("%w: links: %v", database.ErrDamaged, err)
	}
	return links, nil
}
