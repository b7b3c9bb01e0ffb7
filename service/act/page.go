package act

import (
	"strconv"

	"kembrel/api"
)

// Page makes a page of limit items of rows, of which one more than limit was asked for; the cursor is that of the last
// item shown.
func Page[R, T any](rows []R, limit int, item func(R) T, cursor func(R) string) *api.Page[T] {
	out := &api.Page[T]{Items: make([]T, 0, len(rows))}
	for i, r := range rows {
		if i == limit {
			out.Next = cursor(rows[i-1])
			break
		}
		out.Items = append(out.Items, item(r))
	}
	return out
}

// CursorNumber reads a numeric cursor; "" is the start.
func CursorNumber(cursor string, start int64) (int64, error) {
	if cursor == "" {
		return start, nil
	}
	n, err := strconv.ParseInt(cursor, 10, 64)
	if err != nil || n < 0 {
		return 0, api.Fail(api.Malformed, "%.40q is not a cursor that this service gives out", cursor)
	}
	return n, nil
}
