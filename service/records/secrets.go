package records

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"time"
)

// Secret is what may be shown of a secret: that it is there.
type Secret struct {
	Name   string    `db:"name" json:"name"`
	MadeAt time.Time `db:"made_at" json:"made_at"`
	MadeBy string    `db:"made_by" json:"made_by"`
}

type secretRow struct {
	Site   string `db:"site"`
	Name   string `db:"name"`
	Sealed []byte `db:"sealed"`
}

// sealer is AES-256-GCM (NIST SP 800-38D).
func sealer(key []byte) (cipher.AEAD, error) {
	if len(key) != 32 {
		return nil, fmt.Errorf("the key for secrets has %d bytes, and needs 32", len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// PutSecret keeps a secret, sealed to its site and name so that it can't be moved to another.
func (s *Store) PutSecret(ctx context.Context, site, name, value, by string) error {
	if s.seal == nil {
		return ErrNoKey
	}
	nonce := make([]byte, s.seal.NonceSize())
	rand.Read(nonce)
	sealed := s.seal.Seal(nonce, nonce, []byte(value), []byte(site+"/"+name))
	_, err := s.db.ExecContext(ctx, `INSERT INTO secrets (site, name, sealed, made_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site, name) DO UPDATE SET sealed = excluded.sealed, made_at = now(), made_by = excluded.made_by`, site, name, sealed, by)
	return wrap(fmt.Sprintf("keep secret %s of %s", name, site), err)
}

func (s *Store) open(row secretRow) (string, error) {
	if s.seal == nil {
		return "", ErrNoKey
	}
	n := s.seal.NonceSize()
	if len(row.Sealed) < n {
		return "", errors.New("the sealed secret is too short")
	}
	value, err := s.seal.Open(nil, row.Sealed[:n], row.Sealed[n:], []byte(row.Site+"/"+row.Name))
	if err != nil {
		return "", fmt.Errorf("the secret %s of %s was kept under another key than this service has: %w", row.Name, row.Site, err)
	}
	return string(value), nil
}

// RemoveSecret forgets a secret, and says whether there was one.
func (s *Store) RemoveSecret(ctx context.Context, site, name string) (bool, error) {
	r, err := s.db.ExecContext(ctx, `DELETE FROM secrets WHERE site = $1 AND name = $2`, site, name)
	if err != nil {
		return false, wrap(fmt.Sprintf("remove secret %s of %s", name, site), err)
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// Secrets lists what secrets a site has, below a prefix of their names.
func (s *Store) Secrets(ctx context.Context, site, prefix string) ([]Secret, error) {
	list := []Secret{}
	err := s.db.SelectContext(ctx, &list, `SELECT name, made_at, made_by FROM secrets WHERE site = $1 AND starts_with(name, $2) ORDER BY name`, site, prefix)
	if err != nil {
		return nil, fmt.Errorf("list the secrets of %s: %w", site, plain(err))
	}
	return list, nil
}
