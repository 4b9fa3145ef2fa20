package evidence

import (
	"errors"
	"io"

	"kestite/core/measure"
	"kestite/core/span"
)

// Answers visits one measure of the rows of measurements.csv that have it, in the order of
// the file: column names the measure of a check, "" where none is wanted. Values are
// thousandths. The error is a *RowFault or one of reading.
func Answers(in io.Reader, name string, column func(check string) string, visit func(check, location string, at span.Instant, outcome measure.Outcome, thousandths int64)) error {
	rows, err := newRowReader(in, name)
	if err != nil {
		return err
	}
	index := map[string]int{}
	for i, n := range rows.names {
		index[n] = i
	}
	wanted := map[string]int{} // by check; -1: nothing
	var r row
	for {
		if err := rows.read(&r); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		at, known := wanted[string(r.check)]
		if !known {
			at = -1
			if i, has := index[column(string(r.check))]; has {
				at = i
			}
			wanted[string(r.check)] = at
		}
		if at < 0 || len(rows.fields[at]) == 0 {
			continue
		}
		v, err := thousandths(rows.fields[at])
		if err != nil {
			return rows.fault("%s: %q is no finite decimal number", rows.names[at], rows.fields[at])
		}
		visit(string(r.check), string(r.location), r.at, r.outcome, v)
	}
}
