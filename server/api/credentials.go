package api

import (
	"context"
	"net/http"

	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/instrument"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

func (s *Server) credentialRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.CredentialSpec]{
		kind: catalogue.Credential, path: "/credentials", name: "a credential",
		named: func(s definition.CredentialSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.CredentialSpec] {
			return s.Credentials
		},
	})
	on(a, access.Define, http.MethodPut, "/credentials/{id}/secret", "set-secret", "Set the secret of a credential; it is encrypted and never read back", s.setSecret)
	on(a, access.See, http.MethodGet, "/credentials/secrets", "list-secrets", "Which credentials have a secret, and since when", func(ctx context.Context, _ *none) (*list[SecretView], error) {
		rows, err := s.Store.Secrets(ctx)
		var out []SecretView
		for _, r := range rows {
			out = append(out, SecretView{r.Credential, r.ChangedAt.UTC().Format("2006-01-02T15:04:05.000Z"), r.ChangedBy})
		}
		return items(out), err
	})
}

// SecretView says that there is a secret, and not which.
type SecretView struct {
	Credential string `json:"credential"`
	ChangedAt  string `json:"changed_at"`
	ChangedBy  string `json:"changed_by"`
}

// SecretEntry is a secret on its way in.
type SecretEntry struct {
	Secret string `json:"secret"`
}

func (s *Server) setSecret(ctx context.Context, in *struct {
	ByID
	body[SecretEntry]
}) (*none, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if e := snap.Credentials[in.ID]; e == nil || e.Retired {
		return nil, catalogue.ErrNotFound
	}
	if err := who(ctx).Rights.Everywhere(snap, access.Define); err != nil {
		return nil, err
	}
	if err := definition.ValidSecret(in.Body.Secret); err != nil {
		return nil, err
	}
	sealed, err := s.Vault.Seal(in.ID, in.Body.Secret)
	if err != nil {
		return nil, invalid("secret", err.Error())
	}
	return nil, s.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.PutSecret(ctx, db.PutSecretParams{Credential: in.ID, Sealed: sealed, ChangedBy: by(ctx).Kept()}); err != nil {
			return err
		}
		if err := trail.Add(ctx, q, trail.Entry{By: by(ctx), Action: "set secret",
			Subject: catalogue.Credential + " " + in.ID}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnDefinition, IDs: []string{catalogue.Credential + " " + in.ID}})
	})
}

// secretFor is the secret that a check may send to its target; nil where it has
// no credential, or one that is bound elsewhere.
func secretFor(all map[string]*instrument.Secret, c wire.Check) *instrument.Secret {
	secret := all[credentialOf(c.Settings)]
	if secret == nil || !definition.AtOrigin(secret.Origins, c.Target) {
		return nil
	}
	return secret
}

// credentialOf is the credential that settings refer to; empty where there is none.
func credentialOf(set definition.Settings) string {
	if set.HTTP == nil {
		return ""
	}
	return set.HTTP.Credential
}
