package people

import (
	"cmp"
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"kestite/core/definition"
	"kestite/server/auth"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
	"kestite/server/vault"
)

// ProposeFactor makes a second factor for a person, who has to confirm it with a
// first code. It takes the password, and nothing changes until then.
func (p *People) ProposeFactor(ctx context.Context, by trail.By, password string) (auth.Proposal, error) {
	who, err := p.again(ctx, by, "password", password)
	if err != nil {
		return auth.Proposal{}, err
	}
	if who.FactorAt != nil {
		return auth.Proposal{}, definition.Faultf("password", "you have a second factor; take it away first")
	}
	org, err := p.Store.Organisation(ctx)
	if err != nil {
		return auth.Proposal{}, err
	}
	proposal, sealed, err := p.Factor.Propose(who.ID, who.Email, org.Name)
	if errors.Is(err, vault.ErrNoKey) {
		return proposal, definition.Faultf("password", "%v", err)
	}
	if err != nil {
		return proposal, err
	}
	return proposal, p.Store.ProposeFactor(ctx, db.ProposeFactorParams{ID: who.ID, FactorSealed: sealed})
}

// ConfirmFactor takes the first code of the second factor that was proposed. From
// then on it is asked for; the codes that stand in for it are shown this once.
func (p *People) ConfirmFactor(ctx context.Context, by trail.By, session, code string) (codes []string, err error) {
	err = p.with(ctx, by.Person, func(tx pgx.Tx, q *db.Queries, who db.Person) error {
		if who.FactorSealed == nil || who.FactorAt != nil {
			return definition.Faultf("code", "there is no second factor to be confirmed; begin again")
		}
		step, err := p.Factor.Step(who.ID, who.FactorSealed, code, p.Now())
		if err != nil {
			return err
		}
		if step == 0 {
			return definition.Faultf("code", "that is not the code it shows now; look whether the telephone's clock is right")
		}
		if _, err := q.UseStep(ctx, db.UseStepParams{ID: who.ID, Step: step}); err != nil {
			return err
		}
		now := p.Now()
		if err := q.ConfirmFactor(ctx, db.ConfirmFactorParams{ID: who.ID, FactorAt: &now}); err != nil {
			return err
		}
		if codes, err = newCodes(ctx, q, who.ID); err != nil {
			return err
		}
		// Sessions from before, and browsers that were known, had less to show.
		if _, err := auth.End(ctx, tx, q, who.ID, session); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "set second factor", Subject: subject(who.ID)})
	})
	return codes, err
}

func newCodes(ctx context.Context, q *db.Queries, id string) ([]string, error) {
	codes, hashes := auth.RecoveryCodes()
	if err := q.DropRecoveryCodes(ctx, id); err != nil {
		return nil, err
	}
	for _, h := range hashes {
		if err := q.AddRecoveryCode(ctx, db.AddRecoveryCodeParams{Person: id, Hash: h}); err != nil {
			return nil, err
		}
	}
	return codes, nil
}

// RenewCodes makes new recovery codes; those from before are worthless.
func (p *People) RenewCodes(ctx context.Context, by trail.By, password string) (codes []string, err error) {
	if _, err := p.again(ctx, by, "password", password); err != nil {
		return nil, err
	}
	err = p.with(ctx, by.Person, func(_ pgx.Tx, q *db.Queries, who db.Person) error {
		if who.FactorAt == nil {
			return definition.Faultf("password", "you have no second factor that they could stand in for")
		}
		if codes, err = newCodes(ctx, q, who.ID); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "make recovery codes", Subject: subject(who.ID)})
	})
	return codes, err
}

// DropOwnFactor takes the second factor away from who is signed in, with their password.
func (p *People) DropOwnFactor(ctx context.Context, by trail.By, password string) error {
	if _, err := p.again(ctx, by, "password", password); err != nil {
		return err
	}
	org, err := p.Store.Organisation(ctx)
	if err != nil {
		return err
	}
	if org.SecondFactorRequired {
		return definition.Faultf("password", "a second factor is required here; an administrator can take a lost one away")
	}
	return p.DropFactor(ctx, by, by.Person)
}

// DropFactor takes the second factor away from a person who lost it, and signs
// them out everywhere.
func (p *People) DropFactor(ctx context.Context, by trail.By, id string) error {
	return p.with(ctx, id, func(tx pgx.Tx, q *db.Queries, who db.Person) error {
		if err := q.DropFactor(ctx, id); err != nil {
			return err
		}
		if by.Person != id {
			if _, err := auth.End(ctx, tx, q, id, ""); err != nil {
				return err
			}
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "drop second factor", Subject: subject(id),
			Detail: map[string]any{"there_was_one": who.FactorAt != nil}})
	})
}

// Require says whether everybody needs a second factor. Who asks for it has one.
func (p *People) Require(ctx context.Context, by trail.By, required bool) error {
	return p.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		org, err := q.Organisation(ctx)
		if err != nil {
			return err
		}
		if who, err := q.Person(ctx, by.Person); err != nil || required && who.FactorAt == nil {
			return cmp.Or[error](err, definition.Faultf("second_factor_required",
				"set up your own second factor first: you would only be let in to do that"))
		}
		if err := q.RequireFactor(ctx, required); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{
			By: by, Action: "edit", Subject: "organisation",
			Before: map[string]bool{"second_factor_required": org.SecondFactorRequired},
			Detail: map[string]bool{"second_factor_required": required},
		})
	})
}
