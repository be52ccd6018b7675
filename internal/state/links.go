package state

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"morvant/internal/database"
	"morvant/internal/digest"
	"morvant/internal/manifest"
)

// PutLinks remembers links that lead out of a folder, each with where it leads, and returns the name
// under which Links finds them.
func (p PlayerFiles) PutLinks(ctx context.Context, links map[string]string) (digest.Digest, error) {
	body := manifest.EncodeLinks(links)
	d := digest.Of(body)
	_, err := p.db.ExecContext(ctx, `INSERT OR IGNORE INTO links (digest, body) VALUES (?, ?)`, d[:], string(body))
	return d, err
}

// Links returns links that PutLinks has remembered; none where they are lost.
func (p PlayerFiles) Links(ctx context.Context, d digest.Digest) (map[string]string, error) {
	if d == (digest.Digest{}) {
		return nil, nil
	}
	var body string
	err := p.db.QueryRowContext(ctx, `SELECT body FROM links WHERE digest = ?`, d[:]).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	links, err := manifest.DecodeLinks([]byte(body))
	if err != nil {
		return nil, fmt.Errorf("%w: links: %v", database.ErrDamaged, err)
	}
	return links, nil
}
