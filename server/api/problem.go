package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
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
	var denied *access.Denied
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
	case errors.As(err, &denied):
		return huma.Error403Forbidden(denied.Why)
	case errors.As(err, &conflict):
		return huma.Error409Conflict("Somebody else was faster: " + conflict.Error())
	case errors.Is(err, catalogue.ErrNotFound), errors.Is(err, pgx.ErrNoRows):
		return huma.Error404NotFound("There is none of that id; it may have been mistyped.")
	case errors.Is(err, catalogue.ErrRetired):
		return huma.Error409Conflict("It is retired: its history stays, but it cannot be edited. Restore it first.")
	case peopleProblem(err) != nil:
		return peopleProblem(err)
	case errors.As(err, &pg) && pg.Code == "23505":
		return huma.Error409Conflict("That is there already: " + pg.Detail)
	case errors.As(err, &pg) && pg.Code == "22P02": // an id that is no id
		return huma.Error404NotFound("There is none of that id; it may have been mistyped.")
	case errors.As(err, &pg) && (pg.Code == "22021" || pg.Code == "22P05"):
		return huma.Error422UnprocessableEntity("Some of it cannot be: a text holds characters that cannot be kept.")
	case passing(err):
		log.Warn("request given up", "error", err)
		return huma.Error503ServiceUnavailable("The database is busy or away; nothing was changed. Try again in some seconds.")
	}
	if errors.Is(err, context.Canceled) {
		// The asker went away; nobody reads the answer.
		log.Debug("request given up", "error", err)
		return huma.Error503ServiceUnavailable("The request was given up.")
	}
	log.Error("request failed", "error", err)
	return huma.Error500InternalServerError("Something went wrong on the server; nothing was changed. The server's log says more.")
}

// busy are what the database says when it could do something another time: lock
// not to be had, deadlock, statement or transaction ended by its bounds, too many
// connections, shut down, starting up.
var busy = []string{"55P03", "40P01", "40001", "57014", "25P03", "53300", "57P01", "57P02", "57P03"}

// passing says whether an error is the database's trouble of the moment.
func passing(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return slices.Contains(busy, pg.Code)
	}
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, io.ErrUnexpectedEOF) || pgconn.SafeToRetry(err)
}

// NoSession answers requests whose session cannot be read.
func NoSession(log *slog.Logger) func(http.ResponseWriter, *http.Request, error) {
	return func(w http.ResponseWriter, r *http.Request, err error) {
		if r.Context().Err() == nil {
			log.Warn("a session cannot be read", "error", err)
		}
		writeProblem(w, http.StatusServiceUnavailable, "The database is busy or away, so nobody can be told apart. Try again in some seconds.")
	}
}

func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(&huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail})
}
