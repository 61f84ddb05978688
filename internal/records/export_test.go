package records

// AuditWholeUpTo has audits go on from the last one where there are more records.
func (s *Service) AuditWholeUpTo(records int64) { s.wholeUpTo = records }

// AuditedAtOnce is how many records an audit takes at a time, at least.
const AuditedAtOnce = auditedAtOnce
