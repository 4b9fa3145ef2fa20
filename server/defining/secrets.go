package defining

import (
	"context"
	"log/slog"

	"kestite/core/catalogue"
	"kestite/instrument"
	"kestite/server/vault"
)

// Secrets are all credentials with what they stand for, opened. One that cannot be opened
// is left out, and said in the log.
func (d *Definitions) Secrets(ctx context.Context, snap *catalogue.Snapshot, v *vault.Vault, log *slog.Logger) (map[string]*instrument.Secret, error) {
	rows, err := d.store.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*instrument.Secret{}
	for _, r := range rows {
		value, err := v.Open(r.Credential, r.Sealed)
		if err != nil {
			log.Error("nobody can sign in with a credential", "credential", r.Credential, "error", err)
			continue
		}
		if e := snap.Credentials[r.Credential]; e != nil {
			spec := e.Current().Spec
			out[r.Credential] = &instrument.Secret{
				Kind: spec.Kind, User: spec.User, Header: spec.Header, Parameter: spec.Parameter, Origins: spec.Origins, Value: value,
			}
		}
	}
	return out, nil
}
