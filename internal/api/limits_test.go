package api

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"endeixis/internal/access"
	"endeixis/internal/fault"
	"endeixis/internal/roles"
	"endeixis/internal/wire"
)

func TestLimitedTokens(t *testing.T) {
	batch := func(depot, publisher string) wire.RunBatchRequest {
		return wire.RunBatchRequest{Body: wire.NewBatch{Depot: depot, Publisher: publisher}}
	}
	byDepot := access.Principal{Depots: []string{"quayside", "pier"}}
	byPublisher := access.Principal{Publishers: []string{"tidewright"}}
	byBoth := access.Principal{Depots: []string{"pier"}, Publishers: []string{"tidewright"}}
	for what, c := range map[string]struct {
		p      access.Principal
		role   roles.Role
		in     any
		denied bool
	}{
		"no limit":                          {access.Principal{}, roles.Administrator, wire.AddUserRequest{}, false},
		"its depot":                         {byDepot, roles.Operator, batch("pier", ""), false},
		"another depot":                     {byDepot, roles.Operator, batch("office", "tidewright"), true},
		"its publisher":                     {byPublisher, roles.Operator, batch("office", "tidewright"), false},
		"another publisher":                 {byPublisher, roles.Operator, batch("office", "oarlock"), true},
		"a publisher that the names tell":   {byPublisher, roles.Operator, batch("office", ""), true},
		"both":                              {byBoth, roles.Operator, batch("pier", "tidewright"), false},
		"only one of both":                  {byBoth, roles.Operator, batch("pier", "oarlock"), true},
		"looking into its depot":            {byDepot, roles.Auditor, wire.ListFolderRequest{Depot: "pier"}, false},
		"looking into another":              {byDepot, roles.Auditor, wire.ListFolderRequest{Depot: "office"}, true},
		"a survey of another":               {byDepot, roles.Operator, wire.SurveyRequest{Body: wire.NewSurvey{Depot: "office"}}, true},
		"a survey for a publisher":          {byPublisher, roles.Operator, wire.SurveyRequest{Body: wire.NewSurvey{Depot: "office"}}, false},
		"reading records":                   {byDepot, roles.Auditor, wire.ListBatchesRequest{}, false},
		"admitting a key for its publisher": {byPublisher, roles.Curator, wire.AdmitKeyRequest{Body: wire.Admission{Publisher: "tidewright"}}, false},
		"admitting a key, good for a depot": {byDepot, roles.Curator, wire.AdmitKeyRequest{Body: wire.Admission{Publisher: "tidewright"}}, true},
		"withdrawing a key, whosever it is": {byPublisher, roles.Curator, wire.KeyStepRequest{}, true},
		"a policy for all":                  {byPublisher, roles.Curator, wire.SetPolicyRequest{}, true},
		"people":                            {byDepot, roles.Administrator, wire.ChangeUserRequest{}, true},
	} {
		err := within(c.p, c.role, c.in)
		if c.denied {
			assert.True(t, fault.Is(err, fault.TokenLimited), "%s: %v", what, err)
		} else {
			assert.NoError(t, err, what)
		}
	}
}
