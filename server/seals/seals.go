// Package seals signs what is published: its keys, the chains of reports, and the files
// that stay as they were published.
package seals

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/seal"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
	"kestite/server/vault"
)

// Keys are the keys that reports are signed with. It is safe for concurrent use.
type Keys struct {
	Store *store.Store
	Vault *vault.Vault
	Now   func() time.Time
}

// Key is a public key with its time of validity.
type Key struct {
	ID      string
	Public  ed25519.PublicKey
	MadeAt  time.Time
	MadeBy  string
	Retired *time.Time
}

// ErrClosed is a key that this server cannot sign with.
var ErrClosed = errors.New("the newest signing key cannot be opened with this server's key file: start the server with the file that it was made with, " +
	"or make another key with kestite keys rotate")

// List are all keys, the oldest first.
func (k *Keys) List(ctx context.Context) ([]Key, error) {
	rows, err := k.Store.SigningKeys(ctx)
	var out []Key
	for _, r := range rows {
		out = append(out, Key{r.ID, r.Public, r.MadeAt, r.MadeBy, r.RetiredAt})
	}
	return out, err
}

// Make makes a key; where others are to be retired with it, it replaces them.
func (k *Keys) Make(ctx context.Context, replace bool, by trail.By) (id string, err error) {
	err = k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		if err := q.LockDefinitions(ctx); err != nil { // nothing is published meanwhile
			return err
		}
		rows, err := q.SigningKeys(ctx)
		if err != nil {
			return err
		}
		if id, _, err = k.make(ctx, q, by); err != nil {
			return err
		}
		for _, r := range rows {
			if replace && r.RetiredAt == nil {
				if err := k.retire(ctx, q, r.ID, by); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return id, err
}

func (k *Keys) make(ctx context.Context, q *db.Queries, by trail.By) (string, ed25519.PrivateKey, error) {
	seed := make([]byte, ed25519.SeedSize)
	rand.Read(seed)
	private := ed25519.NewKeyFromSeed(seed)
	public, _ := private.Public().(ed25519.PublicKey)
	id := seal.KeyID(public)
	sealed, err := k.Vault.Seal(owner(id), string(seed))
	if err != nil {
		return "", nil, err
	}
	if err := q.AddSigningKey(ctx, db.AddSigningKeyParams{ID: id, Public: public, Sealed: sealed, MadeAt: k.Now(), MadeBy: by.Kept()}); err != nil {
		return "", nil, err
	}
	return id, private, trail.Add(ctx, q, trail.Entry{By: by, Action: "make", Subject: "signing-key " + id})
}

func owner(id string) string { return "signing key " + id }

// Retire ends the time in which a key signs; what it signed stays good.
func (k *Keys) Retire(ctx context.Context, id string, by trail.By) error {
	return k.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error { return k.retire(ctx, q, id, by) })
}

func (k *Keys) retire(ctx context.Context, q *db.Queries, id string, by trail.By) error {
	now := k.Now()
	n, err := q.RetireSigningKey(ctx, db.RetireSigningKeyParams{ID: id, RetiredAt: &now})
	if err != nil {
		return err
	}
	if n == 0 {
		return fmt.Errorf("no key %s is in use", id)
	}
	return trail.Add(ctx, q, trail.Entry{By: by, Action: "retire", Subject: "signing-key " + id})
}

// signer is the newest key in use; one is made where there is none, and none where the
// server has no key file.
func (k *Keys) signer(ctx context.Context, q *db.Queries, by trail.By) (string, ed25519.PrivateKey, error) {
	rows, err := q.SigningKeys(ctx)
	if err != nil {
		return "", nil, err
	}
	for _, r := range slices.Backward(rows) {
		if r.RetiredAt != nil {
			continue
		}
		seed, err := k.Vault.Open(owner(r.ID), r.Sealed)
		if err != nil || len(seed) != ed25519.SeedSize {
			return "", nil, ErrClosed
		}
		return r.ID, ed25519.NewKeyFromSeed([]byte(seed)), nil
	}
	id, private, err := k.make(ctx, q, by)
	if errors.Is(err, vault.ErrNoKey) {
		return "", nil, nil
	}
	return id, private, err
}

// Sealed is what a report's row says of its seal.
type Sealed struct {
	Chain, Entry   string
	Serial, Ledger int64
	Manifest       []byte
	Signature      []byte // nil: the server has no key
}

// Seal numbers a report in its customer's chain and in the ledger, and signs it. Nobody
// else publishes until the transaction ends.
func (k *Keys) Seal(ctx context.Context, tx pgx.Tx, q *db.Queries, m seal.Manifest, files map[string][]byte, by trail.By) (Sealed, error) {
	var out Sealed
	if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext('the ledger of reports'))"); err != nil {
		return out, err
	}
	m.Format, m.Files, m.Number = seal.Format, seal.FilesOf(files), 1
	last, err := q.LastOfChain(ctx, m.Customer)
	switch {
	case err == nil:
		link := seal.Link{Number: *last.Serial, SHA256: seal.Digest(last.Manifest)}
		m.Number, m.Previous = link.Number+1, &link
	case !errors.Is(err, pgx.ErrNoRows):
		return out, err
	}
	before, err := q.LastOfLedger(ctx)
	switch {
	case err == nil:
		m.Ledger = &seal.Link{Number: *before.Ledger, SHA256: *before.Entry}
	case !errors.Is(err, pgx.ErrNoRows):
		return out, err
	}
	id, private, err := k.signer(ctx, q, by)
	if err != nil {
		return out, err
	}
	m.Key = id
	if out.Manifest, err = m.Encode(); err != nil {
		return out, err
	}
	if private != nil {
		out.Signature = seal.Sign(private, out.Manifest)
	}
	entry := seal.Entry(m.Ledger, out.Manifest)
	out.Chain, out.Serial, out.Ledger, out.Entry = m.Customer, m.Number, entry.Number, entry.SHA256
	return out, nil
}

// Blob is something as it is kept: packed, by its digest. To pack takes time: it is done
// before a transaction.
type Blob struct {
	Digest string
	packed []byte
}

// Pack makes a Blob.
func Pack(content []byte) (Blob, error) {
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	if _, err := z.Write(content); err != nil {
		return Blob{}, err
	}
	if err := z.Close(); err != nil {
		return Blob{}, err
	}
	return Blob{seal.Digest(content), buf.Bytes()}, nil
}

// Keep keeps it, once.
func (b Blob) Keep(ctx context.Context, q *db.Queries) error {
	return q.KeepBlob(ctx, db.KeepBlobParams{Digest: b.Digest, Content: b.packed})
}

// PackFiles packs the files of a report.
func PackFiles(files map[string][]byte) (map[string]Blob, error) {
	out := map[string]Blob{}
	for name, content := range files {
		var err error
		if out[name], err = Pack(content); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// KeepFiles keeps the files of a report.
func KeepFiles(ctx context.Context, q *db.Queries, report string, files map[string]Blob) error {
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := files[name].Keep(ctx, q); err != nil {
			return err
		}
		if err := q.AddReportFile(ctx, db.AddReportFileParams{Report: report, Name: name, Digest: files[name].Digest}); err != nil {
			return err
		}
	}
	return nil
}

// Unpacked is what a kept blob holds.
func Unpacked(packed []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

// Archive is a published report with all its files.
func (k *Keys) Archive(ctx context.Context, r db.Report) (*seal.Archive, error) {
	m, err := seal.Decode(r.Manifest)
	if err != nil {
		return nil, err
	}
	a := &seal.Archive{Manifest: m, Encoded: r.Manifest, Signature: r.Signature, Files: map[string][]byte{}}
	rows, err := k.Store.ReportFiles(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	for _, f := range rows {
		if a.Files[f.Name], err = Unpacked(f.Content); err != nil {
			return nil, fmt.Errorf("%s of report %s: %w", f.Name, r.ID, err)
		}
	}
	return a, nil
}

// File is one file of a published report as it was published; catalogue.ErrNotFound where
// it was published without one of that name.
func (k *Keys) File(ctx context.Context, report, name string) ([]byte, error) {
	packed, err := k.Store.ReportFile(ctx, db.ReportFileParams{Report: report, Name: name})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, catalogue.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return Unpacked(packed)
}
