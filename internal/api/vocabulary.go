package api

import (
	"reflect"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"endeixis/core/container"
	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/directories"
	"endeixis/internal/fault"
	"endeixis/internal/roles"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

// A vocabulary is a closed set of words. Its words stand in the package that
// decides about them; from there they come into the API's description, and from
// that into the console.
type vocabulary struct {
	// name is that of the schema in the description.
	name  string
	of    reflect.Type
	words []any
	// described is the type that stands in for it where schemas are made.
	described reflect.Type
	// meaning says what the words say, in lines of Markdown, or is empty.
	meaning string
}

// problemCodes is the vocabulary of the faults, each with what it says.
func problemCodes() vocabulary {
	v := vocabularyOf("ProblemCode", fault.Codes())
	for _, c := range fault.Codes() {
		v.meaning += "- `" + string(c) + "`: " + c.Meaning() + "\n"
	}
	return v
}

func vocabularyOf[T ~string](name string, list []T) vocabulary {
	v := vocabulary{name: name, of: reflect.TypeFor[T](), described: reflect.TypeFor[word[T]]()}
	for _, w := range list {
		v.words = append(v.words, string(w))
	}
	return v
}

// vocabularies lists those of the API.
var vocabularies = []vocabulary{
	problemCodes(), vocabularyOf("Verdict", judge.Verdicts()),
	vocabularyOf("GroundCode", judge.Codes()), vocabularyOf("Effect", judge.Effects()),
	vocabularyOf("WaivableGround", wire.WaivableGrounds()), vocabularyOf("PathKind", judge.PathKinds()),
	vocabularyOf("LinkState", judge.LinkStates()),
	vocabularyOf("Maker", measure.Makers()),
	vocabularyOf("FileProblemCode", measure.ProblemCodes()), vocabularyOf("CauseCode", diagnose.Codes()),
	vocabularyOf("AlterationKind", verify.AlterationKinds()), vocabularyOf("FileRole", survey.Roles()),
	vocabularyOf("FileRoleFilter", wire.RoleFilters()), vocabularyOf("ManifestChannel", survey.Channels()),
	vocabularyOf("ManifestFormat", manifest.Formats()),
	vocabularyOf("ManifestProblem", manifest.ProblemCodes()), vocabularyOf("ChangeKind", manifest.ChangeKinds()),
	vocabularyOf("KeyState", keyring.States()),
	vocabularyOf("KeyRole", keyring.Roles()), vocabularyOf("SightingChannel", keyring.Channels()),
	vocabularyOf("Arrival", keyring.Arrivals()),
	vocabularyOf("PacketStanding", openpgp.Standings()), vocabularyOf("KeyEventKind", openpgp.EventKinds()),
	vocabularyOf("CertificationStatus", openpgp.CertificationStatuses()),
	vocabularyOf("DirectoryKind", directories.Kinds()), vocabularyOf("DirectoryOutcome", directories.Outcomes()),
	vocabularyOf("SourceKind", sources.Kinds()),
	vocabularyOf("BatchState", state.Batches()), vocabularyOf("RunState", state.Runs()),
	vocabularyOf("WaiverState", state.Waivers()),
	vocabularyOf("RecordKind", ledger.Kinds()), vocabularyOf("Role", roles.All()),
	vocabularyOf("VisitKind", satchel.Kinds()),
	vocabularyOf("DeviceReach", device.Connections()),
	vocabularyOf("DeviceCovers", []device.Covers{device.Image, device.WholeSlot}),
}

// coreVocabularies are those that only the core in a browser has.
var coreVocabularies = []vocabulary{
	vocabularyOf("TextKind", survey.TextKinds()), vocabularyOf("MarkKind", survey.MarkKinds()),
}

// speak makes the registry describe vocabularies by their words.
func speak(r huma.Registry, vocabularies []vocabulary) {
	for _, v := range vocabularies {
		r.RegisterTypeAlias(v.of, v.described)
		r.Map()[v.name] = v.schema()
	}
}

func (v vocabulary) schema() *huma.Schema {
	s := &huma.Schema{Type: huma.TypeString, Enum: v.words, Description: v.meaning}
	s.PrecomputeMessages()
	return s
}

// schemaName names the schema of a type: by its own name, except for those of the core
// that share one with another.
func schemaName(t reflect.Type, hint string) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t {
	case reflect.TypeFor[measure.Problem]():
		return "FileProblem"
	case reflect.TypeFor[measure.Reading]():
		return "FileReading"
	case reflect.TypeFor[container.Problem]():
		return "MemberProblem"
	}
	return huma.DefaultSchemaNamer(t, hint)
}

// settleNulls says of every field that may be null instead of a word that it may:
// a reference alone has no room for that.
func settleNulls(r huma.Registry) {
	for _, s := range r.Map() {
		for name, field := range s.Properties {
			if field.Ref != "" && field.Nullable {
				s.Properties[name] = &huma.Schema{
					AnyOf: []*huma.Schema{{Ref: field.Ref}, {Type: "null"}}, Description: field.Description,
				}
			}
		}
	}
}

// word describes the vocabulary of T.
type word[T ~string] string

// Schema returns the description where a word of T is used.
func (word[T]) Schema(huma.Registry) *huma.Schema {
	for _, v := range slices.Concat(vocabularies, coreVocabularies) {
		if v.of == reflect.TypeFor[T]() {
			return &huma.Schema{Ref: "#/components/schemas/" + v.name}
		}
	}
	return nil
}
