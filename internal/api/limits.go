package api

import (
	"slices"
	"strings"

	"endeixis/internal/access"
	"endeixis/internal/fault"
	"endeixis/internal/roles"
	"endeixis/internal/wire"
)

// within reports whether somebody may ask for what needs a role. A token that is
// good for some depots or publishers only may look at everything but other
// depots' folders; what it has done must be about one of them.
func within(p access.Principal, needed roles.Role, in any) error {
	if !p.Limited() {
		return nil
	}
	var reach wire.Scope
	if r, ok := in.(wire.Reaching); ok {
		reach = r.Reaches()
	}
	reads := reach.Reads || needed == roles.Auditor
	for _, limit := range []struct {
		allowed     []string
		what, asked string
	}{{p.Depots, "depot", reach.Depot}, {p.Publishers, "publisher", reach.Publisher}} {
		if len(limit.allowed) == 0 || slices.Contains(limit.allowed, limit.asked) || reads && limit.asked == "" {
			continue
		}
		f := fault.New(
			fault.Denied, fault.TokenLimited, "This token is good for the %s %s only.", limit.what,
			strings.Join(limit.allowed, ", "),
		)
		if limit.asked == "" {
			return f.Advise("Name the %s, or use another token for this.", limit.what)
		}
		return f.Advise("Use another token for this.").At(limit.what)
	}
	return nil
}
