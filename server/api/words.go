package api

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/validation"
)

// What the validation of requests says, in words that a form can show as they are.
func init() {
	validation.MsgUnexpectedProperty = "there is no such field"
	validation.MsgExpectedBoolean = "true or false is expected"
	validation.MsgExpectedNumber = "a number is expected"
	validation.MsgExpectedInteger = "a whole number is expected"
	validation.MsgExpectedString = "text is expected"
	validation.MsgExpectedArray = "a list is expected"
	validation.MsgExpectedObject = "an object is expected"
	validation.MsgExpectedOneOf = "it is one of \"%s\""
	validation.MsgExpectedMinimumNumber = "it is at least %v"
	validation.MsgExpectedMaximumNumber = "it is at most %v"
	validation.MsgExpectedMinLength = "it is too short; at least %d characters are needed"
	validation.MsgExpectedMaxLength = "it is too long; %d characters are the most"
	validation.MsgExpectedMinItems = "at least %d is needed"
	validation.MsgExpectedMaxItems = "%d are the most"
	validation.MsgExpectedRequiredProperty = "%s is missing"

	huma.ErrorFormatter = func(format string, args ...any) string {
		for i, a := range args {
			if v, ok := a.(float64); ok { // a bound as people write it, not as 2.6784e+06
				args[i] = strconv.FormatFloat(v, 'f', -1, 64)
			}
		}
		return fmt.Sprintf(format, args...)
	}
	plain := huma.NewError
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		if message == "validation failed" {
			message = "Some of it cannot be"
			if status == http.StatusBadRequest {
				message = "The request cannot be read"
			}
			if len(errs) > 0 {
				if d, ok := errs[0].(huma.ErrorDetailer); ok {
					detail := d.ErrorDetail()
					message += ": " + detail.Location + ": " + detail.Message
				}
			}
		}
		return plain(status, message, errs...)
	}
}
