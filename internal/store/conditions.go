package store

import (
	"fmt"
	"strings"
)

// conditions are those of a query that asks for what is set only, so that an
// index is chosen for that.
type conditions []string

// add adds a condition about the argument, if it is set.
func (c *conditions) add(args *[]any, set bool, condition string, arg any) {
	if set {
		*args = append(*args, arg)
		*c = append(*c, fmt.Sprintf(condition, len(*args)))
	}
}

func (c conditions) clause() string {
	if len(c) == 0 {
		return ""
	}
	return "WHERE " + strings.Join(c, " AND ") + " "
}
