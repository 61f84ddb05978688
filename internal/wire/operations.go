package wire

import (
	"net/http"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/openpgp"
	"endeixis/internal/roles"
)

// Base is the path below which the operations lie.
const Base = "/api/v1"

// An Operation is one thing that can be asked of the service. In has what is
// sent, in fields tagged path, query, header or cookie, and in one called Body;
// Out is the JSON that is answered. The service registers operations and the
// client calls them, both by this table.
type Operation[In, Out any] struct {
	Method string
	// Path is below [Base], with the names of path fields in braces.
	Path string
	// Earlier is its path at the level before, where that is another one: it is served too.
	Earlier string
	// ID is stable, and names the operation in the API's description.
	ID      string
	Summary string
	// Role is what it needs; empty is open to all.
	Role roles.Role
	// MaxBody bounds what is sent, in bytes; zero leaves it at 64 KiB.
	MaxBody int64
	// Status is that of success; zero leaves it at 200, or 204 without an
	// answer.
	Status int
	// Again is set where asking twice is as asking once, so that what was lost on the way can
	// be asked again. It is so with everything that only reads.
	Again bool
}

// Nothing is what an operation takes or answers that takes or answers nothing.
type Nothing struct{}

const (
	get    = http.MethodGet
	post   = http.MethodPost
	patch  = http.MethodPatch
	put    = http.MethodPut
	remove = http.MethodDelete

	// anybody needs no role.
	anybody = roles.Role("")

	mebibyte = 1 << 20
)

// People, and the service itself.
var (
	SignIn = Operation[SignInRequest, Me]{
		Method: post, Path: "/sessions", ID: "sign-in", Summary: "Sign in with name and password", Role: anybody,
		MaxBody: 4 << 10,
	}
	SignOut = Operation[SignOutRequest, Nothing]{
		Method: remove, Path: "/sessions/current", ID: "sign-out", Summary: "End this session", Role: roles.Auditor,
	}
	WhoAmI = Operation[Nothing, Me]{
		Method: get, Path: "/me", ID: "who-am-i", Summary: "Who is signed in", Role: roles.Auditor,
	}
	ShowStatus = Operation[Nothing, Status]{
		Method: get, Path: "/status", ID: "status", Summary: "Version, ledger and depots of the service",
		Role: roles.Auditor,
	}
	AddUser = Operation[AddUserRequest, User]{
		Method: post, Path: "/users", ID: "add-user", Summary: "Add a person", Role: roles.Administrator,
	}
	ListUsers = Operation[Nothing, Page[User]]{
		Method: get, Path: "/users", ID: "list-users", Summary: "List people", Role: roles.Administrator,
	}
	ChangeUser = Operation[ChangeUserRequest, User]{
		Method: patch, Path: "/users/{name}", ID: "change-user",
		Summary: "Change a person's name, role or password, or disable them", Role: roles.Administrator,
	}
	ChangePassword = Operation[PasswordRequest, Nothing]{
		Method: post, Path: "/me/password", ID: "change-password",
		Summary: "Change one's own password; other sessions end", Role: roles.Auditor, MaxBody: 8 << 10,
	}
	IssueToken = Operation[IssueTokenRequest, IssuedToken]{
		Method: post, Path: "/tokens", ID: "issue-token", Summary: "Make a token; its text is shown this once",
		Role: roles.Auditor,
	}
	ListTokens = Operation[Nothing, Page[Token]]{
		Method: get, Path: "/tokens", ID: "list-tokens",
		Summary: "List one's tokens, or everybody's for an administrator", Role: roles.Auditor,
	}
	RevokeOwnToken = Operation[Nothing, Nothing]{
		Method: remove, Path: "/tokens/current", ID: "revoke-own-token",
		Summary: "End the token that this request carries", Role: roles.Auditor,
	}
	RevokeToken = Operation[TokenAt, Nothing]{
		Method: remove, Path: "/tokens/{id}", ID: "revoke-token", Summary: "End a token", Role: roles.Auditor,
	}
)

// Depots, batches and their items.
var (
	ListDepots = Operation[Nothing, Page[Depot]]{
		Method: get, Path: "/depots", ID: "list-depots", Summary: "List the depots", Role: roles.Auditor,
	}
	ListFolder = Operation[ListFolderRequest, Page[Entry]]{
		Method: get, Path: "/depots/{depot}/entries", ID: "list-folder",
		Summary: "List what lies in a folder of a depot", Role: roles.Auditor,
	}
	ListOrigins = Operation[Nothing, Page[Origin]]{
		Method: get, Path: "/origins", ID: "list-origins",
		Summary: "List the places from which copies of manifests can be fetched", Role: roles.Auditor,
	}
	SurveyFolder = Operation[SurveyRequest, Survey]{
		Method: post, Path: "/surveys", ID: "survey-folder",
		Summary: "Show what a batch would check and why, without checking it", Role: roles.Operator, MaxBody: mebibyte,
	}
	ReadManifest = Operation[ReadManifestRequest, ManifestContent]{
		Method: post, Path: "/manifest-readings", ID: "read-manifest",
		Summary: "Show what is understood of a manifest, and what is not; nothing is kept", Role: roles.Auditor,
		MaxBody: 6 * mebibyte,
	}

	RunBatch = Operation[RunBatchRequest, Batch]{
		Method: post, Path: "/batches", ID: "run-batch", Summary: "Verify a folder of a depot", Role: roles.Operator,
		MaxBody: 8 * mebibyte, Status: http.StatusAccepted, Again: true,
	}
	SendListing = Operation[ListingAt, Nothing]{
		Method: put, Path: "/batches/{id}/listing/{page}", ID: "send-listing",
		Summary: "Send a page of the list of files of a batch that is measured elsewhere", Role: roles.Operator,
		MaxBody: 24 * mebibyte, Again: true,
	}
	CloseListing = Operation[ListingEnd, Batch]{
		Method: post, Path: "/batches/{id}/listing", ID: "close-listing",
		Summary: "Say that the list of files is whole, so that the service plans what is to be measured",
		Role:    roles.Operator, Status: http.StatusAccepted, Again: true,
	}
	ListAssignments = Operation[ListAssignmentsRequest, Page[Assignment]]{
		Method: get, Path: "/batches/{id}/assignments", ID: "list-assignments",
		Summary: "List what is left to measure of a batch that is measured elsewhere", Role: roles.Operator,
		Earlier: "/batches/{id}/chores",
	}
	SendMeasurements = Operation[SendMeasurementsRequest, Taken]{
		Method: post, Path: "/batches/{id}/measurements", ID: "send-measurements",
		Summary: "Send what was measured, to be judged and recorded; it may be sent again", Role: roles.Operator,
		MaxBody: 24 * mebibyte, Again: true,
	}

	ShowDrillAssignment = Operation[ItemAt, DrillAssignment]{
		Method: get, Path: "/batches/{id}/items/{n}/drill", ID: "show-drill-assignment",
		Summary: "Tell what to measure for the drill of an item whose bytes are elsewhere", Role: roles.Operator,
	}
	DrillBatch = Operation[DrillRequest, Drill]{
		Method: post, Path: "/batches/{id}/drills", ID: "drill-batch",
		Summary: "Prove that the check can fail: measure and judge items with everything altered that they rest on",
		Role:    roles.Operator, MaxBody: 2 * mebibyte,
	}
	ListPieces = Operation[PiecesRequest, PieceDigests]{
		Method: get, Path: "/batches/{id}/items/{n}/pieces", ID: "list-pieces",
		Summary: "Hash pieces of a file that the service can read, to find where a medium differs from it",
		Role:    roles.Operator,
	}
	FetchContent = Operation[ContentRequest, Nothing]{
		Method:  get,
		Path:    "/batches/{id}/items/{n}/content",
		ID:      "fetch-content",
		Summary: "Fetch a file that is cleared and that the service can read, or what it rests on: whole, or a part of it with the header Range",
		Role:    roles.Operator,
	}
	NoteReferences = Operation[NoteReferencesRequest, Noted]{
		Method: post, Path: "/references/noted", ID: "note-references", Role: roles.Curator,
		Summary: "Put on record that digests of a publisher's files were read somewhere; they clear nothing",
	}
	ListNotedReferences = Operation[ListNotedReferencesRequest, Page[NotedReference]]{
		Method: get, Path: "/references/noted", ID: "list-noted-references", Role: roles.Auditor,
		Summary: "List digests that were read somewhere, the newest first",
	}
	FindReferences = Operation[FindReferencesRequest, Page[Reference]]{
		Method: get, Path: "/references", ID: "find-references",
		Summary: "Tell which file that was cleared here has these bytes, or list all, the newest first",
		Role:    roles.Auditor,
	}

	ListBatches = Operation[ListBatchesRequest, Page[Batch]]{
		Method: get, Path: "/batches", ID: "list-batches", Summary: "List batches, the newest first",
		Role: roles.Auditor,
	}
	ShowBatch = Operation[BatchAt, Batch]{
		Method: get, Path: "/batches/{id}", ID: "show-batch", Summary: "Show a batch", Role: roles.Auditor,
	}
	CancelBatch = Operation[BatchStepRequest, Batch]{
		Method: post, Path: "/batches/{id}/cancellation", ID: "cancel-batch",
		Summary: "End a batch before it is done: one's own, or anybody's for a curator; what is measured stays",
		Role:    roles.Operator, Status: http.StatusAccepted,
	}
	CompareBatches = Operation[CompareBatchesRequest, Comparison]{
		Method: get, Path: "/batches/{id}/comparison/{other}", ID: "compare-batches", Role: roles.Auditor,
		Summary: "Tell what differs between two batches: files, packages, keys and what they were judged by",
	}
	SettleBatch = Operation[BatchStepRequest, Batch]{
		Method: post, Path: "/batches/{id}/settlement", ID: "settle-batch",
		Summary: "Record that a refused or unproven batch needs no attention as it is, and why; its verdict stays",
		Role:    roles.Operator,
	}
	FollowBatch = Operation[FollowBatchRequest, Batch]{
		Method: get, Path: "/batches/{id}/events", ID: "follow-batch",
		Summary: "Follow a batch; every event is the whole batch as it then stands", Role: roles.Auditor,
	}
	ListItems = Operation[ListItemsRequest, Page[Item]]{
		Method:  get,
		Path:    "/batches/{id}/items",
		ID:      "list-items",
		Summary: "List the items of a batch: the refused first, then those unproven, cleared and what is no artifact, each by path; with their evidence",
		Role:    roles.Auditor,
	}
	ListItemRows = Operation[ListItemsRequest, Page[ItemRow]]{
		Method: get, Path: "/batches/{id}/rows", ID: "list-item-rows",
		Summary: "List the items of a batch in the same order, with what a row of a list shows", Role: roles.Auditor,
	}
	ShowItem = Operation[ItemAt, Item]{
		Method: get, Path: "/batches/{id}/items/{n}", ID: "show-item", Summary: "Show an item with its evidence",
		Role: roles.Auditor,
	}
	AttestBatch = Operation[BatchAt, Envelope]{
		Method: get, Path: "/batches/{id}/attestation", ID: "attest-batch",
		Summary: "Hand out a signed summary of a batch: an in-toto Statement in a DSSE envelope", Role: roles.Auditor,
	}
	AttestItem = Operation[ItemAt, Envelope]{
		Method: get, Path: "/batches/{id}/items/{n}/attestation", ID: "attest-item",
		Summary: "Hand out a signed summary of an artifact: an in-toto Statement in a DSSE envelope",
		Role:    roles.Auditor,
	}
	ListCopies = Operation[BatchAt, Page[Copy]]{
		Method: get, Path: "/batches/{id}/copies", ID: "list-copies",
		Summary: "Tell how copies of the batch's manifests compare", Role: roles.Auditor,
	}
	ListAbsent = Operation[ListAbsentRequest, Page[Absent]]{
		Method: get, Path: "/batches/{id}/absent", ID: "list-absent",
		Summary: "List the manifest entries of a batch whose files are not here", Role: roles.Auditor,
	}

	ListAttention = Operation[ListAttentionRequest, Page[Attention]]{
		Method: get, Path: "/attention", ID: "list-attention",
		Summary: "List what needs attention, each with its reason and what helps: keys, for those who decide about them, and batches that are refused or unproven",
		Role:    roles.Auditor,
	}
	ShowOverview = Operation[Nothing, Overview]{
		Method: get, Path: "/overview", ID: "overview", Summary: "What needs attention", Role: roles.Auditor,
	}
)

// Equipment that hashes what it holds.
var (
	ListDevices = Operation[Nothing, Page[Device]]{
		Method: get, Path: "/devices", ID: "list-devices",
		Summary: "List devices, with what was last found in their slots", Role: roles.Auditor,
	}
	ShowDevice = Operation[DeviceAt, DeviceShown]{
		Method: get, Path: "/devices/{name}", ID: "show-device",
		Summary: "Show a device, and what was found in its slots", Role: roles.Auditor,
	}
	SetDevice = Operation[SetDeviceRequest, Device]{
		Method: put, Path: "/devices/{name}", ID: "set-device", Summary: "Add a device, or change what is known of it",
		Role: roles.Curator,
	}
	RetireDevice = Operation[RetireDeviceRequest, Device]{
		Method: post, Path: "/devices/{name}/retirement", ID: "retire-device", Summary: "Have a device asked no more",
		Role: roles.Curator,
	}
	ListDeviceKinds = Operation[Nothing, DeviceKinds]{
		Method: get, Path: "/device-kinds", ID: "list-device-kinds",
		Summary: "List the kinds of devices, with their descriptions", Role: roles.Auditor,
	}
	TryDeviceKind = Operation[TryKindRequest, KindTried]{
		Method: post, Path: "/device-kind-trials", ID: "try-device-kind",
		Summary: "Try a description of a kind of device with what was pasted from one; nothing is kept",
		Role:    roles.Operator, MaxBody: 2 * mebibyte,
	}
	SetDeviceKind = Operation[TryKindRequest, KindTried]{
		Method: post, Path: "/device-kinds", ID: "set-device-kind",
		Summary: "Describe a kind of device, or change it, once an answer was read by the description",
		Role:    roles.Curator, MaxBody: 2 * mebibyte,
	}
	RetireDeviceKind = Operation[RetireKindRequest, Nothing]{
		Method: post, Path: "/device-kinds/{name}/retirement", ID: "retire-device-kind",
		Summary: "Have a kind that a curator has described used no more", Role: roles.Curator,
	}
	CheckDevices = Operation[CheckDevicesRequest, Page[Batch]]{
		Method: post, Path: "/device-checks", ID: "check-devices",
		Summary: "Ask devices what their slots hold; each device is a batch", Role: roles.Operator,
		MaxBody: 2 * mebibyte, Status: http.StatusAccepted,
	}
)

// Places without a network.
var (
	PackSatchel = Operation[PackSatchelRequest, PackedSatchel]{
		Method: post, Path: "/satchels", ID: "pack-satchel",
		Summary: "Pack what it takes to judge where there is no network", Role: roles.Operator,
	}
	ListSatchels = Operation[Nothing, Page[Satchel]]{
		Method: get, Path: "/satchels", ID: "list-satchels", Summary: "List the satchels that were packed",
		Role: roles.Auditor,
	}
	ShowSatchel = Operation[SatchelAt, SatchelShown]{
		Method: get, Path: "/satchels/{satchel}", ID: "show-satchel",
		Summary: "Show a satchel, and what came back of it", Role: roles.Auditor,
	}
	ReturnOutcomes = Operation[ReturnRequest, SatchelShown]{
		Method: post, Path: "/satchel-returns", ID: "return-outcomes",
		Summary: "Take back what was judged on site; it may be sent again", Role: roles.Operator,
		MaxBody: 96 * mebibyte,
	}
)

// Publishers, and the keyring.
var (
	ListPublishers = Operation[Nothing, Page[Publisher]]{
		Method: get, Path: "/publishers", ID: "list-publishers", Summary: "List publishers", Role: roles.Auditor,
	}
	AddPublisher = Operation[AddPublisherRequest, Publisher]{
		Method: post, Path: "/publishers", ID: "add-publisher", Summary: "Add a publisher", Role: roles.Curator,
	}
	ShowPublisher = Operation[PublisherAt, Publisher]{
		Method: get, Path: "/publishers/{slug}", ID: "show-publisher", Summary: "Show a publisher", Role: roles.Auditor,
	}
	SetPublisher = Operation[SetPublisherRequest, Publisher]{
		Method: patch, Path: "/publishers/{slug}", ID: "set-publisher",
		Summary: "Change what is known about a publisher", Role: roles.Curator,
	}

	ListKeys = Operation[ListKeysRequest, Page[Key]]{
		Method: get, Path: "/keys", ID: "list-keys", Summary: "List the keyring in the order of import",
		Role: roles.Auditor,
	}
	ImportKeys = Operation[ImportKeysRequest, Import]{
		Method: post, Path: "/keys", ID: "import-keys", Summary: "Import keys as candidates", Role: roles.Operator,
		MaxBody: 24 * mebibyte,
	}
	PreviewImport = Operation[ReadKeysRequest, Import]{
		Method: post, Path: "/key-readings", ID: "preview-import",
		Summary: "Show what importing a key file would do; nothing is kept", Role: roles.Auditor,
		MaxBody: 24 * mebibyte,
	}
	LoadKeyFile = Operation[LoadKeyFileRequest, Import]{
		Method: post, Path: "/key-files", ID: "load-key-file",
		Summary: "Import a key file of any size as it is, telling of the progress", Role: roles.Operator,
		MaxBody: 128 * mebibyte,
	}
	ReadKeyFile = Operation[ReadKeyFileRequest, Import]{
		Method: post, Path: "/key-file-readings", ID: "read-key-file",
		Summary: "Show what importing a key file of any size would do, telling of the progress; nothing is kept",
		Role:    roles.Auditor, MaxBody: 128 * mebibyte,
	}
	LookUpKeys = Operation[LookUpRequest, LookUp]{
		Method: post, Path: "/key-look-ups", ID: "look-up-keys",
		Summary: "Ask the configured key directories; nothing is kept", Role: roles.Operator,
	}
	ImportFoundKey = Operation[ImportFoundRequest, Imported]{
		Method: post, Path: "/key-look-ups/imports", ID: "import-found-key",
		Summary: "Look a key up again and import it as a candidate", Role: roles.Operator,
	}
	LookUpKnown = Operation[LookUpKnownRequest, Page[LookedUp]]{
		Method: post, Path: "/key-look-ups/known", ID: "look-up-known-keys",
		Summary: "Look keys up again and add what is new about them", Role: roles.Operator, MaxBody: mebibyte,
		Earlier: "/key-refreshes",
	}
	InspectOpenPGP = Operation[ReadKeysRequest, openpgp.Inspection]{
		Method: post, Path: "/openpgp-readings", ID: "inspect-openpgp",
		Summary: "Show what an OpenPGP file is made of; nothing is kept", Role: roles.Auditor, MaxBody: 6 * mebibyte,
	}
	ShowKey = Operation[KeyAt, Key]{
		Method: get, Path: "/keys/{fingerprint}", ID: "show-key", Summary: "Show a key", Role: roles.Auditor,
	}
	ShowKeyUse = Operation[KeyAt, KeyUse]{
		Method: get, Path: "/keys/{fingerprint}/use", ID: "show-key-use",
		Summary: "Tell what a key has signed that was verified here", Role: roles.Auditor,
	}

	SightKey = Operation[SightKeyRequest, Sight]{
		Method: post, Path: "/keys/{fingerprint}/sightings", ID: "sight-key",
		Summary: "Note that a fingerprint was read somewhere", Role: roles.Operator,
	}
	AdmitKey = Operation[AdmitKeyRequest, Key]{
		Method: post, Path: "/keys/{fingerprint}/admission", ID: "admit-key",
		Summary: "Admit a candidate for a publisher, or propose it where two curators decide", Role: roles.Curator,
	}
	DeclineProposal = Operation[KeyStepRequest, Key]{
		Method: post, Path: "/keys/{fingerprint}/decline", ID: "decline-proposal",
		Summary: "Decline what another curator proposed, or take it back", Role: roles.Curator,
	}
	WithdrawKey = Operation[KeyStepRequest, Key]{
		Method: post, Path: "/keys/{fingerprint}/withdrawal", ID: "withdraw-key",
		Summary: "Withdraw an admitted key, and judge again what rests on it", Role: roles.Curator,
	}
	SettleKey = Operation[KeyStepRequest, Key]{
		Method: post, Path: "/keys/{fingerprint}/settlement", ID: "settle-key",
		Summary: "Record that a key needs no attention as it is, and why; how it stands stays", Role: roles.Curator,
	}
	ReconsiderKey = Operation[KeyStepRequest, Key]{
		Method: post, Path: "/keys/{fingerprint}/reconsideration", ID: "reconsider-key",
		Summary: "Make a withdrawn key a candidate again", Role: roles.Curator,
	}
	ResolveConflict = Operation[ResolveConflictRequest, Key]{
		Method: post, Path: "/sightings/{record}/resolution", ID: "resolve-conflict",
		Summary: "Explain a sighting that contradicts its key", Role: roles.Curator,
	}
)

// Policy and waivers.
var (
	ListPolicies = Operation[Nothing, Page[PolicyVersion]]{
		Method: get, Path: "/policies", ID: "list-policies",
		Summary: "List the changes of the policy and of what publishers have otherwise, the newest first",
		Role:    roles.Auditor,
	}
	ListPolicyFields = Operation[Nothing, Page[judge.PolicyField]]{
		Method: get, Path: "/policy-fields", ID: "list-policy-fields",
		Summary: "Tell what each field of the policy does", Role: roles.Auditor,
	}
	SetPolicy = Operation[SetPolicyRequest, PolicyVersion]{
		Method: post, Path: "/policies", ID: "set-policy", Summary: "Put a new version of the policy in force",
		Role: roles.Curator, MaxBody: 256 << 10,
	}
	SetOwnPolicy = Operation[SetOwnPolicyRequest, PolicyVersion]{
		Method: post, Path: "/publishers/{slug}/policies", ID: "set-own-policy",
		Summary: "Give a publisher fields of the policy of its own", Role: roles.Curator, MaxBody: 256 << 10,
	}
	ListWaivers = Operation[Nothing, Page[Waiver]]{
		Method: get, Path: "/waivers", ID: "list-waivers", Summary: "List the waivers, the newest first",
		Role: roles.Auditor,
	}
	GrantWaiver = Operation[GrantWaiverRequest, Waiver]{
		Method: post, Path: "/waivers", ID: "grant-waiver", Summary: "Grant a waiver", Role: roles.Curator,
	}
	EndWaiver = Operation[EndWaiverRequest, Waiver]{
		Method: post, Path: "/waivers/{id}/end", ID: "end-waiver", Summary: "End a waiver before its day",
		Role: roles.Curator,
	}
)

// Judging again.
var (
	AskReach = Operation[KeyAt, Inquiry]{
		Method: post, Path: "/keys/{fingerprint}/reach", ID: "ask-reach",
		Summary: "Ask what rests on a key, and what would become of it if it were withdrawn", Role: roles.Auditor,
		Status: http.StatusAccepted,
	}
	ShowInquiry = Operation[InquiryAt, Inquiry]{
		Method: get, Path: "/inquiries/{id}", ID: "show-inquiry",
		Summary: "Show how far the answer to a question has come, and the answer", Role: roles.Auditor,
	}
	Reassess = Operation[ReassessRequest, Reassessment]{
		Method: post, Path: "/reassessments", ID: "reassess",
		Summary: "Judge stored measurements again with the present keyring, policy and waivers", Role: roles.Operator,
	}
	ListReassessments = Operation[ListReassessmentsRequest, Page[Reassessment]]{
		Method: get, Path: "/reassessments", ID: "list-reassessments",
		Summary: "List the reassessments, the newest first", Role: roles.Auditor,
	}
	ShowReassessment = Operation[ReassessmentAt, Reassessment]{
		Method: get, Path: "/reassessments/{id}", ID: "show-reassessment", Summary: "Show a reassessment",
		Role: roles.Auditor,
	}
	ListRejudged = Operation[ListRejudgedRequest, Page[Rejudge]]{
		Method: get, Path: "/reassessments/{id}/items", ID: "list-rejudged",
		Summary: "List the artifacts whose verdict a reassessment changed", Role: roles.Auditor,
	}
)

// The ledger.
var (
	ListRecords = Operation[ListRecordsRequest, Page[Record]]{
		Method: get, Path: "/records", ID: "list-records", Summary: "List records, the newest first",
		Role: roles.Auditor,
	}
	ShowRecord = Operation[RecordAt, Record]{
		Method: get, Path: "/records/{position}", ID: "show-record", Summary: "Show a record", Role: roles.Auditor,
	}
	MakeReceipt = Operation[RecordAt, ledger.Receipt]{
		Method: get, Path: "/records/{position}/receipt", ID: "make-receipt",
		Summary: "Hand out the receipt of a record", Role: roles.Auditor,
	}
	ShowCheckpoint = Operation[CheckpointRequest, Checkpoint]{
		Method: get, Path: "/ledger/checkpoint", ID: "show-checkpoint",
		Summary: "Sign and show the ledger's size and root, and how it goes on from an older one", Role: roles.Auditor,
	}
	AuditLedger = Operation[AuditRequest, Inquiry]{
		Method: post, Path: "/ledger/audits", ID: "audit-ledger", Summary: "Ask that the whole ledger be recomputed",
		Role: roles.Auditor, Status: http.StatusAccepted,
	}
)
