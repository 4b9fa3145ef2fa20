package api

import "github.com/danielgtaylor/huma/v2"

type body[T any] struct{ Body T }
type none struct{}
type list[T any] struct {
	Body struct {
		Items []T `json:"items"`
	}
}

func items[T any](all []T) *list[T] {
	out := &list[T]{}
	out.Body.Items = all
	if all == nil {
		out.Body.Items = []T{}
	}
	return out
}

// ByID is the id in a path.
type ByID struct {
	ID string `path:"id"`
}

// invalid is a fault of one field of the body.
func invalid(path, message string) error {
	return huma.Error422UnprocessableEntity("Some of it cannot be: "+message, &huma.ErrorDetail{Location: "body." + path, Message: message})
}
