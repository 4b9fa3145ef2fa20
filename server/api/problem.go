package api

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/core/definition"
	"kestite/server/auth"
	"kestite/server/catalogue"
)

// problem turns an error into problem details (RFC 9457): what is wrong, where,
// and what to do. What the user cannot mend is logged and not shown.
func problem(err error, log *slog.Logger) error {
	if err == nil {
		return nil
	}
	var status huma.StatusError
	var fault *definition.Fault
	var conflict *catalogue.Conflict
	var pg *pgconn.PgError
	switch {
	case errors.As(err, &status):
		return err
	case errors.As(err, &fault):
		path := fault.Path
		if !strings.HasPrefix(path, "query.") && path != "id" && path != "period" {
			path = "body." + path
		}
		return huma.Error422UnprocessableEntity("Some of it cannot be: "+fault.Message, &huma.ErrorDetail{Location: path, Message: fault.Message})
	case errors.As(err, &conflict):
		return huma.Error409Conflict("Somebody else was faster: " + conflict.Error())
	case errors.Is(err, catalogue.ErrNotFound), errors.Is(err, pgx.ErrNoRows):
		return huma.Error404NotFound("There is none of that id; it may have been mistyped.")
	case errors.Is(err, catalogue.ErrRetired):
		return huma.Error409Conflict("It is retired: its history stays, but it cannot be edited. Restore it first.")
	case errors.Is(err, auth.ErrWrong):
		return huma.Error401Unauthorized("E-mail address or password is wrong.")
	case errors.Is(err, auth.ErrTooOften):
		return huma.Error429TooManyRequests("Too many attempts; wait a minute and try again.")
	case errors.As(err, &pg) && pg.Code == "23505":
		return huma.Error409Conflict("That is there already: " + pg.Detail)
	}
	if errors.Is(err, context.Canceled) {
		// The asker went away; nobody reads the answer.
		log.Debug("request given up", "error", err)
		return huma.Error503ServiceUnavailable("The request was given up.")
	}
	log.Error("request failed", "error", err)
	return huma.Error500InternalServerError("Something went wrong on the server; nothing was changed. The server's log says more.")
}

func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(&huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
}
