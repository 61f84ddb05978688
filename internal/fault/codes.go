package fault

// A Code is the stable name of a fault, for programs. What it names stays the same within an API
// level.
type Code string

// The codes, in alphabetical order. What each says is in [Code.Meaning].
const (
	AMedium              Code = "a-medium"
	AddressTaken         Code = "address-taken"
	BadAddress           Code = "bad-address"
	BadAgainst           Code = "bad-against"
	BadChannel           Code = "bad-channel"
	BadCheckpoint        Code = "bad-checkpoint"
	BadCompanion         Code = "bad-companion"
	BadCopy              Code = "bad-copy"
	BadCorrection        Code = "bad-correction"
	BadCursor            Code = "bad-cursor"
	BadDays              Code = "bad-days"
	BadDigest            Code = "bad-digest"
	BadDrill             Code = "bad-drill"
	BadFingerprint       Code = "bad-fingerprint"
	BadForm              Code = "bad-form"
	BadGround            Code = "bad-ground"
	BadKind              Code = "bad-kind"
	BadLength            Code = "bad-length"
	BadLifetime          Code = "bad-lifetime"
	BadListing           Code = "bad-listing"
	BadMeasurer          Code = "bad-measurer"
	BadName              Code = "bad-name"
	BadOrigin            Code = "bad-origin"
	BadOutcome           Code = "bad-outcome"
	BadPart              Code = "bad-part"
	BadPattern           Code = "bad-pattern"
	BadPeriod            Code = "bad-period"
	BadPlace             Code = "bad-place"
	BadPolicy            Code = "bad-policy"
	BadPrinted           Code = "bad-printed"
	BadQuery             Code = "bad-query"
	BadReason            Code = "bad-reason"
	BadRole              Code = "bad-role"
	BadScope             Code = "bad-scope"
	BadSlot              Code = "bad-slot"
	BadSlug              Code = "bad-slug"
	BadUntil             Code = "bad-until"
	BadWritersKey        Code = "bad-writers-key"
	BatchEnded           Code = "batch-ended"
	BatchEnding          Code = "batch-ending"
	BatchNotDone         Code = "batch-not-done"
	BatchTooLarge        Code = "batch-too-large"
	BatchUnknown         Code = "batch-unknown"
	BeingReturned        Code = "being-returned"
	ChangedMeanwhile     Code = "changed-meanwhile"
	ChangedSince         Code = "changed-since"
	ChannelUnknown       Code = "channel-unknown"
	CheckpointStray      Code = "checkpoint-stray"
	CommonPassword       Code = "common-password"
	CopyTooLarge         Code = "copy-too-large"
	CredentialUnknown    Code = "credential-unknown"
	CrossSite            Code = "cross-site"
	DatabaseDown         Code = "database-down"
	DatabaseFull         Code = "database-full"
	DatabaseNewer        Code = "database-newer"
	DepotUnknown         Code = "depot-unknown"
	DepotUnreadable      Code = "depot-unreadable"
	DeviceRetired        Code = "device-retired"
	DeviceUnchanged      Code = "device-unchanged"
	DeviceUnknown        Code = "device-unknown"
	EvidenceMissing      Code = "evidence-missing"
	FingerprintDiffers   Code = "fingerprint-differs"
	FolderEmpty          Code = "folder-empty"
	FolderOutsideDepot   Code = "folder-outside-depot"
	FolderTooLarge       Code = "folder-too-large"
	FolderUnknown        Code = "folder-unknown"
	FolderUnreadable     Code = "folder-unreadable"
	IdempotencyKeyReused Code = "idempotency-key-reused"
	ImageUnknown         Code = "image-unknown"
	ImportUnderway       Code = "import-underway"
	InquiryUnknown       Code = "inquiry-unknown"
	Internal             Code = "internal"
	ItemUnknown          Code = "item-unknown"
	KeyDamaged           Code = "key-damaged"
	KeyFileMissing       Code = "key-file-missing"
	KeyFileStray         Code = "key-file-stray"
	KeyFileThere         Code = "key-file-there"
	KeyTooLarge          Code = "key-too-large"
	KeyUnknown           Code = "key-unknown"
	KeyUnreadable        Code = "key-unreadable"
	KeyUnsupported       Code = "key-unsupported"
	KeyringAltered       Code = "keyring-altered"
	KeysChanged          Code = "keys-changed"
	KindConfigured       Code = "kind-configured"
	KindInUse            Code = "kind-in-use"
	KindNotTried         Code = "kind-not-tried"
	KindUnchanged        Code = "kind-unchanged"
	KindUnknown          Code = "kind-unknown"
	LastAdministrator    Code = "last-administrator"
	LedgerAltered        Code = "ledger-altered"
	LedgerOlder          Code = "ledger-older"
	LengthMissing        Code = "length-missing"
	LevelUnserved        Code = "level-unserved"
	LimitTooWide         Code = "limit-too-wide"
	ListingClosed        Code = "listing-closed"
	ListingIncomplete    Code = "listing-incomplete"
	ListingTooLarge      Code = "listing-too-large"
	LongLabel            Code = "long-label"
	LongPassword         Code = "long-password"
	ManifestTooLarge     Code = "manifest-too-large"
	MeasuredElsewhere    Code = "measured-elsewhere"
	MeasuredHere         Code = "measured-here"
	MeasurerUnknown      Code = "measurer-unknown"
	MediumAlone          Code = "medium-alone"
	MediumHere           Code = "medium-here"
	MediumOnly           Code = "medium-only"
	NoBytes              Code = "no-bytes"
	NoConflict           Code = "no-conflict"
	NoDevices            Code = "no-devices"
	NoDirectories        Code = "no-directories"
	NoLongerThere        Code = "no-longer-there"
	NoOpenPGP            Code = "no-openpgp"
	NoOutcome            Code = "no-outcome"
	NoProposal           Code = "no-proposal"
	NoSuchAddress        Code = "no-such-address"
	NoValue              Code = "no-value"
	NotAFolder           Code = "not-a-folder"
	NotAKey              Code = "not-a-key"
	NotBase64            Code = "not-base64"
	NotCleared           Code = "not-cleared"
	NotFoundThere        Code = "not-found-there"
	NotInitialised       Code = "not-initialised"
	NotInside            Code = "not-inside"
	NotJudgedYet         Code = "not-judged-yet"
	NotOwner             Code = "not-owner"
	NotReached           Code = "not-reached"
	NotSignedIn          Code = "not-signed-in"
	NotSurveyed          Code = "not-surveyed"
	NotText              Code = "not-text"
	NotVerified          Code = "not-verified"
	NotYours             Code = "not-yours"
	NothingToAttest      Code = "nothing-to-attest"
	NothingToChange      Code = "nothing-to-change"
	NothingToCompare     Code = "nothing-to-compare"
	NothingToSettle      Code = "nothing-to-settle"
	OnlyTyped            Code = "only-typed"
	OriginPath           Code = "origin-path"
	OriginUnknown        Code = "origin-unknown"
	OtherProposal        Code = "other-proposal"
	OtherSeal            Code = "other-seal"
	OutcomesAltered      Code = "outcomes-altered"
	OutcomesClockWrong   Code = "outcomes-clock-wrong"
	OutcomesDisordered   Code = "outcomes-disordered"
	OutcomesExpired      Code = "outcomes-expired"
	OutcomesForeign      Code = "outcomes-foreign"
	OutcomesMissing      Code = "outcomes-missing"
	OutcomesUnreadable   Code = "outcomes-unreadable"
	PersonAltered        Code = "person-altered"
	PersonDisabled       Code = "person-disabled"
	PiecesUnderway       Code = "pieces-underway"
	PlaceMissing         Code = "place-missing"
	PolicyUnchanged      Code = "policy-unchanged"
	PublisherExists      Code = "publisher-exists"
	PublisherMissing     Code = "publisher-missing"
	PublisherUnchanged   Code = "publisher-unchanged"
	PublisherUnknown     Code = "publisher-unknown"
	ReasonMissing        Code = "reason-missing"
	ReassessmentUnknown  Code = "reassessment-unknown"
	RecordTooLong        Code = "record-too-long"
	RecordUnknown        Code = "record-unknown"
	Request              Code = "request"
	RequestInvalid       Code = "request-invalid"
	RequestTooLarge      Code = "request-too-large"
	ResolvedBefore       Code = "resolved-before"
	ReturnedOtherwise    Code = "returned-otherwise"
	RevocationUnknown    Code = "revocation-unknown"
	RoleTooHigh          Code = "role-too-high"
	RoleTooLow           Code = "role-too-low"
	RoleUnknown          Code = "role-unknown"
	SatchelForeign       Code = "satchel-foreign"
	SatchelUnknown       Code = "satchel-unknown"
	SecretKey            Code = "secret-key"
	SelectionMissing     Code = "selection-missing"
	SessionEnded         Code = "session-ended"
	ShortPassword        Code = "short-password"
	SightingUnknown      Code = "sighting-unknown"
	SimplePassword       Code = "simple-password"
	SlotMissing          Code = "slot-missing"
	SlotUnknown          Code = "slot-unknown"
	SourceUnreadable     Code = "source-unreadable"
	TileBeyond           Code = "tile-beyond"
	TileUnknown          Code = "tile-unknown"
	TokenExpired         Code = "token-expired"
	TokenLimited         Code = "token-limited"
	TokenRevoked         Code = "token-revoked"
	TokenUnknown         Code = "token-unknown"
	TooBusy              Code = "too-busy"
	TooLargeToDrill      Code = "too-large-to-drill"
	TooManyArtifacts     Code = "too-many-artifacts"
	TooManyAttempts      Code = "too-many-attempts"
	TooManyCopies        Code = "too-many-copies"
	TooManyForms         Code = "too-many-forms"
	TooManyListings      Code = "too-many-listings"
	TooManyOpen          Code = "too-many-open"
	TooManyRequests      Code = "too-many-requests"
	TooManyStreams       Code = "too-many-streams"
	TwoSources           Code = "two-sources"
	Unreadable           Code = "unreadable"
	UserExists           Code = "user-exists"
	UserUnknown          Code = "user-unknown"
	WaiverEnded          Code = "waiver-ended"
	WaiverTooWide        Code = "waiver-too-wide"
	WaiverUnknown        Code = "waiver-unknown"
	WhichDevice          Code = "which-device"
	WideSearch           Code = "wide-search"
	WritersKeyMissing    Code = "writers-key-missing"
	WrongPassword        Code = "wrong-password"
	WrongShape           Code = "wrong-shape"
	WrongState           Code = "wrong-state"
)

// meanings are the codes with what each says, for docs/api.md and the API's description.
var meanings = []struct {
	code    Code
	meaning string
}{
	{AMedium, "the item is a medium, and the operation is for files"},
	{AddressTaken, "another device has the address"},
	{BadAddress, "the address is not a host with a port"},
	{BadAgainst, "a medium is held against none of the things given, or against several"},
	{BadChannel, "there is no such channel"},
	{BadCheckpoint, "the checkpoint was not signed by this service, or was changed"},
	{BadCompanion, "a pattern cannot name companions"},
	{BadCopy, "a copy of a manifest is neither fetched nor given, or both"},
	{BadCorrection, "a correction of the pairing names what is not there"},
	{BadCursor, "the cursor was not given out with this list"},
	{BadDays, "the number of days is out of bounds"},
	{BadDigest, "the digest is not hexadecimal, or has no known length"},
	{BadDrill, "the number of files to drill is out of bounds"},
	{BadFingerprint, "the text is not a full fingerprint"},
	{BadForm, "a form of an image has no bytes, or no SHA-256 digest"},
	{BadGround, "the ground cannot be waived"},
	{BadKind, "the description of a kind of device has mistakes"},
	{BadLength, "the length of the image is out of bounds"},
	{BadLifetime, "the lifetime of a token is out of bounds"},
	{BadListing, "the list of files of a measurer cannot be used"},
	{BadMeasurer, "what a measurer says of itself cannot be kept"},
	{BadName, "the sign-in name has other characters than allowed"},
	{BadOrigin, "what is said of where a manifest comes from cannot be used"},
	{BadOutcome, "an outcome judged on site cannot be used"},
	{BadPart, "the part of the file that is asked for does not lie in it"},
	{BadPattern, "the pattern of file names narrows nothing down"},
	{BadPeriod, "a day or time cannot be read"},
	{BadPlace, "the place is missing or too long"},
	{BadPolicy, "the policy has mistakes"},
	{BadPrinted, "the text copied from a console cannot be used"},
	{BadQuery, "the key directories cannot be asked for this"},
	{BadReason, "the reason cannot be kept"},
	{BadRole, "there is no such role"},
	{BadScope, "the name patterns of a publisher have mistakes"},
	{BadSlot, "the slot is missing, or not one of the device"},
	{BadSlug, "the short name of a publisher has other characters than allowed"},
	{BadUntil, "the end of an admission lies where it cannot"},
	{BadWritersKey, "the file holds no key by which records are sealed"},
	{BatchEnded, "the batch has ended already"},
	{BatchEnding, "the batch is being ended"},
	{BatchNotDone, "the batch has not ended with a verdict"},
	{BatchTooLarge, "the files of the batch are longer than a batch may be"},
	{BatchUnknown, "there is no such batch"},
	{BeingReturned, "the outcome is being taken back by another request"},
	{ChangedMeanwhile, "somebody changed the thing since the sender looked; look again"},
	{ChangedSince, "the file is not what was verified any more"},
	{ChannelUnknown, "there is no such channel"},
	{CheckpointStray, "the file holds no checkpoint of this ledger"},
	{CommonPassword, "the password is among the first that are tried"},
	{CopyTooLarge, "the copy of a manifest is too long"},
	{CredentialUnknown, "there is no such credential in the configuration"},
	{CrossSite, "the request comes from another site's page"},
	{DatabaseDown, "the database does not answer; try again"},
	{DatabaseFull, "the database has no space left"},
	{DatabaseNewer, "the database was written by a newer program"},
	{DepotUnknown, "there is no such depot"},
	{DepotUnreadable, "the depot cannot be opened at the moment"},
	{DeviceRetired, "the device is retired"},
	{DeviceUnchanged, "the details of the device are these already"},
	{DeviceUnknown, "there is no such device"},
	{EvidenceMissing, "the key cannot be admitted yet; the facts say what is missing"},
	{FingerprintDiffers, "the typed fingerprint is not that of the key"},
	{FolderEmpty, "the folder is empty"},
	{FolderOutsideDepot, "the folder leads out of its depot"},
	{FolderTooLarge, "the folder holds more files than a batch may"},
	{FolderUnknown, "there is no such folder"},
	{FolderUnreadable, "the service may not read the folder"},
	{IdempotencyKeyReused, "the Idempotency-Key was sent with another request before"},
	{ImageUnknown, "of the image no digest is known that the device can compute"},
	{ImportUnderway, "the person is importing a key file already"},
	{InquiryUnknown, "there is no such inquiry, or its answer is gone"},
	{Internal, "the service met something that it does not know; its log says more"},
	{ItemUnknown, "the batch has no such item"},
	{KeyDamaged, "the key file is damaged"},
	{KeyFileMissing, "the file of the service's own key is not there"},
	{KeyFileStray, "the file holds a key that the database does not know"},
	{KeyFileThere, "the file of a new key is there already"},
	{KeyTooLarge, "the key file is too long"},
	{KeyUnknown, "there is no such key in the keyring"},
	{KeyUnreadable, "what is stored of the key cannot be read"},
	{KeyUnsupported, "no key in the file can be used"},
	{KeyringAltered, "the keyring in the database is not as it was recorded; nothing is judged"},
	{KeysChanged, "the ledger goes on with another key already"},
	{KindConfigured, "the kind of device is described in the configuration"},
	{KindInUse, "devices are of this kind"},
	{KindNotTried, "the description of a kind was not tried on an answer, or does not read it"},
	{KindUnchanged, "the kind is described like this already"},
	{KindUnknown, "there is no such kind of device"},
	{LastAdministrator, "the person is the last administrator"},
	{LedgerAltered, "the ledger is not as it was written; nothing is signed, recorded or judged"},
	{LedgerOlder, "the ledger is older than the checkpoint beside its key"},
	{LengthMissing, "nothing tells how long the image is"},
	{LevelUnserved, "the API level of the request is not served; one of the two programs is too old"},
	{LimitTooWide, "the token would be allowed more than the one that makes it"},
	{ListingClosed, "the list of files is whole already"},
	{ListingIncomplete, "pages of the list of files are missing"},
	{ListingTooLarge, "the list of files is too long"},
	{LongLabel, "the label is too long"},
	{LongPassword, "the password is too long"},
	{ManifestTooLarge, "the manifest is too long"},
	{MeasuredElsewhere, "a measurer reads the files of this batch, and not the service"},
	{MeasuredHere, "the service reads the files of this batch, and no measurer"},
	{MeasurerUnknown, "there is no such kind of measurer"},
	{MediumAlone, "a medium is held against one file, with nothing beside it"},
	{MediumHere, "a medium is read where it is, by a client"},
	{MediumOnly, "the outcome is of a medium, and of no file"},
	{NoBytes, "the batch asked a device, and read no bytes"},
	{NoConflict, "the sighting agrees with the key"},
	{NoDevices, "there is no device that could be asked"},
	{NoDirectories, "no key directory is configured"},
	{NoLongerThere, "the file cannot be read any more"},
	{NoOpenPGP, "the file is not OpenPGP"},
	{NoOutcome, "the record is not the outcome of a file"},
	{NoProposal, "no proposal waits for the key"},
	{NoSuchAddress, "there is nothing at this path"},
	{NoValue, "the text copied from a console states no digest of the slot"},
	{NotAFolder, "the path is not a folder"},
	{NotAKey, "there is no OpenPGP public key in the file"},
	{NotBase64, "the content is not in base64"},
	{NotCleared, "the file is not cleared, and is not handed out"},
	{NotFoundThere, "no key directory has the key any more"},
	{NotInitialised, "the service was not set up yet"},
	{NotInside, "there is no such file inside of the container"},
	{NotJudgedYet, "the image is not judged again yet; try again"},
	{NotOwner, "the role of the database does not own the tables"},
	{NotReached, "only a person can reach devices of this kind"},
	{NotSignedIn, "the request carries no session and no token"},
	{NotSurveyed, "the batch has no plan yet; try again"},
	{NotText, "the request has bytes that are no text in UTF-8"},
	{NotVerified, "the file was not verified yet"},
	{NotYours, "another person asked for this batch"},
	{NothingToAttest, "there is no verdict that could be attested"},
	{NothingToChange, "the request changes nothing"},
	{NothingToCompare, "no bytes of the file were measured"},
	{NothingToSettle, "what is to be settled needs no attention, or something else"},
	{OnlyTyped, "only a person can reach the device"},
	{OriginPath, "the path at the origin cannot be asked for"},
	{OriginUnknown, "there is no such origin"},
	{OtherProposal, "the key was proposed for something else"},
	{OtherSeal, "the outcomes are sealed by another key"},
	{OutcomesAltered, "the outcomes judged on site, or the satchel, were changed"},
	{OutcomesClockWrong, "the clock on site was wrong by more than allowed"},
	{OutcomesDisordered, "the outcomes judged on site are not in their order"},
	{OutcomesExpired, "the satchel had expired when the outcomes were judged"},
	{OutcomesForeign, "the outcomes judged on site are not by a satchel of this service"},
	{OutcomesMissing, "outcomes that were noted on site are missing"},
	{OutcomesUnreadable, "the outcomes judged on site cannot be read"},
	{PersonAltered, "the person or token in the database is not as it was decided"},
	{PersonDisabled, "the person is disabled"},
	{PiecesUnderway, "pieces of as many files as allowed are being hashed for the person"},
	{PlaceMissing, "a sighting does not say where the fingerprint was read"},
	{PolicyUnchanged, "the policy is this already"},
	{PublisherExists, "there is such a publisher already"},
	{PublisherMissing, "the request names no publisher"},
	{PublisherUnchanged, "the details of the publisher are these already"},
	{PublisherUnknown, "there is no such publisher"},
	{ReasonMissing, "the step needs a reason"},
	{ReassessmentUnknown, "there is no such reassessment"},
	{RecordTooLong, "the record is too long for a tile of entries"},
	{RecordUnknown, "there is no such record"},
	{Request, "the request cannot be served as it is"},
	{RequestInvalid, "the request does not fit its description; the errors name the fields"},
	{RequestTooLarge, "the request has too many bytes"},
	{ResolvedBefore, "the conflict was resolved before"},
	{ReturnedOtherwise, "the outcome came back before, with another content"},
	{RevocationUnknown, "the revocation is of no key of the keyring"},
	{RoleTooHigh, "the token would be allowed more than its owner"},
	{RoleTooLow, "the person's role does not suffice"},
	{RoleUnknown, "PostgreSQL has no such role"},
	{SatchelForeign, "the outcomes were judged by another satchel"},
	{SatchelUnknown, "there is no such satchel"},
	{SecretKey, "the file holds a secret key; nothing of it was kept"},
	{SelectionMissing, "the request does not say what is to be judged again"},
	{SessionEnded, "the session has ended; sign in again"},
	{ShortPassword, "the password is too short"},
	{SightingUnknown, "there is no such sighting"},
	{SimplePassword, "the password has too few different characters"},
	{SlotMissing, "the request does not say which slot"},
	{SlotUnknown, "the device has no such slot"},
	{SourceUnreadable, "the service cannot read where the files of the batch are"},
	{TileBeyond, "the ledger does not go that far yet"},
	{TileUnknown, "there is no such tile"},
	{TokenExpired, "the token has expired"},
	{TokenLimited, "the token is good for other depots or publishers only"},
	{TokenRevoked, "the token was ended"},
	{TokenUnknown, "the token is not known"},
	{TooBusy, "too many people sign in at this moment; try again"},
	{TooLargeToDrill, "the file is too long for a drill by the service"},
	{TooManyArtifacts, "the batch has too many artifacts for one attestation"},
	{TooManyAttempts, "too many attempts to sign in; try again later"},
	{TooManyCopies, "the batch is held against too many copies of manifests"},
	{TooManyForms, "an image carries too many parts"},
	{TooManyListings, "too many batches of the person wait for their list of files"},
	{TooManyOpen, "too many batches of the person are open"},
	{TooManyRequests, "too many requests of the person or the address are being answered"},
	{TooManyStreams, "the person follows too many batches"},
	{TwoSources, "the request names a depot and a measurer"},
	{Unreadable, "the file cannot be read any more"},
	{UserExists, "there is such a person already"},
	{UserUnknown, "there is no such person"},
	{WaiverEnded, "the waiver has ended before"},
	{WaiverTooWide, "a waiver has to be for a publisher or for names of files"},
	{WaiverUnknown, "there is no such waiver"},
	{WhichDevice, "the request does not say which device"},
	{WideSearch, "a search gives too little to go by"},
	{WritersKeyMissing, "this host has no key to seal records with"},
	{WrongPassword, "name and password do not fit together"},
	{WrongShape, "the number of readings is not that of the alterations"},
	{WrongState, "the state of the key does not allow the step"},
}

// Codes lists every code, in alphabetical order.
func Codes() []Code {
	out := make([]Code, len(meanings))
	for i := range meanings {
		out[i] = meanings[i].code
	}
	return out
}

// Meaning says what a code says, as a part of a sentence, or "" for one that is not known.
func (c Code) Meaning() string {
	for _, m := range meanings {
		if m.code == c {
			return m.meaning
		}
	}
	return ""
}
