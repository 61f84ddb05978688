package wire

// A Scope is what a request is about, for tokens that are good for some depots or
// publishers only: see [Limits].
type Scope struct {
	Depot, Publisher string
	// Reads says that nothing is kept or changed, so that it does not matter
	// what is left open.
	Reads bool
}

// Reaching is a request that tells what it is about. One that does not is about
// anything.
type Reaching interface{ Reaches() Scope }

// Reaches tells which depot is looked at.
func (r ListFolderRequest) Reaches() Scope { return Scope{Depot: r.Depot, Reads: true} }

// Reaches tells which depot is looked at.
func (r SurveyRequest) Reaches() Scope { return Scope{Depot: r.Body.Depot, Reads: true} }

// Reaches tells which depot is asked about.
func (r ListBatchesRequest) Reaches() Scope { return Scope{Depot: r.Depot, Reads: true} }

// Reaches tells that nothing is kept: the caller may see how the ledger goes on.
func (r CheckpointRequest) Reaches() Scope { return Scope{Reads: true} }

// Reaches tells from which depot something is verified, and for whom.
func (r RunBatchRequest) Reaches() Scope {
	return Scope{Depot: r.Body.Depot, Publisher: r.Body.Publisher}
}

// Reaches leaves it to the batch what the list of its files is about, and so what is measured.
func (r ListingAt) Reaches() Scope { return Scope{Reads: true} }

// Reaches leaves that to the batch.
func (r ListingEnd) Reaches() Scope { return Scope{Reads: true} }

// Reaches leaves that to the batch.
func (r ListAssignmentsRequest) Reaches() Scope { return Scope{Reads: true} }

// Reaches leaves that to the batch.
func (r SendMeasurementsRequest) Reaches() Scope { return Scope{Reads: true} }

// Reaches tells who is changed.
func (r SetPublisherRequest) Reaches() Scope { return Scope{Publisher: r.Slug} }

// Reaches tells to whom the keys are said to belong.
func (r ImportKeysRequest) Reaches() Scope { return Scope{Publisher: r.Body.Publisher} }

// Reaches tells to whom the keys are said to belong.
func (r LoadKeyFileRequest) Reaches() Scope { return Scope{Publisher: r.Publisher} }

// Reaches tells that nothing is kept.
func (r ReadKeyFileRequest) Reaches() Scope { return Scope{Reads: true} }

// Reaches tells for whom the key is admitted.
func (r AdmitKeyRequest) Reaches() Scope { return Scope{Publisher: r.Body.Publisher} }

// Reaches tells whose policy is set.
func (r SetOwnPolicyRequest) Reaches() Scope { return Scope{Publisher: r.Slug} }

// Reaches tells for whom something is waived.
func (r GrantWaiverRequest) Reaches() Scope { return Scope{Publisher: r.Body.Publisher} }
