package wire

import (
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
)

// Key is a key of the keyring.
type Key struct {
	Fingerprint string        `json:"fingerprint"`
	Grouped     string        `json:"grouped" doc:"The fingerprint in groups of four."`
	State       keyring.State `json:"state"`
	Publisher   string        `json:"publisher"`
	Role        keyring.Role  `json:"role"`
	UserIDs     []string      `json:"user_ids" doc:"Made safe to show; the primary one first."`
	Algorithm   string        `json:"algorithm"`
	// Created, Expires and Revoked are facts about the key.
	Created           time.Time          `json:"created"`
	Expires           *time.Time         `json:"expires,omitempty"`
	ExpiresInDays     *int               `json:"expires_in_days,omitempty" doc:"Whole days from now; only while it has not expired."`
	Expired           bool               `json:"expired"`
	Revoked           *Revocation        `json:"revoked,omitempty"`
	Until             *time.Time         `json:"until,omitempty" doc:"For a key that was admitted for the past: what it signed from then on does not count."`
	Conflict          bool               `json:"conflict" doc:"A sighting shows another fingerprint."`
	Subkeys           []Subkey           `json:"subkeys"`
	Uses              []string           `json:"uses"`
	Revokers          []string           `json:"revokers" doc:"Keys that its owner named as those that may revoke it; they are not followed."`
	Attributes        int                `json:"attributes" doc:"User attributes, such as pictures."`
	Sightings         []Sighting         `json:"sightings"`
	Timeline          []KeyEvent         `json:"timeline" doc:"What its own signatures say of its life, in the order of time."`
	Paths             []Path             `json:"paths" doc:"Certifications by the anchors of its publisher."`
	Certified         []Statement        `json:"certified" doc:"What other keys of the keyring say about its user IDs; only where one key is shown."`
	UnknownCertifiers int                `json:"unknown_certifiers" doc:"Keys that are not in the keyring and claim to have certified it."`
	Namesakes         []string           `json:"namesakes" doc:"Fingerprints of other keys with the same key ID."`
	AnchorAdmits      bool               `json:"anchor_admits" doc:"Whether a path that holds may admit it."`
	TwoCurators       bool               `json:"two_curators" doc:"Whether another curator has to admit what one proposes."`
	Proposal          *Proposal          `json:"proposal,omitempty" doc:"What waits for another curator."`
	Reassessment      *int64             `json:"reassessment,omitempty" doc:"The run that judges again what rests on it; set in the answers to a withdrawal, a sighting that contradicts an admitted key, and its explanation."`
	ChannelsSeen      int                `json:"channels_seen" doc:"Distinct channels with agreeing sightings."`
	ChannelsAsked     int                `json:"channels_asked" doc:"How many the policy asks for."`
	History           []KeyStep          `json:"history"`
	Obstacles         []keyring.Obstacle `json:"obstacles" doc:"What stands in the way of an admission."`
	Imported          time.Time          `json:"imported"`
	ImportedBy        string             `json:"imported_by"`
	Source            string             `json:"source"`
}

// KeyEvent is something that happened to a key, or will.
type KeyEvent struct {
	At     time.Time         `json:"at"`
	Kind   openpgp.EventKind `json:"kind"`
	Detail string            `json:"detail"`
}

// Path leads from a key to an anchor of its publisher.
type Path struct {
	Anchor      string                      `json:"anchor" doc:"The anchor's fingerprint."`
	AnchorState keyring.State               `json:"anchor_state"`
	AnchorID    string                      `json:"anchor_id" doc:"The anchor's first user ID, made safe to show."`
	UserID      string                      `json:"user_id,omitempty" doc:"Which user ID it certified."`
	Made        *time.Time                  `json:"made,omitempty" doc:"When it certified."`
	Certified   openpgp.CertificationStatus `json:"certified"`
	Holds       bool                        `json:"holds"`
	Reason      string                      `json:"reason,omitempty" doc:"Why the path does not hold."`
	Note        string                      `json:"note,omitempty" doc:"What is to be known of a path that holds."`
}

// Statement is a certification of a user ID by another key of the keyring.
type Statement struct {
	By     string                      `json:"by" doc:"The certifier's fingerprint."`
	ByID   string                      `json:"by_id" doc:"Its first user ID, made safe to show."`
	UserID string                      `json:"user_id"`
	Made   time.Time                   `json:"made"`
	Status openpgp.CertificationStatus `json:"status"`
	Reason string                      `json:"reason,omitempty"`
}

// KeyUse tells what a key has signed that was verified here.
type KeyUse struct {
	Artifacts int        `json:"artifacts"`
	Batches   int        `json:"batches"`
	Last      *time.Time `json:"last,omitempty" doc:"When the newest of those batches was asked for."`
	Newest    []int64    `json:"newest" doc:"Numbers of the newest batches, at most ten."`
}

// Proposal is what one curator proposed and another has to decide.
type Proposal struct {
	Publisher string       `json:"publisher"`
	Role      keyring.Role `json:"role"`
	Reason    string       `json:"reason"`
	By        string       `json:"by"`
	At        time.Time    `json:"at"`
	Record    int64        `json:"record"`
	Until     *time.Time   `json:"until,omitempty" doc:"For what it signed before then, if it is for the past."`
}

// Revocation tells how a key was revoked.
type Revocation struct {
	At     time.Time `json:"at"`
	Reason string    `json:"reason"`
	Text   string    `json:"text,omitempty"`
}

// Subkey is a subkey.
type Subkey struct {
	Fingerprint string    `json:"fingerprint"`
	Algorithm   string    `json:"algorithm"`
	Created     time.Time `json:"created"`
	Uses        []string  `json:"uses"`
}

// Sighting is a sighting.
type Sighting struct {
	Channel keyring.Channel `json:"channel"`
	Place   string          `json:"place"`
	Note    string          `json:"note,omitempty"`
	Read    string          `json:"read" doc:"The fingerprint as read, in groups of four."`
	Agrees  bool            `json:"agrees"`
	Differs []int           `json:"differs" doc:"Positions, from 0, of the digits that differ."`
	// Resolved is how a curator explained that it differs.
	Resolved   string    `json:"resolved,omitempty"`
	ResolvedBy string    `json:"resolved_by,omitempty"`
	At         time.Time `json:"at"`
	By         string    `json:"by"`
	Record     int64     `json:"record"`
}

// KeyStep is one step in the life of a key.
type KeyStep struct {
	At     time.Time     `json:"at"`
	To     keyring.State `json:"to"`
	By     string        `json:"by"`
	Reason string        `json:"reason"`
	Record int64         `json:"record"`
	Until  *time.Time    `json:"until,omitempty" doc:"For an admission for the past: what was signed from then on does not count."`
	// RestsOn names anchors, grouped.
	RestsOn []string `json:"rests_on,omitempty" doc:"The anchors without whose certification it could not have been admitted."`
}

// Sight is the result of noting a sighting.
type Sight struct {
	Agrees bool `json:"agrees"`
	Key    Key  `json:"key"`
}

// ListKeysRequest narrows the list of keys.
type ListKeysRequest struct {
	State     keyring.State `query:"state"`
	Publisher string        `query:"publisher" maxLength:"64"`
	Text      string        `query:"text" maxLength:"500" doc:"A part of a user ID or of the fingerprint, ignoring case."`
	Waiting   bool          `query:"waiting" doc:"Only what waits for a curator: candidates, and keys that a sighting contradicts."`
	Cursor    string        `query:"cursor" maxLength:"64"`
	Limit     int           `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

// KeyAt names a key.
type KeyAt struct {
	Fingerprint string `path:"fingerprint" maxLength:"200"`
}

// SightKeyRequest notes a sighting.
type SightKeyRequest struct {
	Fingerprint string `path:"fingerprint" maxLength:"200"`
	Body        NewSighting
}

// NewSighting is a fingerprint that was read somewhere.
type NewSighting struct {
	Read    string          `json:"read" maxLength:"500" doc:"The fingerprint as it was read, in any case and spacing."`
	Channel keyring.Channel `json:"channel"`
	Place   string          `json:"place" doc:"Where exactly."`
	Note    string          `json:"note,omitempty"`
}

// AdmitKeyRequest admits or proposes a key.
type AdmitKeyRequest struct {
	Fingerprint string `path:"fingerprint" maxLength:"200"`
	Body        Admission
}

// Admission asks that a candidate count for a publisher.
type Admission struct {
	Typed     string       `json:"typed" maxLength:"500" doc:"The fingerprint as the curator read and typed it."`
	Publisher string       `json:"publisher" maxLength:"64"`
	Role      keyring.Role `json:"role,omitempty" doc:"What the key is for: releases, or certifying other keys."`
	Reason    string       `json:"reason"`
	Until     *time.Time   `json:"until,omitempty" doc:"For a key that has expired or was retired: it counts for what it signed before then."`
}

// KeyStepRequest takes a step in the life of a key.
type KeyStepRequest struct {
	Fingerprint string `path:"fingerprint" maxLength:"200"`
	Body        Reasoned
}

// Reasoned carries why something is done.
type Reasoned struct {
	Reason string `json:"reason"`
}

// ResolveConflictRequest explains a sighting.
type ResolveConflictRequest struct {
	Record int64 `path:"record" minimum:"0"`
	Body   Reasoned
}
