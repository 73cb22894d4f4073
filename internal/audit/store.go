package audit

import (
	"context"

	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	AddAudit(ctx context.Context, e store.AuditEntry, hash func(e store.AuditEntry, before []byte) []byte) error
	Audit(ctx context.Context, q store.AuditQuery) ([]store.AuditEntry, error)
	AuditFrom(ctx context.Context, after int64) ([]store.AuditEntry, error)
}
