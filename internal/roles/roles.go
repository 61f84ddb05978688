// Package roles has the four roles of people and tokens.
package roles

import "slices"

// A Role is what somebody may do. Each role may do all that the ones before it
// may.
type Role string

// The roles, the least first.
const (
	// Auditor reads.
	Auditor Role = "auditor"
	// Operator verifies.
	Operator Role = "operator"
	// Curator also keeps the keyring.
	Curator Role = "curator"
	// Administrator also keeps people, tokens and settings.
	Administrator Role = "administrator"
)

// All lists every role, the least first.
func All() []Role { return []Role{Auditor, Operator, Curator, Administrator} }

// Valid reports whether the role exists.
func (r Role) Valid() bool { return slices.Contains(All(), r) }

// May reports whether somebody of this role may do what another role may.
func (r Role) May(needed Role) bool {
	return r.Valid() && slices.Index(All(), r) >= slices.Index(All(), needed)
}
