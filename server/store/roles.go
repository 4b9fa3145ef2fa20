package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"kestite/server/store/gen/db"
)

// Admit lets a role work with the database, without being able to change what is
// written for good: it reads and writes all tables, but adds to the trail only,
// and owns those that get a partition a day. Who is connected owns the schema and
// is a member of the role (GRANT worker TO owner).
func (s *Store) Admit(ctx context.Context, worker string) error {
	role := pgx.Identifier{worker}.Sanitize()
	statements := []string{
		"GRANT USAGE, CREATE ON SCHEMA public TO " + role,
		"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO " + role,
		"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO " + role,
		"GRANT EXECUTE ON ALL FUNCTIONS IN SCHEMA public TO " + role,
		"ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT, INSERT, UPDATE, DELETE ON TABLES TO " + role,
		"ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT USAGE, SELECT ON SEQUENCES TO " + role,
		"REVOKE UPDATE, DELETE, TRUNCATE, REFERENCES, TRIGGER ON trail FROM " + role,
		"REVOKE INSERT, UPDATE, DELETE, TRUNCATE ON goose_db_version FROM " + role,
	}
	for _, table := range partitioned {
		statements = append(statements, fmt.Sprintf("ALTER TABLE %s OWNER TO %s", table, role))
	}
	return s.Tx(ctx, func(tx pgx.Tx, _ *db.Queries) error {
		var is bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)", worker).Scan(&is); err != nil {
			return err
		}
		if !is {
			return fmt.Errorf("the database has no role %s; make it: CREATE ROLE %s LOGIN PASSWORD '…'; GRANT %s TO CURRENT_USER",
				worker, role, role)
		}
		rows, err := tx.Query(ctx, "SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = ANY($1::regclass[])", partitioned)
		if err != nil {
			return err
		}
		partitions, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		for _, p := range partitions {
			statements = append(statements, fmt.Sprintf("ALTER TABLE %s OWNER TO %s", p, role))
		}
		for _, sql := range statements {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return fmt.Errorf("admit the role %s (%s): %w", worker, sql, err)
			}
		}
		return nil
	})
}
